//! The account files as a plan leaves them, as far as names are asked for.

use hashbrown::{HashMap, HashSet};
use smallvec::SmallVec;

use crate::book::Book;
use crate::order;
use crate::table::{Edit, File, Line, Record, Shadow, name_on};

/// A book, and what edits make of some of its lines.
pub(super) struct Overlay<'a> {
    book: &'a Book,
    passwd: Edited<'a>,
    shadow: Edited<'a>,
}

/// What edits make of some lines of a file.
#[derive(Default)]
struct Edited<'a> {
    /// Where lines begin that go or alter.
    gone: HashSet<usize>,
    /// The lines that come, or are what a line becomes, by the name on them.
    come: HashMap<&'a [u8], SmallVec<[PlacedLine<'a>; 1]>>,
}

/// A line, and where it stands.
type PlacedLine<'a> = (usize, &'a [u8]);

impl<'a> Edited<'a> {
    fn new(file: File, edits: &'a [Edit], wanted: &HashSet<&[u8]>) -> Self {
        let mut edited = Edited::default();
        edited.come.reserve(wanted.len());
        for edit in edits.iter().filter(|edit| edit.file == file) {
            if edit.before.is_some() {
                edited.gone.insert(edit.range.start);
            }
            for (_, line) in edit.lines_after().filter(|(_, line)| wanted.contains(name_on(line))) {
                edited.come.entry(name_on(line)).or_default().push((edit.range.start, line));
            }
        }
        edited
    }
}

impl<'a> Overlay<'a> {
    /// What edits of `passwd` and `shadow` make of the accounts that are `wanted`.
    pub fn new(book: &'a Book, edits: &'a [Edit], wanted: &HashSet<&[u8]>) -> Self {
        let (passwd, shadow) = rayon::join(
            || Edited::new(File::Passwd, edits, wanted),
            || Edited::new(File::Shadow, edits, wanted),
        );
        Overlay { book, passwd, shadow }
    }

    /// The first line of this name afterwards for which `read` has a record.
    fn first<R>(&self, file: File, name: &[u8], read: impl Fn(&'a [u8]) -> Option<R>) -> Option<R> {
        let edited = if file == File::Shadow { &self.shadow } else { &self.passwd };
        let stays = self.book.named(file, name).into_iter();
        let stays = stays.filter(|line| !edited.gone.contains(&line.start));
        let come = edited.come.get(name).into_iter().flatten().copied();
        let mut lines: Vec<PlacedLine<'_>> =
            stays.map(|line| (line.start, line.bytes)).chain(come).collect();
        order::sort_by_key(&mut lines, |(start, _)| *start);
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
