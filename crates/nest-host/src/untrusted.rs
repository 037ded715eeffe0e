//! The one opener of files that somebody else may have made: configuration in an
//! image, keys in a home, records in a copied state folder. What is no regular file
//! is never opened, since opening a device or a fifo has effects; and no more is read
//! than is asked for.

use std::ffi::OsStr;
use std::io::Read;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::path::Path;

use nest_core::value::{FileKind, bytes_in_words, is_component};
use rustix::fs::{Mode, OFlags, ResolveFlags, Stat};
use rustix::io::Errno;

use crate::tree::{Tree, kind_of};

/// The most that is read of a file of configuration, or of keys: 4 MB.
pub const CONFIGURATION: u64 = 4_000_000;

/// The most that is read of a file of the state folder: 1 GB, the record of more
/// than a million accounts.
pub const STATE: u64 = 1_000_000_000;

/// Why a file is not read, in words that follow its path.
#[derive(Debug, thiserror::Error)]
pub enum Unreadable {
    /// It is something else.
    #[error("is {0}, not a file")]
    NotAFile(FileKind),
    /// It is too long.
    #[error("is longer than {}", bytes_in_words(*.0))]
    TooLong(u64),
    /// The system's reason.
    #[error("can't be read: {0}")]
    System(#[from] std::io::Error),
}

impl From<Errno> for Unreadable {
    fn from(error: Errno) -> Self {
        Unreadable::System(error.into())
    }
}

impl Unreadable {
    /// Whether simply nothing is there.
    pub fn is_missing(&self) -> bool {
        let Unreadable::System(error) = self else { return false };
        let errno = error.raw_os_error().map(Errno::from_raw_os_error);
        matches!(errno, Some(Errno::NOENT | Errno::NOTDIR))
    }
}

impl From<Unreadable> for std::io::Error {
    fn from(unreadable: Unreadable) -> Self {
        match unreadable {
            Unreadable::System(error) => error,
            other => std::io::Error::other(format!("it {other}")),
        }
    }
}

/// Whether the last component of a path may be a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LastLink {
    /// It is followed, inside the tree: where only root could have made it.
    Followed,
    /// It is not: where an owner could turn it.
    Refused,
}

/// Reads a file of the tree, of at most so many bytes.
///
/// # Errors
/// [`Unreadable`] where it is no file, is longer, or can't be read.
pub fn read(
    tree: &Tree,
    path: impl AsRef<Path>,
    last: LastLink,
    most: u64,
) -> Result<Vec<u8>, Unreadable> {
    let path = path.as_ref();
    let nofollow = if last == LastLink::Refused { OFlags::NOFOLLOW } else { OFlags::empty() };
    let handle = tree.open_file(path, OFlags::PATH | nofollow)?;
    let again = |flags| tree.open_file(path, flags | nofollow);
    read_opened(open_regular(handle, again)?, most)
}

/// Reads a file of the tree where only root could have turned the last link.
///
/// # Errors
/// [`Unreadable`] where it is no file, is too long, or can't be read.
pub fn read_configuration(tree: &Tree, path: impl AsRef<Path>) -> Result<Vec<u8>, Unreadable> {
    read(tree, path, LastLink::Followed, CONFIGURATION)
}

/// Opens a regular file of the tree for reading, where only root could have turned the last
/// link.
///
/// # Errors
/// [`Unreadable`] where it is no file, or can't be opened.
pub fn open_regular_file(tree: &Tree, path: impl AsRef<Path>) -> Result<OwnedFd, Unreadable> {
    let path = path.as_ref();
    let handle = tree.open_file(path, OFlags::PATH)?;
    Ok(open_regular(handle, |flags| tree.open_file(path, flags))?.0)
}

/// Opens a regular file for reading that is one entry of a directory: no link is
/// followed. Returns its status too.
///
/// # Errors
/// [`Unreadable`] where it is no file, or can't be opened.
pub fn open_entry(directory: impl AsFd, name: &OsStr) -> Result<(OwnedFd, Stat), Unreadable> {
    let directory = directory.as_fd();
    let open = |flags: OFlags| {
        rustix::fs::openat(
            directory,
            name,
            flags | OFlags::NOFOLLOW | OFlags::CLOEXEC,
            Mode::empty(),
        )
    };
    open_regular(open(OFlags::PATH)?, open)
}

/// The same for an entry of a directory of the program's own: one plain component
/// beneath it, on the same mount.
///
/// # Errors
/// [`Unreadable`] where it is no file, or can't be opened.
pub fn open_own(directory: impl AsFd, name: &OsStr) -> Result<(OwnedFd, Stat), Unreadable> {
    let directory = directory.as_fd();
    let open = |flags: OFlags| open_component(directory, name, flags, Mode::empty());
    open_regular(open(OFlags::PATH)?, open)
}

/// Opens one plain component beneath a directory: through no link and onto no other
/// mount.
///
/// # Errors
/// The system's; `EINVAL` for a name that is no plain component.
pub fn open_component(
    directory: impl AsFd,
    name: &OsStr,
    flags: OFlags,
    mode: Mode,
) -> Result<OwnedFd, Errno> {
    // The longest names are those of what waits, longer than a name may be.
    let bytes = name.as_encoded_bytes();
    let plain = bytes.len() <= 255 && !bytes.contains(&b'/') && !bytes.contains(&0);
    if !plain || matches!(bytes, b"" | b"." | b"..") {
        return Err(Errno::INVAL);
    }
    debug_assert!(is_component(bytes) || bytes.len() > 200);
    let flags = flags | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let mut resolve = ResolveFlags::BENEATH | ResolveFlags::NO_MAGICLINKS | ResolveFlags::NO_XDEV;
    // Where nothing but a handle is asked for, a link itself is told by its status.
    if !flags.contains(OFlags::PATH) || flags.contains(OFlags::DIRECTORY) {
        resolve |= ResolveFlags::NO_SYMLINKS;
    }
    match rustix::fs::openat2(&directory, name, flags, mode, resolve) {
        Err(Errno::NOSYS | Errno::PERM) => rustix::fs::openat(directory, name, flags, mode),
        opened => opened,
    }
}

/// Opens the regular file that a path-only handle is of. `again` opens the same place
/// once more, for machines without `/proc`.
fn open_regular(
    handle: OwnedFd,
    again: impl Fn(OFlags) -> Result<OwnedFd, Errno>,
) -> Result<(OwnedFd, Stat), Unreadable> {
    let stat = rustix::fs::fstat(&handle)?;
    let kind = kind_of(&stat);
    if kind != FileKind::File {
        return Err(Unreadable::NotAFile(kind));
    }
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let through = format!("/proc/self/fd/{}", handle.as_raw_fd());
    let file = match rustix::fs::open(through, flags, Mode::empty()) {
        Err(Errno::NOENT | Errno::NOTDIR) => again(flags)?,
        opened => opened?,
    };
    let opened = rustix::fs::fstat(&file)?;
    if (opened.st_dev, opened.st_ino) != (stat.st_dev, stat.st_ino) {
        return Err(Errno::STALE.into());
    }
    Ok((file, opened))
}

/// Reads an opened file whole, of at most so many bytes.
///
/// # Errors
/// [`Unreadable`] where it is longer, or can't be read to its end.
pub fn read_opened((file, stat): (OwnedFd, Stat), most: u64) -> Result<Vec<u8>, Unreadable> {
    if stat.st_size.cast_unsigned() > most {
        return Err(Unreadable::TooLong(most));
    }
    let mut text = Vec::new();
    // It may grow meanwhile.
    std::fs::File::from(file).take(most + 1).read_to_end(&mut text)?;
    match text.len() as u64 > most {
        true => Err(Unreadable::TooLong(most)),
        false => Ok(text),
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn only_a_regular_file_of_some_length_is_read() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("shells"), "/bin/sh\n").unwrap();
        symlink("shells", at("link")).unwrap();
        symlink("/dev/zero", at("zero")).unwrap();
        rustix::fs::mknodat(rustix::fs::CWD, at("fifo"), rustix::fs::FileType::Fifo, Mode::RUSR, 0)
            .unwrap();
        std::fs::File::create(at("long")).unwrap().set_len(1 << 40).unwrap();
        std::fs::create_dir(at("directory")).unwrap();
        let tree = Tree::open(folder.path()).unwrap();
        let read = |name: &str, last| {
            let text = read(&tree, name, last, CONFIGURATION);
            text.map(|text| text.len()).map_err(|error| error.to_string())
        };
        assert_eq!(read("shells", LastLink::Refused), Ok(8));
        assert_eq!(read("link", LastLink::Followed), Ok(8));
        assert_eq!(read("link", LastLink::Refused), Err("is a link, not a file".into()));
        // Inside the tree there is no such device.
        assert!(read("zero", LastLink::Followed).unwrap_err().starts_with("can't be read"));
        assert_eq!(read("fifo", LastLink::Followed), Err("is a fifo, not a file".into()));
        assert_eq!(read("long", LastLink::Followed), Err("is longer than 4.0 MB".into()));
        assert_eq!(read("directory", LastLink::Followed), Err("is a directory, not a file".into()));
        let real = Tree::open(Path::new("/")).unwrap();
        let device = super::read(&real, "dev/zero", LastLink::Followed, 1).unwrap_err();
        assert_eq!(device.to_string(), "is a device, not a file");
    }

    #[test]
    fn nothing_but_a_plain_component_is_opened_beneath_a_directory() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("ids.json"), "{}").unwrap();
        symlink("/etc/passwd", folder.path().join("link")).unwrap();
        let directory = std::fs::File::open(folder.path()).unwrap();
        assert!(open_own(&directory, "ids.json".as_ref()).is_ok());
        for name in ["", ".", "..", "/etc/passwd", "../x", "./ids.json", "link"] {
            assert!(open_own(&directory, name.as_ref()).is_err(), "{name}");
            let opened = open_component(&directory, name.as_ref(), OFlags::RDONLY, Mode::empty());
            assert!(opened.is_err(), "{name}");
        }
    }
}
