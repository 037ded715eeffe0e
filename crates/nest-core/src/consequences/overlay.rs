//! The account files as a plan leaves them, as far as names are asked for.

use hashbrown::{HashMap, HashSet};
use smallvec::SmallVec;

use crate::book::Book;
use crate::table::{Edit, File, Line, Record, Shadow, name_on};

/// A book, and what edits make of some of its lines.
pub(super) struct Overlay<'a> {
    book: &'a Book,
    /// Where lines begin that go or alter.
    gone: HashSet<(File, usize)>,
    /// The lines that come, or are what a line becomes, by the name on them.
    come: HashMap<(File, &'a [u8]), SmallVec<[PlacedLine<'a>; 1]>>,
}

/// A line, and where it stands.
type PlacedLine<'a> = (usize, &'a [u8]);

impl<'a> Overlay<'a> {
    /// What edits of `passwd` and `shadow` make of the accounts that are `wanted`.
    pub fn new(book: &'a Book, edits: &'a [Edit], wanted: &HashSet<&[u8]>) -> Self {
        let mut overlay = Overlay { book, gone: HashSet::new(), come: HashMap::new() };
        overlay.gone.reserve(edits.len());
        overlay.come.reserve(2 * wanted.len());
        for edit in edits.iter().filter(|edit| matches!(edit.file, File::Passwd | File::Shadow)) {
            if edit.before.is_some() {
                overlay.gone.insert((edit.file, edit.range.start));
            }
            for (_, line) in edit.lines_after().filter(|(_, line)| wanted.contains(name_on(line))) {
                let of_name = overlay.come.entry((edit.file, name_on(line))).or_default();
                of_name.push((edit.range.start, line));
            }
        }
        overlay
    }

    /// The first line of this name afterwards for which `read` has a record.
    fn first<R>(&self, file: File, name: &[u8], read: impl Fn(&'a [u8]) -> Option<R>) -> Option<R> {
        let stays = self.book.named(file, name).into_iter();
        let stays = stays.filter(|line| !self.gone.contains(&(file, line.start)));
        let come = self.come.get(&(file, name)).into_iter().flatten().copied();
        let mut lines: Vec<PlacedLine<'_>> =
            stays.map(|line| (line.start, line.bytes)).chain(come).collect();
        lines.sort_by_key(|(start, _)| *start);
        let records = lines.into_iter().map(|(start, bytes)| Line { bytes, start });
        records.filter(Line::is_record).find_map(|line| read(line.record()))
    }

    /// The first record of this name in `passwd`.
    pub fn user<R: Record<'a>>(&self, name: &[u8]) -> Option<R> {
        self.first(File::Passwd, name, R::read)
    }

    /// The first shadow line of this name that the C library can read.
    pub fn shadow(&self, name: &[u8]) -> Option<Shadow<'a>> {
        self.first(File::Shadow, name, |line| Shadow::read(line).filter(Shadow::is_readable))
    }
}
