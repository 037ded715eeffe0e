//! Why keys can't be added or dropped.

use bstr::BString;
use strum::IntoStaticStr;

/// What is wrong with keys. The words stand here.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum KeyTrouble {
    /// A file of keys that can't be looked at, or that a link leads to.
    #[error("{path} {why}")]
    NotToBeWritten { path: BString, why: String },
    /// No key is called so.
    #[error("{user} has no key that is called {key}: name it by its fingerprint or its comment")]
    NoSuchKey { user: BString, key: String },
    /// Several are.
    #[error("{user} has several keys that are called {key}: {}; name it by its fingerprint", .prints.join(", "))]
    Several { user: BString, key: String, prints: Vec<String> },
    /// The SSH server looks for none.
    #[error("the SSH server is configured to look for keys nowhere (AuthorizedKeysFile none)")]
    Nowhere,
}
