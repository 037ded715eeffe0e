//! Who made a change.

use serde::{Deserialize, Serialize};

use crate::value::Uid;

/// Who made a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Author {
    /// The uid of the login behind the privilege; that of the process where the
    /// system tells no login.
    pub uid: Uid,
    /// Its name, where the system knows one.
    pub name: Option<String>,
}
