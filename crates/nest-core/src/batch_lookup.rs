//! Looking many things up at once: each file is gone through a single time, and
//! the book answers from what was found.
//!
//! What is sought is kept by its hash alone: a hundred thousand names need not be
//! copied for it. Two texts may share one, so that who asks has to look whether a
//! line is about what was meant.

use std::hash::BuildHasher;

use hashbrown::{DefaultHashBuilder, HashMap, HashSet};
use rayon::prelude::*;

use crate::book::Book;
use crate::table::{File, Group, Passwd, Record, SubId};

/// What will be looked up.
#[derive(Debug, Default)]
pub struct LookupSet {
    /// Uids, gids, and numbers that a range may cover.
    pub ids: HashSet<u32>,
    names: HashSet<u64, Ready>,
    homes: HashSet<u64, Ready>,
    /// Every name and home is.
    all: bool,
    hashes: DefaultHashBuilder,
}

/// Lines by the hash of what they are about. Lines are given by where they begin.
type LinesByHash = HashMap<u64, Vec<usize>, Ready>;

/// The hash of a number that is one.
#[derive(Debug, Clone, Copy, Default)]
struct Ready(u64);

impl BuildHasher for Ready {
    type Hasher = Ready;

    fn build_hasher(&self) -> Ready {
        Ready(0)
    }
}

impl std::hash::Hasher for Ready {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        bytes.iter().for_each(|byte| self.0 = self.0 << 8 | u64::from(*byte));
    }

    fn write_u64(&mut self, number: u64) {
        self.0 = number;
    }
}

impl LookupSet {
    /// Every name and home that the files have: quicker where they hold less than
    /// what will be asked for.
    pub fn all_names() -> Self {
        LookupSet { all: true, ..LookupSet::default() }
    }

    /// Seeks a user, group or owner of ranges.
    pub fn seek_name(&mut self, name: &[u8]) {
        if !self.all {
            self.names.insert(self.hashes.hash_one(name));
        }
    }

    /// Seeks the path of a home.
    pub fn seek_home(&mut self, home: &[u8]) {
        if !self.all {
            self.homes.insert(self.hashes.hash_one(home));
        }
    }

    /// The hash of a name that is sought.
    fn name(&self, name: &[u8]) -> Option<u64> {
        let hash = self.hashes.hash_one(name);
        (self.all || self.names.contains(&hash)).then_some(hash)
    }

    fn home(&self, home: &[u8]) -> Option<u64> {
        let hash = self.hashes.hash_one(home);
        (self.all || self.homes.contains(&hash)).then_some(hash)
    }
}

/// What was found of it. What was sought and is not here is not in the files.
#[derive(Debug)]
pub struct BatchLookup {
    wanted: LookupSet,
    /// The lines of each file.
    named: [LinesByHash; 6],
    listing: LinesByHash,
    homes: LinesByHash,
    users: HashMap<u32, usize>,
    groups: HashMap<u32, usize>,
    covered: HashMap<u32, (File, usize)>,
    /// The names that some file has.
    met: HashSet<u64, Ready>,
}

/// What one file held.
#[derive(Default)]
struct FileMatches {
    named: LinesByHash,
    listing: LinesByHash,
    homes: LinesByHash,
    ids: HashMap<u32, usize>,
}

impl BatchLookup {
    /// Goes through the files of a book.
    pub fn look(book: &Book, wanted: LookupSet) -> Self {
        let mut ids: Vec<u32> = wanted.ids.iter().copied().collect();
        ids.sort_unstable();
        let found: Vec<(File, FileMatches)> =
            File::ALL.par_iter().map(|file| (*file, look_in(book, *file, &wanted, &ids))).collect();
        let mut batch = BatchLookup {
            wanted,
            named: Default::default(),
            listing: LinesByHash::default(),
            homes: LinesByHash::default(),
            users: HashMap::new(),
            groups: HashMap::new(),
            covered: HashMap::new(),
            met: HashSet::default(),
        };
        for (file, found) in found {
            batch.met.extend(found.named.keys().chain(found.listing.keys()));
            batch.named[file as usize] = found.named;
            match file {
                File::Passwd => (batch.homes, batch.users) = (found.homes, found.ids),
                File::Group => (batch.listing, batch.groups) = (found.listing, found.ids),
                File::Subuid | File::Subgid => {
                    for (id, at) in found.ids {
                        batch.covered.entry(id).or_insert((file, at));
                    }
                }
                File::Shadow | File::Gshadow => {}
            }
        }
        batch
    }

    /// Whether a name was sought and is nowhere: in no file, and on no list.
    pub(crate) fn is_nowhere(&self, name: &[u8]) -> bool {
        self.wanted.name(name).is_some_and(|hash| !self.met.contains(&hash))
    }

    /// Lines among which are those of this name, if it was sought.
    pub(crate) fn named(&self, file: File, name: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.name(name)?;
        Some(self.named[file as usize].get(&hash).map_or(&[], Vec::as_slice))
    }

    /// Lines of `group` among which are those that list this user, if it was sought.
    pub(crate) fn listing(&self, name: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.name(name)?;
        Some(self.listing.get(&hash).map_or(&[], Vec::as_slice))
    }

    /// Lines of `passwd` among which are those with this home, if it was sought.
    pub(crate) fn at_home(&self, home: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.home(home)?;
        Some(self.homes.get(&hash).map_or(&[], Vec::as_slice))
    }

    /// The first user of this uid, if it was sought: then the inner value says
    /// whether there is one.
    pub(crate) fn user(&self, uid: u32) -> Option<Option<usize>> {
        self.wanted.ids.contains(&uid).then(|| self.users.get(&uid).copied())
    }

    /// The first group of this gid, likewise.
    pub(crate) fn group(&self, gid: u32) -> Option<Option<usize>> {
        self.wanted.ids.contains(&gid).then(|| self.groups.get(&gid).copied())
    }

    /// The first range that covers a number, likewise.
    pub(crate) fn covering(&self, id: u32) -> Option<Option<(File, usize)>> {
        self.wanted.ids.contains(&id).then(|| self.covered.get(&id).copied())
    }
}

fn look_in(book: &Book, file: File, wanted: &LookupSet, ids: &[u32]) -> FileMatches {
    let mut found = FileMatches::default();
    let Some(lines) = book.lines(file) else { return found };
    for line in lines.iter() {
        let at = line.start;
        let (name, record) = (line.name(), line.record());
        // Without a colon it names nobody.
        if !line.is_record() || name.len() == record.len() {
            continue;
        }
        if let Some(hash) = wanted.name(name) {
            found.named.entry(hash).or_default().push(at);
        }
        match file {
            File::Passwd => {
                let Some(user) = Passwd::read(record) else { continue };
                if let Some(hash) = wanted.home(user.home) {
                    found.homes.entry(hash).or_default().push(at);
                }
                if let Some(uid) = user.uid().filter(|uid| wanted.ids.contains(uid)) {
                    found.ids.entry(uid).or_insert(at);
                }
            }
            File::Group => {
                let Some(group) = Group::read(record) else { continue };
                for hash in group.members().filter_map(|member| wanted.name(member)) {
                    found.listing.entry(hash).or_default().push(at);
                }
                if let Some(gid) = group.gid().filter(|gid| wanted.ids.contains(gid)) {
                    found.ids.entry(gid).or_insert(at);
                }
            }
            File::Subuid | File::Subgid if !ids.is_empty() => {
                let Some(span) = SubId::read(record).and_then(|range| range.span()) else {
                    continue;
                };
                let from = ids.partition_point(|id| *id < span.first());
                for id in ids[from..].iter().take_while(|id| **id <= span.last()) {
                    found.ids.entry(*id).or_insert(at);
                }
            }
            _ => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;

    fn wanted(names: &[&str], homes: &[&str]) -> LookupSet {
        let mut wanted = LookupSet::default();
        names.iter().for_each(|name| wanted.seek_name(name.as_bytes()));
        homes.iter().for_each(|home| wanted.seek_home(home.as_bytes()));
        wanted
    }

    #[test]
    fn a_book_that_looked_ahead_answers_the_same() {
        let files = [
            (File::Passwd, "a:x:5:7::/home/a:\nb:x:05:7::/srv:\n b:x:6:6:::\n+b\nb:broken\n"),
            (File::Shadow, "b:!:::::::\n"),
            (File::Group, "crew:x:7:b,ab,a\nrest:x:8:ab\ncrew:x:9:\n"),
            (File::Gshadow, "crew:!::\n"),
            (File::Subuid, "b:5:3\nb2:9:1\n"),
            (File::Subgid, "b:7:3\nb:1:1\n"),
        ];
        let (plain, batch, all) = (book(&files), book(&files), book(&files));
        let names = ["a", "b", "ab", "crew", "nobody"];
        batch.look_up_batch(LookupSet {
            ids: (0..12).collect(),
            ..wanted(&names, &["/home/a", "/srv", "/none"])
        });
        all.look_up_batch(LookupSet { ids: (0..12).collect(), ..LookupSet::all_names() });
        for batch in [batch, all] {
            answers_like(&plain, &batch, &names);
        }
    }

    fn answers_like(plain: &Book, batch: &Book, names: &[&str]) {
        let starts = |lines: Vec<crate::table::Line<'_>>| -> Vec<usize> {
            lines.iter().map(|line| line.start).collect()
        };
        for name in names.iter().map(|name| name.as_bytes()) {
            for file in File::ALL {
                assert_eq!(starts(plain.named(file, name)), starts(batch.named(file, name)));
            }
            let listing = |book: &Book| -> Vec<usize> {
                book.groups_listing(name).iter().map(|(line, _)| line.start).collect()
            };
            assert_eq!(listing(plain), listing(batch));
        }
        for id in 0..12 {
            let user = |book: &Book| book.user_by_uid(id).map(|(line, _)| line.start);
            let group = |book: &Book| book.group_by_gid(id).map(|(line, _)| line.start);
            let range = |book: &Book| book.range_over(id).map(|range| range.owner.to_vec());
            assert_eq!((user(plain), group(plain)), (user(batch), group(batch)), "{id}");
            assert_eq!(range(plain), range(batch), "{id}");
        }
        for home in ["/home/a", "/srv", "/none", "/not/sought"] {
            let at_home = |book: &Book| book.user_at_home(home.as_bytes()).map(<[u8]>::to_vec);
            assert_eq!(at_home(plain), at_home(batch), "{home}");
        }
    }
}
