//! Where the sides of a comparison come from.

use std::collections::HashSet;
use std::ffi::OsString;
use std::path::{Path, PathBuf};

use serde::de::IgnoredAny;

use crate::commands::read_input;
use crate::failure::{Failure, REFUSED, Result, USAGE};
use crate::trees;

/// Where a side comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    /// The root of a tree.
    Tree(PathBuf),
    /// A file: a snapshot, or a table.
    File(PathBuf),
    /// A file of a folder of snapshots.
    Found(PathBuf),
    /// A snapshot that came by standard input, the first of them being 1.
    Text(usize, String),
    /// The files of the tree as they were after a change.
    Change(u64),
}

impl Source {
    /// What a word of the command line names.
    ///
    /// # Errors
    /// A change without a number, or a folder that is no tree.
    pub fn of(word: &OsString) -> Result<Self> {
        if let Some(number) = word.to_str().and_then(|word| word.strip_prefix("change:")) {
            let number = number.parse().map_err(|_| {
                let message = format!("change:{number} names no change; write change:12, say");
                Failure::new(USAGE, "usage", message)
            })?;
            return Ok(Source::Change(number));
        }
        let path = PathBuf::from(word);
        if !path.is_dir() {
            return Ok(Source::File(path));
        }
        if path.join("etc/passwd").symlink_metadata().is_ok() {
            return Ok(Source::Tree(path));
        }
        let message = format!(
            "{} is no tree: it has no etc/passwd. A folder of snapshots is named with --from",
            path.display()
        );
        Err(Failure::new(REFUSED, "no-tree", message))
    }

    /// How it is named in messages.
    pub fn shown(&self) -> String {
        match self {
            Source::Tree(path) | Source::File(path) | Source::Found(path) => {
                path.display().to_string()
            }
            Source::Text(number, _) => format!("standard input, snapshot {number}"),
            Source::Change(number) => format!("change:{number}"),
        }
    }

    /// A name for it among others, where it has none of its own.
    pub fn in_short(&self) -> String {
        match self {
            Source::File(path) | Source::Found(path) => {
                let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy();
                let name = name.strip_suffix(".zst").unwrap_or(&name);
                name.strip_suffix(".json").unwrap_or(name).to_owned()
            }
            other => other.shown(),
        }
    }
}

/// The sources that are named one by one and those of a folder, or of standard input; and files
/// of the folder that are none.
///
/// # Errors
/// One of them is none, or is named twice.
pub fn named_sources(
    named: &[OsString],
    from: Option<&Path>,
) -> Result<(Vec<Source>, Vec<String>)> {
    let mut sources = named.iter().map(Source::of).collect::<Result<Vec<Source>>>()?;
    let mut others = Vec::new();
    match from {
        Some(from) if from == Path::new("-") => {
            let text = String::from_utf8(read_input(from)?)
                .map_err(|_| Failure::new(REFUSED, "no-snapshot", "standard input is not UTF-8"))?;
            sources.extend(sources_of(&text)?);
        }
        Some(from) => {
            let (found, rest) = sources_in(from)?;
            sources.extend(found);
            others = rest;
        }
        None => {}
    }
    let mut seen = HashSet::new();
    let is_new = |source: &Source| match source {
        Source::Tree(path) | Source::File(path) => seen.insert((trees::identity(path), None)),
        Source::Change(number) => seen.insert(((None, None), Some(*number))),
        Source::Found(_) | Source::Text(..) => true,
    };
    if from.is_none() && !sources.iter().all(is_new) {
        let message = "a side is named twice: it would differ in nothing";
        return Err(Failure::new(USAGE, "usage", message));
    }
    Ok((sources, others))
}

/// The sources of a folder, by name, and the files in it that are none.
///
/// # Errors
/// It can't be read.
fn sources_in(folder: &Path) -> Result<(Vec<Source>, Vec<String>)> {
    let failed = |error: std::io::Error| {
        let message = format!("{} can't be read: {error}", folder.display());
        Failure::new(REFUSED, "input", message)
    };
    let (mut sources, mut others) = (Vec::new(), Vec::new());
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let path = entry.map_err(failed)?.path();
        let name = path.to_string_lossy().into_owned();
        let is_one = name.ends_with(".json") || name.ends_with(".json.zst");
        match is_one && path.is_file() {
            true => sources.push(path),
            false => others.push(name),
        }
    }
    sources.sort();
    others.sort();
    Ok((sources.into_iter().map(Source::Found).collect(), others))
}

/// The snapshots that stand one after the other in a text.
///
/// # Errors
/// The one that is at fault.
fn sources_of(text: &str) -> Result<Vec<Source>> {
    let mut sources = Vec::new();
    let mut stream = serde_json::Deserializer::from_str(text).into_iter::<IgnoredAny>();
    loop {
        let (from, number) = (stream.byte_offset(), sources.len() + 1);
        match stream.next() {
            None => return Ok(sources),
            Some(Ok(_)) => {
                let document = text[from..stream.byte_offset()].to_owned();
                sources.push(Source::Text(number, document));
            }
            Some(Err(error)) => {
                let what = match error.is_eof() {
                    true => "is cut off".to_owned(),
                    false => format!("is at fault: {error}"),
                };
                let message = format!("snapshot {number} of standard input {what}");
                return Err(Failure::new(REFUSED, "no-snapshot", message));
            }
        }
    }
}
