//! Where an account lives on: whose files are caught, and how they are told.

use std::collections::{BTreeMap, HashMap};

use bstr::BString;

use crate::book::Book;
use crate::context::PlanContext;
use crate::order;
use crate::table::{File, Table};
use crate::value::{Gid, IdSet, IdSpan, Uid};

/// Which files are looked for.
pub enum IdFilter {
    /// Those that carry one of these.
    Ids {
        /// Uids.
        uids: Vec<Uid>,
        /// Gids.
        gids: Vec<Gid>,
    },
    /// Those whose uid or gid nobody holds: the ids that are held.
    Orphans {
        /// Uids of users.
        uids: IdSet,
        /// Gids of groups.
        gids: IdSet,
    },
}

impl IdFilter {
    /// Looks for files whose uid or gid no line of the book holds.
    pub fn orphans(book: &Book) -> Self {
        let (mut uids, mut gids) = (IdSet::default(), IdSet::default());
        for (_, user) in book.users.records() {
            user.uid().map(|uid| uids.insert(uid.0));
        }
        for (_, group) in book.groups.records() {
            group.gid().map(|gid| gids.insert(gid.0));
        }
        IdFilter::Orphans { uids, gids }
    }

    /// Whether a file with this owner and group is caught.
    #[inline(never)]
    pub fn catches(&self, uid: Uid, gid: Gid) -> bool {
        match self {
            IdFilter::Ids { uids, gids } => uids.contains(&uid) || gids.contains(&gid),
            IdFilter::Orphans { uids, gids } => !uids.contains(uid.0) || !gids.contains(gid.0),
        }
    }

    /// Whether the owner alone is.
    #[inline]
    pub fn matches_uid(&self, uid: Uid) -> bool {
        match self {
            IdFilter::Ids { uids, .. } => uids.contains(&uid),
            IdFilter::Orphans { uids, .. } => !uids.contains(uid.0),
        }
    }

    /// Whether the group alone is.
    #[inline]
    pub fn matches_gid(&self, gid: Gid) -> bool {
        match self {
            IdFilter::Ids { gids, .. } => gids.contains(&gid),
            IdFilter::Orphans { gids, .. } => !gids.contains(gid.0),
        }
    }
}

/// How many files, and how many bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Amount {
    /// Files of any kind, directories too.
    pub files: u64,
    /// The bytes in regular files.
    pub bytes: u64,
}

impl std::ops::AddAssign for Amount {
    fn add_assign(&mut self, other: Self) {
        self.files += other.files;
        self.bytes += other.bytes;
    }
}

/// What was caught, by directory and by owner and group.
#[derive(Debug, Default)]
pub struct Tally {
    matched: HashMap<BString, HashMap<(u32, u32), Amount>>,
}

impl Tally {
    /// Counts a file.
    pub fn add(&mut self, directory: &[u8], uid: u32, gid: u32, bytes: u64) {
        let amount = Amount { files: 1, bytes };
        match self.matched.get_mut(bstr::BStr::new(directory)) {
            Some(of) => *of.entry((uid, gid)).or_default() += amount,
            None => {
                self.matched.insert(directory.into(), HashMap::from([((uid, gid), amount)]));
            }
        }
    }
}

/// A uid or a gid.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, strum::Display)]
#[strum(serialize_all = "lowercase")]
pub enum IdKind {
    /// The owner of a file.
    Uid,
    /// Its group.
    Gid,
}

/// Who is behind a number.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum Behind {
    /// A user or group of the files.
    #[error("{0}")]
    Name(BString),
    /// Somebody whom only the name services know.
    #[error("{0}, in the system's name services")]
    Service(BString),
    /// An account that was deleted.
    #[error("nobody: it was {0}'s, and is retired")]
    Retired(BString),
    /// A user's containers.
    #[error("{owner}'s subordinate ids {span}: {inside} in a container")]
    Range { owner: BString, span: IdSpan, inside: u32 },
    /// Nobody at all.
    #[error("nobody")]
    Nobody,
}

/// The holders of numbers.
pub struct IdHolders<'a> {
    context: PlanContext<'a>,
}

impl<'a> IdHolders<'a> {
    /// Those that the context knows.
    pub fn new(context: PlanContext<'a>) -> Self {
        IdHolders { context }
    }

    /// Who is behind a number.
    ///
    /// # Errors
    /// Why the name services gave no answer, which is not a no.
    pub fn behind(&self, what: IdKind, id: u32) -> Result<Behind, String> {
        let PlanContext { book, world, .. } = self.context;
        let name = match what {
            IdKind::Uid => book.user_by_uid(Uid(id)).map(|(_, user)| user.name),
            IdKind::Gid => book.group_by_gid(Gid(id)).map(|(_, group)| group.name),
        };
        if let Some(name) = name {
            return Ok(Behind::Name(name.into()));
        }
        let file = if what == IdKind::Uid { File::Subuid } else { File::Subgid };
        for (_, range) in book.sub_ids(file).into_iter().flat_map(Table::records) {
            if let Some(span) = range.span().filter(|span| span.contains(id)) {
                let (owner, inside) = (range.owner.into(), id - span.first());
                return Ok(Behind::Range { owner, span, inside });
            }
        }
        let known = match what {
            IdKind::Uid => world.service_user_by_uid(Uid(id))?,
            IdKind::Gid => world.service_group_by_gid(Gid(id))?,
        };
        if let Some(name) = known {
            return Ok(Behind::Service(name));
        }
        let retired = world.retired();
        let single = match what {
            IdKind::Uid => retired.user(Uid(id)),
            IdKind::Gid => retired.group(Gid(id)),
        };
        let was = single.or_else(|| retired.owner_of_range_over(id));
        Ok(was.map_or(Behind::Nobody, |name| Behind::Retired(name.to_owned())))
    }
}

/// One owner of what was caught.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OfOwner {
    /// Whether it is an owner or a group.
    pub what: IdKind,
    /// The number.
    pub id: u32,
    /// Who is behind it.
    pub behind: Behind,
    /// How much.
    pub amount: Amount,
}

/// What was caught, as it is told.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct TraceReport {
    /// By owner and by group, the most files first.
    pub owners: Vec<OfOwner>,
    /// By directory, the most files first.
    pub directories: Vec<(BString, Amount)>,
    /// In all; a file with two such numbers counts once.
    pub total: Amount,
    /// When orphans are looked for: what belongs to containers.
    pub contained: Vec<OfOwner>,
    /// Numbers that somebody outside the files holds: not orphans after all.
    held_elsewhere: Vec<(IdKind, u32)>,
}

impl TraceReport {
    /// Whether a file that was caught counts: one that turned out to belong to
    /// somebody outside the files, or to a container, does not.
    pub fn counts(&self, filter: &IdFilter, uid: u32, gid: u32) -> bool {
        let held = |what, id| self.held_elsewhere.contains(&(what, id));
        filter.matches_uid(Uid(uid)) && !held(IdKind::Uid, uid)
            || filter.matches_gid(Gid(gid)) && !held(IdKind::Gid, gid)
    }
}

/// Sums up what was caught.
///
/// # Errors
/// Why the name services gave no answer about a number.
pub fn report(
    context: PlanContext<'_>,
    filter: &IdFilter,
    tally: &Tally,
) -> Result<TraceReport, String> {
    let holders = IdHolders::new(context);
    let orphans = matches!(filter, IdFilter::Orphans { .. });
    let mut of_numbers: BTreeMap<(IdKind, u32), Amount> = BTreeMap::new();
    for ((uid, gid), amount) in tally.matched.values().flatten() {
        if filter.matches_uid(Uid(*uid)) {
            *of_numbers.entry((IdKind::Uid, *uid)).or_default() += *amount;
        }
        if filter.matches_gid(Gid(*gid)) {
            *of_numbers.entry((IdKind::Gid, *gid)).or_default() += *amount;
        }
    }
    let mut report = TraceReport::default();
    for ((what, id), amount) in of_numbers {
        let behind = holders.behind(what, id)?;
        let of_owner = OfOwner { what, id, behind, amount };
        match &of_owner.behind {
            Behind::Range { .. } if orphans => {
                report.held_elsewhere.push((what, id));
                report.contained.push(of_owner);
            }
            Behind::Service(_) if orphans => report.held_elsewhere.push((what, id)),
            _ => report.owners.push(of_owner),
        }
    }
    let mut directories: Vec<(BString, Amount)> = Vec::new();
    for (directory, of) in &tally.matched {
        let mut sum = Amount::default();
        for ((uid, gid), amount) in of {
            if report.counts(filter, *uid, *gid) {
                sum += *amount;
            }
        }
        if sum.files > 0 {
            let shown = if directory.is_empty() { "/".into() } else { directory.clone() };
            directories.push((shown, sum));
            report.total += sum;
        }
    }
    order::sort_by(&mut directories, |a, b| (b.1.files, &a.0).cmp(&(a.1.files, &b.0)));
    report.directories = directories;
    let by_amount = |a: &OfOwner, b: &OfOwner| {
        (b.amount.files, a.what, a.id).cmp(&(a.amount.files, b.what, b.id))
    };
    order::sort_by(&mut report.owners, by_amount);
    order::sort_by(&mut report.contained, by_amount);
    Ok(report)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::test_support::World;
    use crate::value::Day;

    #[test]
    fn orphans_are_what_nobody_holds_and_containers_are_told_apart() {
        let book = book(&[
            (File::Passwd, "maren:x:1004:1004:::\n"),
            (File::Group, "maren:x:1004:\n"),
            (File::Subuid, "maren:5000:100\n"),
            (File::Subgid, "maren:5000:100\n"),
        ]);
        let one = |id| crate::retired_ids::RetiredId { id, name: "perrin".into(), since: None };
        let mut world = World { service_ids: vec![7000], live: true, ..World::default() };
        world.retired.users.push(one(1005));
        let policy = Policy::default();
        let today = Day(20_781);
        let context =
            PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
        let filter = IdFilter::orphans(&book);
        assert!(
            !filter.catches(Uid(1004), Gid(1004))
                && filter.catches(Uid(1005), Gid(1004))
                && filter.catches(Uid(1004), Gid(9))
        );
        let mut tally = Tally::default();
        tally.add(b"/srv", 1005, 1004, 10);
        tally.add(b"/srv", 1005, 9, 1);
        tally.add(b"/srv/box", 5033, 5000, 3);
        tally.add(b"", 7000, 1004, 4);
        let report = report(context, &filter, &tally).unwrap();
        assert_eq!(report.total, Amount { files: 2, bytes: 11 });
        assert_eq!(report.directories, [("/srv".into(), report.total)]);
        let owners: Vec<_> = report.owners.iter().map(|of| (of.what, of.id)).collect();
        assert_eq!(owners, [(IdKind::Uid, 1005), (IdKind::Gid, 9)]);
        assert_eq!(report.owners[0].behind.to_string(), "nobody: it was perrin's, and is retired");
        assert_eq!(
            report.contained[0].behind.to_string(),
            "maren's subordinate ids 5000-5099: 33 in a container"
        );
        assert!(!report.counts(&filter, 7000, 1004) && report.counts(&filter, 5033, 9));
        let world = World { service_down: true, ..World::default() };
        let context = PlanContext { world: &world, ..context };
        assert!(super::report(context, &filter, &tally).is_err());
    }
}
