//! Reading a large file for the sake of a few of its lines.
//!
//! Memory for a whole file costs more than reading it: the text is gone through
//! in pieces, and only the lines that hold one of some words are kept.

use memchr::{memchr_iter, memmem, memrchr};

use super::{File, Line, Lines, SubId, each_row};
use crate::value::{IdSpan, read_id};

/// What is known of a file of which only some lines were kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Outside {
    /// For each kept line: where it begins in the kept text, where in the file,
    /// and its number.
    pub kept: Vec<(usize, usize, usize)>,
    /// The length of the file in bytes.
    pub length: usize,
    /// Whether its last line has a newline.
    pub finished: bool,
    /// Where new lines go, and the number of a line there.
    pub insertion: (usize, usize),
    /// The numbers of all lines, if they were wanted.
    pub numbers: Option<Numbers>,
}

/// The numbers that the lines of a file hold, those of broken ones too as long
/// as they can be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Numbers {
    /// The uids of passwd, the gids of group; any order, and maybe more than once.
    Ids(Vec<u32>),
    /// The ranges of subuid and subgid, in file order.
    Spans(Vec<IdSpan>),
}

impl Numbers {
    /// None yet, of the kind that `file` has.
    pub fn of(file: File) -> Self {
        match file {
            File::Subuid | File::Subgid => Numbers::Spans(Vec::new()),
            _ => Numbers::Ids(Vec::new()),
        }
    }

    /// Adds the numbers of some whole lines.
    pub fn gather(&mut self, text: &[u8]) {
        match self {
            Numbers::Ids(ids) => each_row(text, |row| {
                ids.extend(row.field(2).and_then(read_id));
            }),
            Numbers::Spans(spans) => each_row(text, |row| {
                let fields = (row.field(0), row.field(1), row.field(2), row.count());
                if let (Some(owner), Some(first), Some(count), 3) = fields {
                    spans.extend(SubId { owner, first, count }.span());
                }
            }),
        }
    }
}

/// Goes through a file piece by piece and keeps the lines that hold one of some
/// words.
pub struct Excerpter {
    file: File,
    finders: Vec<memmem::Finder<'static>>,
    /// A line whose end has not come yet.
    begun: Vec<u8>,
    text: Vec<u8>,
    outside: Outside,
    /// Whole lines so far.
    lines: usize,
}

impl Excerpter {
    /// Keeps the lines of `file` that hold one of `words`; with `numbers`, also
    /// the numbers of all lines.
    pub fn new(file: File, words: &[Vec<u8>], numbers: bool) -> Self {
        let finders = words.iter().map(|word| memmem::Finder::new(word).into_owned()).collect();
        let outside = Outside {
            kept: Vec::new(),
            length: 0,
            finished: true,
            insertion: (0, 1),
            numbers: numbers.then(|| Numbers::of(file)),
        };
        Excerpter { file, finders, begun: Vec::new(), text: Vec::new(), outside, lines: 0 }
    }

    /// Takes the next piece of the text.
    pub fn feed(&mut self, piece: &[u8]) {
        let Some(end) = memrchr(b'\n', piece) else {
            self.begun.extend_from_slice(piece);
            return;
        };
        let (whole, rest) = piece.split_at(end + 1);
        if self.begun.is_empty() {
            self.take(whole);
        } else {
            let first = memchr::memchr(b'\n', whole).map_or(whole.len(), |at| at + 1);
            let mut line = std::mem::take(&mut self.begun);
            line.extend_from_slice(&whole[..first]);
            self.take(&line);
            self.take(&whole[first..]);
        }
        self.begun.extend_from_slice(rest);
    }

    /// The lines that were kept, as the table of the file.
    pub fn finish(mut self) -> Lines {
        let last = std::mem::take(&mut self.begun);
        if !last.is_empty() {
            self.outside.finished = false;
            self.take(&last);
        }
        Lines::excerpt(self.file, self.text, self.outside)
    }

    /// Whole lines (the very last may lack its newline).
    fn take(&mut self, text: &[u8]) {
        if text.is_empty() {
            return;
        }
        let mut hits: Vec<usize> = Vec::new();
        for finder in &self.finders {
            let mut from = 0;
            while let Some(at) = text.get(from..).and_then(|text| finder.find(text)) {
                let at = from + at;
                hits.push(memrchr(b'\n', &text[..at]).map_or(0, |newline| newline + 1));
                from = memchr::memchr(b'\n', &text[at..]).map_or(text.len(), |end| at + end + 1);
            }
        }
        hits.sort_unstable();
        hits.dedup();
        let (mut counted, mut number) = (0, self.lines);
        for start in hits {
            number += memchr_iter(b'\n', &text[counted..start]).count();
            counted = start;
            let end =
                memchr::memchr(b'\n', &text[start..]).map_or(text.len(), |end| start + end + 1);
            self.outside.kept.push((self.text.len(), self.outside.length + start, number + 1));
            self.text.extend_from_slice(&text[start..end]);
        }
        if let Some(numbers) = &mut self.outside.numbers {
            numbers.gather(text);
        }
        let lines = memchr_iter(b'\n', text).count() + usize::from(!text.ends_with(b"\n"));
        self.note_insertion(text, lines);
        self.lines += lines;
        self.outside.length += text.len();
    }

    /// New lines go behind the last line that is no compat line.
    fn note_insertion(&mut self, text: &[u8], lines: usize) {
        let (mut end, mut closing) = (text.len(), 0);
        while end > 0 {
            let body = &text[..end - usize::from(text[..end].ends_with(b"\n"))];
            let start = memrchr(b'\n', body).map_or(0, |newline| newline + 1);
            if !(Line { bytes: &body[start..], start }).is_compat() {
                let number = self.lines + lines - closing + 1;
                self.outside.insertion = (self.outside.length + end, number);
                return;
            }
            end = start;
            closing += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use proptest::prelude::*;

    use super::*;
    use crate::table::Edit;

    fn excerpt(text: &[u8], piece: usize, word: &str) -> Lines {
        let mut excerpter = Excerpter::new(File::Shadow, &[word.as_bytes().to_vec()], false);
        text.chunks(piece.max(1)).for_each(|piece| excerpter.feed(piece));
        excerpter.finish()
    }

    proptest! {
        /// An excerpt answers as the whole file does.
        #[test]
        fn an_excerpt_answers_like_the_file(
            parts in proptest::collection::vec(prop_oneof![
                Just("maren:!:1"), Just("\n"), Just("tavish:x"), Just("+\n"), Just("x"), Just(" maren:"),
            ], 0..40),
            piece in 1usize..30,
        ) {
            let text = parts.concat().into_bytes();
            let whole = Lines::new(File::Shadow, Arc::new(text.clone()));
            let part = excerpt(&text, piece, "maren:");
            let look = |lines: &Lines| -> Vec<(usize, Vec<u8>, Edit)> {
                let found = lines.named(b"maren");
                found.map(|line| {
                    let edit = lines.replacing(line, b"new".to_vec());
                    (lines.number(line.start), line.bytes.to_vec(), edit)
                }).collect()
            };
            prop_assert_eq!(look(&whole), look(&part));
            prop_assert_eq!(whole.insertion(), part.insertion());
            prop_assert_eq!(whole.is_empty(), part.is_empty());
            let edits: Vec<Edit> = look(&whole).into_iter().map(|found| found.2).collect();
            let edits: Vec<&Edit> = edits.iter().collect();
            prop_assert_eq!(whole.rewrite(&edits), part.rewrite(&edits));
        }
    }

    #[test]
    fn the_numbers_of_all_lines_are_gathered() {
        for (file, text, numbers) in [
            (File::Passwd, "a:x:7\n#b:x:8:\nc:x:+9:1:::\nd\n", Numbers::Ids(vec![7, 9])),
            (
                File::Subgid,
                "a:10:2\nb:1\nc:5:1",
                Numbers::Spans(vec![IdSpan { first: 10, last: 11 }, IdSpan { first: 5, last: 5 }]),
            ),
        ] {
            let mut excerpter = Excerpter::new(file, &[], true);
            text.as_bytes().chunks(3).for_each(|piece| excerpter.feed(piece));
            assert_eq!(excerpter.finish().numbers(), numbers);
            assert_eq!(Lines::new(file, Arc::new(text)).numbers(), numbers);
        }
    }

    #[test]
    fn a_line_longer_than_any_piece_is_kept_whole() {
        let long = format!("maren:{}\nx", "y".repeat(5000));
        let part = excerpt(long.as_bytes(), 64, "maren:");
        assert_eq!(part.named(b"maren").next().unwrap().bytes.len(), 5006);
        assert_eq!(part.insertion(), (long.len(), 3));
    }
}
