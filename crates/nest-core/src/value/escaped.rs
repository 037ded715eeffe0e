//! Bytes as text that loses nothing: for files that are JSON and yet speak of
//! lines and paths, which need not be UTF-8.

use std::borrow::Cow;

use bstr::{BString, ByteSlice};
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Writes bytes as text: what is not UTF-8 and every control character becomes
/// `\xNN`, a backslash `\\`.
///
/// ```
/// use nest_core::value::{escape, unescape};
/// assert_eq!(escape(b"S\xf8lvi\\"), r"S\xf8lvi\\");
/// assert_eq!(unescape(r"S\xf8lvi\\").unwrap(), b"S\xf8lvi\\");
/// ```
pub fn escape(bytes: &[u8]) -> String {
    escaped(bytes).into_owned()
}

/// The same; plain text, as nearly all is, is not copied.
pub fn escaped(bytes: &[u8]) -> Cow<'_, str> {
    match std::str::from_utf8(bytes) {
        Ok(text) if !has_special(bytes) => Cow::Borrowed(text),
        _ => Cow::Owned(in_full(bytes)),
    }
}

/// Whether there is a control character or a backslash. Without a way out of the loop
/// it looks at many bytes at once.
fn has_special(bytes: &[u8]) -> bool {
    let special =
        |byte: u8| u8::from(byte < b' ') | u8::from(byte == 0x7f) | u8::from(byte == b'\\');
    bytes.iter().fold(0, |found, byte| found | special(*byte)) != 0
}

fn in_full(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '\\' => text.push_str("\\\\"),
                c if c.is_ascii_control() => text += &format!("\\x{:02x}", u32::from(c)),
                c => text.push(c),
            }
        }
        for byte in chunk.invalid() {
            text += &format!("\\x{byte:02x}");
        }
    }
    text
}

/// Reads what [`escape`] wrote; `None` when a backslash begins nothing known.
pub fn unescape(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some(at) = rest.find_byte(b'\\') {
        bytes.extend_from_slice(&rest[..at]);
        rest = &rest[at + 1..];
        match rest {
            [b'\\', ..] => {
                bytes.push(b'\\');
                rest = &rest[1..];
            }
            [b'x', high, low, ..] => {
                let digits = [*high, *low];
                if !digits.iter().all(u8::is_ascii_hexdigit) {
                    return None;
                }
                let digits = std::str::from_utf8(&digits).ok()?;
                bytes.push(u8::from_str_radix(digits, 16).ok()?);
                rest = &rest[3..];
            }
            _ => return None,
        }
    }
    bytes.extend_from_slice(rest);
    Some(bytes)
}

/// Bytes that are written as escaped text.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Escaped(pub BString);

impl Serialize for Escaped {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&escaped(&self.0))
    }
}

impl<'de> Deserialize<'de> for Escaped {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let bytes =
            unescape(&text).ok_or_else(|| D::Error::custom("a backslash begins nothing"))?;
        Ok(Escaped(bytes.into()))
    }
}

/// For fields of type `BString`: `#[serde(with = "escaped::text")]`.
pub mod text {
    use super::*;

    #[allow(missing_docs)]
    pub fn serialize<S: Serializer>(bytes: &BString, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&escaped(bytes))
    }

    #[allow(missing_docs)]
    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<BString, D::Error> {
        Ok(Escaped::deserialize(deserializer)?.0)
    }
}

/// For fields of type `Option<BString>`.
pub mod optional {
    use super::*;

    #[allow(missing_docs)]
    pub fn serialize<S: Serializer>(
        bytes: &Option<BString>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        bytes.as_ref().map(|bytes| escape(bytes)).serialize(serializer)
    }

    #[allow(missing_docs)]
    pub fn deserialize<'de, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<BString>, D::Error> {
        Ok(Option::<Escaped>::deserialize(deserializer)?.map(|escaped| escaped.0))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_written_is_read_back(bytes in proptest::collection::vec(any::<u8>(), 0..60)) {
            prop_assert_eq!(unescape(&escape(&bytes)).unwrap(), bytes);
        }
    }

    #[test]
    fn what_nobody_wrote_is_refused() {
        for text in ["\\", "\\n", "\\x4", "\\xzz", "\\x+c"] {
            assert_eq!(unescape(text), None, "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn what_needs_no_escape_is_written_as_it_would_be(
            bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..40),
            text in "[ -~é\\\\\n]{0,40}",
        ) {
            for bytes in [bytes.as_slice(), text.as_bytes()] {
                proptest::prop_assert_eq!(escaped(bytes).into_owned(), in_full(bytes));
                proptest::prop_assert_eq!(unescape(&escape(bytes)).unwrap(), bytes);
            }
        }
    }
}
