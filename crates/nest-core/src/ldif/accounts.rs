//! What entries say of users and groups, by RFC 2307 or its successor.

use std::borrow::Cow;

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashMap;

use super::name::first_step;
use super::{LdifFault, ReadEntry, read};
use crate::order;
use crate::value::Day;

/// A user of a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryUser {
    /// Where its entry begins.
    pub offset: usize,
    /// The name.
    pub name: BString,
    /// The uid.
    pub uid: u32,
    /// The gid of its primary group.
    pub gid: u32,
    /// The full name.
    pub full_name: BString,
    /// The home.
    pub home: BString,
    /// The shell, if it is told.
    pub shell: Option<BString>,
    /// How its password ages: hold, renew, remind, late; in days.
    pub aging: [Option<u32>; 4],
    /// On which day the account is over.
    pub expires: Option<Day>,
    /// Whether anything is said of that.
    pub says_aging: bool,
    /// The hash of its password, where it is one of crypt(3).
    pub hash: Option<BString>,
    /// On which day that was set; 0 where another has to be set.
    pub changed: Option<Day>,
    /// Whether it has a password of another scheme.
    pub other_scheme: bool,
}

/// A group of a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryGroup {
    /// Where its entry begins.
    pub offset: usize,
    /// The name.
    pub name: BString,
    /// The gid.
    pub gid: u32,
    /// Who is in it, sorted.
    pub members: Vec<BString>,
}

/// All users and groups of a dump.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DirectoryAccounts {
    /// The users, in its order.
    pub users: Vec<DirectoryUser>,
    /// The groups, likewise.
    pub groups: Vec<DirectoryGroup>,
}

impl DirectoryAccounts {
    /// Reads a dump, and tells all that is wrong with it. Pieces of a long one are read side by
    /// side.
    pub fn read(text: &[u8]) -> (Self, Vec<LdifFault>) {
        use rayon::prelude::*;
        let pieces: Vec<(Self, Vec<LdifFault>)> =
            pieces(text).into_par_iter().map(|(from, piece)| read_piece(from, piece)).collect();
        let mut accounts = DirectoryAccounts::default();
        let mut faults = Vec::new();
        for (piece, wrong) in pieces {
            accounts.users.extend(piece.users);
            accounts.groups.extend(piece.groups);
            faults.extend(wrong);
        }
        let users = accounts.users.iter().map(|user| (&user.name, user.offset));
        twice(users, &mut faults);
        let groups = accounts.groups.iter().map(|group| (&group.name, group.offset));
        twice(groups, &mut faults);
        if accounts.users.is_empty() && accounts.groups.is_empty() && faults.is_empty() {
            let message = "it holds no users and no groups of RFC 2307: nothing of the classes \
                           posixAccount and posixGroup";
            faults.push(LdifFault::new(0, message, ""));
        }
        order::sort_by_key(&mut faults, |fault| fault.offset);
        (accounts, faults)
    }

    /// Whether a group is somebody's own: of that name, and with nobody else in it.
    fn is_own(&self, group: &DirectoryGroup, users: &HashMap<&BStr, &DirectoryUser>) -> bool {
        let user = users.get(BStr::new(&group.name));
        user.is_some_and(|user| user.gid == group.gid)
            && group.members.iter().all(|member| *member == group.name)
    }

    /// The groups, each with whether it is somebody's own.
    pub fn told_apart(&self) -> Vec<(&DirectoryGroup, bool)> {
        let users: HashMap<&BStr, &DirectoryUser> =
            self.users.iter().map(|user| (user.name.as_bstr(), user)).collect();
        self.groups.iter().map(|group| (group, self.is_own(group, &users))).collect()
    }

    /// The groups, each with whether it is made with its user: somebody's own, of the same number.
    pub fn made_with_users(&self) -> Vec<(&DirectoryGroup, bool)> {
        let uids: HashMap<&BString, u32> =
            self.users.iter().map(|user| (&user.name, user.uid)).collect();
        let is_made = |group: &DirectoryGroup| uids.get(&group.name) == Some(&group.gid);
        let apart = self.told_apart().into_iter();
        apart.map(|(group, own)| (group, own && is_made(group))).collect()
    }
}

/// So many bytes are worth a thread of their own.
const PIECE: usize = 1 << 20;

/// A dump in pieces that end with an entry, each with where it begins.
fn pieces(text: &[u8]) -> Vec<(usize, &[u8])> {
    let mut pieces = Vec::new();
    let mut from = 0;
    while text.len() - from > PIECE {
        let Some(end) = end_of_entry(&text[from + PIECE..]) else { break };
        let end = from + PIECE + end;
        pieces.push((from, &text[from..end]));
        from = end;
    }
    pieces.push((from, &text[from..]));
    pieces
}

/// Where the first entry that ends in a text has ended.
fn end_of_entry(text: &[u8]) -> Option<usize> {
    memchr::memchr_iter(b'\n', text).find_map(|at| match &text[at + 1..] {
        [b'\n', ..] => Some(at + 2),
        [b'\r', b'\n', ..] => Some(at + 3),
        _ => None,
    })
}

fn read_piece(from: usize, text: &[u8]) -> (DirectoryAccounts, Vec<LdifFault>) {
    let (entries, mut faults) = read(text);
    let mut accounts = DirectoryAccounts::default();
    for entry in &entries {
        let read = match (entry.is_a("posixAccount"), entry.is_a("posixGroup")) {
            (true, _) => user_of(entry).map(|user| {
                accounts.users.push(DirectoryUser { offset: user.offset + from, ..user });
            }),
            (false, true) => group_of(entry).map(|group| {
                accounts.groups.push(DirectoryGroup { offset: group.offset + from, ..group });
            }),
            (false, false) => Ok(()),
        };
        faults.extend(read.err());
    }
    faults.iter_mut().for_each(|fault| fault.offset += from);
    (accounts, faults)
}

/// Tells names that stand twice, however large their letters are.
fn twice<'n>(names: impl Iterator<Item = (&'n BString, usize)>, faults: &mut Vec<LdifFault>) {
    let mut seen: hashbrown::HashSet<Cow<'n, [u8]>> = hashbrown::HashSet::new();
    for (name, offset) in names {
        let folded = match name.iter().all(|byte| byte.is_ascii() && !byte.is_ascii_uppercase()) {
            true => Cow::Borrowed(name.as_slice()),
            false => Cow::Owned(name.to_lowercase()),
        };
        if !seen.insert(folded) {
            let message =
                format!("{name} is there twice: large and small letters are one to a directory");
            faults.push(LdifFault::new(offset, message, "one of them"));
        }
    }
}

/// A value that an entry has to have.
fn required<'e>(entry: &'e ReadEntry<'_>, name: &str) -> Result<&'e [u8], LdifFault> {
    entry.value(name)?.ok_or_else(|| {
        let message = format!("{} has no {name}", entry.dn.as_bstr());
        LdifFault::new(entry.offset, message, "RFC 2307 asks for one")
    })
}

/// A number. Zeros before it mean nothing.
fn number(entry: &ReadEntry<'_>, name: &str) -> Result<u32, LdifFault> {
    let text = required(entry, name)?;
    let digits =
        text.to_str().ok().map(str::trim).filter(|text| text.bytes().all(|b| b.is_ascii_digit()));
    digits.and_then(|digits| digits.parse().ok()).filter(|id| *id < u32::MAX - 1).ok_or_else(|| {
        let message = format!("{name} of {} is {:?}", entry.dn.as_bstr(), text.as_bstr());
        LdifFault::new(entry.place(name), message, "a whole number from 0 to 4294967293")
    })
}

/// A number of days; less than none, and none, say nothing.
fn days(entry: &ReadEntry<'_>, name: &str) -> Result<Option<i64>, LdifFault> {
    let Some(text) = entry.value(name)? else { return Ok(None) };
    let days = text.to_str().ok().and_then(|text| text.trim().parse::<i64>().ok());
    match days {
        Some(days) => Ok((days >= 0).then_some(days)),
        None => {
            let message = format!("{name} of {} is {:?}", entry.dn.as_bstr(), text.as_bstr());
            Err(LdifFault::new(entry.place(name), message, "a number of days"))
        }
    }
}

fn user_of(entry: &ReadEntry<'_>) -> Result<DirectoryUser, LdifFault> {
    let name = required(entry, "uid")?;
    let count = |name| -> Result<Option<u32>, LdifFault> {
        Ok(days(entry, name)?.and_then(|days| u32::try_from(days).ok()))
    };
    let passwords = entry.values("userPassword")?;
    let hash = passwords.iter().find_map(|password| {
        let scheme = password.get(..7)?;
        scheme.eq_ignore_ascii_case(b"{crypt}").then(|| BString::from(&password[7..]))
    });
    let gecos = entry.value("gecos")?.map(|gecos| gecos.split_str(",").next().unwrap_or_default());
    let full_name = entry.value("cn")?.filter(|full_name| *full_name != name);
    Ok(DirectoryUser {
        offset: entry.offset,
        name: name.into(),
        uid: number(entry, "uidNumber")?,
        gid: number(entry, "gidNumber")?,
        full_name: full_name.or(gecos).unwrap_or_default().into(),
        home: required(entry, "homeDirectory")?.into(),
        shell: entry.value("loginShell")?.map(BString::from),
        aging: [
            count("shadowMin")?,
            count("shadowMax")?,
            count("shadowWarning")?,
            count("shadowInactive")?,
        ],
        expires: days(entry, "shadowExpire")?.map(Day),
        changed: days(entry, "shadowLastChange")?.map(Day),
        says_aging: entry.is_a("shadowAccount"),
        other_scheme: hash.is_none() && !passwords.is_empty(),
        hash,
    })
}

fn group_of(entry: &ReadEntry<'_>) -> Result<DirectoryGroup, LdifFault> {
    let mut members: Vec<BString> =
        entry.values("memberUid")?.into_iter().map(BString::from).collect();
    for name in ["member", "uniqueMember"] {
        for dn in entry.values(name)? {
            // Groups in groups, and whoever has another name, are nobody of these accounts.
            let uid = first_step(dn).into_iter().find(|(kind, _)| kind == "uid");
            members.extend(uid.map(|(_, uid)| uid));
        }
    }
    members.sort();
    members.dedup();
    let name = required(entry, "cn")?.into();
    Ok(DirectoryGroup { offset: entry.offset, name, gid: number(entry, "gidNumber")?, members })
}
