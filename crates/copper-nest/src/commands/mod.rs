//! One file a command: an `Args` struct whose comments are the help, and the
//! function that runs it.

pub mod check;
pub mod create_user;
pub mod demo;
pub mod list_changes;
pub mod list_rules;
pub mod list_users;
pub mod recover;
pub mod show_change;
pub mod show_policy;
pub mod show_rule;
pub mod show_user;
pub mod undo;

use std::ffi::OsString;
use std::io::Read;
use std::path::{Path, PathBuf};

use bstr::BString;

use crate::failure::{Failure, USAGE};

/// NAME… and `--names-from`.
#[derive(Debug, clap::Args)]
#[group(skip)]
pub struct Names {
    /// Login names.
    #[arg(value_name = "NAME")]
    names: Vec<OsString>,
    /// Takes names from a file too, one a line; - is standard input.
    #[arg(long, value_name = "FILE|-")]
    names_from: Option<PathBuf>,
}

impl Names {
    /// The names, of the command line and of the file.
    pub fn read(&self) -> Result<Vec<BString>, Failure> {
        use std::os::unix::ffi::OsStrExt;
        let mut names: Vec<BString> =
            self.names.iter().map(|name| name.as_bytes().into()).collect();
        if let Some(path) = &self.names_from {
            let text = read_input(path)?;
            let lines = bstr::ByteSlice::lines(text.as_slice()).map(<[u8]>::trim_ascii);
            names.extend(
                lines.filter(|line| !line.is_empty() && !line.starts_with(b"#")).map(BString::from),
            );
        }
        if names.is_empty() {
            return Err(Failure::new(USAGE, "usage", "no name was given"));
        }
        Ok(names)
    }
}

/// A file of the administrator's, or standard input for `-`.
pub fn read_input(path: &Path) -> Result<Vec<u8>, Failure> {
    let read = if path == Path::new("-") {
        let mut text = Vec::new();
        std::io::stdin().read_to_end(&mut text).map(|_| text)
    } else {
        std::fs::read(path)
    };
    read.map_err(|error| {
        let message = format!("{} can't be read: {error}", path.display());
        Failure::new(crate::failure::REFUSED, "input", message)
    })
}
