//! Edits in the making: lines added and altered over a book, each line once.

use bstr::{BString, ByteSlice};
use hashbrown::HashMap;
use rayon::prelude::*;

use crate::book::Book;
use crate::order;
use crate::table::{Column, Edit, File, Line, with_fields};

/// A line of a file as edited so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LineRef {
    /// One of the book, by where it begins in the text.
    Old(usize),
    /// One that was added, by its edit.
    New(usize),
}

/// Fields of a line, and what they get.
pub(crate) type NewFields<C> = Vec<(C, Vec<u8>)>;

/// Edits over a book that are not finished yet. A line altered twice becomes
/// one edit.
pub(crate) struct LineEdits<'b> {
    book: &'b Book,
    /// File by file: most come in the order of their lines.
    edits: [Vec<Edit>; 6],
    altered: HashMap<(File, usize), usize>,
    /// Where the next new line of each file goes, and its number.
    ends: [Option<(usize, usize)>; 6],
    /// Many lines that come one after the other, file by file.
    runs: [Vec<Edit>; 6],
    /// How many lines came back to each file so far.
    put_back: HashMap<File, usize>,
    /// Whether the last line of each file is to get the end that it lacks.
    ended: [bool; 6],
    /// Lines that are to lose their end, by where they begin.
    unended: Vec<(File, usize)>,
    /// New lines of groups that can still be altered, by their name; gathered when
    /// the first is asked for.
    named: Option<HashMap<(File, BString), usize>>,
}

impl<'b> LineEdits<'b> {
    /// No edits yet.
    pub fn new(book: &'b Book) -> Self {
        LineEdits {
            book,
            edits: Default::default(),
            altered: HashMap::new(),
            ends: Default::default(),
            runs: Default::default(),
            put_back: HashMap::new(),
            ended: [false; 6],
            unended: Vec::new(),
            named: None,
        }
    }

    /// Adds a line at the end of `file`; a file the tree lacks will be made.
    pub fn add(&mut self, file: File, line: Vec<u8>) -> LineRef {
        let (at, number) = self.end(file);
        let range = *at..*at;
        let edit = Edit { file, line: *number, before: None, after: Some(line.into()), range };
        *number += 1;
        self.edits[file as usize].push(edit);
        LineRef::New(self.edits[file as usize].len() - 1)
    }

    /// Where the next new line of a file goes, and its number.
    fn end(&mut self, file: File) -> &mut (usize, usize) {
        let lines = self.book.lines(file);
        let find = || lines.map_or((0, 1), |lines| lines.insertion());
        self.ends[file as usize].get_or_insert_with(find)
    }

    /// Adds many lines at the end of `file` as one edit, with newlines between them.
    pub fn add_run(&mut self, file: File, lines: Vec<u8>) {
        let (at, number) = *self.end(file);
        let (before, after, range) = (None, Some(lines.into()), at..at);
        let edit = Edit { file, line: number, before, after, range };
        self.end(file).1 += edit.count_after();
        self.runs[file as usize].push(edit);
    }

    /// Makes an edit of each line of the runs of a file, so that they can be altered.
    fn dissolve(&mut self, file: File) {
        for edit in self.runs[file as usize].drain(..) {
            let one = |(line, after): (usize, &[u8])| {
                let (before, after, range) = (None, Some(after.into()), edit.range.clone());
                Edit { file, line, before, after, range }
            };
            self.edits[file as usize].extend(edit.lines_after().map(one));
        }
        self.named = None;
    }

    /// Whether a line of this name is in a run.
    fn in_a_run(&self, file: File, name: &[u8]) -> bool {
        let start = [name, b":"].concat();
        let inside = [b"\n", &start[..]].concat();
        let texts = self.runs[file as usize].iter().filter_map(|run| run.after.as_ref());
        texts.into_iter().any(|text| text.starts_with(&start) || text.contains_str(&inside))
    }

    /// Adds a line that [`LineEdits::added`] finds by its name.
    pub fn add_named(&mut self, file: File, name: &[u8], line: Vec<u8>) {
        let at = self.edits[file as usize].len();
        if let Some(named) = &mut self.named {
            named.insert((file, name.into()), at);
        }
        self.add(file, line);
    }

    /// A line that was added by name, to be altered.
    pub fn added(&mut self, file: File, name: &[u8]) -> Option<&mut BString> {
        if self.in_a_run(file, name) {
            self.dissolve(file);
        }
        let named = self.named.get_or_insert_with(|| names_of(&self.edits));
        let at = named.get(&(file, BString::from(name)))?;
        self.edits[file as usize].get_mut(*at)?.after.as_mut()
    }

    /// The names of groups whose lines were added.
    pub fn new_groups(&self) -> Vec<BString> {
        let of = File::Group as usize;
        let new = self.edits[of].iter().chain(&self.runs[of]).filter(|edit| edit.before.is_none());
        let names = new.flat_map(|edit| edit.lines_after()).filter_map(|(_, line)| {
            let name = line.split(|byte| *byte == b':').next()?;
            Some(name.into())
        });
        names.collect()
    }

    /// The line as edited so far.
    pub fn current(&self, file: File, line: Line<'b>) -> BString {
        match self.altered.get(&(file, line.start)) {
            Some(&at) => {
                let after = self.edits[file as usize][at].after.clone();
                after.expect("BUG: a line is edited that was taken out")
            }
            None => line.bytes.into(),
        }
    }

    /// Puts `after` in the place of a line of the book.
    pub fn alter(&mut self, file: File, line: Line<'b>, after: Vec<u8>) {
        match self.altered.get(&(file, line.start)) {
            Some(&at) => self.edits[file as usize][at].after = Some(after.into()),
            None => {
                let Some(lines) = self.book.lines(file) else { return };
                let edits = &mut self.edits[file as usize];
                self.altered.insert((file, line.start), edits.len());
                edits.push(lines.replacing(line, after));
            }
        }
    }

    /// Puts values into fields of many lines of the book, each once, side by side. None of them
    /// is edited yet.
    pub fn alter_many<C: Into<Column> + Copy + Sync + Send>(
        &mut self,
        file: File,
        lines: Vec<(Line<'b>, NewFields<C>)>,
    ) {
        let Some(all) = self.book.lines(file) else { return };
        let edit = |(line, fields): (Line<'b>, NewFields<C>)| {
            let fields: Vec<(C, &[u8])> =
                fields.iter().map(|(at, value)| (*at, value.as_slice())).collect();
            let new = with_fields(line.bytes, &fields);
            (new != line.bytes).then(|| (line.start, all.replacing(line, new)))
        };
        let new: Vec<Option<(usize, Edit)>> = lines.into_par_iter().map(edit).collect();
        let edits = &mut self.edits[file as usize];
        self.altered.reserve(new.len());
        for (start, edit) in new.into_iter().flatten() {
            let before = self.altered.insert((file, start), edits.len());
            assert!(before.is_none(), "BUG: a line is edited that was edited already");
            edits.push(edit);
        }
    }

    /// Takes a line of the book out.
    pub fn remove(&mut self, file: File, line: Line<'b>) {
        let Some(lines) = self.book.lines(file) else { return };
        let removal = lines.removing(line);
        match self.altered.get(&(file, line.start)) {
            Some(&at) => self.edits[file as usize][at] = removal,
            None => {
                let edits = &mut self.edits[file as usize];
                self.altered.insert((file, line.start), edits.len());
                edits.push(removal);
            }
        }
    }

    /// The lines of a file as edited so far, in order: those that went are left out. Runs of
    /// lines are not among them.
    pub(crate) fn lines_now(&self, file: File) -> Vec<LineRef> {
        let edits = &self.edits[file as usize];
        let added = edits.iter().enumerate().filter(|(_, edit)| edit.before.is_none());
        let mut added: Vec<(usize, usize)> = added
            .filter(|(_, edit)| edit.after.is_some())
            .map(|(at, edit)| (edit.range.start, at))
            .collect();
        order::sort_by_key(&mut added, |(place, _)| *place);
        let mut added = added.into_iter().peekable();
        let mut lines = Vec::new();
        for line in self.book.lines(file).into_iter().flat_map(|lines| lines.iter()) {
            while let Some((_, at)) = added.next_if(|(place, _)| *place <= line.start) {
                lines.push(LineRef::New(at));
            }
            if self.text(file, LineRef::Old(line.start)).is_some() {
                lines.push(LineRef::Old(line.start));
            }
        }
        lines.extend(added.map(|(_, at)| LineRef::New(at)));
        lines
    }

    /// A line as edited so far; nothing if it went.
    pub(crate) fn text(&self, file: File, line: LineRef) -> Option<&[u8]> {
        let edit = match line {
            LineRef::New(at) => Some(at),
            LineRef::Old(start) => self.altered.get(&(file, start)).copied(),
        };
        match (edit, line) {
            (Some(at), _) => self.edits[file as usize][at].after.as_ref().map(|after| &after[..]),
            (None, LineRef::Old(start)) => Some(self.book.lines(file)?.at(start).bytes),
            (None, LineRef::New(_)) => None,
        }
    }

    /// Puts another text in the place of a line, or takes it out.
    pub(crate) fn set(&mut self, file: File, line: LineRef, after: Option<Vec<u8>>) {
        match (line, after) {
            (LineRef::New(at), after) => {
                self.edits[file as usize][at].after = after.map(BString::from);
                self.named = None;
            }
            (LineRef::Old(start), after) => {
                let Some(lines) = self.book.lines(file) else { return };
                let line = lines.at(start);
                match after {
                    Some(after) => self.alter(file, line, after),
                    None => self.remove(file, line),
                }
            }
        }
    }

    /// Gives the last line of a file its end. Returns whether it had none.
    pub(crate) fn end_last_line(&mut self, file: File) -> bool {
        let lacking = self.book.lines(file).is_some_and(|lines| !lines.is_finished());
        lacking && !std::mem::replace(&mut self.ended[file as usize], true)
    }

    /// Takes the end off a line that had none, if it is the last one in the end.
    pub(crate) fn unend(&mut self, file: File, line: Line<'_>) {
        self.unended.push((file, line.start));
    }

    /// Makes the edit by which such a line loses its end.
    fn unend_last_line(&mut self, file: File, start: usize) {
        let whole = |lines: &&crate::table::Lines| !lines.is_excerpt() && lines.is_finished();
        let Some(lines) = self.book.lines(file).filter(whole) else { return };
        let line = lines.at(start);
        let next = line.range().end + 1;
        let edits = &self.edits[file as usize];
        let adds = edits.iter().any(|edit| edit.before.is_none() && edit.after.is_some());
        let after = edits.iter().filter(|edit| edit.range.start >= next && edit.after.is_none());
        let goes = after.map(|edit| edit.range.len()).sum::<usize>();
        if adds || next + goes != lines.file_length() {
            return;
        }
        // With what ends it.
        let mut edit = lines.replacing(line, line.bytes.to_vec());
        edit.range.end = next;
        self.edits[file as usize].push(edit);
    }

    /// Whether the last line of a file, as edited so far, has its end: what comes after it
    /// gives it one.
    pub(crate) fn is_finished(&self, file: File) -> bool {
        let finished = self.book.lines(file).is_none_or(|lines| lines.is_finished());
        let adds = |edit: &Edit| edit.before.is_none() && edit.after.is_some();
        finished || self.ended[file as usize] || self.edits[file as usize].iter().any(adds)
    }

    /// Puts a line back to where it was, as line `number` of the file that is to
    /// be; at the end when the file has become shorter. Lines that come back to
    /// one file have to be given in order.
    pub fn put_back(&mut self, file: File, number: usize, line: Vec<u8>) {
        let Some(lines) = self.book.lines(file).filter(|lines| !lines.is_empty()) else {
            self.add(file, line);
            return;
        };
        let back = self.put_back.entry(file).or_default();
        let at = number.saturating_sub(*back + 1);
        *back += 1;
        if at > lines.len() || lines.is_excerpt() && at == lines.len() {
            self.add(file, line);
            return;
        }
        let start = if at == lines.len() { lines.file_length() } else { lines.get(at).start };
        let range = start..start;
        let edit = Edit { file, line: number, before: None, after: Some(line.into()), range };
        self.edits[file as usize].push(edit);
    }

    /// The edits so far, file by file.
    pub fn iter(&self) -> impl Iterator<Item = &Edit> {
        self.edits.iter().chain(&self.runs).flatten()
    }

    /// Whether there are none so far.
    pub fn is_empty(&self) -> bool {
        self.count() == 0 && self.ended == [false; 6] && self.unended.is_empty()
    }

    /// How many edits there are so far.
    pub fn count(&self) -> usize {
        self.edits.iter().map(Vec::len).sum::<usize>()
            + self.runs.iter().map(Vec::len).sum::<usize>()
    }

    /// The edits, file by file and line by line.
    pub fn finish(mut self) -> Vec<Edit> {
        for (file, start) in std::mem::take(&mut self.unended) {
            self.unend_last_line(file, start);
        }
        let ended = self.ended;
        for file in File::ALL.into_iter().filter(|file| ended[*file as usize]) {
            self.finish_last_line(file);
        }
        for (edits, runs) in self.edits.iter_mut().zip(self.runs) {
            edits.extend(runs);
            // A line that came, and went again.
            edits.retain(|edit| edit.before.is_some() || edit.after.is_some());
            edits.sort_by_key(|edit| edit.line);
        }
        self.edits.into_iter().flatten().collect()
    }
}

impl LineEdits<'_> {
    /// Makes the edit by which the last line of a file gets its end.
    fn finish_last_line(&mut self, file: File) {
        let Some(lines) = self.book.lines(file).filter(|lines| !lines.is_empty()) else { return };
        let line = lines.around(lines.text().len() - 1);
        match self.text(file, LineRef::Old(line.start)).map(<[u8]>::to_vec) {
            // One that is altered as well goes, and comes anew with its end.
            Some(now) if now != line.bytes => {
                self.remove(file, line);
                self.add(file, now);
            }
            // Its end alone is what it lacks.
            Some(now) => self.alter(file, line, now),
            None => {}
        }
    }
}

/// The lines of groups that were added, by name.
fn names_of(edits: &[Vec<Edit>; 6]) -> HashMap<(File, BString), usize> {
    let of = |file: File| edits[file as usize].iter().enumerate().map(move |edit| (file, edit));
    let added = of(File::Group).chain(of(File::Gshadow));
    added
        .filter(|(_, (_, edit))| edit.before.is_none())
        .filter_map(|(file, (at, edit))| {
            let line = edit.after.as_ref()?;
            let name = line.split(|byte| *byte == b':').next()?;
            Some(((file, name.into()), at))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;

    #[test]
    fn a_line_altered_twice_is_one_edit() {
        let book = book(&[(File::Group, "crew:x:7:a\nrest:x:8:")]);
        let mut draft = LineEdits::new(&book);
        let line = book.groups.lines().get(0);
        draft.alter(File::Group, line, b"crew:x:7:a,b".to_vec());
        draft.add(File::Group, b"new:x:9:".to_vec());
        assert_eq!(draft.current(File::Group, line), "crew:x:7:a,b");
        draft.alter(File::Group, line, b"crew:x:7:a,b,c".to_vec());
        draft.add(File::Subuid, b"a:1:1".to_vec());
        let edits = draft.finish();
        assert_eq!(edits.len(), 3);
        assert_eq!(edits[0].after.as_ref().unwrap(), "crew:x:7:a,b,c");
        assert_eq!(edits[0].before.as_ref().unwrap(), "crew:x:7:a");
        let mut draft = LineEdits::new(&book);
        draft.alter(File::Group, line, b"crew:x:7:b".to_vec());
        draft.remove(File::Group, line);
        let gone = draft.finish();
        assert_eq!((gone.len(), &gone[0].after, gone[0].range.clone()), (1, &None, 0..11));
        assert_eq!((edits[1].line, edits[2].line), (3, 1));
    }

    #[test]
    fn a_line_loses_its_end_only_as_the_last_one() {
        let text = "crew:x:7:a\nrest:x:8:\nmore:x:9:\n";
        let book = book(&[(File::Group, text)]);
        let lines = book.groups.lines();
        // Which line is to lose its end, which goes, and whether one comes.
        let after = |unended: usize, gone: Option<usize>, comes: bool| {
            let mut draft = LineEdits::new(&book);
            draft.unend(File::Group, lines.get(unended));
            gone.into_iter().for_each(|at| draft.remove(File::Group, lines.get(at)));
            if comes {
                draft.add(File::Group, b"new:x:10:".to_vec());
            }
            let edits = draft.finish();
            let edits: Vec<&Edit> = edits.iter().collect();
            String::from_utf8(lines.rewrite(&edits).bytes(text.as_bytes())).unwrap()
        };
        assert_eq!(after(2, None, false), text.trim_end());
        assert_eq!(after(1, None, false), text);
        assert_eq!(after(1, Some(2), false), "crew:x:7:a\nrest:x:8:");
        assert_eq!(after(2, None, true), format!("{text}new:x:10:\n"));
    }

    #[test]
    fn a_run_is_one_edit_until_a_line_of_it_is_altered() {
        let book = book(&[(File::Group, "crew:x:7:a\n+\n")]);
        let mut draft = LineEdits::new(&book);
        draft.add_named(File::Group, b"one", b"one:x:8:".to_vec());
        draft.add_run(File::Group, b"two:x:9:\nthree:x:10:".to_vec());
        draft.add_run(File::Group, b"four:x:11:".to_vec());
        draft.add_named(File::Group, b"five", b"five:x:12:".to_vec());
        assert_eq!(draft.count(), 4);
        assert!(draft.added(File::Group, b"nobody").is_none());
        assert!(draft.added(File::Group, b"wo").is_none() && draft.count() == 4);
        draft.added(File::Group, b"five").unwrap().extend_from_slice(b"a");
        assert_eq!(draft.count(), 4);
        draft.added(File::Group, b"three").unwrap().extend_from_slice(b"b");
        assert_eq!(draft.count(), 5);
        draft.added(File::Group, b"two").unwrap().extend_from_slice(b"c");
        let edits = draft.finish();
        let lines: Vec<_> = edits.iter().map(|edit| edit.after.clone().unwrap()).collect();
        assert_eq!(lines, ["one:x:8:", "two:x:9:c", "three:x:10:b", "four:x:11:", "five:x:12:a"]);
        assert!(edits.iter().map(|edit| edit.line).eq(2..7));
    }
}
