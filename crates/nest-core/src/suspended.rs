//! What is noted of an account when it is suspended, so that resuming gives it back.

use serde::{Deserialize, Serialize};

use crate::value::{Day, Uid, UserName};

/// What a suspended account was like before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Suspended {
    /// Its name.
    pub name: UserName,
    /// Its uid.
    pub uid: Uid,
    /// The expiry it had.
    pub expires: Option<Day>,
    /// Whether its password was locked already.
    pub was_locked: bool,
    /// Whether its password field was empty.
    pub was_open: bool,
    /// Why it was suspended, in the administrator's words; may be empty.
    pub reason: String,
    /// Since when.
    pub since: Day,
}

impl Suspended {
    /// Whether it is about the account of this name and uid: of either alone another may be
    /// called or numbered so by now.
    pub fn is_of(&self, name: &[u8], uid: Option<Uid>) -> bool {
        self.name == *name && Some(self.uid) == uid
    }
}
