//! Places on the tree, by handles, and the names that things wait under.

use std::ffi::{OsStr, OsString};
use std::os::fd::{AsRawFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;

use nest_core::value::TreePath;
use nest_core::value::escaped::Escaped;
use rustix::fs::{AtFlags, RenameFlags};
use rustix::io::Errno;

use crate::tree::{Tree, path_of};

/// A path as the directory it is in, opened without following any link, and the
/// name in it.
pub struct Place {
    /// The directory.
    pub directory: OwnedFd,
    /// The name.
    pub name: OsString,
}

impl Place {
    /// Opens the place of a path in the tree.
    ///
    /// # Errors
    /// The system's; `EINVAL` for what is no path of the tree, `EEXIST` for its root.
    pub fn of(tree: &Tree, path: &[u8]) -> Result<Self, Errno> {
        if !TreePath::fits(path) {
            return Err(Errno::INVAL);
        }
        let path = path_of(path);
        let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else {
            return Err(Errno::EXIST);
        };
        Ok(Place { directory: tree.open_directory_strictly(parent)?, name: name.to_owned() })
    }

    /// Another name in the same directory: the one with `.` before and an ending.
    pub fn beside(&self, ending: &str) -> OsString {
        beside(&self.name, ending)
    }

    pub(crate) fn rename(&self, from: &OsStr, to: &OsStr) -> Result<(), Errno> {
        rename_to_nothing(&self.directory, from, &self.directory, to)
    }

    pub(crate) fn exists(&self, name: &OsStr) -> Result<bool, Errno> {
        match rustix::fs::statat(&self.directory, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(_) => Ok(true),
            Err(Errno::NOENT) => Ok(false),
            Err(error) => Err(error),
        }
    }

    pub(crate) fn unlink(&self, name: &OsStr) {
        if let Err(error) = rustix::fs::unlinkat(&self.directory, name, AtFlags::empty())
            && error != Errno::NOENT
        {
            tracing::warn!(?name, %error, "could not be removed");
        }
    }
}

/// The ending of what waits for its name.
pub const NEW: &str = "copper-nest-new";
/// The ending of a version that holds the old and the new, see
/// [`nest_core::table::Order::Between`].
pub const BOTH: &str = "copper-nest-both";
/// The ending of what is about to be removed.
pub const GONE: &str = "copper-nest-gone";

/// Whether there is a directory that only root may enter.
///
/// # Errors
/// The system's, and one for something else in its place: then somebody has
/// planted it.
pub fn is_private(tree: &Tree, path: &[u8]) -> std::io::Result<bool> {
    let place = match Place::of(tree, path) {
        Err(Errno::NOENT) => return Ok(false),
        place => place?,
    };
    let here = AtFlags::SYMLINK_NOFOLLOW;
    let stat = match rustix::fs::statat(&place.directory, &place.name, here) {
        Err(Errno::NOENT) => return Ok(false),
        stat => stat?,
    };
    let ours = stat.st_uid == rustix::process::geteuid().as_raw();
    let directory = rustix::fs::FileType::from_raw_mode(stat.st_mode).is_dir();
    if ours && directory && stat.st_mode & 0o077 == 0 {
        return Ok(true);
    }
    let path = path_of(path).display();
    let message = format!("{path} is there already, and is no directory of root's alone");
    Err(std::io::Error::other(message))
}

/// `.NAME.ENDING`
pub fn beside(name: &OsStr, ending: &str) -> OsString {
    let mut beside = OsString::from(".");
    beside.push(name);
    beside.push(".");
    beside.push(ending);
    beside
}

/// Renames to a name that nothing has.
pub(crate) fn rename_to_nothing(
    from_directory: &OwnedFd,
    from: &OsStr,
    to_directory: &OwnedFd,
    to: &OsStr,
) -> Result<(), Errno> {
    let flags = RenameFlags::NOREPLACE;
    match rustix::fs::renameat_with(from_directory, from, to_directory, to, flags) {
        // File systems without that flag: look first.
        Err(Errno::INVAL | Errno::NOSYS) => {
            match rustix::fs::statat(to_directory, to, AtFlags::SYMLINK_NOFOLLOW) {
                Err(Errno::NOENT) => rustix::fs::renameat(from_directory, from, to_directory, to),
                Ok(_) => Err(Errno::EXIST),
                Err(error) => Err(error),
            }
        }
        renamed => renamed,
    }
}

/// A name or a path, as bytes.
pub(crate) fn escaped(path: impl AsRef<OsStr>) -> Escaped {
    Escaped(path.as_ref().as_bytes().into())
}

/// A path that was reached from the root of the tree.
pub(crate) fn tree_path(path: impl AsRef<OsStr>) -> TreePath {
    TreePath::judged(path.as_ref().as_bytes())
}
/// The path by which the kernel reaches an opened file, be it opened for its path alone.
pub(crate) fn by_handle(handle: BorrowedFd<'_>) -> Vec<u8> {
    format!("/proc/self/fd/{}", handle.as_raw_fd()).into_bytes()
}
