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
//!
//! - `written`: what stands in those files

mod written;

use nest_core::value::PlainName;
use rustix::io::Errno;

pub use self::written::{Effect, JournalEntry, Renumbered, Replaced, Rooted};
pub(crate) use self::written::{list_name, reached_name, there_name};
use crate::state::{self, Fault, Folder, Fresh};
use crate::tree::Tree;

/// The version of journals that this program writes and reads.
pub const VERSION: u32 = 1;

/// The folder of the journal in the state folder.
const FOLDER: PlainName = PlainName::fixed("journal");
const BEGUN: PlainName = PlainName::fixed("begun.json");
const READY: PlainName = PlainName::fixed("ready.json");
/// The ending of a journal that is about to be removed.
const DONE: &str = "done";
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
