//! What goes with a file besides its owner and its group: access control lists, acl(5), as the
//! kernel keeps them, and capabilities, capabilities(7).

use std::cell::RefCell;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd};

use nest_core::ownership::Reown;
use rustix::fs::XattrFlags;
use rustix::io::Errno;

use crate::place::by_handle;

/// The list that says who may do what with a file, and the one that what is made in a directory
/// gets.
pub(super) const LISTS: [&str; 2] = ["system.posix_acl_access", "system.posix_acl_default"];
/// What a program may do that root alone may else.
pub(super) const CAPABILITIES: &str = "security.capability";

/// The longest value of an attribute, xattr(7).
const MOST: usize = 64 << 10;

/// Reads an attribute of a file, by any path; `None` where the file has none, or the file
/// system knows no such thing.
fn read(path: &[u8], name: &str) -> Result<Option<Vec<u8>>, Errno> {
    let mut value = [0; 512];
    let read = match rustix::fs::getxattr(path, name, &mut value) {
        Err(Errno::RANGE) => {
            let mut long = vec![0; MOST];
            let length = rustix::fs::getxattr(path, name, &mut long)?;
            long.truncate(length);
            return Ok(Some(long));
        }
        read => read,
    };
    match read {
        Ok(length) => Ok(Some(value[..length].to_vec())),
        Err(Errno::NODATA | Errno::OPNOTSUPP) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Reads an attribute of a file that is opened, be it for its path alone.
///
/// # Errors
/// The system's.
pub(super) fn of_handle(handle: impl AsFd, name: &str) -> Result<Option<Vec<u8>>, Errno> {
    read(&by_handle(handle.as_fd()), name)
}

/// The same by the handle of the directory.
fn of_entry(directory: BorrowedFd<'_>, entry: &[u8], name: &str) -> Result<Option<Vec<u8>>, Errno> {
    read(&[&by_handle(directory)[..], b"/", entry].concat(), name)
}

thread_local! {
    /// The directory that this thread is in, where it has one of its own.
    static HERE: RefCell<Option<Here>> = const { RefCell::new(None) };
}

/// A directory that a thread has gone into.
#[derive(Default)]
struct Here {
    handle: i32,
    path: Vec<u8>,
}

/// Threads each of which is in a directory of its own, so that an attribute can be asked for
/// by the name of a file alone: by the handle of its directory takes three times as long. Nothing
/// where the system does not let us.
pub(super) fn threads() -> Option<rayon::ThreadPool> {
    let begin = |_| {
        let own = nix::sched::unshare(nix::sched::CloneFlags::CLONE_FS).is_ok();
        HERE.set(own.then(Here::default));
    };
    rayon::ThreadPoolBuilder::new().start_handler(begin).build().ok()
}

/// Reads an attribute of an entry of a directory, which is no link; `path` is that of the
/// directory.
///
/// # Errors
/// The system's.
pub(super) fn of_entry_in(
    path: &[u8],
    directory: BorrowedFd<'_>,
    entry: &[u8],
    name: &str,
) -> Result<Option<Vec<u8>>, Errno> {
    let is_here = HERE.with_borrow_mut(|here| {
        let Some(here) = here else { return Ok(false) };
        let handle = directory.as_raw_fd();
        // Handles are given again; a path with it tells them apart.
        if here.handle != handle || here.path != path {
            rustix::process::fchdir(directory)?;
            here.handle = handle;
            here.path.clear();
            here.path.extend_from_slice(path);
        }
        Ok::<_, Errno>(true)
    })?;
    match is_here && !entry.starts_with(b"/") {
        true => read(entry, name),
        false => of_entry(directory, entry, name),
    }
}

/// Sets an attribute of a file that is opened, be it for its path alone.
///
/// # Errors
/// The system's.
pub(super) fn set(handle: impl AsFd, name: &str, value: &[u8]) -> Result<(), Errno> {
    rustix::fs::setxattr(by_handle(handle.as_fd()), name, value, XattrFlags::empty())
}

/// How long the head and each entry of an access control list are: a version; a tag, what is
/// allowed, a number. All little-endian, `linux/posix_acl_xattr.h`.
const HEAD: usize = 4;
const ENTRY: usize = 8;
const USER: u16 = 0x02;
const GROUP: u16 = 0x08;

/// An access control list with the numbers that its entries get; nothing where it stays as it
/// is, or is none that is known.
pub(super) fn renumbered(list: &[u8], reown: &Reown) -> Option<Vec<u8>> {
    let entries = list.get(HEAD..).filter(|entries| entries.len() % ENTRY == 0)?;
    if list[..HEAD] != 2_u32.to_le_bytes() {
        return None;
    }
    let mut changed = false;
    let mut all: Vec<(u16, u16, u32)> = Vec::new();
    for entry in entries.chunks_exact(ENTRY) {
        let two = |at: usize| u16::from_le_bytes([entry[at], entry[at + 1]]);
        let (tag, allowed) = (two(0), two(2));
        let id = u32::from_le_bytes([entry[4], entry[5], entry[6], entry[7]]);
        let new = match tag {
            USER => reown.uids.get(id),
            GROUP => reown.gids.get(id),
            _ => None,
        };
        changed |= new.is_some();
        all.push((tag, allowed, new.unwrap_or(id)));
    }
    if !changed {
        return None;
    }
    // In the order that programs expect: by number among the users, and among the groups.
    all.sort_by_key(|(tag, _, id)| (*tag, if matches!(*tag, USER | GROUP) { *id } else { 0 }));
    let mut new = list[..HEAD].to_vec();
    for (tag, allowed, id) in all {
        new.extend(tag.to_le_bytes());
        new.extend(allowed.to_le_bytes());
        new.extend(id.to_le_bytes());
    }
    Some(new)
}

#[cfg(test)]
mod tests {
    use nest_core::ownership::IdMapping;

    use super::*;

    fn list(entries: &[(u16, u32)]) -> Vec<u8> {
        let mut list = 2_u32.to_le_bytes().to_vec();
        for (tag, id) in entries {
            list.extend(tag.to_le_bytes());
            list.extend(6_u16.to_le_bytes());
            list.extend(id.to_le_bytes());
        }
        list
    }

    #[test]
    fn entries_of_a_list_get_other_numbers_and_stay_in_order() {
        const NONE: u32 = u32::MAX;
        let uids = IdMapping::from(vec![(1001, 1009), (1002, 1001)]);
        let reown = Reown { uids, gids: IdMapping::single(1001, 5), ..Reown::default() };
        let before = list(&[(1, NONE), (2, 1001), (2, 1002), (4, NONE), (8, 1001), (16, NONE)]);
        let after = list(&[(1, NONE), (2, 1001), (2, 1009), (4, NONE), (8, 5), (16, NONE)]);
        assert_eq!(renumbered(&before, &reown), Some(after.clone()));
        assert_eq!(renumbered(&after, &reown.back()), Some(before));
        assert_eq!(renumbered(&list(&[(1, NONE), (2, 1003), (32, NONE)]), &reown), None);
        for no_list in [&b""[..], b"\x02\0\0", b"\x03\0\0\0\x02\0\x06\0\xe9\x03\0\0"] {
            assert_eq!(renumbered(no_list, &reown), None);
        }
    }
}
