//! Everything the account files say about one user.

mod new_shadow;

pub(crate) use new_shadow::NewShadow;

use std::collections::{BTreeSet, HashMap};

use bstr::BString;

use crate::book::Book;
use crate::order;
use crate::policy::Policy;
pub use crate::policy::{AccountKind, KindRule};
use crate::table::{Aging, File, Group, Line, Passwd, Record, Shadow, Table};
use crate::value::{Day, Gid, IdSpan, PasswordField, Uid};

/// The home field of accounts without a home: a path that never exists.
pub const NO_HOME: &str = "/nonexistent";

/// Whether a home says that there is none: by the paths that systems write for it.
pub fn means_no_home(home: &[u8]) -> bool {
    matches!(home, b"" | b"/nonexistent" | b"/dev/null" | b"/var/empty")
}

/// One user, gathered from all six files.
#[derive(Debug)]
pub struct Account<'b> {
    /// The passwd record.
    pub user: Passwd<'b>,
    /// The first well-formed shadow record.
    pub shadow: Option<Shadow<'b>>,
    /// The name of the primary group, if a group has that gid.
    pub primary: Option<&'b [u8]>,
    /// The groups that list the user, in file order, with their gids.
    pub groups: Vec<Group<'b>>,
    /// The names that their gids have: those of the first group with each.
    gid_names: Vec<&'b [u8]>,
    /// Subordinate uids.
    pub uid_ranges: Vec<IdSpan>,
    /// Subordinate gids.
    pub gid_ranges: Vec<IdSpan>,
    /// Person or service.
    pub kind: AccountKind,
    /// Why.
    pub kind_by: KindRule,
    /// Whether the user administers the machine: uid 0, or a member, listed or
    /// by primary group, of one of the administrators' groups.
    pub admin: bool,
}

/// What is the same for every account of a book, found once: for lists.
pub struct AccountIndex<'b> {
    book: &'b Book,
    policy: &'b Policy,
    admins: Vec<Group<'b>>,
    primaries: HashMap<u32, &'b [u8]>,
    memberships: HashMap<&'b [u8], Vec<Group<'b>>>,
    uid_ranges: HashMap<&'b [u8], Vec<IdSpan>>,
    gid_ranges: HashMap<&'b [u8], Vec<IdSpan>>,
}

impl<'b> AccountIndex<'b> {
    /// Goes through groups and ranges once.
    pub fn new(book: &'b Book, policy: &'b Policy) -> Self {
        let mut primaries: HashMap<u32, &[u8]> = HashMap::new();
        for (_, group) in book.groups.records() {
            if let Some(gid) = group.gid() {
                primaries.entry(gid.0).or_insert(group.name);
            }
        }
        let ranges = |file| {
            let mut all: HashMap<&[u8], Vec<IdSpan>> = HashMap::new();
            for (_, range) in book.sub_ids(file).into_iter().flat_map(Table::records) {
                all.entry(range.owner).or_default().extend(range.span());
            }
            all
        };
        book.names();
        AccountIndex {
            book,
            policy,
            admins: admin_groups(book, policy),
            primaries,
            memberships: book.memberships(),
            uid_ranges: ranges(File::Subuid),
            gid_ranges: ranges(File::Subgid),
        }
    }

    /// What each account is, in file order.
    pub fn kinds(&self) -> impl Iterator<Item = AccountKind> {
        self.book.users.records().map(|(_, user)| {
            let shadow = || self.book.shadow(user.name).map(|(_, shadow)| shadow);
            kind_of_user(self.policy, &user, shadow).0
        })
    }

    /// Every account, in file order.
    pub fn accounts(&self) -> impl Iterator<Item = Account<'b>> {
        self.book.users.records().map(|(_, user)| {
            let of = |ranges: &HashMap<&[u8], Vec<IdSpan>>| {
                let number = user.uid().map(|uid| uid.to_string().into_bytes());
                let by_number = number.and_then(|number| ranges.get(&number[..]));
                let by_name = ranges.get(user.name);
                by_name.into_iter().chain(by_number).flatten().copied().collect()
            };
            let groups = self.memberships.get(user.name).cloned().unwrap_or_default();
            let first = |group: &Group<'b>| {
                let name = group.gid().and_then(|gid| self.primaries.get(&gid.0).copied());
                name.unwrap_or(group.name)
            };
            let parts = Parts {
                primary: user.gid().and_then(|gid| self.primaries.get(&gid.0).copied()),
                gid_names: groups.iter().map(first).collect(),
                groups,
                uid_ranges: of(&self.uid_ranges),
                gid_ranges: of(&self.gid_ranges),
            };
            Account::of(self.book, self.policy, user, parts, &self.admins)
        })
    }
}

/// What was gathered about an account, one way or the other.
struct Parts<'b> {
    primary: Option<&'b [u8]>,
    groups: Vec<Group<'b>>,
    gid_names: Vec<&'b [u8]>,
    uid_ranges: Vec<IdSpan>,
    gid_ranges: Vec<IdSpan>,
}

impl<'b> Account<'b> {
    /// Gathers one user, given its record.
    pub fn gather(book: &'b Book, policy: &Policy, user: Passwd<'b>) -> Self {
        let spans = |file| {
            let lines = book.ranges_of(file, user.name, user.uid());
            lines.into_iter().filter_map(|(_, range)| range.span()).collect()
        };
        let primary = user.gid().and_then(|gid| book.group_by_gid(gid));
        let groups = book.groups_listing(user.name).into_iter().map(|(_, group)| group);
        let groups: Vec<Group<'b>> = groups.collect();
        let gids: BTreeSet<u32> = groups.iter().filter_map(Group::gid).map(u32::from).collect();
        let held = book.groups_of_gids(&gids);
        let first = |group: &Group<'b>| {
            let mut same = held.iter().filter(|(_, other)| other.gid() == group.gid());
            same.next().map_or(group.name, |(_, first)| first.name)
        };
        let parts = Parts {
            primary: primary.map(|(_, group)| group.name),
            gid_names: groups.iter().map(first).collect(),
            groups,
            uid_ranges: spans(File::Subuid),
            gid_ranges: spans(File::Subgid),
        };
        Self::of(book, policy, user, parts, &admin_groups(book, policy))
    }

    fn of(
        book: &'b Book,
        policy: &Policy,
        user: Passwd<'b>,
        parts: Parts<'b>,
        admins: &[Group<'b>],
    ) -> Self {
        let is_one = |group: &Group<'_>| admins.iter().any(|admins| admins.is_same(group));
        let by_primary =
            || admins.iter().any(|admins| admins.gid().is_some_and(|gid| user.gid() == Some(gid)));
        let admin =
            user.uid() == Some(Uid::ROOT) || parts.groups.iter().any(is_one) || by_primary();
        let shadow = book.shadow(user.name).map(|(_, shadow)| shadow);
        let (kind, kind_by) = kind_of_user(policy, &user, || shadow);
        Account {
            kind,
            kind_by,
            shadow,
            primary: parts.primary,
            groups: parts.groups,
            gid_names: parts.gid_names,
            uid_ranges: parts.uid_ranges,
            gid_ranges: parts.gid_ranges,
            admin,
            user,
        }
    }

    /// The gids that it has, each with its name.
    pub(crate) fn gids(&self) -> Vec<(Gid, &'b [u8])> {
        let primary = self.user.gid().zip(self.primary);
        let listed = self.groups.iter().zip(&self.gid_names);
        let listed = listed.filter_map(|(group, name)| Some((group.gid()?, *name)));
        primary.into_iter().chain(listed).collect()
    }

    /// Whether the account is suspended: no password lets it in, and it expired
    /// on day 1, the day that suspending writes.
    pub fn is_suspended(&self) -> bool {
        let locked = !matches!(self.password(), PasswordField::Set(_) | PasswordField::Open);
        locked && self.aging().and_then(|aging| aging.expires) == Some(Day(1))
    }

    /// What the password field means, wherever it stands.
    pub fn password(&self) -> PasswordField {
        match (&self.shadow, self.user.is_shadowed()) {
            (Some(shadow), true) => shadow.field(),
            (None, true) => PasswordField::Never,
            (_, false) => PasswordField::read(self.user.password),
        }
    }

    /// The aging fields, where there is a shadow line.
    pub fn aging(&self) -> Option<Aging> {
        self.shadow.map(|shadow| shadow.aging())
    }
}

/// The kind of an account with this uid, or of a group with this gid.
pub fn kind_of(policy: &Policy, id: Option<impl Into<u32>>) -> AccountKind {
    id.map_or(AccountKind::Service, |id| policy.kind_of_id(id.into()).0)
}

/// The kind of a user, and why. Whoever lives where nobody does, and is kept out for good, is
/// a service whatever its number: by a shell that lets nobody in, or by a password field that
/// nothing matches. Only of few is the shadow line looked at.
pub fn kind_of_user<'s>(
    policy: &Policy,
    user: &Passwd<'_>,
    shadow: impl FnOnce() -> Option<Shadow<'s>>,
) -> (AccountKind, KindRule) {
    let Some(uid) = user.uid() else { return (AccountKind::Service, KindRule::NoNumber) };
    let (kind, rule) = policy.kind_of_id(uid.0);
    let nowhere = means_no_home(user.home) || user.home == b"/";
    if kind == AccountKind::Service || !nowhere {
        return (kind, rule);
    }
    let field = match user.is_shadowed() {
        true => shadow().map(|shadow| shadow.field()),
        false => Some(PasswordField::read(user.password)),
    };
    let out = turns_away(user.effective_shell()) || matches!(field, Some(PasswordField::Never));
    match out {
        true => (AccountKind::Service, KindRule::LivesNowhere(user.home.into())),
        false => (kind, rule),
    }
}

/// Whether a shell is one of those that turn everybody away.
pub(crate) fn turns_away(shell: &[u8]) -> bool {
    let last = shell.rsplit(|&byte| byte == b'/').next().unwrap_or(shell);
    matches!(last, b"nologin" | b"false")
}

/// The administrators' groups: those of the policy's that exist, each line of one that stands
/// there twice. Whoever becomes administrator joins the first.
pub fn admin_groups<'b>(book: &'b Book, policy: &Policy) -> Vec<Group<'b>> {
    let lines =
        policy.admins_groups.iter().flat_map(|name| book.named(File::Group, name.as_bytes()));
    lines.filter_map(|line| Group::read(line.record())).collect()
}

/// The administrators' group that is joined.
pub fn admin_group<'b>(book: &'b Book, policy: &Policy) -> Option<Group<'b>> {
    admin_groups(book, policy).into_iter().next()
}

/// A line of an account file about one user, as it is shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShownLine {
    /// The file.
    pub file: File,
    /// The line's number, counted from 1.
    pub line: usize,
    /// The text, without hashes.
    pub text: BString,
}

/// Every line of all files about this user: its records, well-formed or not,
/// its private or primary group, the groups and gshadow lines that name it, its
/// ranges.
pub fn lines_about(book: &Book, user: &Passwd<'_>) -> Vec<ShownLine> {
    let mut shown = Vec::new();
    let mut push = |file: File, lines: Vec<Line<'_>>| {
        let Some(table) = book.lines(file) else { return };
        shown.extend(lines.into_iter().map(|line| ShownLine {
            file,
            line: table.number(line.start),
            text: crate::secret::shown(file, line.bytes),
        }));
    };
    push(File::Passwd, book.named(File::Passwd, user.name));
    push(File::Shadow, book.named(File::Shadow, user.name));
    let mut groups: Vec<Line<'_>> =
        book.groups_listing(user.name).into_iter().map(|(line, _)| line).collect();
    groups.extend(user.gid().and_then(|gid| book.group_by_gid(gid)).map(|(line, _)| line));
    push(File::Group, in_order(groups));
    let mut gshadow = book.gshadow_mentioning(user.name);
    let primary = user.gid().and_then(|gid| book.group_by_gid(gid));
    if let Some((_, primary)) = primary {
        gshadow.extend(book.gshadow(primary.name).map(|(line, _)| line));
    }
    push(File::Gshadow, in_order(gshadow));
    for file in [File::Subuid, File::Subgid] {
        let ranges = book.ranges_of(file, user.name, user.uid());
        push(file, ranges.into_iter().map(|(line, _)| line).collect());
    }
    shown
}

fn in_order(mut lines: Vec<Line<'_>>) -> Vec<Line<'_>> {
    order::sort_by_key(&mut lines, |line| line.start);
    lines.dedup_by_key(|line| line.start);
    lines
}
