//! Names of users and groups.

use bstr::{BStr, BString, ByteSlice};
use serde::{Deserialize, Serialize};
use strum::{Display, EnumString};

/// Makes a type of words that name one kind of thing. In JSON they are escaped text.
macro_rules! name_type {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(
            Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default, derive_more::Display,
            derive_more::Deref, derive_more::Into, Serialize, Deserialize,
        )]
        #[derive(derive_more::From, derive_more::AsRef)]
        #[from(BString, String, &str, &[u8], &BStr)]
        #[as_ref([u8], BStr)]
        pub struct $name(#[serde(with = "super::escaped::text")] BString);

        impl std::borrow::Borrow<BStr> for $name {
            fn borrow(&self) -> &BStr {
                self.0.as_ref()
            }
        }

        impl<T: ?Sized> PartialEq<T> for $name
        where
            BString: PartialEq<T>,
        {
            fn eq(&self, other: &T) -> bool {
                self.0 == *other
            }
        }
    };
}

name_type! {
    /// What names a user: its name, whatever the account files have for one; in a request also
    /// its uid, in digits.
    UserName
}

name_type! {
    /// What names a group: its name, whatever the account files have for one; in a request also
    /// its gid, in digits.
    GroupName
}

/// The longest name the tool accepts, in bytes. Login records keep 32.
pub const MAX_BYTES: usize = 32;

/// How much freedom the policy leaves to names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Display, EnumString)]
#[strum(serialize_all = "lowercase")]
pub enum NameStyle {
    /// A lower-case letter or underscore, then lower-case letters, digits, `_`, `-`.
    Strict,
    /// Dots and capitals too.
    Dotted,
    /// Whatever the account files can carry.
    Loose,
}

/// Why a name is refused, in words that follow the name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NameFault {
    /// Nothing at all.
    #[error("is empty")]
    Empty,
    /// More than 32 bytes.
    #[error("is {0} bytes long; 32 are the most a login record holds")]
    TooLong(usize),
    /// Programs would read it as an id.
    #[error("is all digits, and would be taken for an id")]
    AllDigits,
    /// A first byte with a meaning of its own.
    #[error(
        "begins with {0:?}, which has a meaning of its own in account files and on command lines"
    )]
    Start(char),
    /// `.` or `..`.
    #[error("is the name of a directory itself, and would make its home another one's")]
    Dots,
    /// A byte that separates fields, members or path parts, or cannot be seen.
    #[error("holds {0}, which the account files or paths use themselves")]
    Separator(&'static str),
    /// A byte the naming style leaves out.
    #[error("holds {1:?}; names of the {0} style are made of {letters}", letters = letters(*.0))]
    Style(NameStyle, char),
}

fn letters(style: NameStyle) -> &'static str {
    match style {
        NameStyle::Strict => "lower-case letters, digits, _ and -, and begin with a letter or _",
        _ => "letters, digits, _, - and dots, and begin with a letter or _",
    }
}

/// Checks a name for a new user or group.
///
/// # Errors
/// The first [`NameFault`] that holds.
///
/// ```
/// use nest_core::value::{NameStyle, check_name};
/// assert!(check_name(NameStyle::Strict, "tide_gauge-2".into()).is_ok());
/// assert!(check_name(NameStyle::Strict, "Maren".into()).is_err());
/// ```
pub fn check_name(style: NameStyle, name: &BStr) -> Result<(), NameFault> {
    let first = *name.first().ok_or(NameFault::Empty)?;
    if name.len() > MAX_BYTES {
        return Err(NameFault::TooLong(name.len()));
    }
    if name.iter().all(u8::is_ascii_digit) {
        return Err(NameFault::AllDigits);
    }
    if let b'-' | b'+' | b'#' = first {
        return Err(NameFault::Start(char::from(first)));
    }
    if name == "." || name == ".." {
        return Err(NameFault::Dots);
    }
    for c in name.chars() {
        let separator = match c {
            ':' => "a colon",
            ',' => "a comma",
            '/' => "a slash",
            c if c.is_whitespace() => "a space",
            c if c.is_control() => "a control character",
            _ => continue,
        };
        return Err(NameFault::Separator(separator));
    }
    for (at, c) in name.chars().enumerate() {
        let fits = match style {
            NameStyle::Strict => {
                c.is_ascii_lowercase() || c == '_' || at > 0 && (c.is_ascii_digit() || c == '-')
            }
            NameStyle::Dotted => {
                c.is_ascii_alphabetic()
                    || c == '_'
                    || at > 0 && (c.is_ascii_digit() || c == '-' || c == '.')
            }
            NameStyle::Loose => true,
        };
        if !fits {
            return Err(NameFault::Style(style, c));
        }
    }
    Ok(())
}

/// The candidate nearest to `word`, when one is near enough to be a slip of the
/// fingers: at most a third of the letters differ.
pub fn nearest<'a>(
    word: &[u8],
    candidates: impl IntoIterator<Item = &'a [u8]>,
) -> Option<&'a BStr> {
    let word = word.to_str_lossy();
    let most = (word.chars().count() / 3).max(1);
    candidates
        .into_iter()
        // Far lengths cannot be near; this keeps a million candidates cheap.
        .filter(|candidate| candidate.len().abs_diff(word.len()) <= most)
        .map(|candidate| (strsim::osa_distance(&word, &candidate.to_str_lossy()), candidate))
        .filter(|(distance, _)| *distance <= most)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate.as_bstr())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fault(style: NameStyle, name: &str) -> String {
        check_name(style, name.into()).unwrap_err().to_string()
    }

    #[test]
    fn each_style_takes_what_it_promises() {
        for name in ["maren", "_relay", "tide-gauge", "a2", "a_b"] {
            assert_eq!(check_name(NameStyle::Strict, name.into()), Ok(()), "{name}");
        }
        for name in ["Maren", "m.solvik", "Maren.S-2"] {
            assert!(check_name(NameStyle::Strict, name.into()).is_err(), "{name}");
            assert_eq!(check_name(NameStyle::Dotted, name.into()), Ok(()), "{name}");
        }
        for name in ["sølvi", "2nd", "box$", "@crew"] {
            assert!(check_name(NameStyle::Dotted, name.into()).is_err(), "{name}");
            assert_eq!(check_name(NameStyle::Loose, name.into()), Ok(()), "{name}");
        }
    }

    #[test]
    fn no_style_takes_what_breaks_the_files() {
        let style = NameStyle::Loose;
        assert_eq!(fault(style, ""), "is empty");
        assert!(fault(style, &"a".repeat(33)).contains("33 bytes"));
        assert!(fault(style, "1004").contains("taken for an id"));
        assert!(fault(style, "-y").contains("begins with '-'"));
        assert!(fault(style, "..").contains("directory itself"));
        assert!(fault(style, "a:b").contains("a colon"));
        assert!(fault(style, "a,b").contains("a comma"));
        assert!(fault(style, "a/b").contains("a slash"));
        assert!(fault(style, "a b").contains("a space"));
        assert!(fault(style, "a\u{1b}b").contains("a control character"));
        assert!(fault(NameStyle::Strict, "Maren").contains("lower-case letters, digits, _ and -"));
    }

    #[test]
    fn the_nearest_name_is_a_slip_away_or_none() {
        let names = [b"tavish".as_slice(), b"odalys", b"maren"];
        assert_eq!(nearest(b"tavis", names), Some("tavish".into()));
        assert_eq!(nearest(b"odayls", names), Some("odalys".into()));
        assert_eq!(nearest(b"brannoc", names), None);
    }
}
