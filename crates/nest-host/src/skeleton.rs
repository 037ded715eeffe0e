//! Looking a skeleton directory over before a home is made from it.

use std::os::fd::{BorrowedFd, OwnedFd};

use bstr::{BStr, BString, ByteSlice};
use nest_core::surroundings::{Skeleton, SkeletonFault};
use nest_core::value::FileKind;
use rustix::fs::OFlags;
use rustix::io::Errno;

use crate::interrupt::Patience;
use crate::tree::{Tree, kind_of, path_of};
use crate::walk::{At, Visitor, descend_into};
use crate::words::why;

/// Whether the directory can be copied as a home, and how many files it has.
pub(crate) fn inspect_skeleton(tree: &Tree, path: &BStr) -> Result<Skeleton, SkeletonFault> {
    let unreadable = |error: Errno| SkeletonFault::Unreadable(why(error));
    let stat = match tree.stat(path_of(path)) {
        Ok(stat) => stat,
        Err(Errno::NOENT | Errno::NOTDIR) => return Err(SkeletonFault::Missing),
        Err(error) => return Err(unreadable(error)),
    };
    if kind_of(&stat) != FileKind::Directory {
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
            FileKind::File => {
                self.skeleton.set_id += usize::from(at.stat.st_mode & 0o6000 != 0);
                self.skeleton.linked += usize::from(at.stat.st_nlink > 1);
            }
            FileKind::Link => {
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

/// How many files are below a directory.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Count {
    /// So many, or so many at least.
    pub files: usize,
    /// Whether there are more.
    pub more: bool,
    /// The first directory that could not be looked into, by its path below, and why.
    pub uncounted: Option<(BString, String)>,
}

/// Counts the files below a directory, links not followed and no mount entered: up to
/// `most`.
///
/// # Errors
/// The system's, for the directory itself.
pub(crate) fn count(directory: OwnedFd, most: usize) -> Result<Count, Errno> {
    struct SkeletonCounter {
        count: Count,
        most: usize,
    }
    impl Visitor for SkeletonCounter {
        type Error = Errno;

        fn file(&mut self, _: &At<'_>) -> Result<(), Errno> {
            if self.count.files == self.most {
                return Err(Errno::RANGE);
            }
            self.count.files += 1;
            Ok(())
        }

        fn enter(&mut self, _: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
            Ok(true)
        }

        fn mount(&mut self, path: &[u8], _: BorrowedFd<'_>) -> Result<(), Errno> {
            let what = || (path.into(), "something is mounted there".to_owned());
            self.count.uncounted.get_or_insert_with(what);
            Ok(())
        }

        fn unreadable(&mut self, path: &[u8], error: Errno) -> Result<(), Errno> {
            self.count.uncounted.get_or_insert_with(|| (path.into(), why(error)));
            Ok(())
        }
    }
    let mut counting = SkeletonCounter { count: Count::default(), most };
    match descend_into(directory, Patience::Ends, &mut counting) {
        Err(Errno::RANGE) => counting.count.more = true,
        counted => counted?,
    }
    Ok(counting.count)
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
