//! Who and what there is of a name, a number or a home.

use std::collections::{BTreeSet, HashMap};

use bstr::{BStr, BString};

use super::range_index::RangeIndex;
use super::{Book, FEW_MISSES};
use crate::order;
use crate::table::{File, Group, Gshadow, Line, Lines, Passwd, Record, Shadow, SubId, Table};
use crate::value::{Gid, IdSpans, Uid, members, nearest};

impl Book {
    /// The user whose name is nearest, for somebody who slipped; nothing where not all
    /// users are known.
    pub fn nearest_user(&self, name: &[u8]) -> Option<&BStr> {
        let all = (!self.is_partial(File::Passwd)).then(|| self.users.records());
        nearest(name, all.into_iter().flatten().map(|(_, user)| user.name))
    }

    /// The group whose name is nearest, likewise.
    pub fn nearest_group(&self, name: &[u8]) -> Option<&BStr> {
        let all = (!self.is_partial(File::Group)).then(|| self.groups.records());
        nearest(name, all.into_iter().flatten().map(|(_, group)| group.name))
    }

    /// The first well-formed user of this name.
    pub fn user<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Passwd<'b>)> {
        first(self.named(File::Passwd, name))
    }

    /// The first user with this uid.
    pub fn user_by_uid(&self, uid: Uid) -> Option<(Line<'_>, Passwd<'_>)> {
        self.expect_loaded(File::Passwd, |lookups| lookups.has_uid(uid));
        let is_it = |user: &Passwd<'_>| user.uid() == Some(uid);
        self.first_of_id(self.users.lines(), uid.0, is_it)
    }

    /// The first record of this number in passwd or group.
    fn first_of_id<'b, R: Record<'b>>(
        &'b self,
        lines: &'b Lines,
        id: u32,
        is_it: impl Fn(&R) -> bool,
    ) -> Option<(Line<'b>, R)> {
        let read = |line: Line<'b>| {
            let record = line.is_record().then(|| R::read(line.record())).flatten();
            Some((line, record.filter(&is_it)?))
        };
        if let Some(found) = self.batch().and_then(|batch| batch.of_id(lines.file(), id)) {
            return self.lines_at(lines.file(), found).find_map(read);
        }
        // Nearly always the number is written plainly, and a search finds it.
        let plain = lines.holding(format!(":{id}:").into_bytes()).find_map(read);
        plain.or_else(|| lines.iter().filter(|_| !lines.is_excerpt()).find_map(read))
    }

    /// The lines that hold a number in passwd or in group, where that is known already because
    /// it was looked up at once.
    pub(crate) fn holding_at_once(
        &self,
        file: File,
        id: u32,
    ) -> Option<impl Iterator<Item = Line<'_>>> {
        let holds = matches!(file, File::Passwd | File::Group);
        let found = self.batch().filter(|_| holds)?.of_id(file, id)?;
        Some(self.lines_at(file, found))
    }

    /// Every user with this uid, in file order.
    pub fn users_by_uid(&self, uid: Uid) -> Vec<(Line<'_>, Passwd<'_>)> {
        self.users_found(self.batch().and_then(|batch| batch.of_id(File::Passwd, uid.0)), |user| {
            user.uid() == Some(uid)
        })
    }

    /// The users whose primary group has this gid, in file order.
    pub fn users_by_gid(&self, gid: Gid) -> Vec<(Line<'_>, Passwd<'_>)> {
        self.users_found(self.batch().and_then(|batch| batch.primaries(gid)), |user| {
            user.gid() == Some(gid)
        })
    }

    /// The users among the lines that were found, or else among all, of which something is so.
    fn users_found<'b>(
        &'b self,
        found: Option<&'b [usize]>,
        is_so: impl Fn(&Passwd<'b>) -> bool,
    ) -> Vec<(Line<'b>, Passwd<'b>)> {
        match found {
            Some(found) => {
                let lines = self.lines_at(File::Passwd, found);
                let users = lines.filter_map(|line| Some((line, Passwd::read(line.record())?)));
                users.filter(|(_, user)| is_so(user)).collect()
            }
            None => self.users.records().filter(|(_, user)| is_so(user)).collect(),
        }
    }

    /// The names of other users whose home lies at or below a path.
    pub fn homes_below(&self, home: &[u8], but: &[u8]) -> Vec<BString> {
        let below = |other: &[u8]| {
            other.strip_prefix(home).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
        };
        let name = |line: Line<'_>| {
            let user = Passwd::read(line.record())?;
            (user.name != but && below(user.home)).then(|| user.name.into())
        };
        match self.batch().and_then(|batch| batch.homes_below(home)) {
            Some(found) => self.lines_at(File::Passwd, found).filter_map(name).collect(),
            None => {
                self.expect_loaded(File::Passwd, |_| false);
                self.users.lines().holding([b":", home].concat()).filter_map(name).collect()
            }
        }
    }

    /// The first shadow line of this name that the C library can read.
    pub fn shadow<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Shadow<'b>)> {
        let lines = self.named(File::Shadow, name).into_iter();
        lines
            .filter_map(|line| Some((line, Shadow::read(line.record())?)))
            .find(|(_, shadow)| shadow.is_readable())
    }

    /// The first well-formed group of this name.
    pub fn group<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Group<'b>)> {
        first(self.named(File::Group, name))
    }

    /// The first group with this gid.
    pub fn group_by_gid(&self, gid: Gid) -> Option<(Line<'_>, Group<'_>)> {
        self.expect_loaded(File::Group, |lookups| lookups.has_gid(gid));
        let is_it = |group: &Group<'_>| group.gid() == Some(gid);
        self.first_of_id(self.groups.lines(), gid.0, is_it)
    }

    /// Every group with this gid, in file order.
    pub fn groups_by_gid(&self, gid: Gid) -> Vec<(Line<'_>, Group<'_>)> {
        match self.batch().and_then(|batch| batch.of_id(File::Group, gid.0)) {
            Some(found) => {
                let lines = self.lines_at(File::Group, found);
                lines.filter_map(|line| Some((line, Group::read(line.record())?))).collect()
            }
            None => self.groups.records().filter(|(_, group)| group.gid() == Some(gid)).collect(),
        }
    }

    /// Every group of these gids, in file order. Of a file that is held only in part, those
    /// that are held.
    pub fn groups_of_gids(&self, gids: &BTreeSet<u32>) -> Vec<(Line<'_>, Group<'_>)> {
        let is_one = |group: &Group<'_>| group.gid().is_some_and(|gid| gids.contains(&gid.0));
        if gids.len() > FEW_MISSES {
            return self.groups.records().filter(|(_, group)| is_one(group)).collect();
        }
        // However the number is written, it ends like this.
        let lines = self.groups.lines();
        let found = gids.iter().flat_map(|gid| lines.holding(format!("{gid}:").into_bytes()));
        let mut found: Vec<Line<'_>> = found.filter(Line::is_record).collect();
        found.sort_unstable_by_key(|line| line.start);
        found.dedup_by_key(|line| line.start);
        let read = found.into_iter().filter_map(|line| Some((line, Group::read(line.record())?)));
        read.filter(|(_, group)| is_one(group)).collect()
    }

    /// Whether nobody but the account of a uid is in the group of a gid, and it is: by primary
    /// group, or listed as the owner of a file. Of files that are held only in part, as far as
    /// they are held.
    pub fn is_private_group(&self, gid: Gid, uid: Uid, owner: Uid) -> bool {
        let groups = self.groups_of_gids(&[gid.0].into());
        let Some((_, group)) = groups.first() else { return false };
        let primaries = self.users_by_gid(gid);
        if primaries.iter().any(|(_, user)| user.uid() != Some(uid)) {
            return false;
        }
        let owners = || self.users_by_uid(owner);
        let mut members = group.members();
        match (members.next(), members.next()) {
            (None, _) => !primaries.is_empty(),
            (Some(member), None) => owners().iter().any(|(_, user)| user.name == member),
            (Some(_), Some(_)) => false,
        }
    }

    /// The first well-formed gshadow line of this name.
    pub fn gshadow<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Gshadow<'b>)> {
        first(self.named(File::Gshadow, name))
    }

    /// The groups whose list names this user, in file order.
    pub fn groups_listing<'b>(&'b self, user: &[u8]) -> Vec<(Line<'b>, Group<'b>)> {
        let lines = self.groups.lines();
        self.expect_loaded(File::Group, |lookups| lookups.has_user(user));
        let batch = self.batch().and_then(|batch| batch.listing(user));
        let mut found: Vec<Line<'b>> = match batch {
            Some(found) => found.iter().map(|start| lines.around(*start)).collect(),
            None => lines.holding(user.to_vec()).collect(),
        };
        // A line that lists somebody twice is one line.
        found.dedup_by_key(|line| line.start);
        found
            .into_iter()
            .filter(Line::is_record)
            .filter_map(|line| Some((line, Group::read(line.record())?)))
            .filter(|(_, group)| group.members().any(|member| member == user))
            .collect()
    }

    /// The first user whose home this is.
    pub fn user_at_home(&self, home: &[u8]) -> Option<&[u8]> {
        self.expect_loaded(File::Passwd, |lookups| lookups.has_home(home));
        let lines = self.users.lines();
        let read = |line: Line<'_>| -> Option<&[u8]> {
            let user = Passwd::read(lines.around(line.start).record())?;
            (user.home == home).then_some(user.name)
        };
        match self.batch().and_then(|batch| batch.at_home(home)) {
            Some(found) => found.iter().find_map(|start| read(lines.around(*start))),
            None => lines.holding([b":", home, b":"].concat()).find_map(read),
        }
    }

    /// The first range, of uids or of gids, that covers a number.
    pub fn range_over(&self, id: u32) -> Option<SubId<'_>> {
        if let Some(found) = self.batch().and_then(|batch| batch.covering(id)) {
            let (file, start) = found?;
            return SubId::read(self.lines(file)?.around(start).record());
        }
        [File::Subuid, File::Subgid].iter().for_each(|file| self.expect_loaded(*file, |_| false));
        let tables = [&self.subuid, &self.subgid].into_iter().flatten();
        let mut ranges = tables.flat_map(Table::records).map(|(_, range)| range);
        ranges.find(|range| range.span().is_some_and(|span| span.contains(id)))
    }

    /// The gshadow lines that name this user, as member or administrator.
    pub fn gshadow_mentioning<'b>(&'b self, user: &[u8]) -> Vec<Line<'b>> {
        let Some(table) = &self.gshadow else {
            return Vec::new();
        };
        self.expect_loaded(File::Gshadow, |lookups| lookups.has_user(user));
        let mentions = |line: &Line<'_>| {
            Gshadow::read(line.record()).filter(|_| line.is_record()).is_some_and(|group| {
                let mut names = group.members().chain(members(group.admins));
                names.any(|name| name == user)
            })
        };
        match self.batch().and_then(|batch| batch.mentioning(user)) {
            Some(found) => {
                let mut lines: Vec<Line<'b>> = self.lines_at(File::Gshadow, found).collect();
                lines.dedup_by_key(|line| line.start);
                lines.into_iter().filter(mentions).collect()
            }
            None => table.lines().holding(user.to_vec()).filter(mentions).collect(),
        }
    }

    /// The groups that list each user, as line starts: for work on many users.
    pub fn memberships(&self) -> HashMap<&[u8], Vec<Group<'_>>> {
        let mut map: HashMap<&[u8], Vec<Group<'_>>> = HashMap::new();
        for (_, group) in self.groups.records() {
            for member in group.members() {
                let of = map.entry(member).or_default();
                if of.last().is_none_or(|last| last.name != group.name) {
                    of.push(group);
                }
            }
        }
        map
    }

    /// The range lines that belong to the user of this name and uid.
    pub fn ranges_of<'b>(
        &'b self,
        file: File,
        name: &[u8],
        uid: Option<Uid>,
    ) -> Vec<(Line<'b>, SubId<'b>)> {
        let uid = uid.map(|uid| uid.to_string().into_bytes());
        let names = std::iter::once(name).chain(uid.iter().map(|uid| &uid[..]));
        let mut lines: Vec<Line<'b>> = names.flat_map(|name| self.named(file, name)).collect();
        order::sort_by_key(&mut lines, |line| line.start);
        lines.dedup_by_key(|line| line.start);
        lines.into_iter().filter_map(|line| Some((line, SubId::read(line.record())?))).collect()
    }

    /// The owners of ranges of a file that have ids of these, in no order and maybe often.
    pub fn owners_overlapping(&self, file: File, spans: &IdSpans) -> Vec<&[u8]> {
        let Some(table) = self.sub_ids(file) else { return Vec::new() };
        if !self.lookups.are_many() {
            let overlaps =
                |range: &SubId<'_>| range.span().is_some_and(|span| spans.overlaps(span));
            let owners = table.records().filter(|(_, range)| overlaps(range));
            return owners.map(|(_, range)| range.owner).collect();
        }
        let index = &self.ranges[usize::from(file == File::Subgid)];
        let index = index.get_or_init(|| RangeIndex::of(table));
        let found = spans.spans().iter().flat_map(|span| index.overlapping(*span));
        found
            .filter_map(|start| Some(SubId::read(table.lines().around(start).record())?.owner))
            .collect()
    }
}

fn first<'b, R: Record<'b>>(lines: Vec<Line<'b>>) -> Option<(Line<'b>, R)> {
    lines.into_iter().find_map(|line| Some((line, R::read(line.record())?)))
}
