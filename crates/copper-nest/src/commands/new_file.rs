//! Files that a command makes beside the tree: never in the place of one that is there.

use std::fs::OpenOptions;
use std::io::{ErrorKind, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use super::{Failure, Global, REFUSED, Result, UNTOUCHED};
use crate::prompt;

/// Writes a new file.
///
/// # Errors
/// There is one already, or it can't be written; then none is left.
pub fn write_new(path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    let shown = path.display();
    let file = OpenOptions::new().write(true).create_new(true).mode(mode).open(path);
    let mut file = file.map_err(|error| match error.kind() {
        ErrorKind::AlreadyExists => Failure::new(
            REFUSED,
            "exists",
            format!("{shown} exists already, and is not overwritten"),
        ),
        _ => Failure::new(UNTOUCHED, "output", format!("{shown} can't be made: {error}")),
    })?;
    file.write_all(bytes).and_then(|()| file.sync_all()).map_err(|error| {
        let removed = std::fs::remove_file(path);
        let left = if removed.is_err() { ", and is incomplete" } else { "" };
        Failure::new(UNTOUCHED, "output", format!("{shown} can't be written: {error}{left}"))
    })
}

/// Whether there is a file already in the place of one that is to be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Existing {
    /// There is none, and none may come.
    No,
    /// There is one, and it was agreed that it goes.
    Agreed,
}

impl Existing {
    /// Looks, and asks where there is one.
    ///
    /// # Errors
    /// What is there is no file, or nobody agrees.
    pub fn ask(global: &Global, path: &Path) -> Result<Self> {
        let shown = path.display();
        let about = match std::fs::metadata(path) {
            Ok(about) => about,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Existing::No),
            Err(error) => {
                let message = format!("{shown} can't be looked at: {error}");
                return Err(Failure::new(UNTOUCHED, "output", message));
            }
        };
        let is_other = match () {
            () if about.is_file() => None,
            () if about.is_dir() => Some("a folder: name a file in it"),
            () => Some("no file: name one, or - for standard output"),
        };
        if let Some(what) = is_other {
            return Err(Failure::new(REFUSED, "output", format!("{shown} is {what}")));
        }
        if global.yes {
            return Ok(Existing::Agreed);
        }
        let exists = || {
            let message = format!("{shown} exists already, and was not written over");
            Failure::new(REFUSED, "exists", message).or_again("write over it", "--yes")
        };
        if !prompt::somebody_is_there() {
            return Err(exists());
        }
        let agreed = prompt::agrees(&format!("{shown} exists already; write over it?"), false);
        match agreed.unwrap_or(false) {
            true => Ok(Existing::Agreed),
            false => Err(exists()),
        }
    }
}

/// Writes a file that its owner alone can read: whole, or not at all.
///
/// # Errors
/// It can't be written, or one came in the meantime that nobody was asked about.
pub fn write_private(path: &Path, bytes: &[u8], existing: Existing) -> Result<()> {
    let shown = path.display();
    let failed = |error: std::io::Error| {
        // The name that it has until it is whole is nobody's business.
        let error = error.to_string();
        let why = error.split(" at path ").next().unwrap_or(&error);
        Failure::new(UNTOUCHED, "output", format!("{shown} can't be written: {why}"))
    };
    let folder = match path.parent() {
        Some(folder) if folder.as_os_str().is_empty() => Path::new("."),
        Some(folder) => folder,
        None => Path::new("."),
    };
    // Of mode 0600, as all that this crate makes.
    let mut file = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
    file.write_all(bytes).and_then(|()| file.as_file().sync_all()).map_err(failed)?;
    let put = match existing {
        Existing::Agreed => file.persist(path),
        Existing::No => file.persist_noclobber(path),
    };
    put.map(drop).map_err(|error| failed(error.error))
}
