//! The journal: what a change is about to do, on disk before it does it.
//!
//! Two files. `begun.json` names everything that will be staged, before the first
//! of it is: until there is a second file, a crash means that all of it goes
//! again. `ready.json` is the moment at which the change happens: from then on a
//! crash means that the rest is done. See `docs/formats.md`.
//!
//! A journal may be a stranger's: it lies in the tree. So it names what lies in the
//! state folder by types that can hold nothing but what this program would name, and
//! `JournalEntry::fault` finds what it could not have written.

#![deny(clippy::wildcard_enum_match_arm)]

use nest_core::ownership::{Access, Owner, Reown};
use nest_core::record::ChangeRecord;
use nest_core::retired::{KeptFolder, PackedFile};
use nest_core::surroundings::Inventory;
use nest_core::table::File;
use nest_core::value::escaped::Escaped;
use nest_core::value::{Gid, PlainName, TreePath, Uid};
use rustix::fs::{AtFlags, StatxFlags};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};

use crate::place::{BOTH, NEW, beside};
use crate::state::{self, Fault, Folder, Fresh};
use crate::tree::{Tree, path_of};

/// The version of journals that this program writes and reads.
pub const VERSION: u32 = 1;

/// The folder of the journal in the state folder.
const FOLDER: PlainName = PlainName::fixed("journal");
const BEGUN: PlainName = PlainName::fixed("begun.json");
const READY: PlainName = PlainName::fixed("ready.json");
/// The ending of a journal that is about to be removed.
const DONE: &str = "done";
/// What the names of lists of files begin with.
const LIST: &str = "files-";
/// The files of the state folder that a change replaces.
const STATE_FILES: [PlainName; 2] = [crate::retired::NAME, crate::suspended::NAME];

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
    /// A file that is no account file is exchanged for a new version that waits beside it.
    Rewrite {
        /// The file.
        path: TreePath,
        /// The digest of the old version; nothing where there was no file.
        before: Option<String>,
        /// The digest of the new version.
        after: String,
    },
    /// Something new gets its name.
    Make {
        /// Where.
        path: TreePath,
        /// Directories that are made on the way, outermost first.
        made: Vec<TreePath>,
        /// What it is.
        inventory: Option<Inventory>,
    },
    /// A directory itself is given to somebody else.
    Give {
        /// The directory.
        path: TreePath,
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
        from: TreePath,
        /// Where it will be.
        to: TreePath,
        /// The directory that is made for it, which only root may enter.
        made: Option<TreePath>,
        /// Whether it is on another file system: then a copy waits beside `to`,
        /// and what is at `from` is removed in the end.
        copied: bool,
        /// What the copy is.
        #[serde(default)]
        inventory: Option<Inventory>,
    },
    /// Something is removed, if it still is what it was.
    Remove {
        /// What.
        path: TreePath,
        /// What it has to be.
        made: Inventory,
    },
    /// Something is removed for good; packed before, where a folder is named.
    Erase {
        /// What.
        path: TreePath,
        /// The folder below `retired` and the file in it that hold it.
        packed: Option<(KeptFolder, PackedFile)>,
    },
    /// Something packed gets back to where it was.
    Unpack {
        /// Where.
        path: TreePath,
        /// The folder below `retired`.
        folder: KeptFolder,
        /// The file in it.
        file: PackedFile,
        /// Numbers that become others: of uids, and of gids.
        other: Renumbered,
        /// What it is.
        #[serde(default)]
        inventory: Option<Inventory>,
    },
    /// A folder below `retired` gets its name.
    Keep {
        /// The folder.
        folder: KeptFolder,
        /// The digest of what says what is kept.
        #[serde(default)]
        digest: Option<String>,
    },
    /// A folder below `retired` goes.
    Release {
        /// The folder.
        folder: KeptFolder,
    },
    /// Files get another owner or group: those that the list names.
    Reown {
        /// Which number becomes which.
        reown: Reown,
        /// The file of the journal that lists them.
        list: PlainName,
        /// The digest of that list.
        #[serde(default)]
        digest: Option<String>,
    },
}

/// A uid, and a gid, that become others.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Renumbered {
    /// The uid, and what it becomes.
    pub uid: Option<(Uid, Uid)>,
    /// The gid, and what it becomes.
    pub gid: Option<(Gid, Gid)>,
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
pub struct JournalEntry {
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
    pub record: Option<ChangeRecord>,
    /// The digest of the record that waits for its name, where that holds the lines and
    /// the one in here does not.
    #[serde(default)]
    pub record_beside: Option<String>,
    /// Directories above the state folder that were made for this change.
    #[serde(default)]
    pub made: Vec<TreePath>,
}

/// Which tree a journal is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rooted {
    /// The path it was opened by.
    pub path: String,
    /// Device and inode of its root directory.
    pub identity: (u64, u64),
    /// The number of its file system, which stays when devices get other numbers.
    #[serde(default)]
    pub file_system: Option<u64>,
    /// When the root directory was made, in nanoseconds since 1970, where the file
    /// system tells it.
    #[serde(default)]
    pub made: Option<i128>,
}

/// What is in a journal.
#[derive(Debug)]
pub struct FoundJournal {
    /// The journal.
    pub journal: Journal,
    /// What it says.
    pub entry: JournalEntry,
    /// Whether the change had happened.
    pub ready: bool,
    /// The tree that it is about, where that is another one: of which this is a copy,
    /// say.
    pub foreign: Option<String>,
}

/// Why a journal can't be used.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum JournalError {
    /// It can't be read or written.
    #[error("the journal {path} can't be used")]
    Unusable { path: String, source: std::io::Error },
    /// It can't be understood.
    #[error("the journal {path} {fault}; an unfinished change can't be told from it")]
    Fault { path: String, fault: Fault },
    /// It is about another tree.
    #[error(
        "{what} stands unfinished here, but it is about another tree, {tree}: this one may be a copy of it"
    )]
    OtherTree { what: String, tree: String },
    /// The journal is in another state folder than the one that was named.
    #[error("a change stands unfinished here, and its journal is in the state folder {0}")]
    OtherState(String),
}

/// An opened journal.
#[derive(Debug)]
pub struct Journal {
    folder: Folder,
}

impl Rooted {
    /// The root of `tree`.
    pub fn of(tree: &Tree) -> Self {
        let root = tree.root();
        let identity = rustix::fs::fstat(root).map_or((0, 0), |stat| (stat.st_dev, stat.st_ino));
        let file_system = rustix::fs::fstatvfs(root).ok().map(|told| told.f_fsid);
        let flags = AtFlags::EMPTY_PATH;
        let made = rustix::fs::statx(root, "", flags, StatxFlags::BTIME).ok();
        let made = made.filter(|stat| stat.stx_mask & StatxFlags::BTIME.bits() != 0);
        let made = made.map(|stat| {
            i128::from(stat.stx_btime.tv_sec) * 1_000_000_000 + i128::from(stat.stx_btime.tv_nsec)
        });
        Rooted { path: tree.path().display().to_string(), identity, file_system, made }
    }

    /// Whether both are one tree. Its device may have got another number since, and a
    /// copy may have been given its path and, by chance, its inode: but no copy was made
    /// at the same moment.
    pub fn is(&self, other: &Self) -> bool {
        let known = |mine: Option<i128>, other| mine.is_none() || mine == other;
        let file_system = self.file_system.is_some() && self.file_system == other.file_system;
        self.identity.1 == other.identity.1
            && (self.identity.0 == other.identity.0 || file_system)
            && known(self.made, other.made)
    }
}

impl Journal {
    /// The journal in a state folder, made where it is not there.
    ///
    /// # Errors
    /// [`JournalError::Unusable`] where the folder can't be made or opened.
    pub fn make(state: &Folder) -> Result<Self, JournalError> {
        let folder = state.inner(&FOLDER).map_err(|error| unusable(state.shown(&FOLDER), error))?;
        Ok(Journal { folder })
    }

    /// What stands in the journal of a state folder: an unfinished change.
    ///
    /// # Errors
    /// [`JournalError`] where a journal is there and can't be read or understood.
    pub fn find(state: &Folder, tree: &Tree) -> Result<Option<FoundJournal>, JournalError> {
        let inner = state.inner_if_there(&FOLDER);
        let Some(folder) = inner.map_err(|error| unusable(state.shown(&FOLDER), error))? else {
            return Ok(None);
        };
        let journal = Journal { folder };
        for (name, ready) in [(&READY, true), (&BEGUN, false)] {
            let path = journal.folder.shown(name);
            let text = journal.folder.read(name);
            let Some(text) = text.map_err(|error| unusable(path.clone(), error))? else { continue };
            let entry = parse(&text, path)?;
            let foreign = (!entry.tree.is(&Rooted::of(tree))).then(|| entry.tree.path.clone());
            return Ok(Some(FoundJournal { journal, entry, ready, foreign }));
        }
        Ok(None)
    }

    /// Removes a journal in which nothing stands, and what is left of one that went.
    pub fn sweep(state: &Folder) {
        if let Ok(Some(folder)) = state.inner_if_there(&FOLDER) {
            Journal { folder }.clear();
        }
        state.remove(&FOLDER);
        if let Err(error) = state.erase_beside(&FOLDER, DONE) {
            tracing::warn!(%error, "what is left of a journal could not be removed");
        }
    }

    /// Writes down what will be staged, flushed.
    ///
    /// # Errors
    /// The system's, where it can't be written: then nothing was begun.
    pub fn begin(&self, entry: &JournalEntry) -> std::io::Result<()> {
        self.write(&BEGUN, entry)
    }

    /// Marks the change as happened, flushed.
    ///
    /// # Errors
    /// The system's: then it has not.
    pub fn mark_ready(&self, entry: &JournalEntry) -> std::io::Result<()> {
        self.write(&READY, entry)
    }

    /// Takes the mark away again: what had become visible was put back.
    ///
    /// # Errors
    /// The system's, where the directory can't be flushed: then the mark may come back.
    pub fn unmark(&self) -> std::io::Result<()> {
        self.folder.remove(&READY);
        Ok(self.folder.flush()?)
    }

    fn write(&self, name: &PlainName, entry: &JournalEntry) -> std::io::Result<()> {
        let text = serde_json::to_vec(entry).map_err(std::io::Error::from)?;
        self.folder.write(name, &text)?;
        Ok(self.folder.flush()?)
    }

    /// Drops the journal: nothing is unfinished any more. It goes by one renaming,
    /// flushed: there is no moment at which half of it is there, and none after which it
    /// comes back. Everything else has to be on the disk before.
    ///
    /// Where the disk won't flush it may stand again after a crash, and does no harm.
    pub fn drop(self, state: &Folder) {
        // What is left of one before.
        let _ = state.erase_beside(&FOLDER, DONE);
        let dropped = state.rename_to_beside(&FOLDER, DONE).and_then(|()| state.flush());
        if let Err(error) = dropped {
            tracing::warn!(%error, "the journal could not be dropped at once");
        }
        self.clear();
        if let Err(error) = state.erase_beside(&FOLDER, DONE) {
            tracing::warn!(%error, "what is left of the journal could not be removed");
        }
        // Where it could not be renamed.
        state.remove(&FOLDER);
    }

    /// Removes everything in it. Ready goes last: were it to go first, a crash in between
    /// would roll back what has happened.
    fn clear(&self) {
        self.folder.remove(&BEGUN);
        for name in self.folder.names().unwrap_or_default() {
            if name != READY {
                self.folder.remove(&name);
            }
        }
        self.folder.remove(&READY);
    }

    /// Keeps a file in the journal, flushed. Returns its digest.
    ///
    /// # Errors
    /// The system's, where it can't be written.
    pub fn keep(&self, name: &PlainName, contents: &[u8]) -> std::io::Result<String> {
        let digest = self.folder.write_beside(name, contents)?;
        self.folder.publish(name)?;
        self.folder.flush()?;
        Ok(digest)
    }

    /// Begins a file in the journal, to be written bit by bit, with [`Journal::finish_kept`]
    /// at the end.
    ///
    /// # Errors
    /// The system's, where it can't be made.
    pub fn begin_kept(&self, name: &PlainName) -> std::io::Result<Fresh> {
        self.folder.begin(name)
    }

    /// Flushes a file that was begun, and gives it its name. Returns its digest.
    ///
    /// # Errors
    /// The system's, where it can't be written.
    pub fn finish_kept(&self, name: &PlainName, mut file: Fresh) -> std::io::Result<String> {
        std::io::Write::flush(&mut file)?;
        self.folder.publish(name)?;
        self.folder.flush()?;
        Ok(file.digest())
    }

    /// A file that was kept, opened; `None` where there is none.
    ///
    /// # Errors
    /// The system's, where it is there and can't be opened.
    pub fn open_kept(&self, name: &PlainName) -> std::io::Result<Option<std::fs::File>> {
        self.folder.open_if_there(name)
    }

    /// Keeps a file no longer, flushed.
    ///
    /// # Errors
    /// The system's, where that can't be flushed.
    pub fn forget(&self, name: &PlainName) -> std::io::Result<()> {
        self.folder.remove(name);
        Ok(self.folder.flush()?)
    }

    /// Moves a file that was kept to another folder.
    ///
    /// # Errors
    /// The system's; what was moved already is left.
    pub fn move_kept(&self, name: &PlainName, to: &Folder, new: &PlainName) -> std::io::Result<()> {
        match self.folder.move_file(name, to, new) {
            Err(Errno::NOENT) if to.read_head(new, 0)?.is_some() => Ok(()),
            moved => Ok(moved?),
        }
    }

    /// A file that was kept.
    ///
    /// # Errors
    /// The system's, where it is there and can't be read.
    pub fn kept(&self, name: &PlainName) -> std::io::Result<Option<Vec<u8>>> {
        self.folder.read(name)
    }
}

fn unusable(path: String, error: impl Into<std::io::Error>) -> JournalError {
    JournalError::Unusable { path, source: error.into() }
}

/// Reads a journal. Any bytes may come in.
///
/// # Errors
/// [`JournalError::Fault`], also for what this program could not have written.
pub fn parse(text: &[u8], path: String) -> Result<JournalEntry, JournalError> {
    let entry: JournalEntry = match state::parse(text, VERSION) {
        Ok(entry) => entry,
        Err(fault) => return Err(JournalError::Fault { path, fault }),
    };
    match entry.fault() {
        Some(fault) => Err(JournalError::Fault { path, fault: Fault::Damaged(fault) }),
        None => Ok(entry),
    }
}

impl JournalEntry {
    /// What makes it impossible that this program wrote it, in words.
    fn fault(&self) -> Option<String> {
        let steps = self.record.iter().flat_map(|record| &record.told.steps);
        let step = steps.filter_map(|step| step.step.fault()).next();
        step.or_else(|| self.effects.iter().find_map(Effect::fault))
    }

    /// The change, in words.
    pub fn in_words(&self) -> String {
        match self.number {
            Some(number) => format!("change {number} ({})", self.summary),
            None => format!("a change ({})", self.summary),
        }
    }
}

/// What the name of another file begins with that goes with such a list.
const THERE: &str = "there-";
const REACHED: &str = "reached-";

/// The file that lists those which carried the new number before, by that of the other list.
pub(crate) fn there_name(list: &PlainName) -> PlainName {
    named_after(list, THERE)
}

/// The file that says how far a list is gone through.
pub(crate) fn reached_name(list: &PlainName) -> PlainName {
    named_after(list, REACHED)
}

fn named_after(list: &PlainName, start: &str) -> PlainName {
    let at = list.as_str().strip_prefix(LIST).unwrap_or(list.as_str());
    PlainName::parse(format!("{start}{at}")).expect("BUG: what goes with a list has no plain name")
}

/// The file of the journal that lists files which get another number, by the place of
/// its step in the plan.
pub(crate) fn list_name(at: usize) -> PlainName {
    PlainName::parse(format!("{LIST}{at}")).expect("BUG: a list has no plain name")
}

impl Effect {
    /// What makes it impossible that this program wrote it, in words: a name that it would
    /// not have given.
    fn fault(&self) -> Option<String> {
        match self {
            Effect::Replace { what: Replaced::State, path, staged, .. } => {
                let known = STATE_FILES.iter().any(|name| path.0 == name.as_str());
                (!known || !staged.0.is_empty()).then(|| format!("{} is none of its files", path.0))
            }
            Effect::Replace { what: Replaced::Account(_), path, .. }
                if !TreePath::fits(&path.0) =>
            {
                Some(format!("{} is no path of the tree", path.0))
            }
            Effect::Replace { what: Replaced::Account(_), path, staged, .. } => {
                let name = path_of(&path.0).file_name().unwrap_or_default();
                let given = [NEW, BOTH]
                    .iter()
                    .any(|ending| beside(name, ending).as_encoded_bytes() == staged.0.as_slice());
                (!given).then(|| format!("{} is no name of a new {}", staged.0, path.0))
            }
            Effect::Reown { list, .. } => {
                let at = list.as_str().strip_prefix(LIST).and_then(|at| at.parse().ok());
                let given = at.is_some_and(|at| list_name(at) == *list);
                (!given).then(|| format!("{list} is no name of a list"))
            }
            // Their types can hold nothing else.
            Effect::Rewrite { .. }
            | Effect::Make { .. }
            | Effect::Give { .. }
            | Effect::SetAccess { .. }
            | Effect::Move { .. }
            | Effect::Remove { .. }
            | Effect::Erase { .. }
            | Effect::Unpack { .. }
            | Effect::Keep { .. }
            | Effect::Release { .. } => None,
        }
    }

    /// The effect in a few words, for messages.
    pub fn describe(&self) -> String {
        match self {
            Effect::Replace { what: Replaced::Account(file), .. } => {
                format!("replacing {}", file.path())
            }
            Effect::Replace { path, .. } => format!("replacing {}", path.0),
            Effect::Rewrite { path, .. } => format!("editing {}", path),
            Effect::Make { path, .. } => format!("making {}", path),
            Effect::Give { path, .. } => format!("giving {} away", path),
            Effect::SetAccess { file, .. } => format!("giving {} other access", file.path()),
            Effect::Move { from, to, .. } => format!("moving {} to {}", from, to),
            Effect::Remove { path, .. } => format!("removing {}", path),
            Effect::Erase { path, .. } => format!("erasing {}", path),
            Effect::Unpack { path, .. } => format!("unpacking {}", path),
            Effect::Keep { folder, .. } => format!("keeping retired/{folder}"),
            Effect::Release { folder } => format!("dropping retired/{folder}"),
            Effect::Reown { reown, .. } => format!("re-owning {}", reown.in_words()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::state::State;

    fn entry(tree: &Tree) -> JournalEntry {
        JournalEntry {
            version: VERSION,
            tree: Rooted::of(tree),
            number: Some(1),
            summary: "create user maren".into(),
            effects: Vec::new(),
            record: None,
            record_beside: None,
            made: Vec::new(),
        }
    }

    #[test]
    fn a_journal_goes_at_once_and_leaves_nothing() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let state = State::InTree.open_or_make(&tree).unwrap();
        let journal = Journal::make(&state).unwrap();
        journal.begin(&entry(&tree)).unwrap();
        journal.mark_ready(&entry(&tree)).unwrap();
        journal.keep(&list_name(3), b"/home/maren\0").unwrap();
        let found = Journal::find(&state, &tree).unwrap().unwrap();
        assert!(found.ready && found.foreign.is_none());
        journal.drop(&state);
        assert!(Journal::find(&state, &tree).unwrap().is_none());
        assert!(state.names().unwrap().is_empty() && state.folders().unwrap().is_empty());
    }

    #[test]
    fn a_copy_of_a_tree_is_another_tree() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let other = tempfile::tempdir().unwrap();
        let copy = Tree::open(other.path()).unwrap();
        assert!(Rooted::of(&tree).is(&Rooted::of(&tree)));
        assert!(!Rooted::of(&tree).is(&Rooted::of(&copy)));
        // The disk was given another number since, as happens at boot.
        let Rooted { identity, .. } = Rooted::of(&tree);
        let before = Rooted { identity: (identity.0 + 1, identity.1), ..Rooted::of(&tree) };
        assert!(before.is(&Rooted::of(&tree)));
        let state = State::InTree.open_or_make(&tree).unwrap();
        let entry = JournalEntry { tree: Rooted::of(&copy), ..entry(&tree) };
        Journal::make(&state).unwrap().begin(&entry).unwrap();
        let found = Journal::find(&state, &tree).unwrap().unwrap();
        assert_eq!(found.foreign, Some(other.path().display().to_string()));
    }

    #[test]
    fn what_this_program_would_not_have_written_is_damaged() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let sound = serde_json::to_value(entry(&tree)).unwrap();
        let effects = [
            r#"{"effect": "replace", "what": "state", "path": "../x", "staged": "", "before": null, "after": ""}"#,
            r#"{"effect": "replace", "what": "state", "path": "left.json", "staged": "", "before": null, "after": ""}"#,
            r#"{"effect": "replace", "what": {"account": "passwd"}, "path": "/etc/passwd", "staged": "../shadow", "before": null, "after": ""}"#,
            r#"{"effect": "make", "path": "home/x", "made": [], "inventory": null}"#,
            r#"{"effect": "make", "path": "/home/x", "made": ["/.."], "inventory": null}"#,
            r#"{"effect": "move", "from": "/a", "to": "/b/../../c", "made": null, "copied": false}"#,
            r#"{"effect": "keep", "folder": "user//etc"}"#,
            r#"{"effect": "keep", "folder": "../x"}"#,
            r#"{"effect": "release", "folder": "user/.."}"#,
            r#"{"effect": "release", "folder": "user"}"#,
            r#"{"effect": "erase", "path": "/home/x", "packed": ["user/x.1.1", "/etc/passwd"]}"#,
            r#"{"effect": "unpack", "path": "/home/x", "folder": "user/x.1.1", "file": "../h", "other": {"uid": null, "gid": null}}"#,
            r#"{"effect": "reown", "reown": {"paths": [], "group": false, "from": 1, "to": 2, "of_change": null}, "list": "/etc/shadow"}"#,
            r#"{"effect": "reown", "reown": {"paths": [], "group": false, "from": 1, "to": 2, "of_change": null}, "list": "files-01"}"#,
        ];
        for effect in effects {
            let mut value = sound.clone();
            value["effects"] =
                serde_json::json!([serde_json::from_str::<serde_json::Value>(effect).unwrap()]);
            let error = parse(value.to_string().as_bytes(), "ready.json".into()).unwrap_err();
            let damaged = matches!(&error, JournalError::Fault { fault: Fault::Damaged(_), .. });
            assert!(damaged, "{effect}: {error}");
        }
        assert!(parse(sound.to_string().as_bytes(), String::new()).is_ok());
    }
}
