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

use crate::inventory::{DIRECTORY, names};

/// Copies the entry `from` of one directory as the entry `to` of another, where
/// nothing is, and flushes it. Directories of other file systems mounted inside
/// stop it (`EXDEV`): they can't be moved.
///
/// # Errors
/// The system's. What was copied so far is left for the caller to remove.
pub fn copy(
    source: impl AsFd,
    from: &OsStr,
    target: impl AsFd,
    to: &OsStr,
    progress: &Progress<'_>,
) -> Result<(), Errno> {
    let stat = rustix::fs::statat(&source, from, AtFlags::SYMLINK_NOFOLLOW)?;
    let (device, linked, root) = (stat.st_dev, HashMap::new(), target.as_fd());
    let mut copying = Copying { device, linked, root, progress };
    copying.entry(source.as_fd(), from, target.as_fd(), to, to.as_bytes())
}

/// Is told how many more bytes were copied.
pub type Progress<'a> = dyn Fn(u64) + Sync + 'a;

struct Copying<'a> {
    device: u64,
    /// Files with more than one link: inode, and where the copy of it is below
    /// the target directory.
    linked: HashMap<u64, Vec<u8>>,
    root: BorrowedFd<'a>,
    progress: &'a Progress<'a>,
}

impl Copying<'_> {
    fn entry(
        &mut self,
        source: BorrowedFd<'_>,
        from: &OsStr,
        target: BorrowedFd<'_>,
        to: &OsStr,
        path: &[u8],
    ) -> Result<(), Errno> {
        let stat = rustix::fs::statat(source, from, AtFlags::SYMLINK_NOFOLLOW)?;
        if stat.st_dev != self.device {
            return Err(Errno::XDEV);
        }
        match FileType::from_raw_mode(stat.st_mode) {
            FileType::Directory => return self.directory(source, from, target, to, path),
            _ if stat.st_nlink > 1 => {
                if let Some(first) = self.linked.get(&stat.st_ino) {
                    let first = OsStr::from_bytes(first);
                    return rustix::fs::linkat(self.root, first, target, to, AtFlags::empty());
                }
                self.linked.insert(stat.st_ino, path.to_vec());
            }
            _ => {}
        }
        match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => self.file(source, from, target, to, &stat),
            FileType::Symlink => {
                let link = rustix::fs::readlinkat(source, from, Vec::new())?;
                rustix::fs::symlinkat(&link, target, to)?;
                dress_by_name(target, to, &stat)
            }
            kind => {
                let mode = Mode::from_raw_mode(stat.st_mode);
                rustix::fs::mknodat(target, to, kind, mode, stat.st_rdev)?;
                dress_by_name(target, to, &stat)?;
                rustix::fs::chmodat(target, to, mode, AtFlags::empty())
            }
        }
    }

    fn directory(
        &mut self,
        source: BorrowedFd<'_>,
        from: &OsStr,
        target: BorrowedFd<'_>,
        to: &OsStr,
        path: &[u8],
    ) -> Result<(), Errno> {
        let inside = rustix::fs::openat(source, from, DIRECTORY, Mode::empty())?;
        let stat = rustix::fs::fstat(&inside)?;
        rustix::fs::mkdirat(target, to, Mode::RWXU)?;
        let copy = rustix::fs::openat(target, to, DIRECTORY, Mode::empty())?;
        for name in names(&inside)? {
            let path = [path, b"/", name.as_bytes()].concat();
            self.entry(inside.as_fd(), &name, copy.as_fd(), &name, &path)?;
        }
        dress(&inside, &copy, &stat)
    }

    fn file(
        &mut self,
        source: BorrowedFd<'_>,
        from: &OsStr,
        target: BorrowedFd<'_>,
        to: &OsStr,
        stat: &Stat,
    ) -> Result<(), Errno> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let original = rustix::fs::openat(source, from, flags, Mode::empty())?;
        let flags =
            OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let copy = rustix::fs::openat(target, to, flags, Mode::RUSR | Mode::WUSR)?;
        copy_contents(&original, &copy, stat.st_size as u64, self.progress)?;
        dress(&original, &copy, stat)
    }
}

/// Copies the parts of a file that hold data, and leaves its holes.
fn copy_contents(
    from: &OwnedFd,
    to: &OwnedFd,
    size: u64,
    progress: &Progress<'_>,
) -> Result<(), Errno> {
    let mut piece = vec![0; 256 << 10];
    let mut at = 0;
    while at < size {
        let start = match rustix::fs::seek(from, rustix::fs::SeekFrom::Data(at)) {
            Ok(start) => start,
            Err(Errno::NXIO) => break,
            // No holes are told here: all of it is data.
            Err(_) => at,
        };
        let end = rustix::fs::seek(from, rustix::fs::SeekFrom::Hole(start)).unwrap_or(size);
        at = start;
        while at < end.max(start + 1).min(size) {
            match rustix::io::pread(from, &mut piece[..], at)? {
                0 => break,
                count => {
                    let mut written = 0;
                    while written < count {
                        let place = at + written as u64;
                        written += rustix::io::pwrite(to, &piece[written..count], place)?;
                    }
                    at += count as u64;
                    progress(count as u64);
                }
            }
        }
        at = at.max(end);
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
fn dress(from: &OwnedFd, to: &OwnedFd, stat: &Stat) -> Result<(), Errno> {
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

fn copy_attributes(from: &OwnedFd, to: &OwnedFd) -> Result<(), Errno> {
    for (name, value) in attributes_of(from)? {
        rustix::fs::fsetxattr(to, name.as_slice(), &value, XattrFlags::empty())?;
    }
    Ok(())
}

/// The extended attributes of a file; those that are made for it alone, digests
/// and signatures of its inode, are left out.
///
/// # Errors
/// The system's.
pub(crate) fn attributes_of(file: &OwnedFd) -> Result<BTreeMap<Vec<u8>, Vec<u8>>, Errno> {
    let mut attributes = BTreeMap::new();
    let mut names = vec![0; 1024];
    let length = match rustix::fs::flistxattr(file, &mut names[..]) {
        Ok(0) | Err(Errno::NOTSUP) => return Ok(attributes),
        Err(Errno::RANGE) => {
            names.resize(65536, 0);
            rustix::fs::flistxattr(file, &mut names[..])?
        }
        length => length?,
    };
    let mut value = vec![0; 65536];
    for name in names[..length].split(|&byte| byte == 0).filter(|name| !name.is_empty()) {
        if matches!(name, b"security.ima" | b"security.evm") {
            continue;
        }
        let length = rustix::fs::fgetxattr(file, name, &mut value[..])?;
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
        let inventory = |name: &str| crate::inventory::take(&directory, name.as_ref(), None);
        assert_eq!(inventory("home").unwrap(), inventory("copy").unwrap());
        let copy = |path: &str| at("copy").join(path).symlink_metadata().unwrap();
        assert_eq!(copy("file").ino(), copy("inner/again").ino());
        assert_eq!((copy("sparse").mode() & 0o7777, copy("sparse").mtime()), (0o4711, 0));
        let blocks = |path: &str| at(path).metadata().unwrap().blocks();
        assert!(blocks("copy/sparse") <= blocks("home/sparse"), "the hole was filled");
    }
}
