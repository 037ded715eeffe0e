//! What makes a directory say the same as the account files.

use std::collections::{HashMap, HashSet};

use bstr::{BString, ByteSlice};

use super::name::{is_below, plain};
use super::{DirectoryAccounts, Entry, LdifFault, ReadEntry, read};

/// A change of one entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Change {
    /// It is new.
    Add(Entry),
    /// It goes.
    Delete(BString),
    /// It gets another name.
    Rename {
        /// The name that it has.
        dn: BString,
        /// The attribute of its name.
        kind: &'static str,
        /// The value that this gets.
        name: BString,
    },
    /// Attributes get other values; those with none go.
    Modify {
        /// Its name.
        dn: BString,
        /// Each with all of its values.
        replaced: Vec<(&'static str, Vec<BString>)>,
        /// Classes that it is to be of, too.
        classes: Vec<BString>,
    },
}

/// The changes that make a directory the same, in the order in which they can be made.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Changes {
    pub(super) all: Vec<Change>,
    /// How many entries stand elsewhere in the directory, and are left alone.
    pub elsewhere: usize,
}

impl Changes {
    /// Adds others that are made after these.
    pub fn append(&mut self, later: Changes) {
        self.all.extend(later.all);
        self.elsewhere += later.elsewhere;
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.all.len()
    }
}

/// What is kept the same in an entry of a user or a group; what else it holds stays. Passwords
/// only where they are written.
const KEPT: [&str; 14] = [
    "uidNumber",
    "gidNumber",
    "homeDirectory",
    "loginShell",
    "gecos",
    "shadowMin",
    "shadowMax",
    "shadowWarning",
    "shadowInactive",
    "shadowExpire",
    "memberUid",
    "member",
    "shadowLastChange",
    "userPassword",
];

/// The last so many are about passwords.
const OF_PASSWORDS: usize = 2;

/// The attributes whose values are numbers.
const NUMBERS: [&str; 8] = [
    "uidNumber",
    "gidNumber",
    "shadowMin",
    "shadowMax",
    "shadowWarning",
    "shadowInactive",
    "shadowExpire",
    "shadowLastChange",
];

/// Which entries of a dump are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scope {
    /// What the others are below; none of those goes.
    Containers,
    /// Users.
    Users,
    /// Groups that are somebody's own.
    OwnGroups,
    /// All other groups.
    Groups,
}

impl Scope {
    /// The class, the attribute of their names, and that of their numbers.
    fn names(self) -> [&'static str; 3] {
        match self {
            Scope::Containers => ["organizationalUnit", "ou", "ou"],
            Scope::Users => ["posixAccount", "uid", "uidNumber"],
            Scope::OwnGroups | Scope::Groups => ["posixGroup", "cn", "gidNumber"],
        }
    }
}

/// Compares entries with those of a dump, below a place. Whoever is there and not wanted goes,
/// unless it is still here.
///
/// # Errors
/// What is wrong with the dump.
pub fn changes(
    wanted: Vec<Entry>,
    dump: &[u8],
    (scope, place): (Scope, &str),
    hashes: bool,
    is_here: &dyn Fn(&[u8]) -> bool,
) -> Result<Changes, Vec<LdifFault>> {
    let (entries, faults) = read(dump);
    if !faults.is_empty() {
        return Err(faults);
    }
    let [class, kind, number] = scope.names();
    let own: HashSet<Vec<u8>> = match scope {
        Scope::OwnGroups | Scope::Groups => {
            let (accounts, _) = DirectoryAccounts::read(dump);
            let apart = accounts.told_apart();
            let own = apart.iter().filter(|(_, own)| *own);
            own.map(|(group, _)| group.name.to_lowercase()).collect()
        }
        Scope::Containers | Scope::Users => HashSet::new(),
    };
    let of_class: Vec<&ReadEntry<'_>> = entries.iter().filter(|entry| entry.is_a(class)).collect();
    let mut by_name: HashMap<Vec<u8>, &ReadEntry<'_>> = HashMap::new();
    let mut by_number: HashMap<u64, Vec<&ReadEntry<'_>>> = HashMap::new();
    let fault = |fault| vec![fault];
    for entry in &of_class {
        for name in entry.values(kind).map_err(fault)? {
            by_name.entry(name.to_lowercase()).or_insert(entry);
        }
        if let Some(number) = entry.value(number).map_err(fault)?.and_then(as_number) {
            by_number.entry(number).or_default().push(entry);
        }
    }
    let wanted_names: HashSet<Vec<u8>> =
        wanted.iter().map(|entry| entry.name.to_lowercase()).collect();
    // Only what is nobody's any more may go, or be called otherwise.
    let may_go = |entry: &ReadEntry<'_>| {
        let names = entry.values(kind).unwrap_or_default();
        let stays = |name: &&[u8]| wanted_names.contains(&name.to_lowercase()) || is_here(name);
        let is_own = names.iter().any(|name| own.contains(&name.to_lowercase()));
        let in_scope = match scope {
            Scope::Containers => false,
            Scope::Users => true,
            Scope::OwnGroups => is_own,
            Scope::Groups => !is_own,
        };
        in_scope && !names.iter().any(stays)
    };
    let mut kept: HashSet<usize> = HashSet::new();
    let (mut renamed, mut modified, mut added) = (Vec::new(), Vec::new(), Vec::new());
    for entry in wanted {
        let same = by_name.get(&entry.name.to_lowercase()).copied();
        // Whoever has the number, and a name that nobody is to have, got another one.
        let before = || {
            let id = entry.values(number).first().and_then(|id| as_number(id))?;
            let candidates = by_number.get(&id)?;
            candidates.iter().copied().find(|other| {
                may_go(other) && !kept.contains(&other.offset) && is_below(&other.dn, place)
            })
        };
        let Some(old) = same.or_else(before) else {
            added.push(Change::Add(entry));
            continue;
        };
        kept.insert(old.offset);
        let mut dn: BString = old.dn.to_vec().into();
        if same.is_none() {
            renamed.push(Change::Rename { dn, kind, name: entry.name.clone() });
            dn = entry.dn.clone().into();
        }
        modified.extend(modify(dn, old, &entry, hashes).map_err(fault)?);
    }
    let (mut deleted, mut elsewhere) = (Vec::new(), 0);
    let left = of_class.iter().filter(|entry| !kept.contains(&entry.offset) && may_go(entry));
    for entry in left {
        match is_below(&entry.dn, place) {
            true => deleted.push(Change::Delete(entry.dn.to_vec().into())),
            false => elsewhere += 1,
        }
    }
    let all = [deleted, renamed, modified, added].concat();
    Ok(Changes { all, elsewhere })
}

/// Zeros before a number mean nothing.
fn as_number(text: &[u8]) -> Option<u64> {
    text.to_str().ok()?.trim().parse().ok()
}

fn modify(
    dn: BString,
    old: &ReadEntry<'_>,
    new: &Entry,
    hashes: bool,
) -> Result<Option<Change>, LdifFault> {
    let names = if hashes { &KEPT[..] } else { &KEPT[..KEPT.len() - OF_PASSWORDS] };
    let mut replaced = Vec::new();
    for name in names {
        let values = new.values(name);
        let plain_value = |value: &[u8]| match *name {
            name if NUMBERS.contains(&name) => {
                as_number(value).map_or_else(|| value.to_vec(), |number| number.to_string().into())
            }
            "member" => plain(value),
            _ => value.to_vec(),
        };
        let set = |values: &mut dyn Iterator<Item = &[u8]>| {
            let mut values: Vec<Vec<u8>> = values.map(plain_value).collect();
            values.sort();
            values.dedup();
            values
        };
        let theirs = set(&mut old.values(name)?.into_iter());
        if set(&mut values.iter().map(|value| &value[..])) != theirs {
            replaced.push((*name, values.to_vec()));
        }
    }
    // One of several full names may be ours.
    let full_names = old.values("cn")?;
    let full_name = new.values("cn");
    if new.kind == "uid" && !full_name.iter().all(|name| full_names.contains(&name.as_slice())) {
        replaced.push(("cn", full_name.to_vec()));
    }
    let lacks = |class: &&BString| class.to_str().is_ok_and(|class| !old.is_a(class));
    // A class that says what an entry is made for can't be given to one that is there.
    let may = |class: &&BString| {
        !["account", "groupOfMembers"].iter().any(|fixed| class.as_slice() == fixed.as_bytes())
    };
    let classes = new.values("objectClass").iter().filter(lacks).filter(may);
    let classes: Vec<BString> = classes.cloned().collect();
    let nothing = replaced.is_empty() && classes.is_empty();
    Ok((!nothing).then_some(Change::Modify { dn, replaced, classes }))
}
