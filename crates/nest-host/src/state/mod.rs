//! The state folder: the journal, the records of changes, retired numbers.
//! Whoever can write it can write the account files, so it is root's alone.

mod document;
mod folder;
mod mark;

use std::ffi::OsStr;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use nest_core::value::TreePath;
use rustix::fs::{AtFlags, CWD, Mode, OFlags};
use rustix::io::Errno;

use crate::tree::{DIRECTORY, Tree};
use crate::untrusted::open_component;

pub use document::{Fault, Notices, PassedOver, parse, to_text};
pub use folder::{Folder, Fresh};

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

/// Why the state folder can't be used.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum StateError {
    /// It can't be trusted.
    #[error(
        "the state folder {path} {fault}: whoever can write there can have the account files rewritten"
    )]
    Untrusted { path: String, fault: String },
    /// It is not a folder.
    #[error("the state folder {0} is not a directory")]
    NotADirectory(String),
    /// It can't be opened or made.
    #[error("the state folder {path} can't be used")]
    Unusable { path: String, source: Errno },
}

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
    /// [`StateError`] where it is no directory, can't be opened, or is open to others than
    /// root.
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
    /// [`StateError`] where it can't be made or opened, or is open to others than root.
    pub fn open_or_make(&self, tree: &Tree) -> Result<Folder, StateError> {
        if let Some(folder) = self.open(tree)? {
            return Ok(folder);
        }
        let shown = self.shown().unwrap_or(WITHOUT_STATE.to_owned());
        let unusable = |source| StateError::Unusable { path: shown.clone(), source };
        let opened = match self {
            State::At(path) => make_outside(path),
            State::InTree => make_in_tree(tree),
            State::Nowhere => {
                let etc = tree.open_file("etc", DIRECTORY).map_err(unusable)?;
                make(etc.as_fd(), ".copper-nest-journal".as_ref(), Mode::RWXU)
            }
        };
        let opened = folder(Ok(opened.map_err(unusable)?), shown.clone())?;
        opened.ok_or(StateError::Unusable { path: shown, source: Errno::NOENT })
    }
}

impl State {
    /// The directories above the folder in the tree that are not there yet: what is
    /// made for a change that then does not happen goes again. That the folder itself, in the
    /// tree or outside it, is not there yet `/` says.
    pub fn missing(&self, tree: &Tree) -> Vec<TreePath> {
        let missing = |path: &&str| matches!(tree.stat(path), Err(Errno::NOENT));
        let mut all: Vec<TreePath> = match self {
            State::InTree => {
                let above = ABOVE.into_iter().filter(missing);
                above.map(|path| TreePath::judged(format!("/{path}").as_bytes())).collect()
            }
            State::At(_) | State::Nowhere => Vec::new(),
        };
        let folder_is_missing = match self {
            State::InTree => missing(&IN_TREE),
            State::At(path) => !path.exists(),
            State::Nowhere => false,
        };
        if folder_is_missing {
            all.push(TreePath::root());
        }
        all
    }

    /// Removes the folder when it is empty, and of the directories above it those that
    /// were `made` for it: a change that failed leaves no trace. What was there before stays.
    pub fn drop_if_empty(&self, tree: &Tree, made: &[TreePath]) {
        if *self != State::Nowhere && !made.contains(&TreePath::root()) {
            return;
        }
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
            made.iter().any(|made| made.strip_prefix(b"/") == Some(above.as_bytes()))
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
/// [`StateError`] where it is there and can't be opened.
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
        Err(error) => return Err(StateError::Unusable { path: shown, source: error }),
    };
    let stat = rustix::fs::fstat(&descriptor)
        .map_err(|source| StateError::Unusable { path: shown.clone(), source })?;
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
}
