//! The state folder: the journal, the records of changes, retired numbers.
//! Whoever can write it can write the account files, so it is root's alone.

use std::io::Write;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags};
use rustix::io::Errno;

use crate::tree::Tree;

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
    .union(OFlags::TRUNC)
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
            State::At(path) => make(rustix::fs::CWD, path),
            State::InTree => make_in_tree(tree),
            State::Nowhere => {
                let etc = tree.open_file("etc", DIRECTORY).map_err(unusable)?;
                make(etc.as_fd(), Path::new(".copper-nest-journal"))
            }
        };
        let opened = folder(Ok(opened.map_err(unusable)?), shown.clone())?;
        opened.ok_or(StateError::Unusable { path: shown, error: Errno::NOENT })
    }
}

impl State {
    /// Removes the folder when it is empty: a change that failed leaves no trace.
    pub fn drop_if_empty(&self, tree: &Tree) {
        let place = match self {
            State::InTree => tree.locate(IN_TREE),
            State::Nowhere => tree.locate(WITHOUT_STATE),
            State::At(path) => {
                let _ = std::fs::remove_dir(path);
                return;
            }
        };
        if let Ok(place) = place {
            let _ = rustix::fs::unlinkat(&place.directory, &place.name, AtFlags::REMOVEDIR);
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

/// Makes a directory where there is none. A fresh one is flushed into the one it
/// is in: a journal that a crash takes away with its folder is none.
fn make(at: BorrowedFd<'_>, path: &Path) -> Result<OwnedFd, Errno> {
    match rustix::fs::mkdirat(at, path, Mode::RWXU) {
        Ok(()) => {
            let above = path.parent().filter(|above| !above.as_os_str().is_empty());
            let above = above.unwrap_or(Path::new("."));
            let above = rustix::fs::openat(at, above, DIRECTORY - OFlags::NOFOLLOW, Mode::empty())?;
            rustix::fs::fsync(above)?;
        }
        Err(Errno::EXIST) => {}
        Err(error) => return Err(error),
    }
    rustix::fs::openat(at, path, DIRECTORY, Mode::empty())
}

/// `var/lib/copper-nest`, and what is missing above it.
fn make_in_tree(tree: &Tree) -> Result<OwnedFd, Errno> {
    for above in ["var", "var/lib"] {
        let located = tree.locate(above)?;
        let mode = Mode::from_raw_mode(0o755);
        match rustix::fs::mkdirat(&located.directory, &located.name, mode) {
            Ok(()) | Err(Errno::EXIST) => {}
            Err(error) => return Err(error),
        }
    }
    let located = tree.locate(IN_TREE)?;
    make(located.directory.as_fd(), Path::new(&located.name))
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

impl Folder {
    /// The path of something in it, as it is to be shown.
    pub fn shown(&self, name: &str) -> String {
        format!("{}/{name}", self.shown)
    }

    /// A folder in it, made where it is not there.
    ///
    /// # Errors
    /// The system's.
    pub fn inner(&self, name: &str) -> Result<Folder, Errno> {
        let descriptor = make(self.descriptor.as_fd(), Path::new(name))?;
        Ok(Folder { descriptor, shown: self.shown(name) })
    }

    /// A folder in it; `None` where it is not there.
    ///
    /// # Errors
    /// The system's.
    pub fn inner_if_there(&self, name: &str) -> Result<Option<Folder>, Errno> {
        match rustix::fs::openat(&self.descriptor, name, DIRECTORY, Mode::empty()) {
            Ok(descriptor) => Ok(Some(Folder { descriptor, shown: self.shown(name) })),
            Err(Errno::NOENT) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// The whole of a file in it; `None` where it is not there.
    ///
    /// # Errors
    /// The system's.
    pub fn read(&self, name: &str) -> std::io::Result<Option<Vec<u8>>> {
        self.read_head(name, u64::MAX)
    }

    /// The first bytes of a file in it, at most so many; `None` when there is none.
    ///
    /// # Errors
    /// The system's.
    pub fn read_head(&self, name: &str, most: u64) -> std::io::Result<Option<Vec<u8>>> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = match rustix::fs::openat(&self.descriptor, name, flags, Mode::empty()) {
            Ok(file) => file,
            Err(Errno::NOENT) => return Ok(None),
            Err(error) => return Err(error.into()),
        };
        let mut text = Vec::new();
        let mut file = std::io::Read::take(std::fs::File::from(file), most);
        std::io::Read::read_to_end(&mut file, &mut text)?;
        Ok(Some(text))
    }

    /// Writes a file in it: flushed under another name, then renamed, so that it
    /// is never seen half. The directory itself is not flushed.
    ///
    /// # Errors
    /// The system's.
    pub fn write(&self, name: &str, text: &[u8]) -> std::io::Result<()> {
        let fresh = self.write_beside(name, text)?;
        Ok(rustix::fs::renameat(&self.descriptor, &fresh, &self.descriptor, name)?)
    }

    /// Writes a file under the name it has until [`Folder::publish`].
    ///
    /// # Errors
    /// The system's.
    pub fn write_beside(&self, name: &str, text: &[u8]) -> std::io::Result<String> {
        let mut fresh = self.begin(name)?;
        let written = fresh.file.write_all(text).and_then(|()| fresh.file.sync_all());
        if written.is_err() {
            self.remove(&fresh.name);
        }
        written.map(|()| fresh.name)
    }

    /// Begins a file under the name it has until [`Folder::finish`].
    ///
    /// # Errors
    /// The system's.
    pub fn begin(&self, name: &str) -> std::io::Result<Fresh> {
        let (name, mode) = (beside(name), Mode::RUSR | Mode::WUSR);
        let file = rustix::fs::openat(&self.descriptor, &name, FRESH, mode)?.into();
        Ok(Fresh { name, file })
    }

    /// Gives a file that was begun its last bytes, flushes it, and gives it its name.
    ///
    /// # Errors
    /// The system's.
    pub fn finish(&self, mut fresh: Fresh, name: &str, last: &[u8]) -> std::io::Result<()> {
        fresh.file.write_all(last)?;
        fresh.file.sync_all()?;
        Ok(rustix::fs::renameat(&self.descriptor, &fresh.name, &self.descriptor, name)?)
    }

    /// Gives a file that was written beside its name.
    ///
    /// # Errors
    /// The system's; what is not there any more is published already.
    pub fn publish(&self, name: &str) -> Result<(), Errno> {
        match rustix::fs::renameat(&self.descriptor, beside(name), &self.descriptor, name) {
            Err(Errno::NOENT) => Ok(()),
            renamed => renamed,
        }
    }

    /// Exchanges a file for the one that was written beside it, which then keeps
    /// the old one; without an old one the name is only given.
    ///
    /// # Errors
    /// The system's.
    pub fn exchange(&self, name: &str, existed: bool) -> Result<(), Errno> {
        let fresh = beside(name);
        match existed {
            false => self.publish(name),
            true => {
                let flags = rustix::fs::RenameFlags::EXCHANGE;
                let folder = &self.descriptor;
                rustix::fs::renameat_with(folder, &fresh, folder, name, flags)
            }
        }
    }

    /// Takes back what [`Folder::exchange`] did.
    ///
    /// # Errors
    /// The system's.
    pub fn exchange_back(&self, name: &str, existed: bool) -> Result<(), Errno> {
        match existed {
            false => rustix::fs::renameat(&self.descriptor, name, &self.descriptor, beside(name)),
            true => self.exchange(name, true),
        }
    }

    /// Flushes the directory.
    ///
    /// # Errors
    /// The system's.
    pub fn flush(&self) -> Result<(), Errno> {
        rustix::fs::fsync(&self.descriptor)
    }

    /// Removes a file or an empty folder in it, if it is there.
    pub fn remove(&self, name: &str) {
        for flags in [AtFlags::empty(), AtFlags::REMOVEDIR] {
            match rustix::fs::unlinkat(&self.descriptor, name, flags) {
                Ok(()) | Err(Errno::NOENT) => return,
                Err(error) => tracing::debug!(name, %error, "not removed"),
            }
        }
    }

    /// Removes a file that was written beside its name, if it is there.
    pub fn remove_beside(&self, name: &str) {
        self.remove(&beside(name));
    }

    /// A new file in it, for its owner alone.
    ///
    /// # Errors
    /// The system's.
    pub(crate) fn create(&self, name: &str) -> std::io::Result<std::fs::File> {
        let mode = Mode::RUSR | Mode::WUSR;
        Ok(rustix::fs::openat(&self.descriptor, name, FRESH, mode)?.into())
    }

    /// A file in it, for reading.
    ///
    /// # Errors
    /// The system's.
    pub(crate) fn open_file(&self, name: &str) -> std::io::Result<std::fs::File> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        Ok(rustix::fs::openat(&self.descriptor, name, flags, Mode::empty())?.into())
    }

    /// The folder itself, for work by handles.
    pub(crate) fn descriptor(&self) -> &OwnedFd {
        &self.descriptor
    }

    /// Removes an empty folder in it, if it is there and empty.
    pub(crate) fn remove_empty(&self, name: &str) {
        let _ = rustix::fs::unlinkat(&self.descriptor, name, AtFlags::REMOVEDIR);
    }

    /// Renames something in it; what has its new name already stays.
    ///
    /// # Errors
    /// The system's.
    pub(crate) fn rename_once(&self, from: &str, to: &str) -> Result<(), Errno> {
        match rustix::fs::renameat(&self.descriptor, from, &self.descriptor, to) {
            Err(Errno::NOENT) => {
                let there = AtFlags::SYMLINK_NOFOLLOW;
                rustix::fs::statat(&self.descriptor, to, there).map(drop)
            }
            renamed => renamed,
        }
    }

    /// The names of the folders in it.
    ///
    /// # Errors
    /// The system's.
    pub(crate) fn folders(&self) -> Result<Vec<String>, Errno> {
        let mut names = Vec::new();
        for name in crate::inventory::names(&self.descriptor)? {
            let here = AtFlags::SYMLINK_NOFOLLOW;
            let stat = rustix::fs::statat(&self.descriptor, &name, here)?;
            if FileType::from_raw_mode(stat.st_mode) == FileType::Directory {
                names.push(name.to_string_lossy().into_owned());
            }
        }
        Ok(names)
    }

    /// The names of the files in it.
    ///
    /// # Errors
    /// The system's.
    pub fn names(&self) -> Result<Vec<String>, Errno> {
        let mut names = Vec::new();
        for entry in Dir::read_from(&self.descriptor)? {
            let entry = entry?;
            if entry.file_type() != FileType::Directory {
                names.push(entry.file_name().to_string_lossy().into_owned());
            }
        }
        Ok(names)
    }
}

/// A file that is being written under another name than it will have.
#[derive(Debug)]
pub struct Fresh {
    /// The name that it has meanwhile.
    name: String,
    /// The file.
    pub file: std::fs::File,
}

fn beside(name: &str) -> String {
    format!(".{name}.new")
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
        assert_eq!(folder.read("x").unwrap(), None);
        folder.write("x", b"one").unwrap();
        folder.write_beside("x", b"two").unwrap();
        assert_eq!(folder.read("x").unwrap().unwrap(), b"one");
        folder.publish("x").unwrap();
        folder.publish("x").unwrap();
        assert_eq!(folder.read("x").unwrap().unwrap(), b"two");
        assert_eq!(folder.names().unwrap(), ["x"]);
    }
}
