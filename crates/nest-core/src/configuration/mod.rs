//! Configuration of the operating system that says who may do what: its files, and the lines of
//! them.
//!
//! - `pattern`: names by patterns
//! - `edited`: files as a plan's edits will leave them
//! - `release`: what a system says of itself

mod edited;
mod pattern;
mod release;

use std::fmt;

use bstr::{BStr, BString};

pub(crate) use self::edited::EditedFiles;
pub(crate) use self::pattern::{fits, fits_list};
pub use self::release::Release;

/// The files of a tree that a configuration may name.
pub trait ConfigFiles {
    /// What a file says; nothing where there is none.
    ///
    /// # Errors
    /// Why it can't be read, in words that follow its path.
    fn read(&self, path: &BStr) -> Result<Option<Vec<u8>>, String>;
    /// The files that a pattern names, in the order of their names.
    ///
    /// # Errors
    /// Why that can't be told, in words that follow the pattern.
    fn named(&self, pattern: &BStr) -> Result<Vec<BString>, String>;
}

/// A line of the configuration.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Place {
    /// The file, as a path in the tree.
    pub file: BString,
    /// The line, counted from 1.
    pub line: usize,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

/// Files by their paths, for tests.
#[cfg(test)]
#[derive(Default)]
pub(crate) struct WrittenFiles(pub Vec<(&'static str, &'static str)>);

#[cfg(test)]
impl ConfigFiles for WrittenFiles {
    fn read(&self, path: &BStr) -> Result<Option<Vec<u8>>, String> {
        let file = self.0.iter().find(|(at, _)| path == at);
        Ok(file.map(|(_, text)| text.as_bytes().to_vec()))
    }

    fn named(&self, pattern: &BStr) -> Result<Vec<BString>, String> {
        let fits = |path: &&str| fits(path.as_bytes(), pattern);
        Ok(self.0.iter().map(|(at, _)| *at).filter(fits).map(BString::from).collect())
    }
}
