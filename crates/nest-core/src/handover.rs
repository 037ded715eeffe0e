//! Whether a directory can take accounts over: everybody is there with the same numbers and
//! groups, and nobody loses anything that is not told before.

use std::collections::BTreeSet;

use bstr::{BStr, BString, ByteSlice};
use hashbrown::{HashMap, HashSet};

use crate::account::{Account, AccountIndex, AccountKind};
use crate::context::PlanContext;
use crate::ldif::{DirectoryAccounts, DirectoryGroup, DirectoryUser};
use crate::surroundings::Origin;
use crate::table::Group;
use crate::value::{Gid, Uid};
use crate::words::list;

/// What is found about the people of a tree.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Handover {
    /// Each of them, in the order of the file.
    pub people: Vec<HandedOver>,
    /// Groups of the tree that the directory has too, and that are otherwise there.
    pub groups: Vec<String>,
    /// What the tree asks for users beside its files; nothing where that is nobody.
    pub asks: Option<String>,
}

/// What is found about one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HandedOver {
    /// The name.
    pub name: BString,
    /// What stands in the way.
    pub faults: Vec<String>,
    /// The groups of this tree alone that it leaves.
    pub leaves: Vec<BString>,
    /// What is otherwise there, and does not stand in the way.
    pub notes: Vec<String>,
}

impl HandedOver {
    /// Whether the directory can take it over.
    pub fn is_ready(&self) -> bool {
        self.faults.is_empty()
    }
}

impl Handover {
    /// How many are ready.
    pub fn ready(&self) -> usize {
        self.people.iter().filter(|person| person.is_ready()).count()
    }
}

/// Looks at the people of a tree, or at those of these names whatever they are.
pub fn handover(
    context: PlanContext<'_>,
    directory: &DirectoryAccounts,
    names: &[BString],
) -> Handover {
    let users: HashMap<&BStr, &DirectoryUser> =
        directory.users.iter().map(|user| (user.name.as_bstr(), user)).collect();
    let uids: HashMap<u32, &DirectoryUser> =
        directory.users.iter().map(|user| (user.uid, user)).collect();
    let groups: HashMap<&BStr, &DirectoryGroup> =
        directory.groups.iter().map(|group| (group.name.as_bstr(), group)).collect();
    let gids: HashMap<u32, &DirectoryGroup> =
        directory.groups.iter().map(|group| (group.gid, group)).collect();
    let mut member_of: HashMap<&BStr, Vec<&DirectoryGroup>> = HashMap::new();
    for group in &directory.groups {
        for member in &group.members {
            member_of.entry(member.as_bstr()).or_default().push(group);
        }
    }
    let looking = Looking { users, uids, groups, gids, member_of };
    let (book, policy) = (context.book, context.policy);
    let wanted: BTreeSet<&[u8]> = names.iter().map(|name| name.as_slice()).collect();
    let people: Vec<Account<'_>> = match wanted.is_empty() {
        true => {
            let all = AccountIndex::new(book, policy);
            all.accounts().filter(|account| account.kind == AccountKind::Person).collect()
        }
        false => {
            let users = book.users.records().map(|(_, user)| user);
            let named = users.filter(|user| wanted.contains(user.name));
            named.map(|user| Account::gather(book, policy, user)).collect()
        }
    };
    let asks = match context.world.origin() {
        Origin::FilesAlone => None,
        Origin::Others(others) => Some(others),
    };
    Handover {
        people: people.iter().map(|account| looking.at(account)).collect(),
        groups: looking.shadows(context),
        asks,
    }
}

struct Looking<'d> {
    users: HashMap<&'d BStr, &'d DirectoryUser>,
    uids: HashMap<u32, &'d DirectoryUser>,
    groups: HashMap<&'d BStr, &'d DirectoryGroup>,
    gids: HashMap<u32, &'d DirectoryGroup>,
    member_of: HashMap<&'d BStr, Vec<&'d DirectoryGroup>>,
}

impl Looking<'_> {
    fn at(&self, account: &Account<'_>) -> HandedOver {
        let user = account.user;
        let mut found = HandedOver { name: user.name.into(), ..HandedOver::default() };
        if user.uid() == Some(Uid::ROOT) {
            found.faults.push("is root, whom every machine has to know by itself".to_owned());
            return found;
        }
        let Some(there) = self.users.get(user.name.as_bstr()) else {
            let other = user.uid().and_then(|uid| self.uids.get(&uid.0));
            found.faults.push(match other {
                Some(other) => {
                    format!(
                        "is not in the directory; its uid {} is {}'s there",
                        other.uid, other.name
                    )
                }
                None => "is not in the directory".to_owned(),
            });
            return found;
        };
        if user.uid() != Some(Uid(there.uid)) {
            let here = BStr::new(user.uid);
            found.faults.push(format!("has uid {here} here, and {} there", there.uid));
        }
        let primary = account.primary.map(|name| format!("{}, ", BStr::new(name)));
        if user.gid() != Some(Gid(there.gid)) {
            let (primary, here) = (primary.unwrap_or_default(), BStr::new(user.gid));
            found.faults.push(format!(
                "has the primary group {primary}{here} here, and {} there",
                there.gid
            ));
        } else if !self.gids.contains_key(&there.gid) {
            found.faults.push(format!("its primary group, {}, is not in the directory", there.gid));
        }
        for group in &account.groups {
            self.look_at_group(user.name, group, &mut found);
        }
        self.note(account, there, &mut found);
        found
    }

    fn look_at_group(&self, user: &[u8], group: &Group<'_>, found: &mut HandedOver) {
        let name = BStr::new(group.name);
        let is_in = |there: &DirectoryGroup| {
            there.members.binary_search_by(|member| member.as_slice().cmp(user)).is_ok()
                || self.users.get(BStr::new(user)).is_some_and(|user| user.gid == there.gid)
        };
        match self.groups.get(name) {
            None => found.leaves.push(name.to_owned()),
            Some(there) if group.gid() != Some(Gid(there.gid)) => {
                let here = BStr::new(group.gid);
                found
                    .faults
                    .push(format!("is in {name}, which is {here} here and {} there", there.gid));
            }
            Some(there) if !is_in(there) => {
                found.faults.push(format!("is in {name} here, and not there"));
            }
            Some(_) => {}
        }
    }

    fn note(&self, account: &Account<'_>, there: &DirectoryUser, found: &mut HandedOver) {
        let user = account.user;
        let mut differs = |what: &str, here: &[u8], there: &[u8]| {
            if here != there {
                let shown = |text: &[u8]| match text.is_empty() {
                    true => "none".to_owned(),
                    false => BStr::new(text).to_string(),
                };
                found.notes.push(format!(
                    "{what} is {} here, and {} there",
                    shown(here),
                    shown(there)
                ));
            }
        };
        differs("home", user.home, &there.home);
        if let Some(shell) = &there.shell {
            differs("shell", user.effective_shell(), shell);
        }
        let expires = account.aging().and_then(|aging| aging.expires);
        if there.says_aging && expires != there.expires {
            let shown = |day: Option<crate::value::Day>| {
                day.map_or_else(|| "never".to_owned(), |day| day.to_string())
            };
            let (here, there) = (shown(expires), shown(there.expires));
            found.notes.push(format!("the account is over {here} here, and {there} there"));
        }
        if account.is_suspended() {
            found.notes.push("is suspended here, which the directory does not know".to_owned());
        }
        let there = self.member_of.get(user.name.as_bstr());
        let mut joins: Vec<&BString> = there
            .into_iter()
            .flatten()
            .map(|group| &group.name)
            .filter(|name| account.groups.iter().all(|own| own.name != name.as_slice()))
            .filter(|name| account.primary != Some(name.as_slice()))
            .collect();
        joins.sort();
        if !joins.is_empty() {
            found.notes.push(format!("is in {} there, and not here", list(&joins)));
        }
    }

    /// The groups of the files that stand before those of the directory, and say otherwise.
    fn shadows(&self, context: PlanContext<'_>) -> Vec<String> {
        let mut told = Vec::new();
        for (_, group) in context.book.groups.records() {
            let (name, Some(gid)) = (BStr::new(group.name), group.gid()) else { continue };
            match (self.groups.get(name), self.gids.get(&gid.0)) {
                (Some(there), _) if there.gid != gid.0 => {
                    told.push(format!(
                        "{name} is {gid} here, and hides that of the directory, {}",
                        there.gid
                    ));
                }
                (Some(there), _) => {
                    let here: HashSet<&[u8]> = match there.members.is_empty() {
                        true => HashSet::new(),
                        false => group.members().collect(),
                    };
                    let only_there: Vec<&BString> = there
                        .members
                        .iter()
                        .filter(|member| !here.contains(member.as_slice()))
                        .collect();
                    if !only_there.is_empty() {
                        let only_there = list(&only_there);
                        told.push(format!(
                            "{name} hides that of the directory, which has in it, too: {only_there}"
                        ));
                    }
                }
                (None, Some(there)) => {
                    told.push(format!("{gid} is {name} here, and {} there", there.name));
                }
                (None, None) => {}
            }
        }
        told
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::policy::Policy;
    use crate::table::File;
    use crate::test_support::{World, book, context};

    const FILES: [(File, &str); 2] = [
        (
            File::Passwd,
            "root:x:0:0::/root:/bin/sh
maren:x:1004:1004::/home/maren:/bin/sh
perrin:x:1005:1004::/home/perrin:/bin/sh
tavish:x:1006:1006::/home/tavish:/bin/sh
tidegauge:x:999:999::/nonexistent:/usr/sbin/nologin
",
        ),
        (
            File::Group,
            "sudo:x:27:maren
pilots:x:210:maren,perrin
slipway:x:211:maren
maren:x:1004:
tavish:x:1006:
",
        ),
    ];

    fn user(name: &str, uid: u32, gid: u32) -> String {
        format!(
            "dn: uid={name},ou=people\nobjectClass: posixAccount\nuid: {name}\nuidNumber: {uid}\n\
             gidNumber: {gid}\nhomeDirectory: /home/{name}\nloginShell: /bin/sh\n\n"
        )
    }

    fn group(name: &str, gid: u32, members: &[&str]) -> String {
        let members: String = members.iter().map(|name| format!("memberUid: {name}\n")).collect();
        format!(
            "dn: cn={name},ou=groups\nobjectClass: posixGroup\ncn: {name}\ngidNumber: {gid}\n{members}\n"
        )
    }

    fn found(dump: &str, names: &[&str]) -> Handover {
        let (directory, faults) = DirectoryAccounts::read(dump.as_bytes());
        assert_eq!(faults, []);
        let (book, policy, world) = (book(&FILES), Policy::default(), World::default());
        let names: Vec<BString> = names.iter().map(|name| BString::from(*name)).collect();
        handover(context(&book, &policy, &world), &directory, &names)
    }

    fn faults(found: &Handover) -> Vec<String> {
        let of = |one: &HandedOver| {
            one.faults.iter().map(|fault| format!("{} {fault}", one.name)).collect::<Vec<_>>()
        };
        found.people.iter().flat_map(of).collect()
    }

    #[test]
    fn whoever_is_the_same_there_is_ready_and_what_is_left_is_told() {
        let dump = [
            user("maren", 1004, 1004),
            user("perrin", 1005, 1004),
            user("tavish", 1006, 1006),
            group("maren", 1004, &[]),
            group("tavish", 1006, &[]),
            group("pilots", 210, &["maren", "perrin", "odalys"]),
            group("slipway", 211, &["maren"]),
        ]
        .concat();
        let found = found(&dump, &[]);
        assert_eq!((faults(&found).len(), found.ready(), found.people.len()), (0, 3, 3));
        assert_eq!(found.people[0].leaves, ["sudo"]);
        assert_eq!(
            found.groups,
            ["pilots hides that of the directory, which has in it, too: odalys"]
        );
        assert_eq!(found.asks, None);
    }

    #[test]
    fn what_is_otherwise_there_stands_in_the_way() {
        let dump = [
            user("maren", 1004, 1004),
            user("perrin", 1017, 100),
            user("tavi", 1006, 1006).replace("/bin/sh", "/bin/zsh"),
            group("pilots", 310, &["maren"]),
            group("slipway", 211, &[]),
            group("gulls", 27, &[]),
        ]
        .concat();
        let found_all = found(&dump, &[]);
        assert_eq!(
            faults(&found_all),
            [
                "maren its primary group, 1004, is not in the directory",
                "maren is in pilots, which is 210 here and 310 there",
                "maren is in slipway here, and not there",
                "perrin has uid 1005 here, and 1017 there",
                "perrin has the primary group maren, 1004 here, and 100 there",
                "perrin is in pilots, which is 210 here and 310 there",
                "tavish is not in the directory; its uid 1006 is tavi's there",
            ]
        );
        assert_eq!(
            found_all.groups,
            [
                "27 is sudo here, and gulls there",
                "pilots is 210 here, and hides that of the directory, 310"
            ]
        );
        let named = found(&dump, &["root", "tidegauge"]);
        assert_eq!(
            faults(&named),
            [
                "root is root, whom every machine has to know by itself",
                "tidegauge is not in the directory",
            ]
        );
    }
}
