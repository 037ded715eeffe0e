//! Lines that come, go or alter in a file that is no account file: one of keys, or of the
//! system's configuration. All other lines keep every byte.

use std::borrow::Cow;

use bstr::BString;
use serde::{Deserialize, Serialize};

use crate::ownership::Owner;
use crate::value::{TreePath, escaped};

/// What happens to the lines of a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TextEdit {
    /// The file.
    pub path: TreePath,
    /// Line by line, in this order.
    pub lines: Vec<LineChange>,
    /// Whose the file becomes where there is none.
    pub owner: Owner,
    /// The mode that it gets then.
    pub mode: u32,
}

/// What happens to one line. Lines are without their ends.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LineChange {
    /// The line as it was; nothing for one that comes.
    #[serde(default, with = "escaped::optional", skip_serializing_if = "Option::is_none")]
    pub was: Option<BString>,
    /// The line as it will be; nothing for one that goes.
    #[serde(default, with = "escaped::optional", skip_serializing_if = "Option::is_none")]
    pub becomes: Option<BString>,
    /// The line that follows it. One that comes stands before that; where nothing is named, or
    /// the file has no such line, at the end.
    #[serde(default, with = "escaped::optional", skip_serializing_if = "Option::is_none")]
    pub before: Option<BString>,
}

impl LineChange {
    /// A line that comes, at the end.
    pub fn adding(line: impl Into<BString>) -> Self {
        LineChange { becomes: Some(line.into()), ..LineChange::default() }
    }

    /// A line of a text that goes; it is remembered what follows it.
    pub fn removing(text: &[u8], line: &[u8]) -> Self {
        let mut lines = text.lines_of().skip_while(|other| *other != line);
        lines.next();
        LineChange {
            was: Some(line.into()),
            becomes: None,
            before: lines.next().map(BString::from),
        }
    }

    /// The change that takes it back.
    #[must_use]
    pub fn back(&self) -> Self {
        LineChange {
            was: self.becomes.clone(),
            becomes: self.was.clone(),
            before: self.before.clone(),
        }
    }
}

/// A file is not as it was when an edit was planned.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("it has been altered since: a line that was there is not there any more")]
pub struct Altered;

impl TextEdit {
    /// The text as the edit leaves it.
    ///
    /// # Errors
    /// [`Altered`] where a line is not there that goes or becomes another.
    pub fn apply(&self, text: &[u8]) -> Result<Vec<u8>, Altered> {
        let mut lines: Vec<Cow<'_, [u8]>> =
            text.split_inclusive(|&byte| byte == b'\n').map(Cow::Borrowed).collect();
        let find = |lines: &[Cow<'_, [u8]>], wanted: &BString| {
            lines.iter().position(|line| without_end(line) == wanted.as_slice())
        };
        // Lines that come at one place are put there together: there may be very many.
        let together = |one: &LineChange, other: &LineChange| {
            one.was.is_none() && other.was.is_none() && one.before == other.before
        };
        for run in self.lines.chunk_by(together) {
            let first = &run[0];
            let mut new = run.iter().filter_map(|change| {
                let line = change.becomes.as_ref()?;
                Some(Cow::Owned([line.as_slice(), b"\n"].concat()))
            });
            match &first.was {
                Some(was) => {
                    let place = find(&lines, was).ok_or(Altered)?;
                    match new.next() {
                        None => _ = lines.remove(place),
                        Some(new) => lines[place] = new,
                    }
                }
                None => {
                    let before = first.before.as_ref().and_then(|line| find(&lines, line));
                    let place = before.unwrap_or(lines.len());
                    let new: Vec<Cow<'_, [u8]>> = new.collect();
                    lines.splice(place..place, new);
                }
            }
        }
        let mut text = Vec::new();
        for line in &lines {
            // The last line of the file may have had no end.
            if !text.is_empty() && !text.ends_with(b"\n") {
                text.push(b'\n');
            }
            text.extend_from_slice(line);
        }
        Ok(text)
    }

    /// The edit that takes it back.
    #[must_use]
    pub fn back(&self) -> Self {
        let lines = self.lines.iter().rev().map(LineChange::back).collect();
        TextEdit { lines, path: self.path.clone(), ..*self }
    }

    /// How many lines come, go and alter, in words.
    pub fn in_words(&self) -> String {
        use crate::words::counted;
        let count = |is: fn(&LineChange) -> bool| self.lines.iter().filter(|line| is(line)).count();
        let kinds = [
            ("adds", count(|line| line.was.is_none() && line.becomes.is_some())),
            ("takes out", count(|line| line.was.is_some() && line.becomes.is_none())),
            ("alters", count(|line| line.was.is_some() && line.becomes.is_some())),
        ];
        let told = kinds.iter().filter(|(_, count)| *count > 0);
        let told: Vec<String> = told
            .map(|(verb, count)| format!("{verb} {}", counted(*count, "line", "lines")))
            .collect();
        told.join(" and ")
    }
}

fn without_end(line: &[u8]) -> &[u8] {
    line.strip_suffix(b"\n").unwrap_or(line)
}

/// The lines of a text, each without its end, and with a carriage return that it may have.
pub trait LinesOf {
    /// Those lines.
    fn lines_of(&self) -> impl Iterator<Item = &[u8]>;
}

impl LinesOf for [u8] {
    fn lines_of(&self) -> impl Iterator<Item = &[u8]> {
        self.split_inclusive(|&byte| byte == b'\n').map(without_end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::{Gid, Uid};

    fn edit(lines: Vec<LineChange>) -> TextEdit {
        let owner = Owner { uid: Uid(0), gid: Gid(0) };
        TextEdit { path: TreePath::judged(b"/etc/x"), lines, owner, mode: 0o644 }
    }

    #[test]
    fn lines_come_go_and_alter_and_all_others_keep_every_byte() {
        let text = b"one\r\n\xff two\nthree\ntwo\nlast";
        let lines = vec![
            LineChange::adding("four"),
            LineChange::removing(text, b"three"),
            LineChange { was: Some("one\r".into()), becomes: Some("first".into()), before: None },
            LineChange { becomes: Some("zero".into()), before: Some("first".into()), was: None },
        ];
        let edit = edit(lines);
        let after = edit.apply(text).unwrap();
        assert_eq!(after, b"zero\nfirst\n\xff two\ntwo\nlast\nfour\n");
        // A last line without its end gets one; nothing else is another.
        let back = edit.back().apply(&after).unwrap();
        assert_eq!(back, b"one\r\n\xff two\nthree\ntwo\nlast\n");
        assert_eq!(edit.in_words(), "adds 2 lines and takes out 1 line and alters 1 line");
    }

    #[test]
    fn a_line_that_is_gone_stops_it() {
        let gone = edit(vec![LineChange::removing(b"a\nb\n", b"b")]);
        assert_eq!(gone.apply(b"a\n"), Err(Altered));
        let placed = edit(vec![LineChange {
            becomes: Some("n".into()),
            before: Some("q".into()),
            was: None,
        }]);
        assert_eq!(placed.apply(b"").unwrap(), b"n\n");
    }
}
