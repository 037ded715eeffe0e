//! Lines of account files as they may be shown: without any hash.

use std::borrow::Cow;

use bstr::{BStr, BString, ByteSlice};

use crate::order;
use crate::table::{File, each_line};
use crate::value::{NameStyle, PasswordField, Scheme, check_name};

/// What stands in the place of a hash.
pub const HIDDEN: &str = "(hash)";

/// What stands in the place of the rest of a line of which nobody can say where its
/// hash is.
pub const NOT_SHOWN: &str = "(not shown: it may hold a hash)";

/// The line with its password field replaced by `(hash)`, or `!(hash)` when it is locked, unless the field is a
/// harmless marker. Of a line of a secret file that is not well-formed only the
/// first field is shown: nobody can say where its hash stands.
///
/// ```
/// use nest_core::{secret::shown, table::File};
/// assert_eq!(shown(File::Shadow, b"maren:$6$a$bcdefghijkl:20781::::::"), "maren:(hash):20781::::::");
/// assert_eq!(shown(File::Passwd, b"maren:x:1004:1004:::"), "maren:x:1004:1004:::");
/// ```
pub fn shown(file: File, line: &[u8]) -> BString {
    if matches!(file, File::Subuid | File::Subgid) {
        return line.into();
    }
    if is_plain(file, line) {
        return line.into();
    }
    let fields: Vec<&[u8]> = line.split_str(":").collect();
    if file.is_secret() && fields.len() != file.fields() {
        return match line.trim_ascii_start().first() {
            None => line.into(),
            // What a directory adds, see nsswitch.conf(5).
            Some(b'+' | b'-') if fields.iter().all(|field| is_name_or_number(field)) => line.into(),
            _ if is_name(fields[0]) && fields.len() > 1 => {
                [fields[0], b":", NOT_SHOWN.as_bytes()].concat().into()
            }
            _ => NOT_SHOWN.into(),
        };
    }
    let shown: Vec<BString> = fields
        .iter()
        .enumerate()
        .map(|(at, field)| match at {
            1 if PasswordField::is_harmless(field) => (*field).into(),
            1 if field.starts_with(b"!") => "!(hash)".into(),
            1 => HIDDEN.into(),
            _ => shown_field(file, field),
        })
        .collect();
    bstr::join(":", shown).into()
}

/// A field that is no place for a hash, with whatever in it may be one hidden.
fn shown_field(file: File, field: &[u8]) -> BString {
    let harmless = |word: &[u8]| match file.is_secret() {
        true => is_name_or_number(word),
        false => !looks_like_hash(word),
    };
    if harmless(field) {
        return field.into();
    }
    let shown = field.split_str(",").map(|word| match harmless(word) {
        true => word,
        false => HIDDEN.as_bytes(),
    });
    bstr::join(",", shown).into()
}

/// A name from a line, as it may be told: what comes from shadow or gshadow and is no
/// name may be a hash that slipped.
///
/// ```
/// use nest_core::{secret::told, table::File};
/// assert_eq!(told(File::Shadow, b"maren"), "maren");
/// assert_eq!(told(File::Shadow, b"maren$6$salt$abcdefgh"), "(hash)");
/// ```
pub fn told(file: File, name: &[u8]) -> &BStr {
    let harmless = if file.is_secret() { is_name(name) } else { !looks_like_hash(name) };
    BStr::new(if harmless { name } else { HIDDEN.as_bytes() })
}

/// A list of names, or a number, from a line, as it may be told.
pub fn told_list(file: File, list: &[u8]) -> BString {
    shown_field(file, list)
}

/// Every word of a line that [`shown`] hides: the longest first, so that one that holds
/// another is found before it.
pub fn hidden_words(file: File, line: &[u8]) -> Vec<&[u8]> {
    if matches!(file, File::Subuid | File::Subgid) || is_plain(file, line) {
        return Vec::new();
    }
    let harmless = |at: usize, word: &[u8]| match (at, file.is_secret()) {
        (1, _) => PasswordField::is_harmless(word),
        (_, true) => is_name_or_number(word),
        (_, false) => !looks_like_hash(word),
    };
    let mut words = Vec::new();
    for (at, field) in line.split_str(":").enumerate() {
        let unlocked = field.trim_start_with(|c| c == '!');
        for word in field.split_str(",").chain([field, field.trim_ascii(), unlocked]) {
            if word.len() > 1 && !harmless(at, word) && !harmless(0, word) {
                words.push(word);
            }
        }
    }
    order::sort_by_key(&mut words, |word| (std::cmp::Reverse(word.len()), *word));
    words.dedup();
    words
}

/// A text in which everything that has the form of a hash, crypt(5), is hidden: the last
/// gate before a screen or a file that others read.
pub fn without_hashes(text: &str) -> Cow<'_, str> {
    let mut shown = String::new();
    let mut rest = text;
    let mut from = 0;
    while let Some(at) = memchr::memchr(b'$', &rest.as_bytes()[from..]).map(|at| at + from) {
        match hash_at(&rest.as_bytes()[at..]) {
            0 => from = at + 1,
            length => {
                shown.push_str(&rest[..at]);
                shown.push_str(HIDDEN);
                rest = &rest[at + length..];
                from = 0;
            }
        }
    }
    match shown.is_empty() {
        true => Cow::Borrowed(text),
        false => Cow::Owned(shown + rest),
    }
}

/// How long the hash is that a text begins with; 0 where it begins with none. Its scheme
/// stands between the first two dollars, and what follows has a salt's length at least.
fn hash_at(text: &[u8]) -> usize {
    const SCHEMES: [&[u8]; 12] =
        [b"y", b"gy", b"7", b"2a", b"2b", b"2x", b"2y", b"6", b"5", b"sha1", b"md5", b"1"];
    let of_hash = |byte: &u8| {
        byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'/' | b'$' | b'=' | b'+' | b'-')
    };
    let Some(end) = text.iter().skip(1).position(|byte| *byte == b'$') else { return 0 };
    if !SCHEMES.contains(&&text[1..=end]) && &text[1..=end] != b"3" {
        return 0;
    }
    let length = text.iter().take_while(|byte| of_hash(byte)).count();
    // A dot or a comma after it is the sentence's.
    let length = text[..length].iter().rposition(|byte| *byte != b'.').map_or(0, |last| last + 1);
    if length > 12 { length } else { 0 }
}

/// Whether a line clearly holds no hash, as nearly all do.
fn is_plain(file: File, line: &[u8]) -> bool {
    !line.contains(&b'$') && is_harmless(file, line)
}

/// Whether none of many lines holds a hash. Tells each line on the way.
#[inline(always)]
pub(crate) fn are_plain<'l>(file: File, lines: &'l [u8], mut tell: impl FnMut(&'l [u8])) -> bool {
    let (fields, may_hold) = (file.fields(), !matches!(file, File::Subuid | File::Subgid));
    // An empty line at the end would not be told.
    let mut plain = !lines.ends_with(b"\n");
    plain &= !may_hold || memchr::memchr(b'$', lines).is_none();
    each_line(lines, |row| {
        let harmless = || row.field(1).is_some_and(PasswordField::is_harmless);
        // More fields than are counted are in the last one.
        let last = || row.field(fields - 1).is_some_and(|last| !last.contains(&b':'));
        let words = || (0..fields).all(|at| at == 1 || row.field(at).is_some_and(is_list));
        let whole = || row.count() == fields && last() && words();
        plain &= !may_hold || harmless() && (!file.is_secret() || whole());
        tell(row.line);
    });
    plain
}

fn is_harmless(file: File, line: &[u8]) -> bool {
    let whole = || {
        let mut fields = 0;
        let words = line.split(|byte| *byte == b':').all(|field| {
            fields += 1;
            fields == 2 || is_list(field)
        });
        words && fields == file.fields()
    };
    second_field(line).is_some_and(PasswordField::is_harmless) && (!file.is_secret() || whole())
}

/// Whether a field of a secret file holds names and numbers alone.
fn is_list(field: &[u8]) -> bool {
    // As nearly all are; no form of a hash in use is without capitals.
    let lower = |byte: &u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || *byte == b'-';
    field.len() <= 12 && field.iter().all(lower)
        || field.split(|byte| *byte == b',').all(is_name_or_number)
}

fn is_name_or_number(word: &[u8]) -> bool {
    let number = |word: &[u8]| word.iter().all(|byte| byte.is_ascii_digit() || *byte == b'-');
    number(word) && word.len() <= 12 || is_name(word)
}

/// Whether a word is a name that an account may have, and no hash.
fn is_name(word: &[u8]) -> bool {
    let word = word.trim_ascii();
    let bare = BStr::new(word.strip_suffix(b"$").unwrap_or(word));
    match check_name(NameStyle::Strict, bare) {
        Ok(_) => true,
        Err(_) => check_name(NameStyle::Dotted, bare).is_ok() && Scheme::of(bare).is_none(),
    }
}

/// Names are short: looking at byte after byte is the quickest.
fn second_field(line: &[u8]) -> Option<&[u8]> {
    line.split(|byte| *byte == b':').nth(1)
}

/// The hash in a line, without the mark of a lock; `None` where there is none.
pub fn hash_of(file: File, line: &[u8]) -> Option<&[u8]> {
    if matches!(file, File::Subuid | File::Subgid) {
        return None;
    }
    let field = second_field(line)?;
    (!PasswordField::is_harmless(field)).then(|| field.trim_start_with(|c| c == '!'))
}

/// Whether a hash stands anywhere in a text, by its form.
fn looks_like_hash(text: &[u8]) -> bool {
    let mut dollars = memchr::memchr_iter(b'$', text);
    dollars.any(|at| hash_at(&text[at..]) > 0)
}

/// Whether a recorded line had something hidden in it besides its password field: then it
/// can't be given back from the record.
pub fn has_lost_parts(line: &[u8]) -> bool {
    line.contains_str(NOT_SHOWN)
        || line.split_str(":").enumerate().any(|(at, field)| at != 1 && field.contains_str(HIDDEN))
}

/// Whether a record of a line can give it back, but for the hash in its password field.
pub fn is_kept(file: File, line: &[u8]) -> bool {
    !has_lost_parts(&shown(file, line))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_hash_is_ever_shown() {
        let hash = "$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2";
        for (file, line) in [
            (File::Shadow, format!("maren:{hash}:20781:0::7:::")),
            (File::Shadow, format!("maren:!{hash}:20781:0::7:::")),
            (File::Shadow, format!("maren:{hash}")),
            (File::Shadow, format!("maren {hash}:::")),
            (File::Shadow, hash.to_owned()),
            (File::Shadow, format!("#maren:{hash}:::")),
            (File::Shadow, format!("a:!:1:2:3:4:{hash}:6:7")),
            (File::Passwd, format!("maren:{hash}:1004:1004:::")),
            (File::Passwd, format!("maren:{hash}:1004")),
            (File::Gshadow, format!("crew:{hash}::maren")),
            // Slips of a line, as an editor or a script makes them.
            (File::Shadow, format!("maren{hash}:20781:0::7:::")),
            (File::Shadow, format!("maren{hash}::20781:0::7:::")),
            (File::Shadow, format!("{hash}::20781:0::7:::")),
            (File::Shadow, format!("maren::{hash}:0::7:::")),
            (File::Shadow, format!("+maren:{hash}")),
            (File::Gshadow, format!("crew:!:{hash}:maren")),
            (File::Gshadow, format!("crew:!:maren,{hash}:maren")),
            (File::Gshadow, format!("crew:!::maren,x{hash}")),
            (File::Group, format!("crew:x:7:maren,{hash}")),
            (File::Passwd, format!("maren{hash}:x:7:7:::")),
            (File::Passwd, format!("maren:x:7:7:x {hash},,:/:/bin/sh")),
        ] {
            let shown = shown(file, line.as_bytes()).to_string();
            assert!(!shown.contains("TQrr"), "{shown}");
        }
        for (file, line) in [
            (File::Shadow, "maren:ab0123456789.:1::::::"),
            (File::Shadow, "maren::ab0123456789.:::::: "),
            (File::Shadow, "ab0123456789.::1::::::"),
            (File::Gshadow, "crew:!:maren,ab0123456789.:"),
        ] {
            assert!(!shown(file, line.as_bytes()).contains_str("0123"), "{line}");
        }
        let machine = b"HARBOUR-3$:*:20781:0::7:::";
        assert_eq!(shown(File::Shadow, machine), machine.as_bstr());
        assert!(has_lost_parts(&shown(File::Gshadow, b"crew:!:$6$abcdefgh$ijklmnop:")));
        assert!(!has_lost_parts(&shown(File::Shadow, b"maren:$6$abcdefgh$ijkl:1::::::")));
    }

    #[test]
    fn a_hash_is_hidden_in_any_text() {
        let told = without_hashes;
        assert_eq!(
            told("no account is called a$6$salt$abcdefgh."),
            "no account is called a(hash)."
        );
        assert_eq!(told("$y$j9T$Gk8rTqW1xZ0a and $1$x$y"), "(hash) and $1$x$y");
        assert_eq!(told("{\"x\": \"$2b$10$abcdefghijkl\"}"), "{\"x\": \"(hash)\"}");
        for plain in ["HARBOUR$", "costs $5", "$6$", "$HOME/$USER", "", "$", "$$$$$$$$$$$$$$$"] {
            assert!(matches!(told(plain), Cow::Borrowed(text) if text == plain), "{plain}");
        }
    }

    #[test]
    fn many_lines_are_plain_when_each_is() {
        for (file, lines, are) in [
            (File::Shadow, "a:!:1::::::\nb:*:1::::::\nc::1::::::", true),
            (File::Shadow, "a:!:1::::::\nb:ab0123456789.:1::::::", false),
            (File::Shadow, "a:!:1::::::\nb:!:1", false),
            (File::Shadow, "a:!:1:::::::\nb:!:1::::::", false),
            (File::Passwd, "a:x:1:1:::\nb:!:2:2:::", true),
            (File::Passwd, "a:x:1:1:::\nb:x:2:2:$6$a$b::", false),
            (File::Group, "a:x:1:\nb", false),
            (File::Subuid, "a:1:2\nb", true),
        ] {
            let mut told = Vec::new();
            assert_eq!(are_plain(file, lines.as_bytes(), |line| told.push(line)), are, "{lines}");
            assert_eq!(told.join(&b'\n'), lines.as_bytes());
            let each = lines.split('\n').all(|line| {
                matches!(file, File::Subuid | File::Subgid) || is_plain(file, line.as_bytes())
            });
            assert_eq!(each, are, "{lines}");
        }
    }
}
