//! The state folder: the journal, the records of changes, retired numbers.
//! Whoever can write it can write the account files, so it is root's alone.

mod document;
mod mark;

use std::ffi::OsStr;
use std::io::Write;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use nest_core::value::PlainName;
use nest_core::value::escaped::Escaped;
use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags};
use rustix::io::Errno;
use xxhash_rust::xxh3::Xxh3;

pub use document::{Fault, Notices, PassedOver, parse};

use crate::digest::{digest_of_file, in_hexadecimal};
use crate::home::remove_all;
use crate::interrupt::Patience;
use crate::tree::Tree;
use crate::untrusted::{self, open_component, open_own, read_opened};

/// Where changes and deleted accounts are kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum State {
    /// `var/lib/copper-nest` in the tree.
    InTree,
    /// A folder of the administrator's choice, outside the tree.
    At(PathBuf),
    /// Nowhere.
    Nowhere,
}

/// The state folder in a tree.
const IN_TREE: &str = "var/lib/copper-nest";

/// What is made above it where it is missing, and goes again with a change that did
/// not happen.
const ABOVE: [&str; 2] = ["var", "var/lib"];

/// Where the journal is while a change is carried out and no state is kept.
const WITHOUT_STATE: &str = "etc/.copper-nest-journal";

/// An opened state folder.
#[derive(Debug)]
pub struct Folder {
    descriptor: OwnedFd,
    shown: String,
}

/// Why the state folder can't be used.
#[derive(Debug, thiserror::Error)]
pub enum StateError {
    /// It can't be trusted.
    #[error(
        "the state folder {path} {fault}: whoever can write there can have the account files rewritten"
    )]
    Untrusted {
        /// The folder.
        path: String,
        /// What is wrong, in words that follow.
        fault: String,
    },
    /// It is not a folder.
    #[error("the state folder {0} is not a directory")]
    NotADirectory(String),
    /// It can't be opened or made.
    #[error("the state folder {path} can't be used: {error}")]
    Unusable {
        /// The folder.
        path: String,
        /// The system's reason.
        error: Errno,
    },
}

const DIRECTORY: OFlags =
    OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);
const FRESH: OFlags = OFlags::WRONLY
    .union(OFlags::CREATE)
    .union(OFlags::EXCL)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC);

impl State {
    /// The path of the folder as it is to be shown; nothing where no state is
    /// kept.
    pub fn shown(&self) -> Option<String> {
        match self {
            State::InTree => Some(IN_TREE.to_owned()),
            State::At(path) => Some(path.display().to_string()),
            State::Nowhere => None,
        }
    }

    /// Opens the folder where it is; `None` when it is not there, or when no
    /// state is kept.
    ///
    /// # Errors
    /// [`StateError`].
    pub fn open(&self, tree: &Tree) -> Result<Option<Folder>, StateError> {
        let Some(shown) = self.shown() else { return Ok(None) };
        let opened = match self {
            State::At(path) => rustix::fs::open(path, DIRECTORY - OFlags::NOFOLLOW, Mode::empty()),
            _ => tree.open_file(IN_TREE, DIRECTORY),
        };
        folder(opened, shown)
    }

    /// Opens the folder, and makes it where it is not there. Without state, the
    /// folder is one in `etc` that goes with the journal in it.
    ///
    /// # Errors
    /// [`StateError`].
    pub fn open_or_make(&self, tree: &Tree) -> Result<Folder, StateError> {
        if let Some(folder) = self.open(tree)? {
            return Ok(folder);
        }
        let shown = self.shown().unwrap_or(WITHOUT_STATE.to_owned());
        let unusable = |error| StateError::Unusable { path: shown.clone(), error };
        let opened = match self {
            State::At(path) => make_outside(path),
            State::InTree => make_in_tree(tree),
            State::Nowhere => {
                let etc = tree.open_file("etc", DIRECTORY).map_err(unusable)?;
                make(etc.as_fd(), ".copper-nest-journal".as_ref(), Mode::RWXU)
            }
        };
        let opened = folder(Ok(opened.map_err(unusable)?), shown.clone())?;
        opened.ok_or(StateError::Unusable { path: shown, error: Errno::NOENT })
    }
}

impl State {
    /// The directories above the folder in the tree that are not there yet: what is
    /// made for a change that then does not happen goes again.
    pub fn missing_above(&self, tree: &Tree) -> Vec<Escaped> {
        let missing = |path: &&str| matches!(tree.stat(path), Err(Errno::NOENT));
        let above = ABOVE.into_iter().filter(missing);
        let escaped = |path: &str| Escaped(format!("/{path}").into());
        if *self == State::InTree { above.map(escaped).collect() } else { Vec::new() }
    }

    /// Removes the folder when it is empty, and of the directories above it those that
    /// were `made` for it: a change that failed leaves no trace.
    pub fn drop_if_empty(&self, tree: &Tree, made: &[Escaped]) {
        let remove = |path: &Path| -> Result<(), Errno> {
            let place = tree.locate(path)?;
            rustix::fs::unlinkat(&place.directory, &place.name, AtFlags::REMOVEDIR)?;
            rustix::fs::fsync(&place.directory)
        };
        let removed = match self {
            State::InTree => remove(Path::new(IN_TREE)),
            State::Nowhere => remove(Path::new(WITHOUT_STATE)),
            State::At(path) => {
                let _ = std::fs::remove_dir(path);
                return;
            }
        };
        // Only what the program would have made itself: the list may be a stranger's.
        let made = ABOVE.into_iter().rev().filter(|above| {
            made.iter().any(|made| made.0.strip_prefix(b"/") == Some(above.as_bytes()))
        });
        if matches!(removed, Ok(()) | Err(Errno::NOENT)) {
            made.map(Path::new)
                .map(remove)
                .take_while(|removed| matches!(removed, Ok(()) | Err(Errno::NOENT)))
                .for_each(drop);
        }
    }
}

/// The journal of a change that was carried out without a state folder.
///
/// # Errors
/// [`StateError`].
pub fn left_without_state(tree: &Tree) -> Result<Option<Folder>, StateError> {
    folder(tree.open_file(WITHOUT_STATE, DIRECTORY), WITHOUT_STATE.to_owned())
}

/// Makes a directory where there is none, and opens it. A fresh one is flushed into
/// the one it is in: a journal that a crash takes away with its folder is none.
fn make(at: BorrowedFd<'_>, name: &OsStr, mode: Mode) -> Result<OwnedFd, Errno> {
    match rustix::fs::mkdirat(at, name, mode) {
        Ok(()) => rustix::fs::fsync(at)?,
        Err(Errno::EXIST) => {}
        Err(error) => return Err(error),
    }
    open_component(at, name, DIRECTORY, Mode::empty())
}

/// A folder outside the tree, which the administrator names.
fn make_outside(path: &Path) -> Result<OwnedFd, Errno> {
    match rustix::fs::mkdirat(CWD, path, Mode::RWXU) {
        Ok(()) => {
            let above = path.parent().filter(|above| !above.as_os_str().is_empty());
            let above = above.unwrap_or(Path::new("."));
            let above = rustix::fs::open(above, DIRECTORY - OFlags::NOFOLLOW, Mode::empty())?;
            rustix::fs::fsync(above)?;
        }
        Err(Errno::EXIST) => {}
        Err(error) => return Err(error),
    }
    rustix::fs::open(path, DIRECTORY - OFlags::NOFOLLOW, Mode::empty())
}

/// `var/lib/copper-nest`, and what is missing above it.
fn make_in_tree(tree: &Tree) -> Result<OwnedFd, Errno> {
    for above in ABOVE {
        let located = tree.locate(above)?;
        let mode = Mode::from_raw_mode(0o755);
        match rustix::fs::mkdirat(&located.directory, &located.name, mode) {
            Ok(()) => rustix::fs::fsync(&located.directory)?,
            Err(Errno::EXIST) => {}
            Err(error) => return Err(error),
        }
    }
    let located = tree.locate(IN_TREE)?;
    match rustix::fs::mkdirat(&located.directory, &located.name, Mode::RWXU) {
        Ok(()) => rustix::fs::fsync(&located.directory)?,
        Err(Errno::EXIST) => {}
        Err(error) => return Err(error),
    }
    // The folder itself may be where an administrator has mounted room for it.
    rustix::fs::openat(&located.directory, &located.name, DIRECTORY, Mode::empty())
}

fn folder(opened: Result<OwnedFd, Errno>, shown: String) -> Result<Option<Folder>, StateError> {
    let descriptor = match opened {
        Ok(descriptor) => descriptor,
        Err(Errno::NOENT) => return Ok(None),
        Err(Errno::NOTDIR | Errno::LOOP) => return Err(StateError::NotADirectory(shown)),
        Err(error) => return Err(StateError::Unusable { path: shown, error }),
    };
    let stat = rustix::fs::fstat(&descriptor)
        .map_err(|error| StateError::Unusable { path: shown.clone(), error })?;
    let me = rustix::process::geteuid().as_raw();
    let fault = if stat.st_uid != me && stat.st_uid != 0 {
        format!("belongs to uid {}", stat.st_uid)
    } else if stat.st_mode & 0o022 != 0 {
        format!("can be written by others (mode {:04o})", stat.st_mode & 0o7777)
    } else {
        return Ok(Some(Folder { descriptor, shown }));
    };
    Err(StateError::Untrusted { path: shown, fault })
}

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
    /// The system's.
    pub fn inner(&self, name: &PlainName) -> Result<Folder, Errno> {
        self.inner_as(name.as_ref())
    }

    /// The folder that waits for its name, or is about to go, made where it is not there.
    pub(crate) fn inner_beside(&self, name: &PlainName, ending: &str) -> Result<Folder, Errno> {
        self.inner_as(name.beside(ending).as_ref())
    }

    fn inner_as(&self, name: &OsStr) -> Result<Folder, Errno> {
        let descriptor = make(self.descriptor.as_fd(), name, Mode::RWXU)?;
        Ok(Folder { descriptor, shown: self.shown(name.display()) })
    }

    /// A folder in it; `None` where it is not there.
    ///
    /// # Errors
    /// The system's.
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
    /// The system's.
    pub fn write(&self, name: &PlainName, text: &[u8]) -> std::io::Result<()> {
        self.write_beside(name, text)?;
        self.publish(name).inspect_err(|_| self.remove_beside(name))?;
        Ok(())
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
    /// The system's.
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
    /// The system's.
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
    /// The system's.
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
    /// The system's.
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
    /// The system's.
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
    /// The system's.
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

    /// Removes an empty folder in it, if it is there and empty.
    pub(crate) fn remove_empty(&self, name: &PlainName) {
        let _ = rustix::fs::unlinkat(&self.descriptor, name.as_ref(), AtFlags::REMOVEDIR);
    }

    /// Removes what waits beside a name with everything in it, if it is there.
    ///
    /// # Errors
    /// The system's.
    pub(crate) fn erase_beside(&self, name: &PlainName, ending: &str) -> Result<(), Errno> {
        remove_all(&self.descriptor, name.beside(ending).as_ref(), Patience::Endless)
    }

    /// The folder that waits beside a name; `None` where it is not there.
    ///
    /// # Errors
    /// The system's.
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
    /// The system's.
    pub(crate) fn rename_from_beside(&self, name: &PlainName, ending: &str) -> Result<(), Errno> {
        self.rename_once(name.beside(ending).as_ref(), name.as_ref())
    }

    /// Puts something beside its name; what is there already stays.
    ///
    /// # Errors
    /// The system's.
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
    /// The system's.
    pub(crate) fn folders(&self) -> Result<Vec<PlainName>, Errno> {
        self.entries(true)
    }

    /// The names of the files in it; of what has no plain name, nothing.
    ///
    /// # Errors
    /// The system's.
    pub fn names(&self) -> Result<Vec<PlainName>, Errno> {
        self.entries(false)
    }

    fn entries(&self, folders: bool) -> Result<Vec<PlainName>, Errno> {
        let mut names = Vec::new();
        for name in crate::inventory::names(&self.descriptor)? {
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
    /// The system's.
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
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_state_folder_that_others_can_write_is_refused() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        assert!(State::InTree.open(&tree).unwrap().is_none());
        State::InTree.open_or_make(&tree).unwrap();
        let path = place.path().join(IN_TREE);
        let mode = |mode| std::fs::set_permissions(&path, PermissionsExt::from_mode(mode)).unwrap();
        assert_eq!(path.metadata().unwrap().permissions().mode() & 0o7777, 0o700);
        mode(0o770);
        let error = State::InTree.open(&tree).unwrap_err().to_string();
        assert!(error.contains("can be written by others (mode 0770)"), "{error}");
        std::fs::remove_dir(&path).unwrap();
        std::fs::write(&path, "").unwrap();
        assert!(matches!(State::InTree.open(&tree), Err(StateError::NotADirectory(_))));
    }

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
