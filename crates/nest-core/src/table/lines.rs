//! The lines of one file, over one buffer.

use std::ops::Range;
use std::sync::{Arc, OnceLock};

use memchr::{memchr, memchr_iter, memmem, memrchr};

use rayon::prelude::*;

use super::File;
use super::excerpt::{Gathered, Outside};
use crate::allot::IdSet;

/// Work on less text than this is not worth a thread's attention.
const PART: usize = 1 << 20;

/// The text of a file, however the caller holds it.
pub type Text = Arc<dyn AsRef<[u8]> + Send + Sync>;

/// The text of one account file and where its lines begin.
pub struct Lines {
    file: File,
    text: Text,
    /// Found when first needed: looking up one name needs no line table.
    starts: OnceLock<Vec<u32>>,
    /// Set when `text` holds only some lines of the file.
    outside: Option<Outside>,
}

/// One line, without its newline.
#[derive(Debug, Clone, Copy)]
pub struct Line<'a> {
    /// The bytes, newline left out.
    pub bytes: &'a [u8],
    /// Where they begin in the file.
    pub start: usize,
}

impl<'a> Line<'a> {
    /// The bytes of the line in the file, newline left out.
    pub fn range(&self) -> Range<usize> {
        self.start..self.start + self.bytes.len()
    }

    /// The line as a record: the C library passes over leading white space.
    pub fn record(&self) -> &'a [u8] {
        match self.bytes.first() {
            Some(byte) if byte.is_ascii_whitespace() => self.bytes.trim_ascii_start(),
            _ => self.bytes,
        }
    }

    /// Whether the line is meant as a record: not blank, no comment, no compat
    /// line. It may still be malformed.
    pub fn is_record(&self) -> bool {
        !matches!(self.record().first(), None | Some(b'#' | b'+' | b'-'))
    }

    /// Whether the line has as many fields as the lines of its file have.
    pub fn is_whole(&self, file: File) -> bool {
        memchr::memchr_iter(b':', self.record()).count() + 1 == file.fields()
    }

    /// Whether the line is a compat line, which stands for entries of a
    /// directory (`+` takes them in, `-` leaves them out).
    pub fn is_compat(&self) -> bool {
        matches!(self.record().first(), Some(b'+' | b'-'))
    }

    /// The first field, for a record.
    pub fn name(&self) -> &'a [u8] {
        let record = self.record();
        &record[..memchr(b':', record).unwrap_or(record.len())]
    }
}

impl Lines {
    /// The lines of `text`.
    pub fn new(file: File, text: Text) -> Self {
        Lines { file, text, starts: OnceLock::new(), outside: None }
    }

    /// Some lines of a file; see [`super::Excerpter`].
    pub(super) fn excerpt(file: File, text: Vec<u8>, outside: Outside) -> Self {
        Lines { file, text: Arc::new(text), starts: OnceLock::new(), outside: Some(outside) }
    }

    /// Whether only the lines that were asked for are here.
    pub fn is_excerpt(&self) -> bool {
        self.outside.is_some()
    }

    /// How long the file is, in bytes.
    pub fn file_length(&self) -> usize {
        self.outside.as_ref().map_or(self.text().len(), |outside| outside.length)
    }

    /// Whether the last line of the file has its newline; an empty file needs
    /// none.
    pub fn is_finished(&self) -> bool {
        match &self.outside {
            Some(outside) => outside.finished,
            None => self.text().is_empty() || self.text().ends_with(b"\n"),
        }
    }

    /// Adds the numbers of all lines of the file: ids, or those of ranges.
    ///
    /// # Panics
    /// For an excerpt that was made without its numbers.
    pub fn add_numbers(&self, ids: &mut IdSet) {
        match &self.outside {
            None => {
                let mut numbers = Gathered::default();
                numbers.gather(self.file, self.text());
                ids.extend(&numbers.finish());
            }
            Some(outside) => {
                let numbers = outside.numbers.as_ref();
                ids.extend(numbers.expect("the excerpt was to be made with its numbers"));
            }
        }
    }

    /// Where in the file a line begins that begins at `start` in the text.
    pub(super) fn file_offset(&self, start: usize) -> usize {
        let Some(outside) = &self.outside else { return start };
        let at = outside.kept.partition_point(|kept| kept.0 <= start);
        outside.kept[at - 1].1 + (start - outside.kept[at - 1].0)
    }

    /// Which file this is.
    pub fn file(&self) -> File {
        self.file
    }

    /// The whole text.
    pub fn text(&self) -> &[u8] {
        (*self.text).as_ref()
    }

    /// Where each line begins. A file over 4 GB has no line table; the host
    /// refuses to load one.
    fn starts(&self) -> &[u32] {
        self.starts.get_or_init(|| {
            let text = self.text();
            let mut starts = Vec::with_capacity(text.len() / 48 + 1);
            if !text.is_empty() {
                starts.push(0);
            }
            starts.extend(memchr_iter(b'\n', text).map(|at| at as u32 + 1));
            if text.ends_with(b"\n") {
                starts.pop();
            }
            starts
        })
    }

    /// How many lines there are.
    pub fn len(&self) -> usize {
        self.starts().len()
    }

    /// Whether the file has no line at all.
    pub fn is_empty(&self) -> bool {
        self.file_length() == 0
    }

    /// Where the line at `index`, counted from 0, begins in the text.
    ///
    /// # Panics
    /// When there is no such line.
    #[inline]
    pub fn start(&self, index: usize) -> usize {
        self.starts()[index] as usize
    }

    /// The line at `index`, counted from 0.
    ///
    /// # Panics
    /// When there is no such line.
    #[inline]
    pub fn get(&self, index: usize) -> Line<'_> {
        let starts = self.starts();
        let start = starts[index] as usize;
        let text = self.text();
        let end = match starts.get(index + 1) {
            Some(next) => *next as usize - 1,
            None => text.len() - usize::from(text.ends_with(b"\n")),
        };
        Line { bytes: &text[start..end], start }
    }

    /// All lines, in order.
    pub fn iter(&self) -> impl Iterator<Item = Line<'_>> {
        let text = self.text();
        let mut start = 0;
        std::iter::from_fn(move || {
            if start >= text.len() {
                return None;
            }
            let rest = &text[start..];
            let length = memchr(b'\n', rest).unwrap_or(rest.len());
            let line = Line { bytes: &rest[..length], start };
            start += length + 1;
            Some(line)
        })
    }

    /// Whether the lines name the same as those of another file, one by one.
    pub fn is_in_step_with(&self, other: &Lines) -> bool {
        // A line without a colon names nobody.
        let named = |line: Line<'_>| line.is_record() && line.name().len() < line.record().len();
        self.iter().map(Some).chain([None]).zip(other.iter().map(Some).chain([None])).all(|pair| {
            let (one, other) = match pair {
                (Some(one), Some(other)) => (one, other),
                (one, other) => return one.is_none() && other.is_none(),
            };
            let name = one.bytes.iter().position(|byte| *byte == b':').unwrap_or(0);
            // Nearly always; a name of a lower-case letter is no comment.
            if one.bytes.first().is_some_and(u8::is_ascii_lowercase)
                && name > 0
                && other.bytes.starts_with(&one.bytes[..=name])
            {
                return true;
            }
            match (named(one), named(other)) {
                (true, true) => one.name() == other.name(),
                (one, other) => one == other,
            }
        })
    }

    /// The text in a few parts of about the same size, each of whole lines and with
    /// where it begins, to be gone through in parallel.
    pub fn parts(&self) -> impl IndexedParallelIterator<Item = (usize, &[u8])> {
        let text = self.text();
        let count = (text.len() / PART).clamp(1, 2 * rayon::current_num_threads());
        let line_start = |at: usize| match at {
            0 => 0,
            at => memchr(b'\n', &text[at..]).map_or(text.len(), |length| at + length + 1),
        };
        let starts: Vec<usize> =
            (0..=count).map(|part| line_start(text.len() * part / count)).collect();
        let part = |pair: &[usize]| (pair[0], &text[pair[0]..pair[1].max(pair[0])]);
        let parts: Vec<(usize, &[u8])> = starts.windows(2).map(part).collect();
        parts.into_par_iter()
    }

    /// The number in the file of the line that begins at `start`, counted from 1.
    pub fn number(&self, start: usize) -> usize {
        if let Some(outside) = &self.outside {
            let at = outside.kept.partition_point(|kept| kept.0 <= start);
            return outside.kept[at - 1].2;
        }
        match self.starts.get() {
            Some(starts) => starts.partition_point(|&at| at as usize <= start).max(1),
            None => memchr_iter(b'\n', &self.text()[..start]).count() + 1,
        }
    }

    /// Where new lines go, as a place in the file, and the number of a line
    /// there: at the end, but before closing compat lines, which hide what
    /// follows them from some readers.
    pub fn insertion(&self) -> (usize, usize) {
        if let Some(outside) = &self.outside {
            return outside.insertion;
        }
        let text = self.text();
        let mut at = text.len();
        while at > 0 {
            let line = self.around(at - 1);
            if !line.is_compat() {
                break;
            }
            at = line.start;
        }
        let before = &text[..at];
        let unfinished = !before.is_empty() && !before.ends_with(b"\n");
        let newlines = match self.starts.get() {
            Some(starts) if at == text.len() => starts.len() - usize::from(unfinished),
            _ => memchr_iter(b'\n', before).count(),
        };
        (at, newlines + 1 + usize::from(unfinished))
    }

    /// The line around the byte at `at`.
    pub fn around(&self, at: usize) -> Line<'_> {
        let text = self.text();
        let start = memrchr(b'\n', &text[..at]).map_or(0, |newline| newline + 1);
        let end = memchr(b'\n', &text[start..]).map_or(text.len(), |length| start + length);
        Line { bytes: &text[start..end], start }
    }

    /// The records, well-formed or not, whose first field is `name`.
    pub fn named<'t>(&'t self, name: &[u8]) -> impl Iterator<Item = Line<'t>> + use<'t> {
        let wanted = [name, b":"].concat();
        let length = name.len();
        self.holding(wanted.clone())
            .filter(move |line| line.is_record() && line.name() == &wanted[..length])
    }

    /// The lines that hold `wanted` anywhere, each once.
    pub fn holding<'t>(&'t self, wanted: Vec<u8>) -> impl Iterator<Item = Line<'t>> + use<'t> {
        let text = self.text();
        let finder = memmem::Finder::new(&wanted).into_owned();
        let mut from = 0;
        std::iter::from_fn(move || {
            let at = from + finder.find(text.get(from..)?)?;
            let line = self.around(at);
            from = line.range().end + 1;
            Some(line)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(text: &str) -> Lines {
        Lines::new(File::Group, Arc::new(text.as_bytes().to_vec()))
    }

    #[test]
    fn lines_are_found_with_and_without_a_last_newline() {
        for text in ["a:x\n\nb:y\n", "a:x\n\nb:y"] {
            let table = lines(text);
            assert_eq!(table.len(), 3);
            let all: Vec<_> = table.iter().map(|line| line.bytes).collect();
            assert_eq!(all, [b"a:x".as_slice(), b"", b"b:y"]);
            assert!((0..3).all(|at| table.get(at).bytes == all[at]));
            assert_eq!(table.number(table.get(2).start), 3);
        }
        assert_eq!(lines("").len(), 0);
        assert_eq!(lines("\n").len(), 1);
    }

    #[test]
    fn parts_hold_every_line_once() {
        let text: String = (0..200_000).map(|at| format!("crew{at}:x:{at}:\n\n")).collect();
        for text in [text.as_str(), &text[..text.len() - 9], "one", "\n", ""] {
            let table = lines(text);
            let parts: Vec<&[u8]> = table.parts().map(|(_, part)| part).collect();
            let whole = |part: &&[u8]| part.ends_with(b"\n") || part.is_empty();
            assert!(parts.iter().rev().skip(1).all(whole));
            let all = text.as_bytes();
            assert_eq!(parts.concat(), all);
        }
    }

    #[test]
    fn names_are_found_only_where_they_are_the_first_field() {
        let table =
            lines("crew:x:1:maren\n#maren:x:2:\n maren:x:3:\n+maren:x:4:\nmarena:x:5:\nmaren:x");
        let found: Vec<_> = table.named(b"maren").map(|line| table.number(line.start)).collect();
        assert_eq!(found, [3, 6]);
        assert_eq!(table.holding(b"mar".to_vec()).count(), 6);
    }
}
