//! Finding the files that carry a number, and giving them another: by handles, no
//! link followed, no other file system entered.

use std::sync::Mutex;

use bstr::BString;
use nest_core::plan::Reown;
use nest_core::surroundings::Carried;
use rustix::fs::{AtFlags, Gid, Mode, OFlags, ResolveFlags, Uid};
use rustix::io::Errno;

use crate::effect::Place;
use crate::tree::{Tree, path_of};
use crate::walk::{Ground, Met, Status, Unseen, walk};

/// The files that carry the number, and what has to be told about some of them.
#[derive(Debug, Default)]
pub struct Carriers {
    /// Paths in the tree, each ended by a byte 0.
    pub list: Vec<u8>,
    /// How many, and of what size.
    pub carried: Carried,
    /// What has to be told.
    pub notes: Vec<String>,
}

/// Looks for the files that carry `reown.from` below its paths. Files with more
/// than one link are told and left out, unless they are meant: another name of
/// theirs may be anybody's.
///
/// # Errors
/// The system's. A path that is not there is no error.
pub fn find(tree: &Tree, reown: &Reown) -> std::io::Result<Carriers> {
    let mut paths: Vec<BString> = Vec::new();
    for path in &reown.paths {
        // The root has no place of its own, and is there.
        match Place::of(tree, &path.0) {
            Ok(place) => {
                let here = AtFlags::SYMLINK_NOFOLLOW;
                match rustix::fs::statat(&place.directory, &place.name, here) {
                    Err(Errno::NOENT) => continue,
                    stat => stat?,
                };
            }
            Err(Errno::NOENT) => continue,
            Err(Errno::EXIST) => {}
            Err(error) => return Err(error.into()),
        }
        paths.push(path.0.clone());
    }
    if paths.is_empty() {
        return Ok(Carriers::default());
    }
    let found = Mutex::new((Vec::new(), Carried::default()));
    let tell = |met: &Met<'_>| {
        let status = met.status;
        if status.number(reown.group) != reown.from {
            return;
        }
        let mut found = found.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        let (list, carried) = &mut *found;
        if !status.is_directory() && status.linked {
            carried.linked += 1;
            if !reown.hard_links {
                return;
            }
        }
        list.push(met.path());
        carried.files += 1;
        carried.bytes += status.bytes();
        carried.set_id += u64::from(!status.is_directory() && status.is_set_id());
    };
    let ground = Ground { paths: &paths, stay: !reown.everywhere, but: &[] };
    let unseen = walk(tree, ground, &tell)
        .map_err(|(path, error)| std::io::Error::other(format!("{path}: {error}")))?;
    let (mut list, carried) = found.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
    list.sort_unstable();
    let mut joined = Vec::new();
    for path in &list {
        joined.extend_from_slice(path);
        joined.push(0);
    }
    Ok(Carriers { list: joined, carried, notes: notes(reown, carried, &unseen) })
}

fn notes(reown: &Reown, carried: Carried, unseen: &Unseen) -> Vec<String> {
    let files =
        |count: u64| if count == 1 { "1 file".to_owned() } else { format!("{count} files") };
    let mut notes = Vec::new();
    if carried.linked > 0 && !reown.hard_links {
        notes.push(format!(
            "{} with more than one name left as {}: another name may be anywhere",
            files(carried.linked),
            reown.from
        ));
    }
    if carried.set_id > 0 {
        notes.push(format!(
            "the kernel clears the set-id bits of {} when the owner changes",
            files(carried.set_id)
        ));
    }
    let left_out = unseen.left_out.iter().map(|(path, kind)| format!("{path} ({kind})"));
    let left_out: Vec<String> = left_out.collect();
    if !left_out.is_empty() {
        notes.push(format!("not looked into: {}", left_out.join(", ")));
    }
    if let Some((path, why)) = unseen.unread.first() {
        let count = unseen.unread.len();
        let more = if count > 1 { format!(" and {} more", count - 1) } else { String::new() };
        notes.push(format!("could not be read: {path} ({why}){more}"));
    }
    notes
}

/// Gives the listed files the number `to`, those that still carry `from` and have
/// no other name, unless such files are meant. What has gone since is passed over.
///
/// # Errors
/// The system's.
pub fn give(tree: &Tree, list: &[u8], reown: &Reown, back: bool) -> std::io::Result<()> {
    let (from, to) = if back { (reown.to, reown.from) } else { (reown.from, reown.to) };
    let group = reown.group;
    for path in list.split(|&byte| byte == 0).filter(|path| !path.is_empty()) {
        let path = path.strip_prefix(b"/").unwrap_or(path);
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        // The owner of a directory on the way may have put a link there.
        let file = match open_strictly(tree, path, flags) {
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP | Errno::XDEV) => continue,
            file => file?,
        };
        let stat = rustix::fs::fstat(&file)?;
        let status = Status::of(&stat);
        let others = !status.is_directory() && status.linked && !reown.hard_links;
        if status.number(group) != from || others {
            continue;
        }
        let (uid, gid) = match group {
            true => (None, Some(Gid::from_raw(to))),
            false => (Some(Uid::from_raw(to)), None),
        };
        rustix::fs::chownat(&file, "", uid, gid, AtFlags::EMPTY_PATH)?;
    }
    Ok(())
}

fn open_strictly(tree: &Tree, path: &[u8], flags: OFlags) -> Result<std::os::fd::OwnedFd, Errno> {
    let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    match rustix::fs::openat2(tree.root(), path_of(path), flags, Mode::empty(), resolve) {
        Err(Errno::NOSYS | Errno::PERM) => {
            let path = path_of(path);
            let parent = tree.open_directory_strictly(path.parent().unwrap_or(path_of(b"")))?;
            let name = path.file_name().ok_or(Errno::INVAL)?;
            rustix::fs::openat(parent, name, flags, Mode::empty())
        }
        opened => opened,
    }
}
