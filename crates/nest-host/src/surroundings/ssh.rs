//! The files that the SSH server goes by: its configuration, and those of keys.

use bstr::{BStr, BString, ByteSlice};
use glob::{MatchOptions, Pattern};
use nest_core::configuration::ConfigFiles;
use nest_core::surroundings::KeyFile;
use nest_core::words::without_error_numbers;
use rustix::fs::OFlags;
use rustix::io::Errno;

use super::facts_of;
use crate::mentions::files_in;
use crate::tree::{Tree, path_of};
use crate::untrusted::{self, CONFIGURATION, LastLink};
use crate::words::why;

/// The configuration files of a tree.
#[derive(Debug)]
pub(super) struct Files<'t>(pub &'t Tree);

impl ConfigFiles for Files<'_> {
    fn read(&self, path: &BStr) -> Result<Option<Vec<u8>>, String> {
        match untrusted::read(self.0, path_of(path), LastLink::Followed, CONFIGURATION) {
            Ok(text) => Ok(Some(text)),
            Err(missing) if missing.is_missing() => Ok(None),
            Err(unreadable) => Err(without_error_numbers(&unreadable.to_string())),
        }
    }

    fn named(&self, pattern: &BStr) -> Result<Vec<BString>, String> {
        if pattern.find_byteset(b"*?[").is_none() {
            return Ok(vec![pattern.into()]);
        }
        let Some((directory, name)) = pattern.rsplit_once_str("/") else { return Ok(Vec::new()) };
        if directory.find_byteset(b"*?[").is_some() {
            return Err("names directories by a pattern, which is not looked at".to_owned());
        }
        let name = Pattern::new(&name.to_str_lossy());
        let name = name.map_err(|error| format!("is no pattern: {error}"))?;
        let directory = directory.to_str().map_err(why)?;
        match self.0.open_file(directory, OFlags::RDONLY | OFlags::DIRECTORY) {
            Ok(_) => {}
            Err(Errno::NOENT | Errno::NOTDIR) => return Ok(Vec::new()),
            Err(error) => return Err(format!("can't be looked through: {}", why(error))),
        }
        let options = MatchOptions { require_literal_leading_dot: true, ..MatchOptions::new() };
        let mut files = files_in(self.0, directory);
        files.retain(|file| {
            let name_of = file.rsplit('/').next().unwrap_or(file);
            name.matches_with(name_of, options)
        });
        files.sort();
        Ok(files.into_iter().map(BString::from).collect())
    }
}

/// A file of keys. Its owner could turn a link to anything: none is followed.
pub(super) fn key_file(tree: &Tree, path: &BStr) -> KeyFile {
    let text = match untrusted::read(tree, path_of(path), LastLink::Refused, CONFIGURATION) {
        Ok(text) => Ok(Some(text)),
        Err(missing) if missing.is_missing() => Ok(None),
        Err(unreadable) => Err(without_error_numbers(&unreadable.to_string())),
    };
    if !matches!(text, Ok(Some(_))) {
        return KeyFile { way: Vec::new(), text };
    }
    // What an image's own directory is like says nothing about the root that it will be.
    let ends = path.find_iter("/").filter(|end| *end > 0 || tree.is_live());
    let ends = ends.map(|end| end.max(1)).chain([path.len()]);
    let facts = |end: usize| {
        let place = path[..end].as_bstr();
        let stat = tree.stat(path_of(place)).ok()?;
        Some((place.to_owned(), facts_of(&stat)))
    };
    KeyFile { way: ends.filter_map(facts).collect(), text }
}
