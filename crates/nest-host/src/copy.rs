//! Copying a file or directory whole, with owners, modes, times, links and
//! extended attributes: by handles, no link followed.

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsStr;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;

use rustix::fs::{
    AtFlags, FileType, Gid, Mode, OFlags, Stat, Timespec, Timestamps, Uid, XattrFlags,
};
use rustix::io::Errno;

use crate::interrupt::Patience;
use crate::inventory::{DataParts, open_met};
use crate::walk::{At, Ladder, Visitor, descend, split_last};

/// Copies the entry `from` of one directory as the entry `to` of another, where
/// nothing is, and flushes it. What is mounted inside stops it (`EXDEV`): that can't be
/// moved. An interrupt does too (`ECANCELED`).
///
/// # Errors
/// The system's. What was copied so far is left for the caller to remove.
pub fn copy(
    source: impl AsFd,
    from: &OsStr,
    target: impl AsFd,
    to: &OsStr,
    progress: &CopyProgress<'_>,
) -> Result<(), Errno> {
    let base = || target.as_fd().try_clone_to_owned().map_err(|_| Errno::MFILE);
    let mut copying = Copying {
        target: Ladder::new(base()?),
        links: Ladder::new(base()?),
        linked: HashMap::new(),
        to,
        special: false,
        piece: Vec::new(),
        progress,
    };
    descend(source, from, Patience::Ends, &mut copying)?;
    match copying.special {
        true => rustix::fs::syncfs(&target),
        false => Ok(()),
    }
}

/// Is told how many more bytes were copied.
pub type CopyProgress<'a> = dyn Fn(u64) + Sync + 'a;

struct Copying<'a> {
    /// The directory that is being filled.
    target: Ladder,
    /// Where the first of a file's names was found last.
    links: Ladder,
    /// Files with more than one link: inode, and where the copy of it is below
    /// the target directory.
    linked: HashMap<u64, Vec<u8>>,
    to: &'a OsStr,
    /// Whether something was copied that can't be flushed by itself: a link, a fifo.
    special: bool,
    piece: Vec<u8>,
    progress: &'a CopyProgress<'a>,
}

impl Visitor for Copying<'_> {
    type Error = Errno;

    fn file(&mut self, at: &At<'_>) -> Result<(), Errno> {
        let (stat, to) = (at.stat, self.name_of(at));
        if stat.st_nlink > 1 {
            let path = [self.to.as_bytes(), at.path].concat();
            if let Some(first) = self.linked.get(&stat.st_ino) {
                let (parent, name) = split_last(first);
                self.links.go(parent)?;
                let (from, name) = (self.links.here(), OsStr::from_bytes(name));
                return rustix::fs::linkat(from, name, self.target.here(), to, AtFlags::empty());
            }
            self.linked.insert(stat.st_ino, path);
        }
        let target = self.target.here();
        match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => {
                let original = open_met(at)?;
                let flags = OFlags::WRONLY
                    | OFlags::CREATE
                    | OFlags::EXCL
                    | OFlags::NOFOLLOW
                    | OFlags::CLOEXEC;
                let copy = rustix::fs::openat(target, to, flags, Mode::RUSR | Mode::WUSR)?;
                let size = stat.st_size.cast_unsigned();
                copy_contents(&original, &copy, size, &mut self.piece, self.progress)?;
                dress(&original, &copy, stat)
            }
            FileType::Symlink => {
                self.special = true;
                let link = rustix::fs::readlinkat(at.parent, at.name, Vec::new())?;
                rustix::fs::symlinkat(&link, target, to)?;
                dress_by_name(target, to, stat)
            }
            kind => {
                self.special = true;
                let mode = Mode::from_raw_mode(stat.st_mode);
                rustix::fs::mknodat(target, to, kind, mode, stat.st_rdev)?;
                dress_by_name(target, to, stat)?;
                rustix::fs::chmodat(target, to, mode, AtFlags::empty())
            }
        }
    }

    fn enter(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
        let to = self.name_of(at);
        rustix::fs::mkdirat(self.target.here(), to, Mode::RWXU)?;
        self.target.down(to)?;
        Ok(true)
    }

    fn leave(&mut self, at: &At<'_>, inside: BorrowedFd<'_>) -> Result<(), Errno> {
        let copy = self.target.up()?;
        dress(inside, &copy, at.stat)
    }
}

impl<'a> Copying<'a> {
    /// The name of the copy of what was met.
    fn name_of<'n>(&self, at: &At<'n>) -> &'n OsStr
    where
        'a: 'n,
    {
        if at.path.is_empty() { self.to } else { at.name }
    }
}

/// How much is copied at a time.
const PIECE: usize = 256 << 10;

/// Copies the parts of a file that hold data, and leaves its holes. `piece` is memory
/// to be used again.
///
/// # Errors
/// The system's, and `ECANCELED` once the program was told to stop.
pub(crate) fn copy_contents(
    from: &OwnedFd,
    to: &OwnedFd,
    size: u64,
    piece: &mut Vec<u8>,
    progress: &CopyProgress<'_>,
) -> Result<(), Errno> {
    let room = usize::try_from(size).unwrap_or(PIECE).min(PIECE);
    if piece.len() < room {
        piece.resize(room, 0);
    }
    for part in DataParts::of(from, size) {
        let (mut at, length) = part?;
        let end = at + length;
        while at < end {
            Patience::Ends.check()?;
            let room = usize::try_from(end - at).unwrap_or(piece.len()).min(piece.len());
            let count = match rustix::io::pread(from, &mut piece[..room], at) {
                Ok(0) => break,
                Err(Errno::INTR) => continue,
                count => count?,
            };
            let mut written = 0;
            while written < count {
                match rustix::io::pwrite(to, &piece[written..count], at + written as u64) {
                    Ok(0) => return Err(Errno::IO),
                    Err(Errno::INTR) => Patience::Ends.check()?,
                    more => written += more?,
                }
            }
            at += count as u64;
            progress(count as u64);
        }
    }
    rustix::fs::ftruncate(to, size)
}

fn times(stat: &Stat) -> Timestamps {
    let time =
        |seconds: i64, nanoseconds: u64| Timespec { tv_sec: seconds, tv_nsec: nanoseconds as _ };
    Timestamps {
        last_access: time(stat.st_atime, stat.st_atime_nsec),
        last_modification: time(stat.st_mtime, stat.st_mtime_nsec),
    }
}

/// Owner, then attributes, then mode (a change of owner clears set-id bits), then
/// times.
fn dress(from: impl AsFd, to: &OwnedFd, stat: &Stat) -> Result<(), Errno> {
    let (uid, gid) = (Uid::from_raw(stat.st_uid), Gid::from_raw(stat.st_gid));
    rustix::fs::fchown(to, Some(uid), Some(gid))?;
    copy_attributes(from, to)?;
    rustix::fs::fchmod(to, Mode::from_raw_mode(stat.st_mode))?;
    rustix::fs::futimens(to, &times(stat))?;
    rustix::fs::fsync(to)
}

fn dress_by_name(directory: BorrowedFd<'_>, name: &OsStr, stat: &Stat) -> Result<(), Errno> {
    let here = AtFlags::SYMLINK_NOFOLLOW;
    let (uid, gid) = (Uid::from_raw(stat.st_uid), Gid::from_raw(stat.st_gid));
    rustix::fs::chownat(directory, name, Some(uid), Some(gid), here)?;
    rustix::fs::utimensat(directory, name, &times(stat), here)
}

fn copy_attributes(from: impl AsFd, to: &OwnedFd) -> Result<(), Errno> {
    for (name, value) in attributes_of(from)? {
        rustix::fs::fsetxattr(to, name.as_slice(), &value, XattrFlags::empty())?;
    }
    Ok(())
}

/// The extended attributes of a file; those that are made for it alone, digests
/// and signatures of its inode, are left out.
///
/// # Errors
/// The system's, where they can't be listed or read.
pub(crate) fn attributes_of(file: impl AsFd) -> Result<BTreeMap<Vec<u8>, Vec<u8>>, Errno> {
    let mut attributes = BTreeMap::new();
    let mut names = vec![0; 1024];
    let length = match rustix::fs::flistxattr(&file, &mut names[..]) {
        Ok(0) | Err(Errno::NOTSUP) => return Ok(attributes),
        Err(Errno::RANGE) => {
            names.resize(65536, 0);
            rustix::fs::flistxattr(&file, &mut names[..])?
        }
        length => length?,
    };
    let mut value = vec![0; 65536];
    for name in names[..length].split(|&byte| byte == 0).filter(|name| !name.is_empty()) {
        if matches!(name, b"security.ima" | b"security.evm") {
            continue;
        }
        let length = rustix::fs::fgetxattr(&file, name, &mut value[..])?;
        attributes.insert(name.to_vec(), value[..length].to_vec());
    }
    Ok(attributes)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};

    use super::*;

    #[test]
    fn a_copy_is_the_same_in_everything() {
        let place = tempfile::tempdir().unwrap();
        let at = |path: &str| place.path().join(path);
        std::fs::create_dir_all(at("home/inner")).unwrap();
        std::fs::write(at("home/file"), "text").unwrap();
        std::fs::hard_link(at("home/file"), at("home/inner/again")).unwrap();
        symlink("../outside", at("home/link")).unwrap();
        let sparse = std::fs::File::create(at("home/sparse")).unwrap();
        sparse.write_all_at(b"end", 1 << 20).unwrap();
        std::fs::set_permissions(at("home/sparse"), PermissionsExt::from_mode(0o4711)).unwrap();
        let fifo = at("home/fifo");
        rustix::fs::mknodat(rustix::fs::CWD, &fifo, FileType::Fifo, Mode::RUSR, 0).unwrap();
        sparse.set_modified(std::time::UNIX_EPOCH).unwrap();
        let directory = std::fs::File::open(place.path()).unwrap();
        let told = std::sync::atomic::AtomicU64::new(0);
        let progress = |bytes| {
            told.fetch_add(bytes, std::sync::atomic::Ordering::Relaxed);
        };
        copy(&directory, "home".as_ref(), &directory, "copy".as_ref(), &progress).unwrap();
        assert!((4 + 3..=4 + (1 << 20) + 3).contains(&told.into_inner()));
        let inventory =
            |name: &str| crate::inventory::take_inventory(&directory, name.as_ref(), None);
        assert_eq!(inventory("home").unwrap(), inventory("copy").unwrap());
        let copy = |path: &str| at("copy").join(path).symlink_metadata().unwrap();
        assert_eq!(copy("file").ino(), copy("inner/again").ino());
        assert_eq!((copy("sparse").mode() & 0o7777, copy("sparse").mtime()), (0o4711, 0));
        let blocks = |path: &str| at(path).metadata().unwrap().blocks();
        assert!(blocks("copy/sparse") <= blocks("home/sparse"), "the hole was filled");
    }
}
