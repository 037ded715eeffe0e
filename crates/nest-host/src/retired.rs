//! The numbers of deleted accounts, from `ids.json` in the state folder.

use std::collections::HashSet;

use bstr::BString;
use nest_core::surroundings::{Retired, RetiredId};
use nest_core::value::{IdSpan, escaped};
use serde::{Deserialize, Serialize};

use crate::state::{State, StateError};
use crate::tree::Tree;

/// The version of `ids.json` that this program reads.
const VERSION: u32 = 1;

/// `ids.json`; see `docs/formats.md`.
#[derive(Debug, Default, Serialize, Deserialize)]
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

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Single {
    id: u32,
    #[serde(with = "escaped::text")]
    name: BString,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Range {
    first: u32,
    count: u32,
    #[serde(with = "escaped::text")]
    name: BString,
}

/// Why the retired numbers can't be had.
#[derive(Debug, thiserror::Error)]
pub enum RetiredError {
    /// The state folder can't be used.
    #[error(transparent)]
    State(#[from] StateError),
    /// It can't be read.
    #[error("{path} can't be read: {error}")]
    Unread {
        /// The file.
        path: String,
        /// The system's reason.
        error: std::io::Error,
    },
    /// It can't be written.
    #[error("{path} can't be written: {error}")]
    Unwritten {
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

/// The file in the state folder.
pub(crate) const NAME: &str = "ids.json";

/// Reads the retired numbers. A state folder without the file has none.
///
/// # Errors
/// [`RetiredError`]: ids must not be allotted without knowing which are retired.
pub fn read(tree: &Tree, state: &State) -> Result<Retired, RetiredError> {
    let Some(folder) = state.open(tree)? else { return Ok(Retired::default()) };
    let path = folder.shown(NAME);
    match folder.read(NAME) {
        Ok(None) => Ok(Retired::default()),
        Ok(Some(text)) => parse(&text).map_err(|fault| RetiredError::Damaged { path, fault }),
        Err(error) => Err(RetiredError::Unread { path, error }),
    }
}

/// The file that holds these numbers: those of `retired`, with `more` and without
/// `back`.
pub(crate) fn text(retired: &Retired, more: &[&Retired], back: &[&Retired]) -> Vec<u8> {
    type Of = fn(&Retired) -> &Vec<RetiredId>;
    let all = |of: Of| -> Vec<RetiredId> {
        let back: HashSet<IdSpan> =
            back.iter().flat_map(|back| of(back)).map(|retired| retired.span).collect();
        let mut all: Vec<RetiredId> = of(retired).clone();
        let held: HashSet<IdSpan> = all.iter().map(|id| id.span).collect();
        let more = more.iter().flat_map(|more| of(more));
        all.extend(more.filter(|id| !held.contains(&id.span)).cloned());
        all.retain(|retired| !back.contains(&retired.span));
        all.sort_by_key(|retired| retired.span);
        all
    };
    let single = |id: RetiredId| Single { id: id.span.first, name: id.name };
    let range = |id: RetiredId| Range {
        first: id.span.first,
        count: id.span.count() as u32,
        name: id.name,
    };
    let ids = Ids {
        version: VERSION,
        users: all(|retired| &retired.users).into_iter().map(single).collect(),
        groups: all(|retired| &retired.groups).into_iter().map(single).collect(),
        ranges: all(|retired| &retired.ranges).into_iter().map(range).collect(),
    };
    // Made of numbers and text: it always serialises.
    let mut text = serde_json::to_vec_pretty(&ids).unwrap_or_default();
    text.push(b'\n');
    text
}

fn parse(text: &[u8]) -> Result<Retired, String> {
    let ids: Ids = serde_json::from_slice(text).map_err(|error| error.to_string())?;
    if ids.version != VERSION {
        return Err(format!("it has version {}, and {VERSION} is known", ids.version));
    }
    let single = |single: Single| RetiredId {
        span: IdSpan { first: single.id, last: single.id },
        name: single.name,
    };
    let range = |range: Range| {
        let span = IdSpan::counted(range.first, range.count.into());
        let span =
            span.ok_or_else(|| format!("the range at {} is empty or too long", range.first))?;
        Ok(RetiredId { span, name: range.name })
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
