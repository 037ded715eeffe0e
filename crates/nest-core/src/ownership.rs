//! Whose files are, who may do what with them, and giving them to somebody else.

use serde::{Deserialize, Serialize};

use crate::value::{Gid, TreePath, Uid};

/// An owner and a group, as numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Owner {
    /// The uid.
    pub uid: Uid,
    /// The gid.
    pub gid: Gid,
}

/// Whose a file is, and who may do what with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Access {
    /// The owner and the group.
    #[serde(flatten)]
    pub owner: Owner,
    /// The permission bits.
    pub mode: u32,
}

/// A number that files carry, and the one they will carry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reown {
    /// Where to look: these files and directories and all below, on the same
    /// file system, no link followed.
    pub paths: Vec<TreePath>,
    /// Whether the number is a gid; else a uid.
    pub group: bool,
    /// The number files carry.
    pub from: u32,
    /// The number they get.
    pub to: u32,
    /// The change whose files alone are meant, when this takes that change back.
    pub of_change: Option<u64>,
    /// Whether other local file systems that are mounted below are entered.
    #[serde(default)]
    pub everywhere: bool,
    /// Whether files with more than one name are meant too.
    #[serde(default)]
    pub hard_links: bool,
}

impl Reown {
    /// The same, the other way round.
    #[must_use]
    pub fn back(&self) -> Self {
        Reown { from: self.to, to: self.from, ..self.clone() }
    }
}
