//! A text of a document, borrowed from it where nothing in it is escaped.

use std::borrow::Cow;
use std::fmt;

use serde::de::{Deserialize, Deserializer, Error, Visitor};
use serde::{Serialize, Serializer};

use crate::value::escaped;

/// A text without control characters: what held some is written with `\xNN`.
#[derive(Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Text<'t>(Cow<'t, str>);

impl<'t> Text<'t> {
    /// A text of an account file.
    pub fn of(bytes: &'t [u8]) -> Self {
        Text(escaped(bytes))
    }

    /// A text of the document, in which what needed it is escaped already.
    fn read(text: Cow<'t, str>) -> Self {
        match text.bytes().fold(false, |found, byte| found | byte.is_ascii_control()) {
            false => Text(text),
            true => {
                let escape = |c: char| match c.is_ascii_control() {
                    true => format!("\\x{:02x}", u32::from(c)),
                    false => c.to_string(),
                };
                Text(text.chars().map(escape).collect::<String>().into())
            }
        }
    }

    /// It, apart from what it was borrowed from.
    pub fn into_owned(self) -> Text<'static> {
        Text(Cow::Owned(self.0.into_owned()))
    }
}

impl From<String> for Text<'_> {
    fn from(text: String) -> Self {
        Text::read(Cow::Owned(text))
    }
}

impl std::ops::Deref for Text<'_> {
    type Target = str;
    fn deref(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Text<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl fmt::Display for Text<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl Serialize for Text<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self)
    }
}

impl<'de: 't, 't> Deserialize<'de> for Text<'t> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Texts;
        impl<'de> Visitor<'de> for Texts {
            type Value = Text<'de>;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a text")
            }
            fn visit_borrowed_str<E: Error>(self, text: &'de str) -> Result<Text<'de>, E> {
                Ok(Text::read(Cow::Borrowed(text)))
            }
            fn visit_str<E: Error>(self, text: &str) -> Result<Text<'de>, E> {
                Ok(Text::read(Cow::Owned(text.to_owned())))
            }
            fn visit_string<E: Error>(self, text: String) -> Result<Text<'de>, E> {
                Ok(Text::read(Cow::Owned(text)))
            }
        }
        deserializer.deserialize_str(Texts)
    }
}
