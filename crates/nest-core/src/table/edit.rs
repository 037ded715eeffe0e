//! Edits of lines, and the pieces a file is rewritten from.

use std::borrow::Cow;
use std::ops::Range;

use bstr::BString;
use serde::Serialize;

use super::{File, Line, Lines};

/// One line that comes, goes or alters; or many that come one after the other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Edit {
    /// The file.
    pub file: File,
    /// The line's number, counted from 1: where it stands afterwards, or stood
    /// when it goes.
    pub line: usize,
    /// The line as it was, without newline; `None` when it comes.
    pub before: Option<BString>,
    /// The line as it will be; `None` when it goes. Of many that come, each but
    /// the last is followed by a newline.
    pub after: Option<BString>,
    /// The bytes of the old text that `after` takes the place of.
    #[serde(skip)]
    pub range: Range<usize>,
}

impl Edit {
    /// The lines as they will be, with their numbers.
    pub fn lines_after(&self) -> impl Iterator<Item = (usize, &[u8])> {
        let lines = self.after.iter().flat_map(|after| lines_of(after));
        lines.enumerate().map(|(at, line)| (self.line + at, line))
    }

    /// How many lines there will be.
    pub fn count_after(&self) -> usize {
        self.after.as_ref().map_or(0, |after| memchr::memchr_iter(b'\n', after).count() + 1)
    }
}

/// The lines of a text that does not end with a newline.
pub(crate) fn lines_of(text: &[u8]) -> impl Iterator<Item = &[u8]> {
    let ends = memchr::memchr_iter(b'\n', text).chain(std::iter::once(text.len()));
    ends.scan(0, |from, end| {
        let line = &text[*from..end];
        *from = end + 1;
        Some(line)
    })
}

/// A longer text that comes is not copied to be written.
const LONG: usize = 4096;

/// A part of a rewritten file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece<'e> {
    /// These bytes of the old text, as they are.
    Keep(Range<usize>),
    /// New bytes.
    New(Cow<'e, [u8]>),
}

/// A file after its edits: pieces of the old text and new bytes, in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rewrite<'e> {
    /// The pieces.
    pub pieces: Vec<Piece<'e>>,
}

impl Rewrite<'_> {
    /// How long the new text is, in bytes.
    pub fn len(&self) -> usize {
        self.pieces
            .iter()
            .map(|piece| match piece {
                Piece::Keep(range) => range.len(),
                Piece::New(bytes) => bytes.len(),
            })
            .sum()
    }

    /// Whether the new text is empty.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The new text, given the old one.
    pub fn bytes(&self, old: &[u8]) -> Vec<u8> {
        let mut new = Vec::with_capacity(self.len());
        for piece in &self.pieces {
            match piece {
                Piece::Keep(range) => new.extend_from_slice(&old[range.clone()]),
                Piece::New(bytes) => new.extend_from_slice(bytes),
            }
        }
        new
    }
}

impl Lines {
    /// The file with `edits` carried out. They may come in any order, but each
    /// names other bytes; those that insert at the same place keep their order.
    pub fn rewrite<'e>(&self, edits: &[&'e Edit]) -> Rewrite<'e> {
        let length = self.file_length();
        let mut edits = edits.to_vec();
        // What comes in front of a line is written before the line is.
        edits.sort_by_key(|edit| (edit.range.start, edit.before.is_some()));
        let mut pieces = Vec::new();
        let mut fresh = Vec::new();
        let mut kept = 0;
        for edit in edits {
            if edit.range.start > kept {
                flush(&mut fresh, &mut pieces);
                pieces.push(Piece::Keep(kept..edit.range.start));
            }
            kept = edit.range.end;
            match (&edit.before, &edit.after) {
                (None, Some(line)) => {
                    // Only the last line of the file may lack its newline, or
                    // one that was put in its place.
                    let unfinished = match (fresh.last(), pieces.last()) {
                        (Some(&byte), _) => byte != b'\n',
                        (None, Some(Piece::Keep(range))) => {
                            range.end == length && !self.is_finished()
                        }
                        _ => false,
                    };
                    if unfinished {
                        fresh.push(b'\n');
                    }
                    if line.len() > LONG {
                        // Many lines: not copied once more.
                        flush(&mut fresh, &mut pieces);
                        pieces.push(Piece::New(Cow::Borrowed(line)));
                    } else {
                        fresh.extend_from_slice(line);
                    }
                    fresh.push(b'\n');
                }
                (before, Some(line)) => {
                    fresh.extend_from_slice(line);
                    // The last line, put in its own place, gets the end it lacked.
                    let last = kept == length && !self.is_finished();
                    if last && before.as_ref() == Some(line) {
                        fresh.push(b'\n');
                    }
                }
                (_, None) => {}
            }
        }
        if kept < length {
            flush(&mut fresh, &mut pieces);
            pieces.push(Piece::Keep(kept..length));
        }
        flush(&mut fresh, &mut pieces);
        Rewrite { pieces }
    }

    /// The edit that puts `after` in the place of `line`.
    pub fn replacing(&self, line: Line<'_>, after: Vec<u8>) -> Edit {
        Edit {
            file: self.file(),
            line: self.number(line.start),
            before: Some(line.bytes.into()),
            after: Some(after.into()),
            range: self.file_range(line),
        }
    }

    /// The edit that takes `line` out.
    pub fn removing(&self, line: Line<'_>) -> Edit {
        let mut range = self.file_range(line);
        range.end = self.file_length().min(range.end + 1);
        Edit {
            file: self.file(),
            line: self.number(line.start),
            before: Some(line.bytes.into()),
            after: None,
            range,
        }
    }
}

impl Lines {
    fn file_range(&self, line: Line<'_>) -> Range<usize> {
        let start = self.file_offset(line.start);
        start..start + line.bytes.len()
    }
}

fn flush(fresh: &mut Vec<u8>, pieces: &mut Vec<Piece<'_>>) {
    if !fresh.is_empty() {
        pieces.push(Piece::New(std::mem::take(fresh).into()));
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use proptest::prelude::*;

    use super::*;

    fn lines(text: &[u8]) -> Lines {
        Lines::new(File::Passwd, Arc::new(text.to_vec()))
    }

    fn inserting(lines: &Lines, line: &str) -> Edit {
        let at = lines.insertion().0;
        Edit { file: File::Passwd, line: 0, before: None, after: Some(line.into()), range: at..at }
    }

    fn applied(text: &str, edit: impl Fn(&Lines) -> Vec<Edit>) -> String {
        let lines = lines(text.as_bytes());
        let edits = edit(&lines);
        let rewrite = lines.rewrite(&edits.iter().collect::<Vec<_>>());
        String::from_utf8(rewrite.bytes(text.as_bytes())).unwrap()
    }

    #[test]
    fn new_lines_go_before_closing_compat_lines_and_after_an_unfinished_one() {
        let add = |lines: &Lines| vec![inserting(lines, "b"), inserting(lines, "c")];
        assert_eq!(applied("a\n", add), "a\nb\nc\n");
        assert_eq!(applied("a", add), "a\nb\nc\n");
        assert_eq!(applied("", add), "b\nc\n");
        assert_eq!(applied("a\n+\n", add), "a\nb\nc\n+\n");
        assert_eq!(applied("a\n+", add), "a\nb\nc\n+");
        assert_eq!(applied("+\na\n", add), "+\na\nb\nc\n");
    }

    #[test]
    fn lines_are_replaced_and_removed_in_place() {
        let edit = |lines: &Lines| {
            vec![lines.removing(lines.get(2)), lines.replacing(lines.get(0), b"A".to_vec())]
        };
        assert_eq!(applied("a\r\nb\nc", edit), "A\nb\n");
        assert_eq!(applied("a\n\nc\nd", edit), "A\n\nd");
    }

    proptest! {
        /// Any bytes, any set of edits: what no edit names stays as it was.
        #[test]
        fn untouched_lines_keep_every_byte(
            text in proptest::collection::vec(prop_oneof![Just(b'\n'), Just(b':'), Just(b'+'), any::<u8>()], 0..400),
            picks in proptest::collection::vec((any::<u16>(), any::<bool>()), 0..6),
            added in 0usize..3,
        ) {
            let lines = lines(&text);
            prop_assert_eq!(lines.rewrite(&[]).bytes(&text), text.clone());
            let mut wanted: Vec<Option<Vec<u8>>> =
                lines.iter().map(|line| Some(line.bytes.to_vec())).collect();
            prop_assert_eq!(wanted.len(), lines.len());
            let mut edits = Vec::new();
            let mut touched = std::collections::BTreeSet::new();
            for (pick, remove) in picks {
                if wanted.is_empty() || !touched.insert(usize::from(pick) % wanted.len()) {
                    continue;
                }
                let at = usize::from(pick) % wanted.len();
                if remove {
                    edits.push(lines.removing(lines.get(at)));
                    wanted[at] = None;
                } else {
                    edits.push(lines.replacing(lines.get(at), b"changed".to_vec()));
                    wanted[at] = Some(b"changed".to_vec());
                }
            }
            let (at, number) = lines.insertion();
            let (place, at_end) = (number - 1, at == text.len());
            for _ in 0..added {
                edits.push(inserting(&lines, "new:line"));
                let place = if at_end { wanted.len() } else { place };
                wanted.insert(place, Some(b"new:line".to_vec()));
            }
            let new = lines.rewrite(&edits.iter().collect::<Vec<_>>()).bytes(&text);
            let got: Vec<_> = Lines::new(File::Passwd, Arc::new(new)).iter().map(|line| line.bytes.to_vec()).collect();
            prop_assert_eq!(got, wanted.into_iter().flatten().collect::<Vec<_>>());
        }
    }
}
