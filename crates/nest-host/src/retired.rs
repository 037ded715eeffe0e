//! The numbers of deleted accounts, from `ids.json` in the state folder.

use std::path::{Path, PathBuf};

use nest_core::surroundings::{Retired, RetiredId};
use nest_core::value::IdSpan;
use serde::Deserialize;

use crate::tree::Tree;

/// Where changes and deleted accounts are kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum State {
    /// `var/lib/copper-nest` in the tree.
    InTree,
    /// A folder of the administrator's choice, outside the tree.
    At(PathBuf),
    /// Nowhere.
    Nowhere,
}

/// The version of `ids.json` that this program reads.
const VERSION: u32 = 1;

/// `ids.json`; see `docs/formats.md`.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Ids {
    version: u32,
    #[serde(default)]
    users: Vec<Single>,
    #[serde(default)]
    groups: Vec<Single>,
    #[serde(default)]
    ranges: Vec<Range>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Single {
    id: u32,
    name: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Range {
    first: u32,
    count: u32,
    name: String,
}

/// Why the retired numbers can't be had.
#[derive(Debug, thiserror::Error)]
pub enum RetiredError {
    /// It can't be read.
    #[error("{path} can't be read: {error}")]
    Unread {
        /// The file.
        path: String,
        /// The system's reason.
        error: std::io::Error,
    },
    /// It is not what it should be.
    #[error("{path} is damaged: {fault}; docs/formats.md tells how to mend it")]
    Damaged {
        /// The file.
        path: String,
        /// What is wrong.
        fault: String,
    },
}

/// Reads the retired numbers. A state folder without the file has none.
///
/// # Errors
/// [`RetiredError`]: ids must not be allotted without knowing which are retired.
pub fn read(tree: &Tree, state: &State) -> Result<Retired, RetiredError> {
    let path = match state {
        State::Nowhere => return Ok(Retired::default()),
        State::InTree => Path::new("var/lib/copper-nest").join("ids.json"),
        State::At(folder) => folder.join("ids.json"),
    };
    let text = match state {
        State::At(_) => std::fs::read(&path),
        _ => tree.read(&path),
    };
    let shown = path.display().to_string();
    match text {
        Ok(text) => parse(&text).map_err(|fault| RetiredError::Damaged { path: shown, fault }),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Retired::default()),
        Err(error) => Err(RetiredError::Unread { path: shown, error }),
    }
}

fn parse(text: &[u8]) -> Result<Retired, String> {
    let ids: Ids = serde_json::from_slice(text).map_err(|error| error.to_string())?;
    if ids.version != VERSION {
        return Err(format!("it has version {}, and {VERSION} is known", ids.version));
    }
    let single = |single: Single| RetiredId {
        span: IdSpan { first: single.id, last: single.id },
        name: single.name.into(),
    };
    let range = |range: Range| {
        let span = IdSpan::counted(range.first, range.count.into());
        let span =
            span.ok_or_else(|| format!("the range at {} is empty or too long", range.first))?;
        Ok(RetiredId { span, name: range.name.into() })
    };
    Ok(Retired {
        users: ids.users.into_iter().map(single).collect(),
        groups: ids.groups.into_iter().map(single).collect(),
        ranges: ids.ranges.into_iter().map(range).collect::<Result<_, String>>()?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn retired_numbers_are_read() {
        let text = r#"{"version": 1, "users": [{"id": 1003, "name": "hesper"}],
            "ranges": [{"first": 2001010688, "count": 65536, "name": "hesper"}]}"#;
        let retired = parse(text.as_bytes()).unwrap();
        assert_eq!(retired.users[0].span, IdSpan { first: 1003, last: 1003 });
        assert_eq!(retired.ranges[0].span.count(), 65536);
        assert!(retired.groups.is_empty());
    }

    #[test]
    fn a_damaged_file_is_not_taken_for_an_empty_one() {
        for text in ["", "{}", r#"{"version": 2}"#, r#"{"version": 1, "user": []}"#] {
            assert!(parse(text.as_bytes()).is_err(), "{text}");
        }
        let range = r#"{"version": 1, "ranges": [{"first": 9, "count": 0, "name": "x"}]}"#;
        assert!(parse(range.as_bytes()).unwrap_err().contains("range at 9"));
    }
}
