//! Names that are one plain component of a path, and paths that stay where they begin.

use std::borrow::Cow;
use std::ffi::OsStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// The longest name, in bytes. Files wait for their names under longer ones, and
/// file systems take no more than 255.
const LONGEST: usize = 220;

/// A name in a directory of the program's own: exactly one component of a path. It
/// can't be empty, `.` or `..`, holds no slash and no byte 0, and leaves room for the
/// endings of what is staged. No other name reaches a system call there.
///
/// ```
/// use nest_core::value::PlainName;
/// assert_eq!(PlainName::parse("ids.json").unwrap().as_str(), "ids.json");
/// for name in ["", ".", "..", "/etc", "a/b", "a\0"] {
///     assert!(PlainName::parse(name).is_err(), "{name}");
/// }
/// ```
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PlainName(Cow<'static, str>);

/// Why a text is no such name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{}\" is no plain file name", .0.escape_debug())]
pub struct NotPlain(String);

impl PlainName {
    /// A name that the program itself gives.
    ///
    /// # Panics
    /// While the program is built, where the name is not plain.
    pub const fn fixed(name: &'static str) -> Self {
        assert!(is_component(name.as_bytes()), "BUG: a fixed name is not plain");
        PlainName(Cow::Borrowed(name))
    }

    /// A name that comes from elsewhere.
    ///
    /// # Errors
    /// [`NotPlain`] for what is empty, too long, a dot, or holds a slash or a byte 0.
    pub fn parse(name: impl Into<String>) -> Result<Self, NotPlain> {
        let name = name.into();
        match is_component(name.as_bytes()) {
            true => Ok(PlainName(Cow::Owned(name))),
            false => Err(NotPlain(name)),
        }
    }

    /// The name.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The name that something has while it waits, or before it goes: with a dot
    /// before it and an ending. Plain by making; the bound leaves room for it.
    #[must_use]
    pub fn beside(&self, ending: &str) -> String {
        format!(".{}.{ending}", self.0)
    }
}

impl AsRef<OsStr> for PlainName {
    fn as_ref(&self) -> &OsStr {
        OsStr::new(self.as_str())
    }
}

impl std::fmt::Display for PlainName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl Serialize for PlainName {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for PlainName {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let name = String::deserialize(deserializer)?;
        PlainName::parse(name).map_err(serde::de::Error::custom)
    }
}

/// Whether a name is one plain component of a path that fits.
pub const fn is_component(name: &[u8]) -> bool {
    if name.is_empty() || name.len() > LONGEST {
        return false;
    }
    if matches!(name, b"." | b"..") {
        return false;
    }
    let mut at = 0;
    while at < name.len() {
        if name[at] == b'/' || name[at] == 0 {
            return false;
        }
        at += 1;
    }
    true
}

/// Whether a path leads from a directory to something below it: it is not absolute,
/// names something, and climbs nowhere.
pub fn is_relative_path(path: &[u8]) -> bool {
    let named = |part: &[u8]| !matches!(part, b"" | b"." | b"..");
    !path.contains(&0) && path.split(|&byte| byte == b'/').all(named)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_one_plain_component_is_a_name() {
        for name in ["ids.json", ".x", "...", "maren.1004.9", "S\u{f8}ren", &"x".repeat(220)] {
            assert_eq!(PlainName::parse(name).unwrap().to_string(), name);
        }
        for name in ["", ".", "..", "/", "a/", "/a", "../a", "a\0b", &"x".repeat(221)] {
            assert!(PlainName::parse(name).is_err(), "{name:?}");
            assert!(serde_json::from_value::<PlainName>(name.into()).is_err(), "{name:?}");
        }
        assert_eq!(PlainName::fixed("home").beside("new"), ".home.new");
    }

    #[test]
    fn a_path_below_a_directory_does_not_leave_it() {
        for path in [&b".ssh/authorized_keys"[..], b"a", b"a/..b"] {
            assert!(is_relative_path(path), "{}", String::from_utf8_lossy(path));
        }
        for path in [&b""[..], b"/a", b"a/../../b", b"..", b".", b"a//b", b"a/", b"a\0"] {
            assert!(!is_relative_path(path), "{}", String::from_utf8_lossy(path));
        }
    }
}
