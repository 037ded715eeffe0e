//! Reading a large file for the sake of a few of its lines.
//!
//! Memory for a whole file costs more than reading it: the text is gone through
//! in pieces, and only the lines that hold one of some words are kept.

use memchr::{memchr_iter, memmem, memrchr};

use super::{File, Line, Lines, each_row};
use crate::value::{IdSet, IdSpan, read_id, read_plain_id};

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
    pub numbers: Option<IdSet>,
}

/// The numbers that the lines of a file hold, those of broken lines too as long
/// as they can be read: the ids of passwd and group, every id of the ranges of
/// subuid and subgid.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Gathered {
    ids: IdSet,
    /// First and last id of each range, as one number.
    spans: Vec<u64>,
}

impl Gathered {
    /// Adds the numbers of some whole lines of `file`.
    pub fn gather(&mut self, file: File, text: &[u8]) {
        match file {
            File::Subuid | File::Subgid => {
                // The counts are the same on many lines.
                let mut usual = (&b""[..], 0);
                each_row(text, |row| {
                    let (Some(first), Some(count), 3) = (row.field(1), row.field(2), row.count())
                    else {
                        return;
                    };
                    if count != usual.0 {
                        usual = (count, read_plain_id(count).unwrap_or(0));
                    }
                    let first = read_plain_id(first);
                    let counted = |first| IdSpan::counted(first, u64::from(usual.1));
                    if let Some(span) = first.and_then(counted) {
                        self.add(span);
                    }
                });
            }
            _ => each_row(text, |row| {
                if let Some(id) = row.field(2).and_then(read_id) {
                    self.ids.insert(id);
                }
            }),
        }
    }

    /// Adds a range. Most begin where the one before ends, and both are kept as one.
    #[inline]
    fn add(&mut self, span: IdSpan) {
        match self.spans.last_mut() {
            Some(last) if (*last as u32).checked_add(1) == Some(span.first()) => {
                *last = *last >> 32 << 32 | u64::from(span.last());
            }
            _ => self.spans.push(u64::from(span.first()) << 32 | u64::from(span.last())),
        }
    }

    /// All of them. The set of many ranges is larger than any cache: filled in
    /// order it takes a tenth of the time, sorting included. What touches is put in as one.
    pub fn finish(mut self) -> IdSet {
        self.spans.sort_unstable();
        let spans = self.spans.iter().map(|span| ((span >> 32) as u32, *span as u32));
        let mut whole: Option<(u32, u32)> = None;
        for (first, last) in spans {
            match &mut whole {
                Some((_, end)) if first <= end.saturating_add(1) => *end = last.max(*end),
                _ => {
                    let before = whole.replace((first, last));
                    before.into_iter().for_each(|(first, last)| self.ids.insert_span(first, last));
                }
            }
        }
        whole.into_iter().for_each(|(first, last)| self.ids.insert_span(first, last));
        self.ids
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
    numbers: Option<Gathered>,
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
            numbers: None,
        };
        let numbers = numbers.then(Gathered::default);
        Excerpter { file, finders, begun: Vec::new(), text: Vec::new(), outside, numbers, lines: 0 }
    }

    /// Takes the next piece of the text.
    pub fn feed(&mut self, piece: &[u8]) {
        let Some(end) = memrchr(b'\n', piece) else {
            self.begun.extend_from_slice(piece);
            return;
        };
        let (whole, rest) = piece.split_at(end + 1);
        if self.begun.is_empty() {
            self.add_text(whole);
        } else {
            let first = memchr::memchr(b'\n', whole).map_or(whole.len(), |at| at + 1);
            let mut line = std::mem::take(&mut self.begun);
            line.extend_from_slice(&whole[..first]);
            self.add_text(&line);
            self.add_text(&whole[first..]);
        }
        self.begun.extend_from_slice(rest);
    }

    /// The lines that were kept, as the table of the file.
    pub fn finish(mut self) -> Lines {
        let last = std::mem::take(&mut self.begun);
        if !last.is_empty() {
            self.outside.finished = false;
            self.add_text(&last);
        }
        self.outside.numbers = self.numbers.map(Gathered::finish);
        Lines::excerpt(self.file, self.text, self.outside)
    }

    /// Whole lines (the very last may lack its newline).
    fn add_text(&mut self, text: &[u8]) {
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
        if let Some(numbers) = &mut self.numbers {
            numbers.gather(self.file, text);
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
        for (file, text, held, free) in [
            (File::Passwd, "a:x:7\n#b:x:8:\nc:x:+9:1:::\nd\n", [7, 9], [8, 1]),
            (File::Subgid, "a:10:2\nb:1\nc:5:1", [11, 5], [1, 12]),
            (File::Subuid, "a:10:2\nb:1:x\nc:1:0\nd:20:2\n:30:2", [21, 31], [1, 22]),
        ] {
            let mut excerpter = Excerpter::new(file, &[], true);
            text.as_bytes().chunks(3).for_each(|piece| excerpter.feed(piece));
            for lines in [excerpter.finish(), Lines::new(file, Arc::new(text))] {
                let mut ids = IdSet::default();
                lines.add_numbers(&mut ids);
                assert!(held.iter().all(|id| ids.contains(*id)), "{text}");
                assert!(!free.iter().any(|id| ids.contains(*id)), "{text}");
            }
        }
    }

    proptest! {
        /// Ranges in any order, some of which touch or overlap.
        #[test]
        fn ranges_are_gathered_whole(
            ranges in proptest::collection::vec((0u32..60, 0u32..9), 0..9),
            end in prop_oneof![Just(0u32), Just(u32::MAX - 70)],
        ) {
            let line = |(first, count): &(u32, u32)| format!("a:{}:{count}\n", end + first);
            let mut gathered = Gathered::default();
            gathered.gather(File::Subuid, ranges.iter().map(line).collect::<String>().as_bytes());
            let ids = gathered.finish();
            for id in 0..70 {
                let held = ranges.iter().any(|(first, count)| (*first..first + count).contains(&id));
                prop_assert_eq!(ids.contains(end + id), held, "{}", id);
            }
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
