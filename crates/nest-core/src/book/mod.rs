//! The account files of one tree, parsed, and the indexes over them.
//!
//! - `find`: who and what there is of a name, a number or a home
//! - `lookups`, `batch`: what will be looked up, and finding all of it at once

mod batch;
mod find;
mod lookups;
mod range_index;
mod unread;

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

use bstr::BString;

use self::batch::BatchLookup;
use self::range_index::RangeIndex;
use crate::table::{
    File, Files, Groups, Gshadows, Line, Lines, Lookup, NameIndex, Shadows, SubIds, Table,
    TableKind, Text, Users,
};

pub use self::batch::LookupSet;
pub use self::lookups::{Extent, Lookups};

/// Up to here names that were not declared are searched for one by one: an index of all
/// names takes as long as some twenty searches.
const FEW_MISSES: usize = 8;

/// A name that was searched for in a file, and where its lines begin.
type KnownName = (File, BString, Vec<usize>);

/// So many searches are remembered.
const MOST_KNOWN: usize = 64;

/// The texts of the six files; `None` where the tree has no such file.
#[derive(Default)]
pub struct Texts {
    lines: [Option<Lines>; 6],
    unreadable: BTreeMap<File, String>,
}

impl Texts {
    /// Puts the text of `file` in.
    pub fn set(&mut self, file: File, text: Text) {
        self.set_lines(Lines::new(file, text));
    }

    /// Puts the lines of a file in.
    pub fn set_lines(&mut self, lines: Lines) {
        let file = lines.file();
        self.lines[file as usize] = Some(lines);
    }

    /// Says that `file` is there, but can't be read, and why.
    pub fn set_unreadable(&mut self, file: File, why: String) {
        self.unreadable.insert(file, why);
    }

    fn take_table<K: TableKind>(&mut self, file: File) -> Option<Table<K>> {
        self.lines[file as usize].take().map(Table::over)
    }
}

/// Whether what `etc/shadow` says is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ShadowFile {
    /// It was read.
    Read,
    /// There is none.
    Missing,
    /// It is closed to whoever looks.
    Unreadable,
}

/// The account files of one tree. A file that is not there is `None`; without
/// `passwd` and `group` there is no book.
#[derive(Debug)]
pub struct Book {
    /// Users.
    pub users: Table<Users>,
    /// Password hashes and aging.
    pub shadow: Option<Table<Shadows>>,
    /// Groups.
    pub groups: Table<Groups>,
    /// Group passwords and administrators.
    pub gshadow: Option<Table<Gshadows>>,
    /// Subordinate uids.
    pub subuid: Option<Table<SubIds>>,
    /// Subordinate gids.
    pub subgid: Option<Table<SubIds>>,
    /// Files that are there but can't be read, and why. Their tables are `None`.
    pub unreadable: BTreeMap<File, String>,
    names: OnceLock<NameIndex>,
    batch: OnceLock<BatchLookup>,
    ranges: [OnceLock<RangeIndex>; 2],
    /// How often a name was looked up that was not among those that were looked up at once.
    missed: AtomicUsize,
    /// The names that were searched for, and where their lines begin.
    known: Mutex<Vec<KnownName>>,
    /// What was loaded of files that are held only in part.
    lookups: Lookups,
    gshadow_lookups: Option<Lookups>,
}

impl Book {
    /// The book of these texts. A missing `passwd` or `group` counts as empty:
    /// the host refuses trees without them before it comes to this.
    pub fn new(mut texts: Texts) -> Self {
        let empty = || -> Text { std::sync::Arc::new(Vec::new()) };
        let users = texts.take_table(File::Passwd);
        let groups = texts.take_table(File::Group);
        Book {
            users: users.unwrap_or_else(|| Table::new(File::Passwd, empty())),
            shadow: texts.take_table(File::Shadow),
            groups: groups.unwrap_or_else(|| Table::new(File::Group, empty())),
            gshadow: texts.take_table(File::Gshadow),
            subuid: texts.take_table(File::Subuid),
            subgid: texts.take_table(File::Subgid),
            unreadable: texts.unreadable,
            names: OnceLock::new(),
            batch: OnceLock::new(),
            ranges: Default::default(),
            missed: AtomicUsize::new(0),
            known: Mutex::default(),
            // Whoever makes a book of whole texts may ask it anything.
            lookups: Lookups::whole(),
            gshadow_lookups: None,
        }
    }

    /// The lines of a file, if the tree has it.
    pub fn lines(&self, file: File) -> Option<&Lines> {
        match file {
            File::Passwd => Some(self.users.lines()),
            File::Shadow => self.shadow.as_ref().map(Table::lines),
            File::Group => Some(self.groups.lines()),
            File::Gshadow => self.gshadow.as_ref().map(Table::lines),
            File::Subuid => self.subuid.as_ref().map(Table::lines),
            File::Subgid => self.subgid.as_ref().map(Table::lines),
        }
    }

    /// Whether what `etc/shadow` says is known.
    pub fn shadow_file(&self) -> ShadowFile {
        match self.shadow {
            Some(_) => ShadowFile::Read,
            None if self.unreadable.contains_key(&File::Shadow) => ShadowFile::Unreadable,
            None => ShadowFile::Missing,
        }
    }

    /// The table of subordinate uids or gids.
    pub fn sub_ids(&self, file: File) -> Option<&Table<SubIds>> {
        match file {
            File::Subuid => self.subuid.as_ref(),
            File::Subgid => self.subgid.as_ref(),
            _ => None,
        }
    }

    /// The index over the names of passwd, shadow, group and gshadow. Built when first
    /// asked for.
    pub(crate) fn names(&self) -> Lookup<'_> {
        let build = || apart(|| NameIndex::build(|file| self.lines(file)));
        let names = self.names.get_or_init(build);
        names.over(|file| self.lines(file))
    }

    /// Keeps an index of these files that was made on the way. Only the first counts.
    pub(crate) fn keep_names(&self, names: NameIndex) {
        self.names.get_or_init(|| names);
    }

    /// The files that [`NameIndex`] are of.
    pub(crate) fn named_files(&self) -> Files<'_> {
        NameIndex::files(|file| self.lines(file))
    }

    /// Says what the request looks up, which was loaded. Of files that are held only in part
    /// nothing else may be asked for.
    pub fn set_lookups(&mut self, lookups: Lookups) {
        self.lookups = lookups;
    }

    /// Takes the gshadow file of another book, which was loaded for its sake with these
    /// lookups.
    pub fn take_gshadow(&mut self, other: Book) {
        self.gshadow = other.gshadow;
        self.gshadow_lookups = Some(other.lookups);
    }

    /// Looks many things up at once: later lookups of what is wanted cost next to
    /// nothing, and give the same. Only the first call counts.
    pub fn look_up_batch(&self, wanted: LookupSet) {
        let search = || apart(|| BatchLookup::search(|file| self.lines(file), wanted));
        self.batch.get_or_init(search);
    }

    /// What was looked up at once: many names that a request declared, or what a planner
    /// asked for.
    fn batch(&self) -> Option<&BatchLookup> {
        if self.batch.get().is_none() && self.lookups.are_many() {
            self.look_up_batch(self.lookups.at_once());
        }
        self.batch.get()
    }

    /// Whether it is known already that a name is in no file and on no list.
    pub fn is_nowhere(&self, name: &[u8]) -> bool {
        self.batch().is_some_and(|batch| batch.is_nowhere(name))
    }

    /// Whether only some lines of a file are held.
    pub fn is_partial(&self, file: File) -> bool {
        self.lines(file).is_some_and(Lines::is_excerpt)
    }

    /// Sees that what is asked for of a file was loaded.
    ///
    /// # Panics
    /// Where only some of its lines were, and the request did not declare this.
    fn expect_loaded(&self, file: File, declared: impl Fn(&Lookups) -> bool) {
        if self.is_partial(file) {
            let lookups = self.gshadow_lookups.as_ref().filter(|_| file == File::Gshadow);
            let declared = declared(lookups.unwrap_or(&self.lookups));
            assert!(declared, "BUG: {} was asked for what no request declared", file.path());
        }
    }

    /// The lines of a file that begin at these places.
    fn lines_at<'b>(&'b self, file: File, starts: &'b [usize]) -> impl Iterator<Item = Line<'b>> {
        let lines = self.lines(file);
        starts.iter().filter_map(move |start| Some(lines?.around(*start)))
    }

    /// The records of `file` with this name, well-formed or not. One lookup
    /// searches the text; where an index of names was built it is asked, and where very many
    /// names are looked up one is.
    pub fn named<'b>(&'b self, file: File, name: &[u8]) -> Vec<Line<'b>> {
        let Some(lines) = self.lines(file) else {
            return Vec::new();
        };
        self.expect_loaded(file, |lookups| lookups.has_name(file, name));
        if let Some(found) = self.batch().and_then(|batch| batch.named(file, name)) {
            return self.lines_at(file, found).filter(|line| line.name() == name).collect();
        }
        let indexed = !matches!(file, File::Subuid | File::Subgid);
        let pays = || self.lookups.leave_secrets_out() && file.is_secret() || self.misses_many();
        match self.names.get().is_some() || self.lookups.are_many() && pays() {
            true if indexed => {
                let names = self.names();
                let Some(first) = names.find(file, name) else { return Vec::new() };
                let again = names.again(file, first).map(|again| lines.at(again));
                std::iter::once(lines.at(first)).chain(again).collect()
            }
            _ => self.searched(file, lines, name),
        }
    }

    /// The same by a search of the text. Whoever judges a plan asks for the names that its
    /// planner asked for: the text is searched once.
    fn searched<'b>(&'b self, file: File, lines: &'b Lines, name: &[u8]) -> Vec<Line<'b>> {
        let known = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let is_it = |(of, other, _): &&KnownName| *of == file && other == name;
        if let Some((.., starts)) = known().iter().find(is_it) {
            return starts.iter().map(|start| lines.around(*start)).collect();
        }
        // Others may search meanwhile.
        let found: Vec<Line<'b>> = lines.named(name).collect();
        let mut known = known();
        if known.len() < MOST_KNOWN {
            known.push((file, name.into(), found.iter().map(|line| line.start).collect()));
        }
        found
    }

    /// Whether so many names that no request declared were looked up that an index pays.
    fn misses_many(&self) -> bool {
        self.missed.fetch_add(1, Ordering::Relaxed) >= FEW_MISSES
    }
}

/// Makes what others wait for. On a thread of rayon's it is made by threads of its own: the
/// others may all be waiting, and this one would take up work that waits for it as well.
fn apart<T: Send>(make: impl FnOnce() -> T + Send) -> T {
    if rayon::current_thread_index().is_none() {
        return make();
    }
    let Ok(pool) = rayon::ThreadPoolBuilder::new().build() else { return make() };
    std::thread::scope(|scope| {
        let made = scope.spawn(|| pool.install(make)).join();
        made.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

#[cfg(test)]
pub(crate) mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::value::{Gid, Uid};

    /// A book of the given texts, for tests.
    pub(crate) fn book(texts: &[(File, &str)]) -> Book {
        let mut all = Texts::default();
        for (file, text) in texts {
            all.set(*file, Arc::new(text.as_bytes().to_vec()));
        }
        Book::new(all)
    }

    #[test]
    fn looking_up_gives_the_same_with_and_without_an_index() {
        let text = "root:x:0:0:::\nmaren:x:7\nmaren:x:1004:1004:::\ntavish\n maren:x:9:9:::\n";
        let book = book(&[(File::Passwd, text)]);
        let look = |name: &'static [u8]| -> Vec<usize> {
            let lines = book.named(File::Passwd, name);
            lines.iter().map(|line| book.users.lines().number(line.start)).collect()
        };
        let plain = [look(b"maren"), look(b"tavish"), look(b"nobody")];
        assert_eq!(plain, [vec![2, 3, 5], vec![], vec![]]);
        assert_eq!(book.user(b"maren").unwrap().1.uid(), Some(Uid(1004)));
        book.names();
        assert_eq!([look(b"maren"), look(b"tavish"), look(b"nobody")], plain);
    }

    #[test]
    fn ids_are_found_however_they_are_written() {
        let book = book(&[
            (File::Passwd, "a:x:5:1004:::\nb:x:01004:7:::\n"),
            (File::Group, "crew:x: 7:b,ab,a\nrest:x:8:ab\n"),
            (File::Subuid, "b:1:1\n1004:5:1\nb2:9:1\n"),
        ]);
        assert_eq!(book.user_by_uid(Uid(1004)).unwrap().1.name, b"b");
        assert_eq!(book.group_by_gid(Gid(7)).unwrap().1.name, b"crew");
        assert!(book.user_by_uid(Uid(6)).is_none());
        assert_eq!(book.groups_listing(b"a").len(), 1);
        assert_eq!(book.memberships()[&b"ab"[..]].len(), 2);
        assert_eq!(book.ranges_of(File::Subuid, b"b", Some(Uid(1004))).len(), 2);
    }
}
