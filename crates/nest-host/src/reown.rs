//! Finding the files that carry a number, and giving them another: by handles, no
//! link followed, no other file system entered.

use std::ffi::OsStr;
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::ffi::OsStrExt;

use nest_core::plan::Reown;
use rustix::fs::{AtFlags, FileType, Gid, Mode, OFlags, ResolveFlags, Stat, Uid};
use rustix::io::Errno;

use crate::inventory::{DIRECTORY, names};
use crate::tree::{Tree, path_of};

/// The files that carry the number, and what has to be told about some of them.
#[derive(Debug, Default)]
pub struct Carriers {
    /// Paths in the tree, each ended by a byte 0.
    pub list: Vec<u8>,
    /// How many.
    pub count: usize,
    /// What has to be told.
    pub notes: Vec<String>,
}

/// The number that a file carries.
fn number(stat: &Stat, group: bool) -> u32 {
    if group { stat.st_gid } else { stat.st_uid }
}

fn is_directory(stat: &Stat) -> bool {
    FileType::from_raw_mode(stat.st_mode) == FileType::Directory
}

/// Looks for the files that carry `reown.from` below its paths. Files with more
/// than one link are told and left out: another name of theirs may be
/// anybody's.
///
/// # Errors
/// The system's.
pub fn find(tree: &Tree, reown: &Reown) -> std::io::Result<Carriers> {
    let mut finding =
        Finding { reown, device: 0, carriers: Carriers::default(), linked: 0, set_id: 0 };
    for path in &reown.paths {
        let path = path_of(&path.0);
        let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else { continue };
        let directory = match tree.open_directory_strictly(parent) {
            Ok(directory) => directory,
            Err(Errno::NOENT) => continue,
            Err(error) => return Err(error.into()),
        };
        match rustix::fs::statat(&directory, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => finding.device = stat.st_dev,
            Err(Errno::NOENT) => continue,
            Err(error) => return Err(error.into()),
        }
        let path = path.as_os_str().as_bytes();
        finding.entry(directory.as_fd(), name, path)?;
    }
    let Finding { mut carriers, linked, set_id, .. } = finding;
    let files =
        |count: usize| if count == 1 { "1 file".to_owned() } else { format!("{count} files") };
    if linked > 0 {
        carriers.notes.push(format!(
            "{} with more than one name left as {}: another name may be outside the home",
            files(linked),
            reown.from
        ));
    }
    if set_id > 0 {
        carriers.notes.push(format!(
            "the kernel clears the set-id bits of {} when the owner changes",
            files(set_id)
        ));
    }
    Ok(carriers)
}

struct Finding<'a> {
    reown: &'a Reown,
    device: u64,
    carriers: Carriers,
    linked: usize,
    set_id: usize,
}

impl Finding<'_> {
    fn entry(&mut self, directory: BorrowedFd<'_>, name: &OsStr, path: &[u8]) -> Result<(), Errno> {
        let stat = match rustix::fs::statat(directory, name, AtFlags::SYMLINK_NOFOLLOW) {
            Err(Errno::NOENT) => return Ok(()),
            stat => stat?,
        };
        if stat.st_dev != self.device {
            self.carriers.notes.push(format!(
                "{} is another file system and was not entered",
                path_of(path).display()
            ));
            return Ok(());
        }
        if number(&stat, self.reown.group) == self.reown.from {
            if !is_directory(&stat) && stat.st_nlink > 1 {
                self.linked += 1;
            } else {
                self.carriers.list.extend_from_slice(path);
                self.carriers.list.push(0);
                self.carriers.count += 1;
                self.set_id += usize::from(!is_directory(&stat) && stat.st_mode & 0o6000 != 0);
            }
        }
        if is_directory(&stat) {
            let inside = match rustix::fs::openat(directory, name, DIRECTORY, Mode::empty()) {
                // Swapped for something else, or gone: nothing of ours.
                Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return Ok(()),
                inside => inside?,
            };
            for name in names(&inside)? {
                let path = [path, b"/", name.as_bytes()].concat();
                self.entry(inside.as_fd(), &name, &path)?;
            }
        }
        Ok(())
    }
}

/// Gives the listed files the number `to`, those that still carry `from` and have
/// no other name. What has gone since is passed over.
///
/// # Errors
/// The system's.
pub fn give(tree: &Tree, list: &[u8], group: bool, from: u32, to: u32) -> std::io::Result<()> {
    for path in list.split(|&byte| byte == 0).filter(|path| !path.is_empty()) {
        let path = path.strip_prefix(b"/").unwrap_or(path);
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        // The owner of a directory on the way may have put a link there.
        let file = match open_strictly(tree, path, flags) {
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP | Errno::XDEV) => continue,
            file => file?,
        };
        let stat = rustix::fs::fstat(&file)?;
        let others = !is_directory(&stat) && stat.st_nlink > 1;
        if number(&stat, group) != from || others {
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
