//! Paths in the tree.

use bstr::{BString, ByteSlice};
use derive_more::{Deref, Display, Into};
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize};

use super::escaped::Escaped;

/// A path of the tree, in its plain form: it begins at the root of the tree, climbs
/// nowhere, and holds no byte 0, no part `.`, and no slash that is not needed. Links on the
/// way are another matter, which whoever opens it has to see to.
///
/// In JSON it is text, escaped as [`crate::value::escape`] does; anything else is refused
/// where it is read.
///
/// ```
/// use nest_core::value::TreePath;
/// assert_eq!(TreePath::new(b"/home//maren/.").unwrap().to_string(), "/home/maren");
/// assert_eq!(TreePath::new(b"/").unwrap(), TreePath::root());
/// for path in ["", "home", "/home/../etc", "/home\0"] {
///     assert!(TreePath::new(path.as_bytes()).is_none(), "{path:?}");
/// }
/// ```
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Display, Deref, Into, Serialize)]
pub struct TreePath(#[serde(with = "super::escaped::text")] BString);

impl TreePath {
    /// The path in its plain form; `None` for what is none of the tree.
    pub fn new(path: &[u8]) -> Option<Self> {
        let plain = TreePath::fits(path).then(|| tidy(path))?;
        Some(TreePath(if plain.is_empty() { "/".into() } else { plain.into() }))
    }

    /// Whether a path is one of the tree, plain or not.
    pub fn fits(path: &[u8]) -> bool {
        let climbs = || path.split(|&byte| byte == b'/').any(|part| part == b"..");
        path.first() == Some(&b'/') && !path.contains(&0) && !climbs()
    }

    /// A path that was judged before.
    ///
    /// # Panics
    /// Where it was not, and is none of the tree.
    pub fn judged(path: &[u8]) -> Self {
        TreePath::new(path).unwrap_or_else(|| panic!("BUG: {} was not judged", path.as_bstr()))
    }

    /// The root of the tree.
    pub fn root() -> Self {
        TreePath("/".into())
    }
}

impl<'de> Deserialize<'de> for TreePath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let Escaped(path) = Escaped::deserialize(deserializer)?;
        TreePath::new(&path)
            .ok_or_else(|| D::Error::custom(format!("{path} is no path of the tree")))
    }
}

/// Why a path can't stand in an account file, in words that follow it.
pub fn path_fault(path: &[u8]) -> Option<&'static str> {
    if !path.starts_with(b"/") {
        return Some("is not absolute; it has to begin with /");
    }
    if path.contains(&b':') {
        return Some("holds a colon, which separates fields in account files");
    }
    let is_plain = path.iter().all(|byte| (b' '..=b'~').contains(byte));
    if !is_plain && path.chars().any(char::is_control) {
        return Some("holds a line end or another control character");
    }
    let mut parts = path.split(|byte| *byte == b'/');
    let dots = parts.any(|part| part == b"." || part == b"..");
    dots.then_some("goes through . or ..; give the path they lead to")
}

/// What stands at a path below a directory.
pub fn join(directory: &[u8], path: &[u8]) -> BString {
    let between: &[u8] = if directory.ends_with(b"/") { b"" } else { b"/" };
    [directory, between, path].concat().into()
}

/// The directory that a path is in; of the root it is the root.
pub fn parent_of(path: &[u8]) -> &[u8] {
    match path.rfind_byte(b'/') {
        None | Some(0) => b"/",
        Some(at) => &path[..at],
    }
}

/// An absolute path without dots and without doubled or trailing slashes. That of the root
/// is empty, so that what is below any of them begins with it and a slash.
pub fn tidy(path: &[u8]) -> Vec<u8> {
    let parts = path.split_str("/").filter(|part| !part.is_empty() && *part != b".");
    parts.flat_map(|part| [b"/", part].concat()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_joined_cut_and_tidied() {
        assert_eq!((join(b"/", b"home"), join(b"/home", b"x")), ("/home".into(), "/home/x".into()));
        assert_eq!(
            (parent_of(b"/home/x"), parent_of(b"/home"), parent_of(b"/")),
            (&b"/home"[..], &b"/"[..], &b"/"[..])
        );
        assert_eq!((tidy(b"//home/./x/"), tidy(b"/")), (b"/home/x".to_vec(), Vec::new()));
        assert!(path_fault(b"/home/x").is_none() && path_fault(b"/home/../x").is_some());
        assert!(path_fault(b"home").is_some() && path_fault(b"/a:b").is_some());
    }
}
