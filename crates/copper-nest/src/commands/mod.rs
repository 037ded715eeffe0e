//! One file a command: an `Args` struct whose comments are the help, and the
//! function that runs it.

pub mod change_group;
pub mod change_user;
pub mod check;
pub mod compare;
pub mod completions;
pub mod create_group;
pub mod create_user;
pub mod delete_group;
pub mod delete_user;
pub mod demo;
pub mod even;
pub mod export;
pub mod export_ldif;
pub mod export_snapshot;
pub mod first_passwords;
pub mod handover;
pub mod intake;
pub mod list_admins;
pub mod list_changes;
pub mod list_groups;
pub mod list_ids;
pub mod list_keys;
pub mod list_retired;
pub mod list_rules;
pub mod list_users;
pub mod merge;
pub mod new_file;
pub mod password_group;
pub mod password_user;
pub mod passwords;
pub mod purge;
pub mod reassign;
pub mod recover;
pub mod regroup;
pub mod rename_group;
pub mod rename_user;
pub mod renumber;
pub mod repair;
pub mod report;
pub mod show_change;
pub mod show_group;
pub mod show_id;
pub mod show_policy;
pub mod show_rule;
pub mod show_user;
pub mod suspend_user;
pub mod tables;
pub mod trace;
pub mod undo;
pub mod window;

use std::collections::HashSet;
use std::ffi::OsString;
use std::io::Read;
use std::path::{Path, PathBuf};

use bstr::BString;
use nest_core::book::Book;
use nest_core::request::{KeyFile, RangesAsked};
use nest_core::table::File;
use nest_core::value::{Gid, Uid};

use crate::cli::{Color, Format, Global};
use crate::failure::{DAMAGED, FOUND, Failure, REFUSED, Result, UNTOUCHED, USAGE};
use crate::session::{Asks, Session, recovered_in_words};

use self::even::Even;
use self::window::Window;

/// NAME… and `--names-from`.
#[derive(Debug, clap::Args)]
#[group(skip)]
pub struct Names {
    /// The names.
    #[arg(value_name = "NAME")]
    names: Vec<OsString>,
    /// Takes names from a file too, one a line; - is standard input.
    #[arg(long, value_name = "FILE|-")]
    names_from: Option<PathBuf>,
}

impl Names {
    /// Whether no name was given, and no file of names.
    pub fn is_empty(&self) -> bool {
        self.names.is_empty() && self.names_from.is_none()
    }

    /// Whether a name stands on the command line, and not only in the file.
    pub fn is_named(&self, name: &[u8]) -> bool {
        use std::os::unix::ffi::OsStrExt;
        self.names.iter().any(|named| named.as_bytes() == name)
    }

    /// The names, of the command line and of the file, each once.
    pub fn read<T: From<BString>>(&self) -> Result<Vec<T>> {
        let mut seen = HashSet::new();
        let names = self.read_all::<BString>()?.into_iter();
        Ok(names.filter(|name| seen.insert(name.clone())).map(T::from).collect())
    }

    /// The names as they were given.
    pub fn read_all<T: From<BString>>(&self) -> Result<Vec<T>> {
        use std::os::unix::ffi::OsStrExt;
        let mut names: Vec<BString> =
            self.names.iter().map(|name| name.as_bytes().into()).collect();
        if let Some(path) = &self.names_from {
            let text = read_input(path)?;
            // Programs on other systems begin a text with a mark.
            let text = text.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&text);
            let lines = bstr::ByteSlice::lines(text).map(<[u8]>::trim_ascii);
            names.extend(
                lines.filter(|line| !line.is_empty() && !line.starts_with(b"#")).map(BString::from),
            );
        }
        if names.is_empty() {
            let message = match &self.names_from {
                None => "no name was given: write it behind the command, or name a file of them \
                         with --names-from"
                    .to_owned(),
                Some(file) => format!("{} holds no name", file.display()),
            };
            return Err(Failure::new(USAGE, "usage", message));
        }
        Ok(names.into_iter().map(T::from).collect())
    }
}

/// A word from the command line as what it stands for: names and paths need not be UTF-8.
pub fn bytes<T: From<BString>>(text: &OsString) -> T {
    use std::os::unix::ffi::OsStrExt;
    BString::from(text.as_bytes()).into()
}

/// The names of a list with commas between them: blanks around them are none of theirs.
pub fn listed<T: From<BString>>(words: &[OsString]) -> Vec<T> {
    use std::os::unix::ffi::OsStrExt;
    words.iter().map(|word| BString::from(word.as_bytes().trim_ascii()).into()).collect()
}

/// A uid.
pub fn read_uid(text: &str) -> Result<Uid> {
    read_id("uid", text).map(Uid)
}

/// A gid.
pub fn read_gid(text: &str) -> Result<Gid> {
    read_id("gid", text).map(Gid)
}

/// A uid or gid, as `what` says.
pub fn read_id(what: &str, text: &str) -> Result<u32> {
    nest_core::value::read_plain_id(text.as_bytes()).ok_or_else(|| {
        let message = format!("\"{text}\" is no {what}; write a whole number from 0 to 4294967293");
        Failure::new(REFUSED, "bad-number", message)
    })
}

/// A number of subordinate ids, or none.
pub fn read_ranges(text: &str) -> Result<RangesAsked> {
    let fault = || {
        let message = format!(
            "\"{text}\" is no number of ids and no span; write 65536, 2000000000-2000065535, or none"
        );
        Failure::new(REFUSED, "bad-number", message)
    };
    RangesAsked::parse(text).ok_or_else(fault)
}

/// A range as check and show user print it.
fn read_span(text: &str) -> Result<nest_core::value::IdSpan> {
    nest_core::value::IdSpan::parse(text).map_err(|_| {
        let message = format!("{text} is no range, such as 2001010688-2001076223");
        Failure::new(USAGE, "usage", message)
    })
}

/// A file of public keys.
pub fn read_keys(path: &Path) -> Result<KeyFile> {
    Ok(KeyFile { path: path.display().to_string(), text: read_input(path)? })
}

/// A file of the administrator's, or standard input for `-`.
pub fn read_input(path: &Path) -> Result<Vec<u8>> {
    /// No table of accounts is as long.
    const MOST: u64 = 1 << 30;
    let mut text = Vec::new();
    let read = if path == Path::new("-") {
        crate::stdin::read_onto(&mut text, MOST + 1).map(|()| text.len())
    } else {
        std::fs::File::open(path).and_then(|file| {
            let length = file.metadata().map_or(0, |metadata| metadata.len());
            text.reserve_exact(usize::try_from(length.min(MOST)).unwrap_or(0) + 1);
            file.take(MOST + 1).read_to_end(&mut text)
        })
    };
    let refuse = |why: String| {
        let message = format!("{} can't be read: {why}", path.display());
        Failure::new(crate::failure::REFUSED, "input", message)
    };
    match read {
        Err(error) => Err(refuse(error.to_string())),
        Ok(_) if text.len() as u64 > MOST => Err(refuse("it is longer than 1 GiB".to_owned())),
        Ok(_) => Ok(text),
    }
}

/// Refuses what hangs on `etc/shadow`, where that is closed to whoever asks.
pub fn require_shadow(book: &Book, refused: &str) -> Result<()> {
    match book.unreadable.get(&File::Shadow) {
        None => Ok(()),
        Some(why) => {
            let message = format!("{refused}: etc/shadow can't be read ({why})");
            Err(Failure::new(REFUSED, "no-shadow", message))
        }
    }
}
