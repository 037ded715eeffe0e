//! What is in a file or directory, by handles, no link followed.

use std::ffi::OsString;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};

use nest_core::surroundings::Inventory;
use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, Stat};
use rustix::io::Errno;
use xxhash_rust::xxh3::Xxh3;

pub(crate) const DIRECTORY: OFlags =
    OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// Takes the inventory of an entry of a directory; `None` when it is not there.
/// Contents are read only where numbers and sizes are those of `like`, or where
/// there is nothing to be like.
///
/// # Errors
/// The system's.
pub fn take(
    directory: impl AsFd,
    name: &std::ffi::OsStr,
    like: Option<&Inventory>,
) -> Result<Option<Inventory>, Errno> {
    let directory = directory.as_fd();
    match rustix::fs::statat(directory, name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(_) => {}
        Err(Errno::NOENT) => return Ok(None),
        Err(error) => return Err(error),
    }
    let mut count = Inventory { files: 0, bytes: 0, digest: String::new() };
    visit(directory, name, &mut |_, stat, _, _| {
        if FileType::from_raw_mode(stat.st_mode) != FileType::Directory {
            count.files += 1;
            count.bytes += stat.st_size as u64;
        }
        Ok(())
    })?;
    if like.is_some_and(|like| (like.files, like.bytes) != (count.files, count.bytes)) {
        return Ok(Some(count));
    }
    let mut hasher = Xxh3::new();
    visit(directory, name, &mut |path, stat, parent, name| {
        hasher.update(path);
        for number in [stat.st_mode, stat.st_uid, stat.st_gid] {
            hasher.update(&number.to_le_bytes());
        }
        match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => {
                let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
                let file = rustix::fs::openat(parent, name, flags, Mode::empty())?;
                let mut piece = vec![0; 64 << 10];
                loop {
                    match rustix::io::read(&file, &mut piece[..])? {
                        0 => return Ok(()),
                        count => hasher.update(&piece[..count]),
                    }
                }
            }
            FileType::Symlink => {
                hasher.update(rustix::fs::readlinkat(parent, name, Vec::new())?.as_bytes());
            }
            _ => {}
        }
        Ok(())
    })?;
    count.digest = format!("{:032x}", hasher.digest128());
    Ok(Some(count))
}

type Visit<'a> = dyn FnMut(&[u8], &Stat, std::os::fd::BorrowedFd<'_>, &std::ffi::OsStr) -> Result<(), Errno>
    + 'a;

/// Calls `visit` for an entry and everything below it, in the order of names:
/// with the path below the entry, the status, the directory and the name.
fn visit(
    directory: std::os::fd::BorrowedFd<'_>,
    name: &std::ffi::OsStr,
    tell: &mut Visit<'_>,
) -> Result<(), Errno> {
    fn below(directory: &OwnedFd, path: &[u8], tell: &mut Visit<'_>) -> Result<(), Errno> {
        for name in names(directory)? {
            let path = [path, b"/", name.as_bytes()].concat();
            let stat = rustix::fs::statat(directory, &name, AtFlags::SYMLINK_NOFOLLOW)?;
            tell(&path, &stat, directory.as_fd(), &name)?;
            if FileType::from_raw_mode(stat.st_mode) == FileType::Directory {
                let inner = rustix::fs::openat(directory, &name, DIRECTORY, Mode::empty())?;
                below(&inner, &path, tell)?;
            }
        }
        Ok(())
    }
    let stat = rustix::fs::statat(directory, name, AtFlags::SYMLINK_NOFOLLOW)?;
    tell(b"", &stat, directory, name)?;
    if FileType::from_raw_mode(stat.st_mode) == FileType::Directory {
        let inner = rustix::fs::openat(directory, name, DIRECTORY, Mode::empty())?;
        below(&inner, b"", tell)?;
    }
    Ok(())
}

/// The names in a directory, sorted; not `.` and `..`.
///
/// # Errors
/// The system's.
pub(crate) fn names(directory: &OwnedFd) -> Result<Vec<OsString>, Errno> {
    let mut names = Vec::new();
    for entry in Dir::read_from(directory)? {
        let name = OsString::from_vec(entry?.file_name().to_bytes().to_vec());
        if name != "." && name != ".." {
            names.push(name);
        }
    }
    names.sort_unstable();
    Ok(names)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn any_alteration_shows() {
        let place = tempfile::tempdir().unwrap();
        let home = place.path().join("home");
        std::fs::create_dir_all(home.join("bin")).unwrap();
        std::fs::write(home.join("bin/x"), "one").unwrap();
        let open = || std::fs::File::open(place.path()).unwrap();
        let taken =
            |like: Option<&Inventory>| take(open(), "home".as_ref(), like).unwrap().unwrap();
        let first = taken(None);
        assert_eq!((first.files, first.bytes), (1, 3));
        assert_eq!(taken(Some(&first)), first);
        std::fs::write(home.join("bin/x"), "two").unwrap();
        assert_ne!(taken(Some(&first)).digest, first.digest);
        std::fs::write(home.join("bin/x"), "three").unwrap();
        assert_eq!(taken(Some(&first)).digest, "", "not read: it can't be the same");
        std::fs::write(home.join("bin/x"), "one").unwrap();
        assert_eq!(taken(Some(&first)), first);
        std::os::unix::fs::symlink("x", home.join("bin/y")).unwrap();
        assert_ne!(taken(Some(&first)), first);
        assert_eq!(take(open(), "gone".as_ref(), None).unwrap(), None);
    }
}
