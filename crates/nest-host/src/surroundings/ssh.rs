//! The files of keys that the SSH server goes by.

use bstr::{BStr, BString, ByteSlice};
use nest_core::labels::Labels;
use nest_core::surroundings::{Facts, KeyFile};
use nest_core::words::without_error_numbers;

use super::facts_of;
use crate::labels::Carrying;
use crate::tree::{Tree, path_of};
use crate::untrusted::{self, CONFIGURATION, LastLink};

/// A file of keys. Its owner could turn a link to anything: none is followed.
pub(super) fn key_file(tree: &Tree, path: &BStr) -> KeyFile {
    let text = match untrusted::read(tree, path_of(path), LastLink::Refused, CONFIGURATION) {
        Ok(text) => Ok(Some(text)),
        Err(missing) if missing.is_missing() => Ok(None),
        Err(unreadable) => Err(without_error_numbers(&unreadable.to_string())),
    };
    if !matches!(text, Ok(Some(_))) {
        return KeyFile { way: Vec::new(), closed: None, text };
    }
    // What an image's own directory is like says nothing about the root that it will be.
    let ends = path.find_iter("/").filter(|end| *end > 0 || tree.is_live());
    let ends = ends.map(|end| end.max(1)).chain([path.len()]);
    let facts = |end: usize| {
        let place = path[..end].as_bstr();
        let stat = tree.stat(path_of(place)).ok()?;
        Some((place.to_owned(), facts_of(&stat)))
    };
    let way: Vec<(BString, Facts)> = ends.filter_map(facts).collect();
    let labels = Carrying(tree);
    let closed = way.iter().find_map(|(place, facts)| {
        let carried = labels.keeps_ssh_out(place.as_bstr(), facts.kind)?;
        Some((place.clone(), carried))
    });
    KeyFile { way, closed, text }
}
