//! Lines of account files as they may be shown: without any hash.

use bstr::{BString, ByteSlice};

use crate::table::{File, each_line};
use crate::value::{PasswordField, Scheme};

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
            None | Some(b'+' | b'-') => line.into(),
            _ if fields[0].len() <= 32 && !looks_like_hash(fields[0]) && fields.len() > 1 => {
                [fields[0], b":", NOT_SHOWN.as_bytes()].concat().into()
            }
            _ => NOT_SHOWN.into(),
        };
    }
    let shown: Vec<&[u8]> = fields
        .iter()
        .enumerate()
        .map(|(at, field)| {
            let hidden = match at {
                1 => !PasswordField::is_harmless(field),
                _ => looks_like_hash(field),
            };
            match hidden {
                true if at == 1 && field.starts_with(b"!") => b"!(hash)",
                true => HIDDEN.as_bytes(),
                false => field,
            }
        })
        .collect();
    shown.join(&b':').into()
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
        let whole = || row.count() == fields && last();
        plain &= !may_hold || harmless() && (!file.is_secret() || whole());
        tell(row.line);
    });
    plain
}

fn is_harmless(file: File, line: &[u8]) -> bool {
    let whole = || line.iter().filter(|byte| **byte == b':').count() + 1 == file.fields();
    second_field(line).is_some_and(PasswordField::is_harmless) && (!file.is_secret() || whole())
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

fn looks_like_hash(field: &[u8]) -> bool {
    field.contains(&b'$') && Scheme::of(field.trim_start_with(|c| c == '!')).is_some()
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
        ] {
            let shown = shown(file, line.as_bytes()).to_string();
            assert!(!shown.contains("TQrr"), "{shown}");
        }
        assert!(!shown(File::Shadow, b"maren:ab0123456789.:1::::::").contains_str("0123"));
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
