//! A folder of the state folder, and the files in it.

use std::ffi::OsStr;
use std::io::Write;
use std::os::fd::{AsFd, OwnedFd};

use nest_core::value::PlainName;
use rustix::fs::{AtFlags, FileType, Mode, OFlags};
use rustix::io::Errno;
use xxhash_rust::xxh3::Xxh3;

use super::make;
use crate::digest::{digest_of_file, in_hexadecimal};
use crate::home::remove_all;
use crate::interrupt::Patience;
use crate::tree::DIRECTORY;
use crate::untrusted::{self, open_component, open_own, read_opened};

/// An opened state folder.
#[derive(Debug)]
pub struct Folder {
    pub(super) descriptor: OwnedFd,
    pub(super) shown: String,
}

const FRESH: OFlags = OFlags::WRONLY
    .union(OFlags::CREATE)
    .union(OFlags::EXCL)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC);

/// What is in the state folder is reached by names that are one plain component each:
/// nothing else gets as far as a system call.
impl Folder {
    /// The path of something in it, as it is to be shown.
    pub fn shown(&self, name: impl std::fmt::Display) -> String {
        format!("{}/{name}", self.shown)
    }

    /// A folder in it, made where it is not there.
    ///
    /// # Errors
    /// The system's, where it can't be made, or something else has the name.
    pub fn inner(&self, name: &PlainName) -> Result<Folder, Errno> {
        let descriptor = make(self.descriptor.as_fd(), name.as_ref(), Mode::RWXU)?;
        Ok(Folder { descriptor, shown: self.shown(name) })
    }

    /// The folder that waits for its name, made where it is not there. It is flushed with what
    /// is put in it, before it gets its name.
    pub(crate) fn inner_beside(&self, name: &PlainName, ending: &str) -> Result<Folder, Errno> {
        match rustix::fs::mkdirat(&self.descriptor, name.beside(ending), Mode::RWXU) {
            Ok(()) | Err(Errno::EXIST) => {}
            Err(error) => return Err(error),
        }
        self.beside_if_there(name, ending)?.ok_or(Errno::NOENT)
    }

    /// A folder in it; `None` where it is not there.
    ///
    /// # Errors
    /// The system's, where something else has the name, or it can't be opened.
    pub fn inner_if_there(&self, name: &PlainName) -> Result<Option<Folder>, Errno> {
        self.inner_as_if_there(name.as_ref())
    }

    fn inner_as_if_there(&self, name: &OsStr) -> Result<Option<Folder>, Errno> {
        match open_component(&self.descriptor, name, DIRECTORY, Mode::empty()) {
            Ok(descriptor) => Ok(Some(Folder { descriptor, shown: self.shown(name.display()) })),
            Err(Errno::NOENT) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// The whole of a file in it; `None` where it is not there.
    ///
    /// # Errors
    /// The system's, and one for what is no regular file or too long.
    pub fn read(&self, name: &PlainName) -> std::io::Result<Option<Vec<u8>>> {
        match open_own(&self.descriptor, name.as_ref()) {
            Ok(opened) => Ok(Some(read_opened(opened, untrusted::STATE)?)),
            Err(error) if error.is_missing() => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// The first bytes of a file in it, at most so many; `None` when there is none.
    ///
    /// # Errors
    /// As [`Folder::read`].
    pub fn read_head(&self, name: &PlainName, most: u64) -> std::io::Result<Option<Vec<u8>>> {
        let file = match open_own(&self.descriptor, name.as_ref()) {
            Ok((file, _)) => file,
            Err(error) if error.is_missing() => return Ok(None),
            Err(error) => return Err(error.into()),
        };
        let mut text = Vec::new();
        let mut file = std::io::Read::take(std::fs::File::from(file), most);
        std::io::Read::read_to_end(&mut file, &mut text)?;
        Ok(Some(text))
    }

    /// The digest of a file in it, see [`nest_core::drift::digest`]; `None` where it is
    /// not there.
    ///
    /// # Errors
    /// As [`Folder::read`].
    pub fn digest(&self, name: &PlainName) -> std::io::Result<Option<String>> {
        self.digest_as(name.as_ref())
    }

    /// The digest of the file that waits beside a name.
    ///
    /// # Errors
    /// As [`Folder::read`].
    pub fn digest_beside(&self, name: &PlainName) -> std::io::Result<Option<String>> {
        self.digest_as(beside(name).as_ref())
    }

    fn digest_as(&self, name: &OsStr) -> std::io::Result<Option<String>> {
        match open_own(&self.descriptor, name) {
            Ok((file, _)) => Ok(Some(digest_of_file(&file)?)),
            Err(error) if error.is_missing() => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// Writes a file in it: flushed under another name, then renamed, so that it
    /// is never seen half. The directory itself is not flushed.
    ///
    /// # Errors
    /// The system's: then the file is as it was.
    pub fn write(&self, name: &PlainName, text: &[u8]) -> std::io::Result<()> {
        self.write_beside(name, text)?;
        self.publish(name).inspect_err(|_| self.remove_beside(name))?;
        Ok(())
    }

    /// The same, but for the flushing: of a file that nobody sees before it is flushed
    /// together with others.
    ///
    /// # Errors
    /// The system's. Nothing is left behind then.
    pub fn write_unflushed(&self, name: &PlainName, text: &[u8]) -> std::io::Result<()> {
        let written = self.begin(name)?.write_all(text);
        let written = written.and_then(|()| Ok(self.publish(name)?));
        written.inspect_err(|_| self.remove_beside(name))
    }

    /// Flushes the file system that it is on, with all that waits there.
    ///
    /// # Errors
    /// The system's, where the disk won't take it.
    pub fn flush_file_system(&self) -> Result<(), Errno> {
        rustix::fs::syncfs(&self.descriptor)
    }

    /// Writes a file under the name it has until [`Folder::publish`]. Returns its
    /// digest.
    ///
    /// # Errors
    /// The system's. Nothing is left behind then.
    pub fn write_beside(&self, name: &PlainName, text: &[u8]) -> std::io::Result<String> {
        let mut fresh = self.begin(name)?;
        let written = fresh.write_all(text).and_then(|()| fresh.flush());
        if written.is_err() {
            self.remove_beside(name);
        }
        written.map(|()| fresh.digest())
    }

    /// Begins a file under the name it has until [`Folder::publish`].
    ///
    /// # Errors
    /// The system's, where the file can't be made.
    pub fn begin(&self, name: &PlainName) -> std::io::Result<Fresh> {
        Ok(Fresh { file: self.create_as(beside(name).as_ref())?, hasher: Xxh3::new() })
    }

    /// Gives a file that was written beside its name that name.
    ///
    /// # Errors
    /// The system's, also where nothing waits for the name.
    pub fn publish(&self, name: &PlainName) -> Result<(), Errno> {
        rustix::fs::renameat(&self.descriptor, beside(name), &self.descriptor, name.as_ref())
    }

    /// Exchanges a file for the one that was written beside it, which then keeps
    /// the old one; without an old one the name is only given.
    ///
    /// # Errors
    /// The system's; `EINVAL` or `ENOSYS` where the file system can't exchange.
    pub fn exchange(&self, name: &PlainName, existed: bool) -> Result<(), Errno> {
        match existed {
            false => self.publish(name),
            true => {
                let flags = rustix::fs::RenameFlags::EXCHANGE;
                let folder = &self.descriptor;
                rustix::fs::renameat_with(folder, beside(name), folder, name.as_ref(), flags)
            }
        }
    }

    /// Takes back what [`Folder::exchange`] did.
    ///
    /// # Errors
    /// The system's, where one of the two is not there.
    pub fn exchange_back(&self, name: &PlainName, existed: bool) -> Result<(), Errno> {
        let folder = &self.descriptor;
        match existed {
            false => rustix::fs::renameat(folder, name.as_ref(), folder, beside(name)),
            true => self.exchange(name, true),
        }
    }

    /// Moves a file to another folder, under another name.
    ///
    /// # Errors
    /// The system's; `ENOENT` where it is not there.
    pub(crate) fn move_file(
        &self,
        name: &PlainName,
        to: &Folder,
        new: &PlainName,
    ) -> Result<(), Errno> {
        rustix::fs::renameat(&self.descriptor, name.as_ref(), &to.descriptor, new.as_ref())
    }

    /// Flushes the directory.
    ///
    /// # Errors
    /// The system's, where the disk won't take it.
    pub fn flush(&self) -> Result<(), Errno> {
        rustix::fs::fsync(&self.descriptor)
    }

    /// Removes a file or an empty folder in it, if it is there.
    pub fn remove(&self, name: &PlainName) {
        self.remove_as(name.as_ref());
    }

    /// Removes a file that was written beside its name, if it is there.
    pub fn remove_beside(&self, name: &PlainName) {
        self.remove_as(beside(name).as_ref());
    }

    fn remove_as(&self, name: &OsStr) {
        for flags in [AtFlags::empty(), AtFlags::REMOVEDIR] {
            match rustix::fs::unlinkat(&self.descriptor, name, flags) {
                Ok(()) | Err(Errno::NOENT) => return,
                Err(error) => tracing::debug!(?name, %error, "not removed"),
            }
        }
    }

    /// A new file in it, for its owner alone.
    ///
    /// # Errors
    /// The system's, where it can't be made.
    pub(crate) fn create(&self, name: &PlainName) -> std::io::Result<std::fs::File> {
        self.create_as(name.as_ref())
    }

    fn create_as(&self, name: &OsStr) -> std::io::Result<std::fs::File> {
        // What stands there under such a name is a killed run's, or was planted: never
        // written into, nor through.
        match rustix::fs::unlinkat(&self.descriptor, name, AtFlags::empty()) {
            Ok(()) | Err(Errno::NOENT) => {}
            Err(error) => return Err(error.into()),
        }
        let mode = Mode::RUSR | Mode::WUSR;
        Ok(open_component(&self.descriptor, name, FRESH, mode)?.into())
    }

    /// A file in it, for reading.
    ///
    /// # Errors
    /// As [`Folder::read`].
    pub(crate) fn open_file(&self, name: &PlainName) -> std::io::Result<std::fs::File> {
        Ok(open_own(&self.descriptor, name.as_ref())?.0.into())
    }

    /// The same, where it is there.
    ///
    /// # Errors
    /// As [`Folder::read`].
    pub(crate) fn open_if_there(&self, name: &PlainName) -> std::io::Result<Option<std::fs::File>> {
        match open_own(&self.descriptor, name.as_ref()) {
            Ok((file, _)) => Ok(Some(file.into())),
            Err(error) if error.is_missing() => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// Removes an empty folder in it, if it is there and empty.
    pub(crate) fn remove_empty(&self, name: &PlainName) {
        let _ = rustix::fs::unlinkat(&self.descriptor, name.as_ref(), AtFlags::REMOVEDIR);
    }

    /// Removes what waits beside a name with everything in it, if it is there.
    ///
    /// # Errors
    /// The system's, where something in it can't be removed.
    pub(crate) fn erase_beside(&self, name: &PlainName, ending: &str) -> Result<(), Errno> {
        remove_all(&self.descriptor, name.beside(ending).as_ref(), Patience::Endless)
    }

    /// The folder that waits beside a name; `None` where it is not there.
    ///
    /// # Errors
    /// The system's, where something else has the name, or it can't be opened.
    pub(crate) fn beside_if_there(
        &self,
        name: &PlainName,
        ending: &str,
    ) -> Result<Option<Folder>, Errno> {
        self.inner_as_if_there(name.beside(ending).as_ref())
    }

    /// Gives a name to what waits beside it; what has the name already keeps it.
    ///
    /// # Errors
    /// The system's; `ENOENT` where nothing waits.
    pub(crate) fn rename_from_beside(&self, name: &PlainName, ending: &str) -> Result<(), Errno> {
        self.rename_once(name.beside(ending).as_ref(), name.as_ref())
    }

    /// Puts something beside its name; what is there already stays.
    ///
    /// # Errors
    /// The system's; `ENOENT` where it is not there.
    pub(crate) fn rename_to_beside(&self, name: &PlainName, ending: &str) -> Result<(), Errno> {
        self.rename_once(name.as_ref(), name.beside(ending).as_ref())
    }

    fn rename_once(&self, from: &OsStr, to: &OsStr) -> Result<(), Errno> {
        match rustix::fs::renameat(&self.descriptor, from, &self.descriptor, to) {
            Err(Errno::NOENT) => {
                let there = AtFlags::SYMLINK_NOFOLLOW;
                rustix::fs::statat(&self.descriptor, to, there).map(drop)
            }
            renamed => renamed,
        }
    }

    /// The names of the folders in it; of what has no plain name, nothing.
    ///
    /// # Errors
    /// The system's, where the folder can't be listed.
    pub(crate) fn folders(&self) -> Result<Vec<PlainName>, Errno> {
        self.entries(true)
    }

    /// The names of the files in it; of what has no plain name, nothing.
    ///
    /// # Errors
    /// The system's, where the folder can't be listed.
    pub fn names(&self) -> Result<Vec<PlainName>, Errno> {
        self.entries(false)
    }

    fn entries(&self, folders: bool) -> Result<Vec<PlainName>, Errno> {
        let mut names = Vec::new();
        for name in crate::tree::names(&self.descriptor)? {
            let here = AtFlags::SYMLINK_NOFOLLOW;
            let stat = match rustix::fs::statat(&self.descriptor, &name, here) {
                Err(Errno::NOENT) => continue,
                stat => stat?,
            };
            let is_folder = FileType::from_raw_mode(stat.st_mode) == FileType::Directory;
            if is_folder == folders
                && let Some(name) = name.to_str().and_then(|name| PlainName::parse(name).ok())
            {
                names.push(name);
            }
        }
        Ok(names)
    }
}

/// A file that is being written under another name than it will have.
pub struct Fresh {
    file: std::fs::File,
    hasher: Xxh3,
}

impl std::fmt::Debug for Fresh {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Fresh").field("file", &self.file).finish_non_exhaustive()
    }
}

impl Fresh {
    /// The digest of what was written so far.
    pub fn digest(&self) -> String {
        in_hexadecimal(&self.hasher)
    }

    /// Flushes what was written so far to the disk, but not what tells where it is.
    ///
    /// # Errors
    /// The system's, above all for want of room.
    pub fn flush_data(&self) -> std::io::Result<()> {
        self.file.sync_data()
    }
}

impl Write for Fresh {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let count = self.file.write(bytes)?;
        self.hasher.update(&bytes[..count]);
        Ok(count)
    }

    /// Flushes the file to the disk.
    fn flush(&mut self) -> std::io::Result<()> {
        self.file.sync_all()
    }
}

fn beside(name: &PlainName) -> String {
    name.beside("new")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::state::State;
    use crate::tree::Tree;

    #[test]
    fn files_are_replaced_whole() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let folder = State::At(place.path().join("state")).open_or_make(&tree).unwrap();
        let x = PlainName::fixed("x");
        assert_eq!(folder.read(&x).unwrap(), None);
        folder.write(&x, b"one").unwrap();
        let digest = folder.write_beside(&x, b"two").unwrap();
        assert_eq!(folder.read(&x).unwrap().unwrap(), b"one");
        assert_eq!(folder.digest_beside(&x).unwrap().unwrap(), digest);
        folder.publish(&x).unwrap();
        assert_eq!(folder.publish(&x), Err(Errno::NOENT));
        assert_eq!(folder.read(&x).unwrap().unwrap(), b"two");
        assert_eq!(folder.digest(&x).unwrap().unwrap(), digest);
        assert_eq!(folder.names().unwrap(), [x]);
    }
}
