//! What is told of what a walk comes by.

use std::os::fd::BorrowedFd;

use nest_core::ownership::Owner;
use nest_core::value::{Gid, Uid};
use rustix::fs::{FileType, Stat};

/// What a walk tells of a file. The system's own status is four times as much, and
/// this is copied for every file there is.
#[derive(Debug, Clone, Copy)]
pub struct Status {
    /// Its owner.
    pub uid: u32,
    /// Its group.
    pub gid: u32,
    /// Whether it has more than one name.
    pub linked: bool,
    mode: u32,
    size: u64,
}

impl Status {
    #[inline(always)]
    pub(crate) fn of(stat: &Stat) -> Self {
        Status {
            uid: stat.st_uid,
            gid: stat.st_gid,
            linked: stat.st_nlink > 1,
            mode: stat.st_mode,
            size: stat.st_size.cast_unsigned(),
        }
    }

    /// The group or the owner.
    pub fn number(&self, group: bool) -> u32 {
        if group { self.gid } else { self.uid }
    }

    /// Whose it is.
    pub fn owner(&self) -> Owner {
        Owner { uid: Uid(self.uid), gid: Gid(self.gid) }
    }

    /// Whether it is a directory.
    #[inline]
    pub fn is_directory(&self) -> bool {
        FileType::from_raw_mode(self.mode) == FileType::Directory
    }

    /// Whether it is a regular file.
    pub fn is_regular(&self) -> bool {
        FileType::from_raw_mode(self.mode) == FileType::RegularFile
    }

    /// Whether it is a symbolic link.
    pub fn is_link(&self) -> bool {
        FileType::from_raw_mode(self.mode) == FileType::Symlink
    }

    /// The permission bits.
    pub fn permissions(&self) -> u32 {
        self.mode & 0o7777
    }

    /// Whether it carries a set-user-id or set-group-id bit.
    pub fn is_set_id(&self) -> bool {
        self.mode & 0o6000 != 0
    }

    /// The bytes in a regular file; none in anything else.
    pub fn bytes(&self) -> u64 {
        if self.is_regular() { self.size } else { 0 }
    }
}

/// Something that the walk came by.
pub struct Met<'a> {
    /// The path of the directory it is in; empty for the root of the tree.
    pub directory: &'a [u8],
    /// Its name in it.
    pub name: &'a [u8],
    /// Its status.
    pub status: Status,
    /// Where it can be reached by a handle.
    pub reach: Reach<'a>,
}

/// How something that was met is reached without going through any path.
#[derive(Debug, Clone, Copy)]
pub enum Reach<'a> {
    /// It is opened itself.
    Opened(BorrowedFd<'a>),
    /// It has this name in an opened directory.
    In(BorrowedFd<'a>, &'a [u8]),
}

impl<'a> Met<'a> {
    /// What is at a path.
    pub(super) fn at(path: &'a [u8], status: Status, reach: Reach<'a>) -> Self {
        let (directory, last) = path.split_at(path.iter().rposition(|&b| b == b'/').unwrap_or(0));
        Met { directory, name: last.strip_prefix(b"/").unwrap_or(last), status, reach }
    }

    /// Its path in the tree.
    pub fn path(&self) -> Vec<u8> {
        [self.directory, b"/", self.name].concat()
    }
}

/// Is told everything that the walk comes by, from several threads.
pub type Tell<'a> = dyn Fn(&Met<'_>) + Sync + 'a;
