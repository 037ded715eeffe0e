//! Looking a skeleton directory over before a home is made from it.

use std::os::fd::{BorrowedFd, OwnedFd};

use bstr::{BStr, ByteSlice};
use nest_core::surroundings::{Kind, Skeleton, SkeletonFault};
use rustix::fs::OFlags;
use rustix::io::Errno;

use crate::interrupt::Patience;
use crate::surroundings::kind_of;
use crate::tree::{Tree, path_of};
use crate::walk::{At, Visitor, descend_into};

/// Whether the directory can be copied as a home, and how many files it has.
pub(crate) fn look(tree: &Tree, path: &BStr) -> Result<Skeleton, SkeletonFault> {
    let unreadable = |error: Errno| SkeletonFault::Unreadable(error.to_string());
    let stat = match tree.stat(path_of(path)) {
        Ok(stat) => stat,
        Err(Errno::NOENT | Errno::NOTDIR) => return Err(SkeletonFault::Missing),
        Err(error) => return Err(unreadable(error)),
    };
    if kind_of(&stat) != Kind::Directory {
        return Err(SkeletonFault::NotADirectory(kind_of(&stat)));
    }
    let directory = tree.open_file(path_of(path), OFlags::RDONLY | OFlags::DIRECTORY);
    let mut looking = Looking { skeleton: Skeleton { files: 0, set_id: 0, linked: 0 } };
    descend_into(directory.map_err(unreadable)?, Patience::Ends, &mut looking).map_err(
        |fault| match fault {
            Stopped::By(fault) => fault,
            Stopped::System(error) => unreadable(error),
        },
    )?;
    Ok(looking.skeleton)
}

struct Looking {
    skeleton: Skeleton,
}

/// Why the looking ended early.
enum Stopped {
    By(SkeletonFault),
    System(Errno),
}

impl From<Errno> for Stopped {
    fn from(error: Errno) -> Self {
        Stopped::System(error)
    }
}

impl Visitor for Looking {
    type Error = Stopped;

    fn file(&mut self, at: &At<'_>) -> Result<(), Stopped> {
        let path = at.path.strip_prefix(b"/").unwrap_or(at.path);
        match kind_of(at.stat) {
            Kind::File => {
                self.skeleton.set_id += usize::from(at.stat.st_mode & 0o6000 != 0);
                self.skeleton.linked += usize::from(at.stat.st_nlink > 1);
            }
            Kind::Link => {
                let target = rustix::fs::readlinkat(at.parent, at.name, Vec::new())?;
                if leads_out(path, target.as_bytes()) {
                    let target = target.into_bytes().into();
                    let path = path.into();
                    return Err(Stopped::By(SkeletonFault::LinkOutward { path, target }));
                }
            }
            kind => return Err(Stopped::By(SkeletonFault::Special { path: path.into(), kind })),
        }
        self.skeleton.files += 1;
        Ok(())
    }

    fn enter(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Stopped> {
        self.skeleton.set_id += usize::from(at.stat.st_mode & 0o6000 != 0);
        Ok(true)
    }
}

/// How many files are below a directory, links not followed: up to `most`, and whether
/// there are more.
///
/// # Errors
/// The system's.
pub(crate) fn count(directory: OwnedFd, most: usize) -> Result<(usize, bool), Errno> {
    struct Counting {
        count: usize,
        most: usize,
    }
    impl Visitor for Counting {
        type Error = Errno;

        fn file(&mut self, _: &At<'_>) -> Result<(), Errno> {
            self.count += 1;
            if self.count > self.most { Err(Errno::RANGE) } else { Ok(()) }
        }

        fn enter(&mut self, _: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
            Ok(true)
        }

        fn mount(&mut self, _: &[u8], _: BorrowedFd<'_>) -> Result<(), Errno> {
            Ok(())
        }
    }
    let mut counting = Counting { count: 0, most };
    match descend_into(directory, Patience::Ends, &mut counting) {
        Ok(()) => Ok((counting.count, false)),
        Err(Errno::RANGE) => Ok((most, true)),
        Err(error) => Err(error),
    }
}

/// Whether a link, at `path` below a directory, leads out of that directory when
/// read as text: absolute, or climbing above it.
fn leads_out(path: &[u8], target: &[u8]) -> bool {
    if target.starts_with(b"/") {
        return true;
    }
    let mut depth = path.split_str("/").count() - 1;
    for part in target.split_str("/") {
        match part {
            b"" | b"." => {}
            b".." if depth == 0 => return true,
            b".." => depth -= 1,
            _ => depth += 1,
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_that_lead_out_of_a_skeleton_are_told() {
        assert!(leads_out(b"link", b"/etc/passwd"));
        assert!(leads_out(b"link", b"../x"));
        assert!(leads_out(b"a/link", b"../../x"));
        assert!(leads_out(b"a/link", b"b/../../../x"));
        assert!(!leads_out(b"a/link", b"../x"));
        assert!(!leads_out(b"link", b"./a/../b"));
    }
}
