//! The lines of the account files while they are mended, by the numbers that findings know
//! them by.

use bstr::{BStr, BString};
use hashbrown::HashMap;

use crate::book::{Book, Texts};
use crate::drafting::{LineEdits, LineRef};
use crate::secret::is_kept;
use crate::table::{Edit, File};

/// Edits that a repair makes. A line is named by its index in the file as the round of
/// mends that is under way began with it, see [`RepairEdits::begin_round`].
pub(in crate::check) struct RepairEdits<'b> {
    book: &'b Book,
    edits: LineEdits<'b>,
    files: [Option<Round>; 6],
}

/// Lines by what is on them; the first come last.
type LinesByText = HashMap<BString, Vec<usize>>;

/// One file, as a round began with it, and lines that came since.
struct Round {
    lines: Vec<LineRef>,
    /// The lines of each name, in order; gathered when one is first asked for.
    names: Option<LinesByText>,
    /// The lines of each text.
    texts: Option<LinesByText>,
}

impl<'b> RepairEdits<'b> {
    pub fn new(book: &'b Book) -> Self {
        RepairEdits { book, edits: LineEdits::new(book), files: Default::default() }
    }

    /// The book of the files as they were.
    pub fn base(&self) -> &'b Book {
        self.book
    }

    /// Whether the tree has the file.
    pub fn has(&self, file: File) -> bool {
        self.book.lines(file).is_some()
    }

    fn round(&mut self, file: File) -> &mut Round {
        let edits = &self.edits;
        self.files[file as usize].get_or_insert_with(|| Round {
            lines: edits.lines_now(file),
            names: None,
            texts: None,
        })
    }

    /// The line of this index, unless it went.
    pub fn line(&mut self, file: File, at: usize) -> Option<&[u8]> {
        let line = *self.round(file).lines.get(at)?;
        self.edits.text(file, line)
    }

    /// The first line of this name, those that came included.
    pub fn named(&mut self, file: File, name: &[u8]) -> Option<usize> {
        self.known(file, name, |round| &mut round.names, name_of)
    }

    /// Whether an earlier line that stays reads just the same.
    pub fn is_repeated(&mut self, file: File, at: usize) -> bool {
        let Some(text) = self.line(file, at).map(<[u8]>::to_vec) else { return false };
        let same = self.known(file, &text, |round| &mut round.texts, |line| Some(line));
        same.is_some_and(|first| first < at)
    }

    /// The first line of a key, which `key` makes of a line, by an index that is gathered when
    /// one is first asked for. Lines that went or were altered since are passed over.
    fn known(
        &mut self,
        file: File,
        wanted: &[u8],
        index: fn(&mut Round) -> &mut Option<LinesByText>,
        key: fn(&[u8]) -> Option<&[u8]>,
    ) -> Option<usize> {
        self.round(file);
        let (round, edits) = (self.files[file as usize].as_mut()?, &self.edits);
        if index(round).is_none() {
            let mut known: LinesByText = HashMap::with_capacity(round.lines.len());
            // The last first, so that the first are taken from the end.
            for (at, line) in round.lines.iter().enumerate().rev() {
                if let Some(key) = edits.text(file, *line).and_then(key) {
                    known.entry_ref(BStr::new(key)).or_default().push(at);
                }
            }
            *index(round) = Some(known);
        }
        let lines = std::mem::take(&mut round.lines);
        let found = index(round).as_mut().and_then(|known| known.get_mut(BStr::new(wanted)));
        let is_still = |at: &usize| {
            lines.get(*at).and_then(|line| edits.text(file, *line)).and_then(key) == Some(wanted)
        };
        let first = found.and_then(|all| {
            while all.last().is_some_and(|at| !is_still(at)) {
                all.pop();
            }
            all.last().copied()
        });
        round.lines = lines;
        first
    }

    /// Puts another text in the place of a line. Returns whether it is another; a line of
    /// which something would be lost stays.
    pub fn alter(&mut self, file: File, at: usize, text: Vec<u8>) -> bool {
        let Some(now) = self.line(file, at) else { return false };
        if now == text || !is_kept(file, now) {
            return false;
        }
        let same_name = name_of(now) == name_of(&text);
        let round = self.round(file);
        let line = round.lines[at];
        // What stands in an index and reads otherwise by now is passed over; what reads so
        // now has to come in.
        if !same_name {
            round.names = None;
        }
        round.texts = None;
        self.edits.set(file, line, Some(text));
        true
    }

    /// Puts another text in the place of a line, whatever is on it.
    pub fn put(&mut self, file: File, at: usize, text: Vec<u8>) {
        let round = self.round(file);
        let Some(line) = round.lines.get(at).copied() else { return };
        (round.names, round.texts) = (None, None);
        self.edits.set(file, line, Some(text));
    }

    /// Takes a line out, unless something of it would be lost.
    pub fn remove(&mut self, file: File, at: usize) -> bool {
        self.is_kept(file, at) && self.take_out(file, at)
    }

    /// Whether undo could give back what is on a line.
    pub fn is_kept(&mut self, file: File, at: usize) -> bool {
        self.line(file, at).is_none_or(|line| is_kept(file, line))
    }

    /// Takes a line out, whatever is on it. Returns whether it was there.
    pub fn take_out(&mut self, file: File, at: usize) -> bool {
        let there = self.line(file, at).is_some();
        if there {
            let line = self.round(file).lines[at];
            self.edits.set(file, line, None);
        }
        there
    }

    /// Adds a line at the end. Returns whether it did: not where undo could not find it.
    pub fn add(&mut self, file: File, text: Vec<u8>) -> bool {
        if !self.has(file) || !is_kept(file, &text) {
            return false;
        }
        self.round(file);
        let name = name_of(&text).map(BString::from);
        let line = self.edits.add(file, text);
        let round = self.round(file);
        let at = round.lines.len();
        round.lines.push(line);
        if let (Some(names), Some(name)) = (&mut round.names, name) {
            names.entry(name).or_default().insert(0, at);
        }
        round.texts = None;
        true
    }

    /// Gives the last line its end. Returns whether it had none.
    pub fn end(&mut self, file: File) -> bool {
        self.edits.end_last_line(file)
    }

    /// Begins a round: lines are known by where they stand by now.
    pub fn begin_round(&mut self) {
        self.files = Default::default();
    }

    /// The book of the files as they are by now.
    pub fn book(&self) -> Book {
        let mut texts = Texts::default();
        for file in File::ALL.into_iter().filter(|file| self.has(*file)) {
            let mut text = Vec::new();
            for line in self.edits.lines_now(file) {
                text.extend_from_slice(self.edits.text(file, line).unwrap_or_default());
                text.push(b'\n');
            }
            if !self.edits.is_finished(file) {
                text.pop();
            }
            texts.set(file, std::sync::Arc::new(text));
        }
        for (file, why) in &self.book.unreadable {
            texts.set_unreadable(*file, why.clone());
        }
        Book::new(texts)
    }

    /// Whether nothing is to be done so far.
    pub fn is_empty(&self) -> bool {
        self.edits.is_empty()
    }

    /// What has to be done to the files that this began with.
    pub fn finish(self) -> Vec<Edit> {
        self.edits.finish()
    }
}

/// What comes before the first colon.
fn name_of(line: &[u8]) -> Option<&[u8]> {
    let line = line.trim_ascii_start();
    line.iter().position(|byte| *byte == b':').map(|at| &line[..at])
}
