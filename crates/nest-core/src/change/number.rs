//! A number that becomes another.

use bstr::BString;
use serde::{Deserialize, Serialize};

use crate::value::{UserOrGroup, escaped};

/// The number of a user or a group that becomes another one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NumberChange {
    /// Whether it is a uid or a gid.
    pub of: UserOrGroup,
    /// Whose it is.
    #[serde(with = "escaped::text")]
    pub name: BString,
    /// The number that it has.
    pub old: u32,
    /// The one that it gets.
    pub new: u32,
    /// How many files change hands by it.
    pub files: u64,
}
