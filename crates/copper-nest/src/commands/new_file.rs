//! Files that a command makes beside the tree: never in the place of one that is there.

use std::fs::OpenOptions;
use std::io::{ErrorKind, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use super::{Failure, REFUSED, Result, UNTOUCHED};

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
