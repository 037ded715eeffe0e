//! Paths in the tree.

use bstr::ByteSlice;

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
