//! The public keys that the SSH server would let an account in by, sshd(8) and
//! sshd_config(5): the files that it looks at unless told otherwise, with the owners and
//! modes that it wants.

use bstr::{BStr, ByteSlice};
use nest_core::surroundings::Keys;
use nest_core::value::{Day, Uid, usable_keys};
use rustix::fs::Stat;
use rustix::io::Errno;

use super::path_of;
use crate::tree::Tree;
use crate::untrusted::{self, CONFIGURATION, LastLink};

/// The files, below a home.
const FILES: [&str; 2] = [".ssh/authorized_keys", ".ssh/authorized_keys2"];

/// The keys in a home, for the account of this uid; `owned` where owners mean anything.
pub(super) fn keys(tree: &Tree, home: &BStr, uid: Uid, owned: bool, today: Day) -> Keys {
    let mut all = Keys::Count(0);
    for file in FILES {
        let file = [home, b"/".as_slice(), file.as_bytes()].concat();
        let found = keys_in(tree, home, file.as_bstr(), uid, owned, today);
        all = match (all, found) {
            (Keys::Count(one), Keys::Count(more)) => Keys::Count(one + more),
            // Keys in one file help, whatever is wrong with the other.
            (Keys::Count(0), other) | (other, Keys::Count(0)) => other,
            (known, _) => known,
        };
    }
    if all == Keys::Count(0) && matches!(tree.stat(path_of(home)), Err(Errno::NOENT)) {
        return Keys::NoHome;
    }
    all
}

fn keys_in(tree: &Tree, home: &BStr, path: &BStr, uid: Uid, owned: bool, today: Day) -> Keys {
    // Its owner could turn a link to anything.
    let text = match untrusted::read(tree, path_of(path), LastLink::Refused, CONFIGURATION) {
        Ok(text) => text,
        Err(missing) if missing.is_missing() => return Keys::Count(0),
        Err(unreadable) => return Keys::Unknown(format!("{path} {unreadable}")),
    };
    // The SSH server passes keys over that others could have put there.
    let ssh = [home, b"/.ssh".as_slice()].concat();
    for place in [home, ssh.as_bstr(), path] {
        let Ok(stat) = tree.stat(path_of(place)) else { continue };
        if stat.st_mode & 0o022 != 0 {
            return Keys::Ignored(format!(
                "{place} can be written by others, and the SSH server then ignores the keys"
            ));
        }
        if owned && stat.st_uid != uid.0 && stat.st_uid != 0 {
            return Keys::Ignored(format!(
                "{place} belongs to uid {}, and the SSH server then ignores the keys",
                stat.st_uid
            ));
        }
    }
    if owned && let Some(closed) = closed_to(tree, path, uid) {
        return Keys::Ignored(format!(
            "{closed} is closed to uid {uid}, and the SSH server reads the keys as that user"
        ));
    }
    let count = usable_keys(&text, today);
    match (count.usable, count.expired) {
        (0, expired) if expired > 0 => Keys::Ignored(format!("each key in {path} has expired")),
        (usable, _) => Keys::Count(usable),
    }
}

/// The first directory on the way to a file, or the file itself, that a user may not enter or
/// read. Whose group it is can't be told here: that it lets its group in is enough.
fn closed_to<'p>(tree: &Tree, path: &'p BStr, uid: Uid) -> Option<&'p BStr> {
    if uid == Uid::ROOT {
        return None;
    }
    let is_closed = |stat: &Stat, bit: u32| match stat.st_uid == uid.0 {
        true => stat.st_mode & (bit << 6) == 0,
        false => stat.st_mode & (bit << 3 | bit) == 0,
    };
    let ends = path.find_iter("/").filter(|end| *end > 0);
    let directories = ends.map(|end| &path[..end]).find(|directory| {
        tree.stat(path_of(directory.as_bstr())).is_ok_and(|stat| is_closed(&stat, 0o1))
    });
    let file = || tree.stat(path_of(path)).is_ok_and(|stat| is_closed(&stat, 0o4)).then_some(path);
    directories.map(|directory| directory.as_bstr()).or_else(file)
}
