//! Everything the account files say about one group.

use std::collections::HashMap;

use bstr::ByteSlice;

use crate::account::{AccountKind, ShownLine, admin_groups, kind_of};
use crate::book::Book;
use crate::policy::Policy;
use crate::secret::{shown, told};
use crate::table::{File, Group};
use crate::value::{PasswordField, members};

/// What a group is for, as far as that can be told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display)]
#[strum(serialize_all = "lowercase")]
pub enum GroupKind {
    /// The primary group of the one user whose name it bears.
    Private,
    /// Its gid is one of the people's.
    People,
    /// Its gid is one of the services'.
    Services,
}

/// One group, gathered from passwd, group and gshadow.
#[derive(Debug, Clone)]
pub struct GroupAccount<'b> {
    /// The group record.
    pub group: Group<'b>,
    /// What it is for.
    pub kind: GroupKind,
    /// The users that its list names, each once and in order.
    pub listed: Vec<&'b [u8]>,
    /// The users whose primary group has its gid, in file order.
    pub primary: Vec<&'b [u8]>,
    /// Who administers it.
    pub admins: Vec<&'b [u8]>,
    /// Whether it has a password; nothing where gshadow can't be read.
    pub has_password: Option<bool>,
    /// Whether its members administer the machine.
    pub makes_admins: bool,
    /// Other groups with its gid.
    pub same_gid: Vec<&'b [u8]>,
}

/// What is the same for every group of a book, found once.
pub struct GroupIndex<'b> {
    book: &'b Book,
    policy: &'b Policy,
    admins: Vec<Group<'b>>,
    /// The users that have each gid as their primary group's.
    primaries: HashMap<u32, Vec<&'b [u8]>>,
    /// The groups that have each gid.
    holders: HashMap<u32, Vec<&'b [u8]>>,
}

impl<'b> GroupIndex<'b> {
    /// Goes through users and groups once.
    pub fn new(book: &'b Book, policy: &'b Policy) -> Self {
        let mut primaries: HashMap<u32, Vec<&[u8]>> = HashMap::new();
        for (_, user) in book.users.records() {
            if let Some(gid) = user.gid() {
                primaries.entry(gid.0).or_default().push(user.name);
            }
        }
        let mut holders: HashMap<u32, Vec<&[u8]>> = HashMap::new();
        for (_, group) in book.groups.records() {
            if let Some(gid) = group.gid() {
                holders.entry(gid.0).or_default().push(group.name);
            }
        }
        book.names();
        let admins = admin_groups(book, policy);
        GroupIndex { book, policy, admins, primaries, holders }
    }

    /// Every group, in file order.
    pub fn groups(&self) -> impl Iterator<Item = GroupAccount<'b>> {
        self.book.groups.records().map(|(_, group)| self.gather(group))
    }

    /// One group, given its record.
    pub fn gather(&self, group: Group<'b>) -> GroupAccount<'b> {
        let gid = group.gid();
        let of = |map: &HashMap<u32, Vec<&'b [u8]>>| -> Vec<&'b [u8]> {
            gid.and_then(|gid| map.get(&gid.0)).cloned().unwrap_or_default()
        };
        let primary = of(&self.primaries);
        let mut listed: Vec<&[u8]> = Vec::new();
        let mut seen = std::collections::HashSet::new();
        listed.extend(group.members().filter(|member| seen.insert(*member)));
        let gshadow = self.book.gshadow(group.name).map(|(_, gshadow)| gshadow);
        let unreadable = self.book.unreadable.contains_key(&File::Gshadow);
        let field = gshadow.map_or(group.password, |gshadow| gshadow.password);
        let others = listed.iter().chain(&primary).any(|user| *user != group.name);
        let kind = match (kind_of(self.policy, gid), primary.as_slice()) {
            (_, [only]) if *only == group.name && !others => GroupKind::Private,
            (AccountKind::Person, _) => GroupKind::People,
            (AccountKind::Service, _) => GroupKind::Services,
        };
        GroupAccount {
            group,
            kind,
            listed,
            primary,
            admins: gshadow
                .into_iter()
                .flat_map(|gshadow| members(gshadow.admins))
                .map(|admin| told(File::Gshadow, admin).as_bytes())
                .collect(),
            has_password: (!unreadable).then(|| !PasswordField::is_harmless(field)),
            makes_admins: self.admins.iter().any(|admins| admins.is_same(&group)),
            same_gid: of(&self.holders).into_iter().filter(|name| *name != group.name).collect(),
        }
    }
}

/// The groups that are somebody's own, by name: of one user alone, whose name they bear. Found in
/// one pass, for very many.
pub fn private_groups(book: &Book) -> hashbrown::HashSet<&[u8]> {
    // Whoever asks this asks for very many names: without an index each is searched for.
    book.names();
    let mut holders: hashbrown::HashMap<u32, Option<&[u8]>> = hashbrown::HashMap::new();
    for gid in book.users.records().filter_map(|(_, user)| Some((user.gid()?.0, user.name))) {
        holders.entry(gid.0).and_modify(|holder| *holder = None).or_insert(Some(gid.1));
    }
    let groups = book.groups.records().map(|(_, group)| group);
    let is_own = |group: &Group<'_>| {
        let holder = group.gid().and_then(|gid| holders.get(&gid.0).copied().flatten());
        holder == Some(group.name) && group.members().all(|member| member == group.name)
    };
    groups.filter(is_own).map(|group| group.name).collect()
}

/// The lines about a group: its own, those of other groups with its gid, and those
/// of the users whose primary group it is, up to `most` of them.
pub fn lines_about_group(book: &Book, account: &GroupAccount<'_>, most: usize) -> Vec<ShownLine> {
    let mut lines = Vec::new();
    let mut push = |file: File, name: &[u8]| {
        let Some(table) = book.lines(file) else { return };
        lines.extend(book.named(file, name).into_iter().map(|line| ShownLine {
            file,
            line: table.number(line.start),
            text: shown(file, line.bytes),
        }));
    };
    for user in account.primary.iter().take(most) {
        push(File::Passwd, user);
    }
    for name in std::iter::once(&account.group.name).chain(&account.same_gid) {
        push(File::Group, name);
    }
    push(File::Gshadow, account.group.name);
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;

    #[test]
    fn both_kinds_of_member_are_told_apart() {
        let book = book(&[
            (File::Passwd, "maren:x:1004:1004:::\ntavish:x:1001:210:::\n"),
            (
                File::Group,
                "pilots:x:210:maren,maren, odalys\nmaren:x:1004:\nold:x:0210:\nall:x:1010:\n",
            ),
            (File::Gshadow, "pilots:$6$a$b:tavish:maren\n"),
        ]);
        let policy = Policy::default();
        let index = GroupIndex::new(&book, &policy);
        let all: Vec<_> = index.groups().collect();
        let pilots = &all[0];
        assert_eq!(pilots.listed, [&b"maren"[..], b"odalys"]);
        assert_eq!(
            (pilots.primary.clone(), pilots.admins.clone()),
            (vec![&b"tavish"[..]], vec![&b"tavish"[..]])
        );
        assert_eq!((pilots.has_password, pilots.kind), (Some(true), GroupKind::Services));
        assert_eq!(pilots.same_gid, [b"old"]);
        assert_eq!((all[1].kind, all[3].kind), (GroupKind::Private, GroupKind::People));
        let lines = lines_about_group(&book, pilots, 9);
        assert_eq!(lines.len(), 4);
        assert_eq!(lines[3].text, "pilots:(hash):tavish:maren");
    }

    #[test]
    fn every_administrators_group_makes_administrators() {
        let book = book(&[
            (File::Passwd, "maren:x:1004:1004:::\n"),
            (File::Group, "sudo:x:27:\nwheel:x:28:maren\nberth:x:28:\ncrew:x:29:\n"),
        ]);
        let policy = Policy::default();
        let index = GroupIndex::new(&book, &policy);
        let makes: Vec<bool> = index.groups().map(|group| group.makes_admins).collect();
        assert_eq!(makes, [true, true, true, false]);
    }
}
