//! Which trees a command is about: those of its words, and those of a file.

use std::collections::HashSet;
use std::ffi::OsString;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use crate::commands::read_input;
use crate::failure::{Failure, REFUSED, Result};

/// The trees that stand on the command line, before the command and after it: of an option for
/// all commands only one of the two counts otherwise. Nothing where none is named.
pub fn named(words: &[OsString]) -> Option<Vec<PathBuf>> {
    let mut trees = Vec::new();
    let mut words = words.iter().take_while(|word| *word != "--");
    while let Some(word) = words.next() {
        let bytes = word.as_encoded_bytes();
        match bytes.strip_prefix(b"--tree") {
            Some(b"") => trees.extend(words.next().map(PathBuf::from)),
            Some([b'=', ..]) => {
                let value = std::os::unix::ffi::OsStrExt::from_bytes(&bytes[b"--tree=".len()..]);
                trees.push(PathBuf::from(std::ffi::OsStr::to_owned(value)));
            }
            _ => {}
        }
    }
    (!trees.is_empty()).then_some(trees)
}

/// Leaves each tree in once, however it is called: `image`, `./image`, a link to it.
pub fn each_once(trees: &mut Vec<PathBuf>) {
    let mut seen = HashSet::new();
    trees.retain(|tree| seen.insert(identity(tree)));
}

/// Two paths that lead to the same have the same: the device and the inode of what is there,
/// or, where nothing is, the path.
pub type Identity = (Option<(u64, u64)>, Option<PathBuf>);

/// What tells whether two paths lead to the same.
pub fn identity(path: &Path) -> Identity {
    match std::fs::metadata(path) {
        Ok(found) => (Some((found.dev(), found.ino())), None),
        Err(_) => (None, Some(path.to_owned())),
    }
}

/// The trees that a file names, one a line.
pub fn in_file(file: &Path) -> Result<Vec<PathBuf>> {
    let text = String::from_utf8(read_input(file)?).map_err(|_| {
        let message = format!("{} is not UTF-8", file.display());
        Failure::new(REFUSED, "trees", message)
    })?;
    let lines = text.trim_start_matches('\u{feff}').lines().map(str::trim);
    let lines = lines.filter(|line| !line.is_empty() && !line.starts_with('#'));
    let trees: Vec<PathBuf> = lines.map(PathBuf::from).collect();
    match trees.is_empty() {
        true => {
            let message = format!("{} names no tree: one a line", file.display());
            Err(Failure::new(REFUSED, "trees", message))
        }
        false => Ok(trees),
    }
}
