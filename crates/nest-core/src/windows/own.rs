//! The line of an account's own in each of the two files: a comment before it says so, and
//! whose it is.

use bstr::{BStr, BString, ByteSlice};

use crate::text_edit::{LineChange, LinesOf, TextEdit};

/// What a mark says, before the name.
const HOURS: &[u8] = b"# copper-nest: hours of ";
const PLACES: &[u8] = b"# copper-nest: places of ";

/// Which of the two files.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    strum::Display,
    serde::Serialize,
    serde::Deserialize,
)]
#[strum(serialize_all = "lowercase")]
#[serde(rename_all = "lowercase")]
pub enum Half {
    /// The one about hours.
    Hours,
    /// The one about places.
    Places,
}

impl Half {
    /// What it is about, in a word.
    pub fn word(self) -> &'static str {
        match self {
            Half::Hours => "hours",
            Half::Places => "places",
        }
    }

    /// The comment before the line of an account.
    pub(super) fn mark(self, name: &BStr) -> BString {
        let start = match self {
            Half::Hours => HOURS,
            Half::Places => PLACES,
        };
        [start, name].concat().into()
    }
}

/// Tells, line by line, which are an account's own.
#[derive(Default)]
pub(super) struct Owned {
    /// Whose the next line may be.
    next: Option<BString>,
}

impl Owned {
    /// Whether the next line of the file is an account's own: it follows a mark and names the
    /// account that the mark names.
    pub fn takes(&mut self, line: &[u8]) -> bool {
        let before = self.next.take();
        self.next = marked(line).map(|(_, name)| name.into());
        before.is_some_and(|name| names(line, name.as_bstr()))
    }
}

/// Whether a line is of the account: its third field in the one file, its second in the other.
fn names(line: &[u8], name: &BStr) -> bool {
    let field = |separator: u8, at: usize| {
        line.split(move |&byte| byte == separator).nth(at).map(<[u8]>::trim_ascii)
    };
    field(b';', 2) == Some(name.as_bytes()) || field(b':', 1) == Some(name.as_bytes())
}

/// The accounts whose own lines an edit is about.
pub(crate) fn names_in(edit: &TextEdit) -> impl Iterator<Item = &[u8]> {
    let texts = edit.lines.iter().flat_map(|line| line.was.iter().chain(&line.becomes));
    texts.filter_map(|line| {
        let (separator, at) = if line.contains(&b';') { (b';', 2) } else { (b':', 1) };
        let field = || line.split(move |&byte| byte == separator).nth(at).map(<[u8]>::trim_ascii);
        marked(line).map(|(_, name)| name.as_bytes()).or_else(field)
    })
}

/// What a mark says.
pub(super) fn marked(line: &[u8]) -> Option<(Half, &BStr)> {
    let line = line.trim_ascii_end();
    let of = |half, start| Some((half, line.strip_prefix(start)?.as_bstr()));
    of(Half::Hours, HOURS).or_else(|| of(Half::Places, PLACES))
}

/// A mark or a line of an account's own, with another name.
pub(super) fn renamed(line: &[u8], old: &BStr, new: &BStr) -> BString {
    if let Some((half, _)) = marked(line) {
        return half.mark(new);
    }
    let separator = if line.contains(&b';') { b';' } else { b':' };
    let mut fields: Vec<BString> =
        line.split(|&byte| byte == separator).map(BString::from).collect();
    let of_name = fields.iter_mut().find(|field| field.trim_ascii() == old.as_bytes());
    if let Some(field) = of_name {
        *field = field.replace(old, new).into();
    }
    bstr::join([separator], fields).into()
}

/// The mark of an account and its own line, as they stand in a text.
pub(super) fn own_lines<'t>(text: &'t [u8], half: Half, name: &BStr) -> Vec<&'t [u8]> {
    let mut owned = Owned::default();
    let mut within = false;
    let lines = text.lines_of().filter(|line| {
        let is_own = owned.takes(line);
        within = match marked(line) {
            Some(mark) => mark == (half, name),
            None => within && is_own,
        };
        within
    });
    lines.collect()
}

/// The changes that put a line in the place of an account's own, or take that out; none where
/// it is the same. Where there was none it comes before others, if those may be the first to
/// decide, else at the end, but never after a line that is not finished: that would become
/// another one.
pub(super) fn replacing(
    text: &[u8],
    half: Half,
    name: &BStr,
    new: Option<BString>,
) -> Vec<LineChange> {
    let old = own_lines(text, half, name);
    let mark = half.mark(name);
    let wanted: Vec<&[u8]> = match &new {
        None => Vec::new(),
        Some(line) => vec![&mark, line],
    };
    if old == wanted {
        return Vec::new();
    }
    if old.len() == wanted.len() {
        let pairs = old.into_iter().zip(wanted).filter(|(was, becomes)| was != becomes);
        let altered = pairs.map(|(was, becomes)| LineChange {
            was: Some(was.into()),
            becomes: Some(becomes.into()),
            before: None,
        });
        return altered.collect();
    }
    let after = match old.last() {
        Some(last) => text.lines_of().skip_while(|line| line != last).nth(1),
        None if half == Half::Places => first_rule(text).or_else(|| unfinished(text)),
        None => unfinished(text),
    };
    let followers = old.iter().skip(1).copied().map(Some).chain([after]);
    let going = old.iter().zip(followers).map(|(line, follower)| LineChange {
        was: Some(BString::from(*line)),
        becomes: None,
        before: follower.map(BString::from),
    });
    let coming = wanted.iter().map(|line| LineChange {
        was: None,
        becomes: Some(BString::from(*line)),
        before: after.map(BString::from),
    });
    going.chain(coming).collect()
}

/// The first line that is neither blank nor a comment, or the mark before it.
fn first_rule(text: &[u8]) -> Option<&[u8]> {
    let mut before = None;
    let lines = &mut text.lines_of();
    let rule = lines.find(|line| {
        let is_rule = !line.starts_with(b"#") && !line.trim_ascii().is_empty();
        if !is_rule {
            before = marked(line).map(|_| *line);
        }
        is_rule
    })?;
    Some(before.unwrap_or(rule))
}

/// The first line of what the end of a text cuts off: a line without its end, with those before
/// it that a backslash joins to it, or one that a backslash leaves open.
fn unfinished(text: &[u8]) -> Option<&[u8]> {
    let whole = text.ends_with(b"\n") && !text.ends_with(b"\\\n");
    if whole || text.is_empty() {
        return None;
    }
    let lines: Vec<&[u8]> = text.lines_of().collect();
    let open = lines[..lines.len() - 1].iter().rev().take_while(|line| line.ends_with(b"\\"));
    Some(lines[lines.len() - 1 - open.count()])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ownership::Owner;
    use crate::value::{Gid, TreePath, Uid};

    fn put(text: &str, half: Half, new: Option<&str>) -> String {
        let new = new.map(BString::from);
        let lines = replacing(text.as_bytes(), half, "maren".into(), new);
        let owner = Owner { uid: Uid(0), gid: Gid(0) };
        let edit = TextEdit { path: TreePath::judged(b"/etc/x"), lines, owner, mode: 0o644 };
        let after = edit.apply(text.as_bytes()).unwrap();
        let back = edit.back().apply(&after).unwrap();
        if text.ends_with('\n') || text.is_empty() {
            assert_eq!(BStr::new(&back), text);
        }
        BString::from(after).to_string()
    }

    #[test]
    fn own_lines_come_alter_and_go_and_others_stay() {
        let mark = "# copper-nest: hours of maren\n";
        let others = "a\r\n*;*;maren;Al0000-2400\n# copper-nest: hours of maren2\n*;*;maren2;x\n";
        let with = put(others, Half::Hours, Some("*;*;maren;Mo0800-0900"));
        assert_eq!(with, format!("{others}{mark}*;*;maren;Mo0800-0900\n"));
        let other = put(&format!("{with}z\n"), Half::Hours, Some("*;*;maren;Tu0800-0900"));
        assert_eq!(other, format!("{others}{mark}*;*;maren;Tu0800-0900\nz\n"));
        assert_eq!(put(&format!("{with}z\n"), Half::Hours, None), format!("{others}z\n"));
        // The line after a mark that is somebody else's is not touched.
        let torn = format!("{mark}*;*;tavish;Mo0800-0900\n");
        assert_eq!(put(&torn, Half::Hours, None), "*;*;tavish;Mo0800-0900\n");
    }

    #[test]
    fn what_the_end_of_a_file_cuts_off_stays_its_end() {
        let new = Some("*;*;maren;Mo0800-0900");
        let own = "# copper-nest: hours of maren\n*;*;maren;Mo0800-0900\n";
        assert_eq!(put("a\nb", Half::Hours, new), format!("a\n{own}b"));
        assert_eq!(put("a\nb\\\nc", Half::Hours, new), format!("a\n{own}b\\\nc"));
        assert_eq!(put("a\nb\\\n", Half::Hours, new), format!("a\n{own}b\\\n"));
        assert_eq!(put("", Half::Hours, new), own);
    }

    #[test]
    fn places_come_before_the_lines_that_may_decide_first() {
        let new = Some("-:maren:ALL EXCEPT LOCAL");
        let own = "# copper-nest: places of maren\n-:maren:ALL EXCEPT LOCAL\n";
        let rest = "+:ALL:ALL\n";
        assert_eq!(
            put(&format!("# all\n\n{rest}"), Half::Places, new),
            format!("# all\n\n{own}{rest}")
        );
        let other = "# copper-nest: places of tavish\n-:tavish:ALL EXCEPT LOCAL\n";
        assert_eq!(
            put(&format!("# all\n{other}"), Half::Places, new),
            format!("# all\n{own}{other}")
        );
        assert_eq!(put("# all\n", Half::Places, new), format!("# all\n{own}"));
    }
}
