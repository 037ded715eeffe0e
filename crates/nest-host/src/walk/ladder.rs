//! A way down into a directory tree and up again: one component at a time, however
//! long the path, with no more than a few handles open, however deep it goes.

use std::collections::VecDeque;
use std::ffi::OsStr;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;

use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;

use crate::tree::DIRECTORY;

/// So many handles are open at most, besides that of the first directory.
const OPEN: usize = 48;

/// A directory, and those that were gone through to it. Handles of those far above are
/// closed, and opened again by way of `..`: if that leads elsewhere by then, somebody
/// has moved a directory meanwhile, and it is an error.
#[derive(Debug)]
pub struct Ladder {
    base: OwnedFd,
    rungs: VecDeque<Rung>,
    /// The names of the rungs, with a `/` between them.
    path: Vec<u8>,
}

#[derive(Debug)]
struct Rung {
    /// How long the path is to here.
    end: usize,
    identity: (u64, u64),
    handle: Option<OwnedFd>,
}

impl Ladder {
    /// Begins in a directory.
    pub fn new(base: OwnedFd) -> Self {
        Ladder { base, rungs: VecDeque::new(), path: Vec::new() }
    }

    /// The directory that was reached.
    pub fn here(&self) -> BorrowedFd<'_> {
        let innermost = self.rungs.back().and_then(|rung| rung.handle.as_ref());
        debug_assert!(innermost.is_some() != self.rungs.is_empty());
        innermost.map_or(self.base.as_fd(), AsFd::as_fd)
    }

    /// How many directories below the first one.
    pub fn depth(&self) -> usize {
        self.rungs.len()
    }

    /// Goes into a directory of the one that was reached. No link is followed.
    ///
    /// # Errors
    /// The system's; `ENOTDIR` for what is no directory, a link included.
    pub fn down(&mut self, name: &OsStr) -> Result<(), Errno> {
        let handle = rustix::fs::openat(self.here(), name, DIRECTORY, Mode::empty())?;
        self.down_to(name, handle)
    }

    /// Goes into a directory that was opened already.
    ///
    /// # Errors
    /// The system's, where the handle can't be looked at.
    pub fn down_to(&mut self, name: &OsStr, handle: OwnedFd) -> Result<(), Errno> {
        let stat = rustix::fs::fstat(&handle)?;
        let identity = (stat.st_dev, stat.st_ino);
        if !self.rungs.is_empty() {
            self.path.push(b'/');
        }
        self.path.extend_from_slice(name.as_bytes());
        self.rungs.push_back(Rung { end: self.path.len(), identity, handle: Some(handle) });
        if let Some(far) = self.rungs.len().checked_sub(OPEN + 1) {
            self.rungs[far].handle = None;
        }
        Ok(())
    }

    /// Goes back up; returns the handle of the directory that was left. In the first
    /// one there is no way up.
    ///
    /// # Errors
    /// The system's; `ESTALE` where the way up leads elsewhere by now.
    pub fn up(&mut self) -> Result<OwnedFd, Errno> {
        let left = self.rungs.pop_back().and_then(|rung| rung.handle).ok_or(Errno::INVAL)?;
        self.path.truncate(self.rungs.back().map_or(0, |rung| rung.end));
        if let Some(above) = self.rungs.back_mut().filter(|above| above.handle.is_none()) {
            let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
            let handle = rustix::fs::openat(&left, "..", flags, Mode::empty())?;
            let stat = rustix::fs::fstat(&handle)?;
            if (stat.st_dev, stat.st_ino) != above.identity {
                return Err(Errno::STALE);
            }
            above.handle = Some(handle);
        }
        Ok(left)
    }

    /// Goes to the directory at a path below the first one.
    ///
    /// # Errors
    /// As [`Ladder::down`] and [`Ladder::up`]; after one the way has to begin anew.
    pub fn go(&mut self, path: &[u8]) -> Result<(), Errno> {
        let path = &path[path.iter().take_while(|&&byte| byte == b'/').count()..];
        let same = common_prefix(&self.path, path);
        let mut common = self.rungs.partition_point(|rung| rung.end <= same);
        let end = |common: usize| common.checked_sub(1).map_or(0, |last| self.rungs[last].end);
        // A name that only begins as another one does is not that one.
        if path.get(end(common)).is_some_and(|&byte| byte != b'/') {
            common = common.saturating_sub(1);
        }
        let rest = &path[end(common)..];
        while self.rungs.len() > common {
            self.up()?;
        }
        for part in parts(rest) {
            self.down(OsStr::from_bytes(part))?;
        }
        Ok(())
    }
}

/// The components of a path.
fn parts(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    path.split(|&byte| byte == b'/').filter(|part| !part.is_empty())
}

/// How many bytes two paths begin with alike. They may be long, and have almost all in common.
pub(crate) fn common_prefix(one: &[u8], other: &[u8]) -> usize {
    const PIECE: usize = 256;
    let pieces = one.chunks_exact(PIECE).zip(other.chunks_exact(PIECE));
    let alike = pieces.take_while(|(a, b)| a == b).count() * PIECE;
    let rest = one[alike..].iter().zip(&other[alike..]);
    alike + rest.take_while(|(a, b)| a == b).count()
}

/// A path as the directory it is in and the name there, both as bytes.
pub(crate) fn split_last(path: &[u8]) -> (&[u8], &[u8]) {
    match path.iter().rposition(|&byte| byte == b'/') {
        Some(at) => (&path[..at], &path[at + 1..]),
        None => (b"", path),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn open(path: &std::path::Path) -> OwnedFd {
        std::fs::File::open(path).unwrap().into()
    }

    /// Makes so many directories, each in the one before.
    pub(crate) fn nest(base: &std::path::Path, depth: usize) {
        let mut ladder = Ladder::new(open(base));
        for _ in 0..depth {
            rustix::fs::mkdirat(ladder.here(), "d", Mode::RWXU).unwrap();
            ladder.down("d".as_ref()).unwrap();
        }
    }

    #[test]
    fn it_goes_deeper_than_paths_and_descriptors_reach() {
        let folder = tempfile::tempdir().unwrap();
        nest(folder.path(), 3000);
        let mut ladder = Ladder::new(open(folder.path()));
        let deep = b"/d".repeat(3000);
        ladder.go(&deep).unwrap();
        assert_eq!(ladder.depth(), 3000);
        let handles = ladder.rungs.iter().filter(|rung| rung.handle.is_some()).count();
        assert!(handles <= OPEN, "{handles}");
        ladder.go(b"/d/d").unwrap();
        assert_eq!(ladder.depth(), 2);
        assert!(ladder.go(b"/d/x").is_err());
        // Back up to nothing, taking away what was made.
        let mut ladder = Ladder::new(open(folder.path()));
        ladder.go(&deep).unwrap();
        while ladder.depth() > 0 {
            ladder.up().unwrap();
            rustix::fs::unlinkat(ladder.here(), "d", rustix::fs::AtFlags::REMOVEDIR).unwrap();
        }
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    }

    #[test]
    fn names_that_begin_alike_are_told_apart() {
        let folder = tempfile::tempdir().unwrap();
        for path in ["ab/c", "abc/c", "ab/cd/e", "a"] {
            std::fs::create_dir_all(folder.path().join(path)).unwrap();
        }
        let mut ladder = Ladder::new(open(folder.path()));
        for path in ["ab/c", "/abc/c", "//ab//cd", "ab/cd/e", "ab/c", "ab", "a", "", "abc"] {
            ladder.go(path.as_bytes()).unwrap();
            let there = std::fs::metadata(folder.path().join(path.trim_start_matches('/')));
            let there = std::os::unix::fs::MetadataExt::ino(&there.unwrap());
            assert_eq!(rustix::fs::fstat(ladder.here()).unwrap().st_ino, there, "{path}");
        }
    }

    #[test]
    fn long_paths_are_compared_to_the_last_byte() {
        let long = b"/d".repeat(700);
        for at in [0, 1, 255, 256, 257, 511, 512, 1399] {
            let mut other = long.clone();
            other[at] = b'x';
            assert_eq!(common_prefix(&long, &other), at);
            assert_eq!(common_prefix(&long, &long[..at]), at);
        }
    }

    #[test]
    fn a_directory_that_is_moved_meanwhile_is_noticed() {
        let folder = tempfile::tempdir().unwrap();
        nest(folder.path(), OPEN + 3);
        std::fs::create_dir(folder.path().join("other")).unwrap();
        let mut ladder = Ladder::new(open(folder.path()));
        ladder.go(&b"/d".repeat(OPEN + 3)).unwrap();
        std::fs::rename(folder.path().join("d/d/d/d"), folder.path().join("other/d")).unwrap();
        let mut up = || ladder.up().map(drop);
        assert_eq!((0..OPEN + 3).find_map(|_| up().err()), Some(Errno::STALE));
    }
}
