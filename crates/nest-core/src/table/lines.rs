//! The lines of one file, over one buffer.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

use memchr::{memchr, memchr_iter, memmem, memrchr};
use rayon::prelude::*;

use super::excerpt::{Gathered, Outside};
use super::source::{TextSource, Unread};
use super::{File, Line, each_byte};
use crate::value::IdSet;

/// Work on less text than this is not worth a thread's attention.
const PART: usize = 1 << 20;

/// After so many numbers of lines where lines begin is remembered.
const FEW: usize = 4;

/// The text of a file, however the caller holds it.
pub type Text = Arc<dyn AsRef<[u8]> + Send + Sync>;

/// The text of one account file and where its lines begin.
pub struct Lines {
    file: File,
    text: HeldText,
    /// Found when first needed: looking up one name needs no line table.
    starts: OnceLock<Vec<u32>>,
    /// How often a line's number was asked for without it.
    asked: AtomicUsize,
    /// Set when `text` holds only some lines of the file.
    outside: Option<Outside>,
}

/// How a text is held.
enum HeldText {
    Whole(Text),
    Unread(Box<Unread>),
}

/// In how many parts a text of this length is gone through.
fn parts_of(length: usize) -> usize {
    (length / PART).clamp(1, 4 * rayon::current_num_threads())
}

/// One of so many parts of a text, of about the same size and of whole lines, and where
/// it begins.
fn part_of(text: &[u8], at: usize, count: usize) -> (usize, &[u8]) {
    let line_start = |part: usize| match text.len() * part / count {
        0 => 0,
        at => memchr(b'\n', &text[at..]).map_or(text.len(), |length| at + length + 1),
    };
    let (from, to) = (line_start(at), line_start(at + 1));
    (from, &text[from..to.max(from)])
}

impl Lines {
    /// The lines of `text`.
    pub fn new(file: File, text: Text) -> Self {
        Self::over(file, HeldText::Whole(text), None)
    }

    /// The lines of a text that is read when it is wanted.
    pub fn unread(file: File, source: Arc<dyn TextSource>) -> Self {
        Self::over(file, HeldText::Unread(Box::new(Unread::new(source))), None)
    }

    fn over(file: File, text: HeldText, outside: Option<Outside>) -> Self {
        let (starts, asked) = (OnceLock::new(), AtomicUsize::new(0));
        Lines { file, text, starts, asked, outside }
    }

    /// Some lines of a file; see [`super::Excerpter`].
    pub(super) fn excerpt(file: File, text: Vec<u8>, outside: Outside) -> Self {
        Self::over(file, HeldText::Whole(Arc::new(text)), Some(outside))
    }

    /// Whether only the lines that were asked for are here.
    pub fn is_excerpt(&self) -> bool {
        self.outside.is_some()
    }

    /// How long the file is, in bytes.
    pub fn file_length(&self) -> usize {
        match (&self.outside, &self.text) {
            (Some(outside), _) => outside.length,
            (None, HeldText::Unread(unread)) => unread.length(),
            (None, HeldText::Whole(text)) => (**text).as_ref().len(),
        }
    }

    /// Whether the last line of the file has its newline; an empty file needs
    /// none.
    pub fn is_finished(&self) -> bool {
        match (&self.outside, &self.text) {
            (Some(outside), _) => outside.finished,
            (None, HeldText::Unread(unread)) => unread.is_finished(),
            (None, HeldText::Whole(_)) => self.text().is_empty() || self.text().ends_with(b"\n"),
        }
    }

    /// Whether another file holds the same. Of excerpts nobody knows.
    pub(crate) fn is_like(&self, other: &Lines) -> bool {
        if self.is_excerpt() || other.is_excerpt() {
            return false;
        }
        match (&self.text, &other.text) {
            (HeldText::Unread(ours), HeldText::Unread(theirs)) => ours.is_like(theirs),
            _ => self.text() == other.text(),
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
        match &self.text {
            HeldText::Whole(text) => (**text).as_ref(),
            HeldText::Unread(unread) => unread.text(),
        }
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
            each_byte(b'\n', text, |at| {
                starts.push(at as u32 + 1);
                true
            });
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

    /// Goes through the text in a few parts, in parallel, each of them in pieces of whole
    /// lines with where they begin. Returns what came of each part.
    pub fn sweep<A: Send>(
        &self,
        begin: impl Fn() -> A + Sync,
        take: impl Fn(&mut A, usize, &[u8]) + Sync,
    ) -> Vec<A> {
        let count = parts_of(self.file_length());
        let parts = (0..count).into_par_iter().map(|at| {
            let mut part = begin();
            self.sweep_part(at, count, |from, text| take(&mut part, from, text));
            part
        });
        parts.collect()
    }

    /// Goes through one of so many parts, in pieces of whole lines with where they begin.
    pub fn sweep_part(&self, at: usize, count: usize, mut take: impl FnMut(usize, &[u8])) {
        match &self.text {
            HeldText::Unread(unread) => {
                let length = unread.length();
                unread.read_through(length * at / count..length * (at + 1) / count, take);
            }
            HeldText::Whole(text) => {
                let (from, text) = part_of((**text).as_ref(), at, count);
                take(from, text);
            }
        }
    }

    /// The number in the file of the line that begins at `start`, counted from 1.
    pub fn number(&self, start: usize) -> usize {
        if let Some(outside) = &self.outside {
            let at = outside.kept.partition_point(|kept| kept.0 <= start);
            return outside.kept[at - 1].2;
        }
        // For one or two it is quicker to count.
        let few = self.asked.fetch_add(1, Ordering::Relaxed) < FEW;
        match self.starts.get() {
            None if few => self.newlines_before(start) + 1,
            _ => self.starts().partition_point(|&at| at as usize <= start).max(1),
        }
    }

    /// How many lines end before the one that begins at `start`.
    fn newlines_before(&self, start: usize) -> usize {
        let mut count = 0;
        let mut add = |text: &[u8]| count += memchr_iter(b'\n', text).count();
        match &self.text {
            HeldText::Unread(unread) if !unread.is_held() => {
                unread.read_through(0..start, |_, text| add(text));
            }
            _ => add(&self.text()[..start]),
        }
        count
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
            _ => before.par_chunks(1 << 20).map(|part| memchr_iter(b'\n', part).count()).sum(),
        };
        (at, newlines + 1 + usize::from(unfinished))
    }

    /// The line that begins at `start` in the text.
    ///
    /// # Panics
    /// When the text ends before that.
    #[inline]
    pub fn at(&self, start: usize) -> Line<'_> {
        if let HeldText::Unread(unread) = &self.text
            && let Some(bytes) = unread.line(start)
        {
            return Line { bytes, start };
        }
        let rest = &self.text()[start..];
        Line { bytes: &rest[..memchr(b'\n', rest).unwrap_or(rest.len())], start }
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
            let keep = |kept: &mut Vec<u8>, _, part: &[u8]| kept.extend_from_slice(part);
            let parts: Vec<Vec<u8>> = table.sweep(Vec::new, keep);
            let whole = |part: &Vec<u8>| part.ends_with(b"\n") || part.is_empty();
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
