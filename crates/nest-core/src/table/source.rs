//! Texts that are read only as far as they are wanted.

use std::ops::Range;
use std::sync::{Arc, OnceLock};

use memchr::{memchr, memrchr};
use rayon::prelude::*;

use super::lines::Text;

/// So much is read in one go: what is small stays near the processor.
const PIECE: usize = 256 * 1024;

/// So many single lines are kept; then the whole text is read.
const FEW: usize = 8;

/// A text that can be read in pieces, at any time and by several threads.
pub trait TextSource: Send + Sync {
    /// How many bytes it has.
    fn length(&self) -> usize;

    /// Reads from `offset` on, as much as there is room for; less only at the end. What
    /// can't be read is not there: whoever made the source has to ask it in the end
    /// whether it was all right.
    fn read(&self, offset: usize, into: &mut [u8]) -> usize;

    /// All of it, always as long as [`TextSource::length`] says: where something can't be
    /// read, with anything in its place.
    fn whole(&self) -> Text;
}

/// A source, and what was read of it and kept.
pub(super) struct Unread {
    source: Arc<dyn TextSource>,
    whole: OnceLock<Text>,
    /// Lines, newline left out, with where they begin.
    lines: [OnceLock<(usize, Vec<u8>)>; FEW],
}

impl Unread {
    pub fn new(source: Arc<dyn TextSource>) -> Self {
        Unread { source, whole: OnceLock::new(), lines: Default::default() }
    }

    pub fn length(&self) -> usize {
        self.source.length()
    }

    /// The whole text, which is kept from now on.
    pub fn text(&self) -> &[u8] {
        (**self.whole.get_or_init(|| self.source.whole())).as_ref()
    }

    /// Whether the whole text is held by now.
    pub fn is_held(&self) -> bool {
        self.whole.get().is_some()
    }

    /// Whether the text ends in a newline, or is empty.
    pub fn is_finished(&self) -> bool {
        let mut last = [b'\n'];
        self.source.read(self.length().saturating_sub(1), &mut last);
        last == [b'\n']
    }

    /// The line that begins at `start`, without its newline, as long as it is one of a
    /// few that are asked for.
    pub fn line(&self, start: usize) -> Option<&[u8]> {
        if self.is_held() {
            return None;
        }
        for place in &self.lines {
            let (other, line) = place.get_or_init(|| (start, self.read_line(start)));
            if *other == start {
                return Some(line);
            }
        }
        None
    }

    fn read_line(&self, start: usize) -> Vec<u8> {
        let mut line = vec![0; 1024];
        loop {
            let read = self.source.read(start, &mut line);
            if let Some(end) = memchr(b'\n', &line[..read]) {
                line.truncate(end);
                return line;
            }
            if read < line.len() {
                line.truncate(read);
                return line;
            }
            line = vec![0; line.len() * 2];
        }
    }

    /// Whether another text is the same.
    pub fn is_like(&self, other: &Unread) -> bool {
        let length = self.length();
        let buffers = || [vec![0; PIECE], vec![0; PIECE]];
        let alike = |[ours, theirs]: &mut [Vec<u8>; 2], piece: usize| {
            let wanted = (length - piece * PIECE).min(PIECE);
            let read = |unread: &Unread, into: &mut Vec<u8>| {
                unread.source.read(piece * PIECE, &mut into[..wanted]) == wanted
            };
            read(self, ours) && read(other, theirs) && ours[..wanted] == theirs[..wanted]
        };
        let pieces = (0..length.div_ceil(PIECE)).into_par_iter();
        other.length() == length && pieces.map_init(buffers, alike).all(|alike| alike)
    }

    /// Tells the lines that begin in `range`, in pieces with where they begin.
    pub fn read_through(&self, range: Range<usize>, mut tell: impl FnMut(usize, &[u8])) {
        let mut buffer = vec![0; PIECE.min(self.length() + 1)];
        // The buffer holds so many bytes of the text, from here on.
        let (mut from, mut held) = (range.start.saturating_sub(1), 0);
        let mut inside = range.start == 0;
        loop {
            let read = self.source.read(from + held, &mut buffer[held..]);
            held += read;
            let begin = match memchr(b'\n', &buffer[..held]) {
                _ if inside => 0,
                Some(newline) => newline + 1,
                None if read == 0 => return,
                // The rest of a line that began before.
                None => {
                    from += held;
                    held = 0;
                    continue;
                }
            };
            inside = true;
            if from + begin >= range.end {
                return;
            }
            let whole = match memrchr(b'\n', &buffer[begin..held]) {
                _ if read == 0 => held,
                Some(newline) => begin + newline + 1,
                None => begin,
            };
            // The line with the last byte of the range is the last one.
            let last = (range.end - 1).saturating_sub(from).max(begin);
            let newline = buffer[..whole].get(last..).and_then(|rest| memchr(b'\n', rest));
            let end = newline.map_or(whole, |newline| last + newline + 1);
            if end > begin {
                tell(from + begin, &buffer[begin..end]);
            }
            if read == 0 || newline.is_some() {
                return;
            }
            buffer.copy_within(end..held, 0);
            from += end;
            held -= end;
            if held == buffer.len() {
                buffer.resize(2 * held, 0);
            }
        }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::table::{File, Lines};

    /// A text as a source, for tests.
    pub(crate) struct Slow(pub Vec<u8>);

    impl TextSource for Slow {
        fn length(&self) -> usize {
            self.0.len()
        }

        fn read(&self, offset: usize, into: &mut [u8]) -> usize {
            let rest = self.0.get(offset..).unwrap_or_default();
            let count = rest.len().min(into.len());
            into[..count].copy_from_slice(&rest[..count]);
            count
        }

        fn whole(&self) -> Text {
            Arc::new(self.0.clone())
        }
    }

    fn unread(text: &[u8]) -> Unread {
        Unread::new(Arc::new(Slow(text.to_vec())))
    }

    proptest! {
        /// However a text is cut, every line is told once, whole, with its place.
        #[test]
        fn every_line_is_told_once(text in "[a:\n]{0,60}", count in 1usize..6) {
            let text = text.as_bytes();
            let part = |at| {
                let mut lines = Vec::new();
                let range = text.len() * at / count..text.len() * (at + 1) / count;
                unread(text).read_through(range, |from, piece| {
                    assert_eq!(piece, &text[from..from + piece.len()]);
                    lines.extend_from_slice(piece);
                });
                lines
            };
            let parts: Vec<Vec<u8>> = (0..count).map(part).collect();
            let whole = |part: &Vec<u8>| part.is_empty() || part.ends_with(b"\n");
            let last = parts.iter().rposition(|part| !part.is_empty()).unwrap_or(0);
            prop_assert!(parts[..last].iter().all(whole));
            prop_assert_eq!(parts.concat(), text);
        }

        /// Lines of a text that is read as it is wanted are those of the text.
        #[test]
        fn lines_are_the_same_read_or_not(text in "([a-c]{1,3}:[a-c]{0,2}\n){0,12}[a-c]{0,3}") {
            let plain = Lines::new(File::Shadow, Arc::new(text.clone().into_bytes()));
            let lines = Lines::unread(File::Shadow, Arc::new(Slow(text.clone().into_bytes())));
            prop_assert_eq!(lines.is_finished(), plain.is_finished());
            prop_assert_eq!(lines.file_length(), text.len());
            for line in plain.iter() {
                prop_assert_eq!(lines.at(line.start).bytes, line.bytes);
                prop_assert_eq!(lines.number(line.start), plain.number(line.start));
            }
            prop_assert_eq!(lines.len(), plain.len());
            prop_assert_eq!(lines.text(), plain.text());
        }
    }

    #[test]
    fn texts_are_alike_byte_by_byte() {
        let text = "a:1:1\n".repeat(2 * PIECE / 5).into_bytes();
        let like = |other: &[u8]| unread(&text).is_like(&unread(other));
        assert!(like(&text) && unread(b"").is_like(&unread(b"")));
        assert!(!like(&text[1..]) && !like(&[&text[..], b"\n"].concat()));
        for at in [0, PIECE - 1, PIECE, text.len() - 1] {
            let mut other = text.clone();
            other[at] = b'x';
            assert!(!like(&other), "{at}");
        }
    }

    #[test]
    fn long_lines_do_not_fit_in_one_piece() {
        let long = "x".repeat(PIECE + 5);
        let text = format!("a:1\n{long}\nb:{long}{long}\nc:1");
        for count in [1, 3] {
            let mut told = Vec::new();
            for at in 0..count {
                let range = text.len() * at / count..text.len() * (at + 1) / count;
                let tell = |from, piece: &[u8]| told.push((from, piece.len()));
                unread(text.as_bytes()).read_through(range, tell);
            }
            assert_eq!(told.iter().map(|(_, length)| length).sum::<usize>(), text.len());
            assert!(told.windows(2).all(|pair| pair[0].0 + pair[0].1 == pair[1].0));
        }
        let unread = unread(text.as_bytes());
        assert_eq!(unread.line(4), Some(long.as_bytes()));
        assert_eq!(unread.line(text.len() - 3), Some(&b"c:1"[..]));
    }
}
