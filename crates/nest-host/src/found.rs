//! What a check found and was told to remember, in `found.json` in the state folder.

use nest_core::secret::without_hashes;
use nest_core::value::PlainName;
use serde::{Deserialize, Serialize};

use crate::retired::{RetiredError, read_document};
use crate::state::{State, to_text};
use crate::tree::Tree;

/// The file in the state folder.
const NAME: PlainName = PlainName::fixed("found.json");

const VERSION: u32 = 1;

/// What a check found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct EarlierFindings {
    version: u32,
    /// When, as RFC 3339 writes it.
    pub time: String,
    /// The rules that were judged.
    pub rules: Vec<String>,
    /// The findings.
    pub findings: Vec<Remembered>,
}

/// A finding of then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Remembered {
    /// The rule.
    pub rule: String,
    /// What tells it from others.
    pub key: String,
    /// The finding in a line.
    pub text: String,
}

impl EarlierFindings {
    /// What was found at this time by these rules.
    pub fn new(time: String, rules: Vec<String>, findings: Vec<Remembered>) -> Self {
        EarlierFindings { version: VERSION, time, rules, findings }
    }
}

/// Reads what was remembered; `None` where nothing was.
///
/// # Errors
/// [`RetiredError`] where it can't be read or understood.
pub fn read(tree: &Tree, state: &State) -> Result<Option<EarlierFindings>, RetiredError> {
    read_document(tree, state, &NAME, VERSION)
}

/// Remembers what was found, in the place of what was before.
///
/// # Errors
/// [`RetiredError`] where it can't be written; what was remembered stays.
pub fn write(tree: &Tree, state: &State, found: &EarlierFindings) -> Result<(), RetiredError> {
    let folder = state.open_or_make(tree)?;
    let text = String::from_utf8(to_text(found)).expect("BUG: JSON is not UTF-8");
    let text = without_hashes(&text);
    let failed =
        |source: std::io::Error| RetiredError::Unwritten { path: folder.shown(&NAME), source };
    folder.write(&NAME, text.as_bytes()).map_err(failed)?;
    folder.flush().map_err(|error| failed(error.into()))
}
