//! The folder that a deleted account or group is kept in, and the packed files in it.

use serde::{Deserialize, Serialize};

use super::BelongingKind;
use crate::value::{PlainName, UserOrGroup};

/// The folder of a deleted account or group, below `retired` in the state folder:
/// `user/maren.1004.14`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct KeptFolder {
    /// What is kept in it.
    pub thing: UserOrGroup,
    /// Its name.
    pub name: PlainName,
}

impl KeptFolder {
    pub(super) fn unknown() -> Self {
        KeptFolder { thing: UserOrGroup::User, name: PlainName::fixed("unknown") }
    }

    /// Reads what [`KeptFolder`] displays; `None` for anything else.
    pub fn parse(text: &str) -> Option<Self> {
        let (thing, name) = text.split_once('/')?;
        let thing = [UserOrGroup::User, UserOrGroup::Group]
            .into_iter()
            .find(|it| it.to_string() == thing)?;
        let name = PlainName::parse(name).ok()?;
        // What begins with a dot waits for its name, or is about to go.
        (!name.as_str().starts_with('.')).then_some(KeptFolder { thing, name })
    }
}

impl std::fmt::Display for KeptFolder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}/{}", self.thing, self.name)
    }
}

impl Serialize for KeptFolder {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for KeptFolder {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let fault = || format!("\"{}\" is no folder of a kept account", text.escape_debug());
        KeptFolder::parse(&text).ok_or_else(|| serde::de::Error::custom(fault()))
    }
}

/// A packed home, mail spool file or crontab, in the folder of its account.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    strum::Display,
    strum::EnumIter,
)]
#[allow(missing_docs)]
pub enum PackedFile {
    #[serde(rename = "home.tar.zst")]
    #[strum(serialize = "home.tar.zst")]
    Home,
    #[serde(rename = "mail.tar.zst")]
    #[strum(serialize = "mail.tar.zst")]
    Mail,
    #[serde(rename = "crontab.tar.zst")]
    #[strum(serialize = "crontab.tar.zst")]
    Crontab,
}

impl PackedFile {
    /// The file that a belonging is packed into.
    pub fn of(what: BelongingKind) -> Self {
        match what {
            BelongingKind::Home => PackedFile::Home,
            BelongingKind::Mail => PackedFile::Mail,
            BelongingKind::Crontab => PackedFile::Crontab,
        }
    }

    /// Its name.
    pub fn name(self) -> PlainName {
        match self {
            PackedFile::Home => PlainName::fixed("home.tar.zst"),
            PackedFile::Mail => PlainName::fixed("mail.tar.zst"),
            PackedFile::Crontab => PlainName::fixed("crontab.tar.zst"),
        }
    }
}
