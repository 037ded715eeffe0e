//! A mark in `etc` for the time in which a change is carried out. It says where the journal
//! is, where that is outside the tree: whoever comes after a crash without naming that folder
//! would build on what is half done. And it says which directories were made for the state
//! folder, where they were missing: a crash may come before there is a journal to say so.

use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use nest_core::value::escaped::Escaped;
use nest_core::value::{PlainName, TreePath};
use serde::{Deserialize, Serialize};

use super::{Fault, Folder, State, parse};
use crate::tree::{DIRECTORY, Tree, path_of};
use crate::words::why;

/// The mark, in `etc`.
const NAME: PlainName = PlainName::fixed(".copper-nest-state");

const VERSION: u32 = 1;

#[derive(Serialize, Deserialize)]
struct Mark {
    version: u32,
    /// The state folder outside the tree, as an absolute path of the machine.
    #[serde(default)]
    state: Option<Escaped>,
    /// Directories of the tree that are made.
    #[serde(default)]
    made: Vec<TreePath>,
}

fn etc(tree: &Tree) -> std::io::Result<Folder> {
    Ok(Folder { descriptor: tree.open_file("etc", DIRECTORY)?, shown: "etc".to_owned() })
}

impl State {
    /// The folder outside the tree, by a path that everybody would name it by.
    fn outside(&self) -> Option<PathBuf> {
        let State::At(path) = self else { return None };
        Some(std::fs::canonicalize(path).unwrap_or_else(|_| path.clone()))
    }

    /// Leaves the mark, flushed, where the folder is outside the tree or directories are
    /// `made` for it.
    ///
    /// # Errors
    /// The system's, where `etc` or the mark can't be written.
    pub fn leave_mark(&self, tree: &Tree, made: &[TreePath]) -> std::io::Result<()> {
        let state = self.outside().map(|path| Escaped(path.as_os_str().as_bytes().into()));
        // The folder itself is found without it.
        if state.is_none() && made.iter().all(|path| *path == TreePath::root()) {
            return Ok(());
        }
        let text = serde_json::to_vec(&Mark { version: VERSION, state, made: made.to_vec() })?;
        let etc = etc(tree)?;
        etc.write(&NAME, &text)?;
        Ok(etc.flush()?)
    }

    /// Takes the mark away, flushed, unless it is about another state folder.
    ///
    /// # Errors
    /// The system's, where the mark is there and can't be taken away.
    pub fn take_mark(&self, tree: &Tree) -> std::io::Result<()> {
        if !matches!(self.marked_elsewhere(tree), Ok(None)) {
            return Ok(());
        }
        let etc = etc(tree)?;
        etc.remove_beside(&NAME);
        if etc.read_head(&NAME, 0)?.is_some() {
            etc.remove(&NAME);
            etc.flush()?;
        }
        Ok(())
    }

    /// The directories that the mark says were made, as far as it can be understood.
    pub fn marked_made(tree: &Tree) -> Vec<TreePath> {
        let text = etc(tree).and_then(|etc| etc.read(&NAME)).ok().flatten().unwrap_or_default();
        parse::<Mark>(&text, VERSION).map(|mark| mark.made).unwrap_or_default()
    }

    /// Another state folder, outside the tree, that a mark says the journal of an
    /// unfinished change is in.
    ///
    /// # Errors
    /// The mark's path, and what is wrong with it.
    pub fn marked_elsewhere(&self, tree: &Tree) -> Result<Option<PathBuf>, (String, Fault)> {
        let Ok(etc) = etc(tree) else { return Ok(None) };
        let path = etc.shown(&NAME);
        let text = match etc.read(&NAME) {
            Ok(None) => return Ok(None),
            Ok(Some(text)) => text,
            Err(error) => return Err((path, Fault::Unread(why(error)))),
        };
        let mark: Mark = parse(&text, VERSION).map_err(|fault| (path, fault))?;
        let marked = mark.state.map(|state| path_of(&state.0).to_owned());
        Ok(marked.filter(|marked| self.outside().as_ref() != Some(marked)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_tells_where_the_journal_is_until_it_is_taken_away() {
        let place = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(place.path().join("tree/etc")).unwrap();
        let tree = Tree::open(&place.path().join("tree")).unwrap();
        let (one, other) = (place.path().join("one"), place.path().join("other"));
        std::fs::create_dir(&one).unwrap();
        let state = State::At(one.clone());
        state.leave_mark(&tree, &[]).unwrap();
        assert_eq!(state.marked_elsewhere(&tree).unwrap(), None);
        for state in [State::At(other), State::InTree, State::Nowhere] {
            assert_eq!(state.marked_elsewhere(&tree).unwrap(), Some(one.clone()));
            state.take_mark(&tree).unwrap();
        }
        state.take_mark(&tree).unwrap();
        assert_eq!(State::InTree.marked_elsewhere(&tree).unwrap(), None);
        let made = [TreePath::judged(b"/var/lib")];
        State::InTree.leave_mark(&tree, &made).unwrap();
        assert_eq!(State::marked_made(&tree), made);
        State::InTree.take_mark(&tree).unwrap();
        assert!(State::marked_made(&tree).is_empty());
        std::fs::write(place.path().join("tree/etc/.copper-nest-state"), "{}").unwrap();
        assert!(matches!(State::InTree.marked_elsewhere(&tree), Err((_, Fault::Damaged(_)))));
    }
}
