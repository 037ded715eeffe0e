//! The files by which the operating system of a tree is configured.

use std::path::Path;

use bstr::{BStr, BString, ByteSlice};
use glob::{MatchOptions, Pattern};
use nest_core::configuration::ConfigFiles;
use nest_core::words::without_error_numbers;
use rustix::fs::OFlags;
use rustix::io::Errno;

use crate::tree::{Tree, path_of};
use crate::untrusted::{Unreadable, read_configuration};
use crate::words::why;

/// Files that some systems ship below `/usr/etc`, and read there where `/etc` has none.
const SHIPPED: [&str; 4] =
    ["etc/nsswitch.conf", "etc/shells", "etc/ssh/sshd_config", "etc/sudoers"];

/// Reads a file of configuration, where only root could have turned the last link; the one that
/// the system came with, where it has no other.
///
/// # Errors
/// [`Unreadable`] where there is none, or it can't be read.
pub(crate) fn read(tree: &Tree, path: &Path) -> Result<Vec<u8>, Unreadable> {
    let inner = path.strip_prefix("/").unwrap_or(path);
    match read_configuration(tree, path) {
        Err(missing) if missing.is_missing() && SHIPPED.iter().any(|it| inner == *it) => {
            read_configuration(tree, Path::new("usr").join(inner))
        }
        read => read,
    }
}

/// The configuration files of a tree.
#[derive(Debug)]
pub struct Files<'t>(pub &'t Tree);

impl ConfigFiles for Files<'_> {
    fn read(&self, path: &BStr) -> Result<Option<Vec<u8>>, String> {
        match read(self.0, path_of(path)) {
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
        let mut files = self.0.files_in(directory);
        files.retain(|file| {
            let name_of = file.rsplit('/').next().unwrap_or(file);
            name.matches_with(name_of, options)
        });
        files.sort();
        Ok(files.into_iter().map(BString::from).collect())
    }
}
