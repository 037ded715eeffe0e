//! The numbers of deleted accounts, from `ids.json` in the state folder.

use bstr::BString;
use nest_core::retired_ids::{RetiredId, RetiredIds, RetiredRange};
use nest_core::value::{Day, IdSpan, PlainName, escaped};
use serde::{Deserialize, Serialize};

use crate::state::{self, Fault, PassedOver, State, StateError};
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
    #[serde(default, skip_serializing_if = "Option::is_none")]
    since: Option<Day>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Range {
    first: u32,
    count: u64,
    #[serde(with = "escaped::text")]
    name: BString,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    since: Option<Day>,
}

impl From<RetiredRange> for Range {
    fn from(RetiredRange { span, name, since }: RetiredRange) -> Self {
        Range { first: span.first(), count: span.count(), name, since }
    }
}

/// Why a file of the state folder can't be had.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum RetiredError {
    /// The state folder can't be used.
    #[error(transparent)]
    State(#[from] StateError),
    /// It can't be understood.
    #[error("{path} {fault}")]
    Fault { path: String, fault: Fault },
    /// It can't be written.
    #[error("{path} can't be written")]
    Unwritten { path: String, source: std::io::Error },
}

impl RetiredError {
    pub(crate) fn unread(path: String, error: impl Into<std::io::Error>) -> Self {
        RetiredError::Fault { path, fault: Fault::Unread(error.into().to_string()) }
    }

    /// What has to be told where the file is passed over.
    pub fn passed_over(&self) -> PassedOver {
        match self {
            RetiredError::Fault { path, fault } => PassedOver::new(path.clone(), fault),
            other => PassedOver { path: "the state folder".into(), fault: other.to_string() },
        }
    }
}

/// Reads a document of the state folder; `None` where it is not there.
///
/// # Errors
/// [`RetiredError`] where it is there and can't be read, or not be understood.
pub(crate) fn read_document<T: serde::de::DeserializeOwned>(
    tree: &Tree,
    state: &State,
    name: &PlainName,
    known: u32,
) -> Result<Option<T>, RetiredError> {
    let Some(folder) = state.open(tree)? else { return Ok(None) };
    let path = folder.shown(name);
    match folder.read(name) {
        Ok(None) => Ok(None),
        Ok(Some(text)) => match state::parse(&text, known) {
            Ok(document) => Ok(Some(document)),
            Err(fault) => Err(RetiredError::Fault { path, fault }),
        },
        Err(error) => Err(RetiredError::unread(path, error)),
    }
}

/// The file in the state folder.
pub(crate) const NAME: PlainName = PlainName::fixed("ids.json");

/// Reads the retired numbers. A state folder without the file has none.
///
/// # Errors
/// [`RetiredError`]: ids must not be allotted without knowing which are retired.
pub fn read(tree: &Tree, state: &State) -> Result<RetiredIds, RetiredError> {
    let ids: Option<Ids> = read_document(tree, state, &NAME, VERSION)?;
    let damaged = |fault| RetiredError::Fault {
        path: format!("{}/{NAME}", state.shown().unwrap_or_default()),
        fault: Fault::Damaged(fault),
    };
    ids.map_or(Ok(RetiredIds::default()), |ids| understand(ids).map_err(damaged))
}

/// The file that holds these numbers: those of `retired`, with `more` and without
/// `back`.
pub(crate) fn text(retired: &RetiredIds, more: &[&RetiredIds], back: &[&RetiredIds]) -> Vec<u8> {
    let all = more.iter().fold(retired.clone(), |all, more| all.with(more));
    let all = back.iter().fold(all, |all, back| all.without(back));
    let single = |RetiredId { id, name, since }| Single { id, name, since };
    let ids = Ids {
        version: VERSION,
        users: all.users.into_iter().map(single).collect(),
        groups: all.groups.into_iter().map(single).collect(),
        ranges: all.ranges.into_iter().map(Range::from).collect(),
    };
    state::to_text(&ids)
}

fn understand(ids: Ids) -> Result<RetiredIds, String> {
    let single = |Single { id, name, since }| RetiredId { id, name, since };
    let range = |range: Range| {
        let span = IdSpan::counted(range.first, range.count);
        let span =
            span.ok_or_else(|| format!("the range at {} is empty or too long", range.first))?;
        Ok(RetiredRange { span, name: range.name, since: range.since })
    };
    Ok(RetiredIds {
        users: ids.users.into_iter().map(single).collect(),
        groups: ids.groups.into_iter().map(single).collect(),
        ranges: ids.ranges.into_iter().map(range).collect::<Result<_, String>>()?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(text: &str) -> Result<RetiredIds, String> {
        let ids: Ids = state::parse(text.as_bytes(), VERSION).map_err(|fault| fault.to_string())?;
        understand(ids)
    }

    #[test]
    fn retired_numbers_are_read() {
        let text = r#"{"version": 1, "users": [{"id": 1003, "name": "hesper"}],
            "ranges": [{"first": 2001010688, "count": 65536, "name": "hesper"}]}"#;
        let retired = parse(text).unwrap();
        assert_eq!(retired.users[0].id, 1003);
        assert_eq!(retired.ranges[0].span.count(), 65536);
        assert!(retired.groups.is_empty());
    }

    #[test]
    fn a_damaged_file_is_not_taken_for_an_empty_one() {
        for text in ["", "{}", r#"{"version": 2}"#, r#"{"version": 1, "user": []}"#] {
            assert!(parse(text).is_err(), "{text}");
        }
        let range = r#"{"version": 1, "ranges": [{"first": 9, "count": 0, "name": "x"}]}"#;
        assert!(parse(range).unwrap_err().contains("range at 9"));
    }
}
