//! The JSON files of the state folder: read by version, and passed over and told
//! where they can't be understood.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

use serde::Serialize;
use serde::de::DeserializeOwned;

/// Why a file can't be understood, in words that follow its path.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum Fault {
    /// It could not be read.
    #[error("can't be read: {0}")]
    Unread(String),
    /// It is not what this program writes.
    #[error("is damaged ({0}): docs/formats.md tells how to mend it")]
    Damaged(String),
    /// A newer version wrote it.
    #[error(
        "was written by a newer version of this program (format {version}, and {known} is known)"
    )]
    Newer { version: u64, known: u32 },
}

/// A document as it is written: never less than all of it, since half a file of the state
/// folder would forget what it is for.
///
/// # Panics
/// Where a document is not made of numbers, text, and keys that are text. Those of this
/// program are.
pub fn to_text<T: Serialize>(document: &T) -> Vec<u8> {
    let text = serde_json::to_vec_pretty(document);
    let mut text = text.expect("BUG: a document is not made of numbers and text");
    text.push(b'\n');
    text
}

/// Reads a document of a version that is known. The version comes first: a newer
/// format may have other keys. Any bytes may come in.
///
/// # Errors
/// [`Fault::Damaged`] and [`Fault::Newer`].
pub fn parse<T: DeserializeOwned>(text: &[u8], known: u32) -> Result<T, Fault> {
    let damaged = |error: serde_json::Error| Fault::Damaged(error.to_string());
    // Nothing but the version is kept of it: a record may be long.
    #[derive(serde::Deserialize)]
    struct Head {
        version: u64,
    }
    match serde_json::from_slice::<Head>(text) {
        Ok(Head { version }) if version > known.into() => Err(Fault::Newer { version, known }),
        Ok(Head { version }) if version < known.into() => {
            Err(Fault::Damaged(format!("it has version {version}, and {known} is known")))
        }
        Ok(_) => serde_json::from_slice(text).map_err(damaged),
        Err(error) => Err(damaged(error)),
    }
}

/// A file of the state folder that was passed over.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, thiserror::Error)]
#[error("{path} is passed over: it {fault}")]
pub struct PassedOver {
    /// The file.
    pub path: String,
    /// Why, in words.
    pub fault: String,
}

impl PassedOver {
    /// A file that is passed over for a fault, in words that follow "it".
    pub fn new(path: impl Into<String>, fault: &impl std::fmt::Display) -> Self {
        PassedOver { path: path.into(), fault: fault.to_string() }
    }
}

/// What was passed over in a run, each once.
#[derive(Debug, Default)]
pub struct Notices(Mutex<BTreeSet<PassedOver>>);

impl Notices {
    /// Notes what was passed over.
    pub fn note(&self, passed: impl IntoIterator<Item = PassedOver>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend(passed);
    }

    /// Forgets what was noted of a file: it is told otherwise.
    pub fn forget(&self, path: &str) {
        let mut noted = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        noted.retain(|passed| passed.path != path);
    }

    /// Takes out everything that was noted.
    pub fn take(&self) -> BTreeSet<PassedOver> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, serde::Deserialize)]
    #[serde(deny_unknown_fields)]
    #[allow(dead_code)]
    struct Known {
        version: u32,
        ids: Vec<u32>,
    }

    #[test]
    fn a_newer_document_is_called_newer_whatever_else_is_in_it() {
        let newer = parse::<Known>(br#"{"version": 7, "uids": {"a": 1}}"#, 1).unwrap_err();
        assert_eq!(newer, Fault::Newer { version: 7, known: 1 });
        let damaged = [&b""[..], b"{}", b"[]", b"{\"version\": 0}", b"{\"version\": 1}", b"\xff"];
        for text in damaged {
            let fault = parse::<Known>(text, 1).unwrap_err();
            assert!(matches!(fault, Fault::Damaged(_)), "{fault}");
        }
        assert_eq!(parse::<Known>(br#"{"version": 1, "ids": [3]}"#, 1).unwrap().ids, [3]);
    }

    #[test]
    fn what_is_passed_over_is_told_once() {
        let notices = Notices::default();
        let fault = Fault::Damaged("line 1".into());
        notices.note([PassedOver::new("a.json", &fault), PassedOver::new("a.json", &fault)]);
        assert_eq!(notices.take().len(), 1);
        assert!(notices.take().is_empty());
    }
}
