//! The journal: what a change is about to do, on disk before it does it.
//!
//! Two files. `begun.json` names everything that will be staged, before the first
//! of it is: until there is a second file, a crash means that all of it goes
//! again. `ready.json` is the moment at which the change happens: from then on a
//! crash means that the rest is done. See `docs/formats.md`.

use nest_core::plan::Access;
use nest_core::plan::Owner;
use nest_core::plan::Reown;
use nest_core::record::Record;
use nest_core::surroundings::Inventory;
use nest_core::table::File;
use nest_core::value::escaped::Escaped;
use rustix::io::Errno;
use serde::{Deserialize, Serialize};

use crate::state::{Folder, Fresh};
use crate::tree::Tree;

/// The version of journals that this program writes and reads.
pub const VERSION: u32 = 1;

/// The folder of the journal in the state folder.
const FOLDER: &str = "journal";
const BEGUN: &str = "begun.json";
const READY: &str = "ready.json";
const RECORD: &str = "record.json";

/// What a change does to one place. Paths are those in the tree, without links.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "effect", rename_all = "kebab-case")]
pub enum Effect {
    /// A file is exchanged for a new version that waits beside it.
    Replace {
        /// What is replaced.
        what: Replaced,
        /// The path, in the tree or in the state folder.
        path: Escaped,
        /// The name of the new version, in the same directory.
        staged: Escaped,
        /// The digest of the old version; nothing where there was no file.
        before: Option<String>,
        /// The digest of the new version.
        after: String,
    },
    /// Something new gets its name.
    Make {
        /// Where.
        path: Escaped,
        /// Directories that are made on the way, outermost first.
        made: Vec<Escaped>,
        /// What it is.
        inventory: Option<Inventory>,
    },
    /// A directory itself is given to somebody else.
    Give {
        /// The directory.
        path: Escaped,
        /// Whose it is.
        from: Owner,
        /// Whose it becomes.
        to: Owner,
    },
    /// An account file itself gets other access.
    SetAccess {
        /// The file.
        file: File,
        /// The access that there was.
        from: Access,
        /// The one that there will be.
        to: Access,
    },
    /// A file or directory gets another place.
    Move {
        /// Where it is.
        from: Escaped,
        /// Where it will be.
        to: Escaped,
        /// The directory that is made for it, which only root may enter.
        made: Option<Escaped>,
        /// Whether it is on another file system: then a copy waits beside `to`,
        /// and what is at `from` is removed in the end.
        copied: bool,
    },
    /// Something is removed, if it still is what it was.
    Remove {
        /// What.
        path: Escaped,
        /// What it has to be.
        made: Inventory,
    },
    /// Something is removed for good; packed before, where a folder is named.
    Erase {
        /// What.
        path: Escaped,
        /// The folder below `retired` and the file in it that hold it.
        packed: Option<(String, String)>,
    },
    /// Something packed gets back to where it was.
    Unpack {
        /// Where.
        path: Escaped,
        /// The folder below `retired`.
        folder: String,
        /// The file in it.
        file: String,
        /// Numbers that become others: of uids, and of gids.
        other: Renumbered,
    },
    /// A folder below `retired` gets its name.
    Keep {
        /// The folder.
        folder: String,
    },
    /// A folder below `retired` goes.
    Release {
        /// The folder.
        folder: String,
    },
    /// Files get another owner or group: those that the list names.
    Reown {
        /// Which number becomes which.
        reown: Reown,
        /// The file of the journal that lists them: paths in the tree, each
        /// ended by a byte 0.
        list: String,
    },
}

/// A uid, and a gid, that become others.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Renumbered {
    /// The uid, and what it becomes.
    pub uid: Option<(u32, u32)>,
    /// The gid, and what it becomes.
    pub gid: Option<(u32, u32)>,
}

/// What is replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Replaced {
    /// An account file.
    Account(File),
    /// A file of the state folder.
    State,
}

/// What `begun.json` and `ready.json` hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Entry {
    /// The version of the format.
    pub version: u32,
    /// The root directory of the tree: its path, device and inode.
    pub tree: Rooted,
    /// The number the change has or would have had; nothing without state.
    pub number: Option<u64>,
    /// The change in a few words.
    pub summary: String,
    /// What is done, in the order in which it becomes visible.
    pub effects: Vec<Effect>,
    /// The record that will be kept, once the journal is ready.
    pub record: Option<Record>,
    /// Whether `record.json` holds the whole of the record: then the lines in it are
    /// not here as well.
    #[serde(default)]
    pub record_beside: bool,
}

/// Which tree a journal is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rooted {
    /// The path it was opened by.
    pub path: String,
    /// Device and inode of its root directory.
    pub identity: (u64, u64),
}

/// What is in a journal.
#[derive(Debug)]
pub struct Found {
    /// The journal.
    pub journal: Journal,
    /// What it says.
    pub entry: Entry,
    /// Whether the change had happened.
    pub ready: bool,
}

/// Why a journal can't be used.
#[derive(Debug, thiserror::Error)]
pub enum JournalError {
    /// It can't be read or written.
    #[error("the journal {path} can't be used: {error}")]
    Unusable {
        /// The file or folder.
        path: String,
        /// The system's reason.
        error: std::io::Error,
    },
    /// It makes no sense.
    #[error(
        "the journal {path} is damaged ({fault}): an unfinished change can't be told from it. docs/formats.md says how to mend it by hand"
    )]
    Damaged {
        /// The file.
        path: String,
        /// What is wrong.
        fault: String,
    },
    /// Another version wrote it.
    #[error(
        "the journal {path} was written by a newer version of this program (format {version}, and {VERSION} is known); let that version recover it"
    )]
    Newer {
        /// The file.
        path: String,
        /// The version it has.
        version: u64,
    },
    /// It is about another tree.
    #[error(
        "the journal {path} is about another tree, {tree}; recover that one, or keep the state of each tree in a folder of its own"
    )]
    OtherTree {
        /// The file.
        path: String,
        /// The tree it is about.
        tree: String,
    },
}

/// An opened journal.
#[derive(Debug)]
pub struct Journal {
    folder: Folder,
}

impl Rooted {
    /// The root of `tree`.
    pub fn of(tree: &Tree) -> Self {
        let identity = tree.stat("/").map_or((0, 0), |stat| (stat.st_dev, stat.st_ino));
        Rooted { path: tree.path().display().to_string(), identity }
    }
}

impl Journal {
    /// The journal in a state folder, made where it is not there.
    ///
    /// # Errors
    /// [`JournalError`].
    pub fn make(state: &Folder) -> Result<Self, JournalError> {
        let folder = state.inner(FOLDER).map_err(|error| unusable(state.shown(FOLDER), error))?;
        Ok(Journal { folder })
    }

    /// What stands in the journal of a state folder: an unfinished change.
    /// `shared` says that the folder is not in the tree: then it has to be about
    /// this tree.
    ///
    /// # Errors
    /// [`JournalError`].
    pub fn find(state: &Folder, tree: &Tree, shared: bool) -> Result<Option<Found>, JournalError> {
        let inner = state.inner_if_there(FOLDER);
        let Some(folder) = inner.map_err(|error| unusable(state.shown(FOLDER), error))? else {
            return Ok(None);
        };
        let journal = Journal { folder };
        for (name, ready) in [(READY, true), (BEGUN, false)] {
            let path = journal.folder.shown(name);
            let text = journal.folder.read(name);
            let Some(text) = text.map_err(|error| unusable(path.clone(), error))? else { continue };
            let entry = parse(&text, path.clone())?;
            if shared && entry.tree.identity != Rooted::of(tree).identity {
                return Err(JournalError::OtherTree { path, tree: entry.tree.path });
            }
            return Ok(Some(Found { journal, entry, ready }));
        }
        Ok(None)
    }

    /// Removes a journal in which nothing stands.
    pub fn sweep(state: &Folder) {
        if let Ok(Some(folder)) = state.inner_if_there(FOLDER) {
            Journal { folder }.drop();
        }
        state.remove(FOLDER);
    }

    /// Writes down what will be staged, flushed.
    ///
    /// # Errors
    /// The system's.
    pub fn begin(&self, entry: &Entry) -> std::io::Result<()> {
        self.write(BEGUN, entry)
    }

    /// Marks the change as happened, flushed.
    ///
    /// # Errors
    /// The system's: then it has not.
    pub fn mark_ready(&self, entry: &Entry) -> std::io::Result<()> {
        self.write(READY, entry)
    }

    /// Takes the mark away again: what had become visible was put back.
    ///
    /// # Errors
    /// The system's.
    pub fn unmark(&self) -> std::io::Result<()> {
        self.folder.remove(READY);
        Ok(self.folder.flush()?)
    }

    fn write(&self, name: &str, entry: &Entry) -> std::io::Result<()> {
        let text = serde_json::to_vec(entry).map_err(std::io::Error::from)?;
        self.folder.write(name, &text)?;
        Ok(self.folder.flush()?)
    }

    /// Drops the journal: nothing is unfinished any more. Ready goes last: were
    /// it to go first, a crash in between would roll back what has happened.
    pub fn drop(&self) {
        self.folder.remove(BEGUN);
        for name in self.folder.names().unwrap_or_default() {
            if name != READY {
                self.folder.remove(&name);
            }
        }
        self.folder.remove(READY);
    }

    /// Keeps a file in the journal, flushed.
    ///
    /// # Errors
    /// The system's.
    pub fn keep(&self, name: &str, contents: &[u8]) -> std::io::Result<()> {
        self.folder.write(name, contents)?;
        Ok(self.folder.flush()?)
    }

    /// Begins the record of a long change, which is to be moved to where records are
    /// kept.
    ///
    /// # Errors
    /// The system's.
    pub fn begin_record(&self) -> std::io::Result<Fresh> {
        self.folder.begin(RECORD)
    }

    /// Writes the last bytes of such a record, and flushes it.
    ///
    /// # Errors
    /// The system's.
    pub fn finish_record(&self, record: Fresh, last: &[u8]) -> std::io::Result<()> {
        self.folder.finish(record, RECORD, last)?;
        Ok(self.folder.flush()?)
    }

    /// Moves such a record to its folder.
    ///
    /// # Errors
    /// The system's; what was moved already is left.
    pub fn move_record(&self, to: &Folder, name: &str) -> std::io::Result<()> {
        match rustix::fs::renameat(self.folder.descriptor(), RECORD, to.descriptor(), name) {
            Err(Errno::NOENT) if to.read_head(name, 0)?.is_some() => Ok(()),
            moved => Ok(moved?),
        }
    }

    /// A file that was kept.
    ///
    /// # Errors
    /// The system's.
    pub fn kept(&self, name: &str) -> std::io::Result<Option<Vec<u8>>> {
        self.folder.read(name)
    }
}

fn unusable(path: String, error: impl Into<std::io::Error>) -> JournalError {
    JournalError::Unusable { path, error: error.into() }
}

/// Reads a journal. Any bytes may come in.
///
/// # Errors
/// [`JournalError`].
pub fn parse(text: &[u8], path: String) -> Result<Entry, JournalError> {
    let damaged = |error: serde_json::Error| JournalError::Damaged {
        path: path.clone(),
        fault: error.to_string(),
    };
    // The version first: a newer format may have other keys.
    let value: serde_json::Value = serde_json::from_slice(text).map_err(damaged)?;
    match value.get("version").and_then(serde_json::Value::as_u64) {
        Some(version) if version > VERSION.into() => Err(JournalError::Newer { path, version }),
        _ => serde_json::from_value(value).map_err(damaged),
    }
}

impl Effect {
    /// The effect in a few words, for messages.
    pub fn describe(&self) -> String {
        match self {
            Effect::Replace { what: Replaced::Account(file), .. } => {
                format!("replacing {}", file.path())
            }
            Effect::Replace { path, .. } => format!("replacing {}", path.0),
            Effect::Make { path, .. } => format!("making {}", path.0),
            Effect::Give { path, .. } => format!("giving {} away", path.0),
            Effect::SetAccess { file, .. } => format!("giving {} other access", file.path()),
            Effect::Move { from, to, .. } => format!("moving {} to {}", from.0, to.0),
            Effect::Remove { path, .. } => format!("removing {}", path.0),
            Effect::Erase { path, .. } => format!("erasing {}", path.0),
            Effect::Unpack { path, .. } => format!("unpacking {}", path.0),
            Effect::Keep { folder } => format!("keeping retired/{folder}"),
            Effect::Release { folder } => format!("dropping retired/{folder}"),
            Effect::Reown { reown, .. } => {
                let what = if reown.group { "gid" } else { "uid" };
                format!("re-owning from {what} {} to {}", reown.from, reown.to)
            }
        }
    }
}

/// Whether an error says that something is simply not there.
pub(crate) fn is_missing(error: Errno) -> bool {
    matches!(error, Errno::NOENT)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::state::State;

    #[test]
    fn a_record_is_moved_once_and_what_was_moved_is_left() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let state = State::InTree.open_or_make(&tree).unwrap();
        let (journal, records) = (Journal::make(&state).unwrap(), state.inner("changes").unwrap());
        let keep = |contents: &[&[u8]]| {
            let mut record = journal.begin_record().unwrap();
            std::io::Write::write_all(&mut record.file, contents[0]).unwrap();
            journal.finish_record(record, contents[1]).unwrap();
        };
        keep(&[b"o", b"ne"]);
        // As after a crash in between, it is asked for again.
        for _ in 0..2 {
            journal.move_record(&records, "1.json").unwrap();
            assert_eq!(records.read("1.json").unwrap().unwrap(), b"one");
            assert!(journal.kept("record.json").unwrap().is_none());
        }
        let lost = journal.move_record(&records, "2.json").unwrap_err();
        assert_eq!(lost.kind(), std::io::ErrorKind::NotFound);
        keep(&[b"two", b""]);
        journal.drop();
        assert!(journal.move_record(&records, "2.json").is_err());
    }
}
