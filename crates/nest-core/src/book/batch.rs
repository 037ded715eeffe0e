//! Looking many things up at once: each file is gone through a single time, and
//! the book answers from what was found.
//!
//! What is wanted is kept by its hash alone: a hundred thousand names need not be
//! copied for it. Two texts may share one, so that who asks has to look whether a
//! line is about what was meant.

use std::hash::BuildHasher;

use hashbrown::{DefaultHashBuilder, HashMap, HashSet};
use rayon::prelude::*;

use crate::table::{File, Group, Gshadow, Line, Lines, Passwd, Record, SubId};
use crate::value::{Gid, Uid, members};

/// Many things that will be looked up.
#[derive(Debug, Default)]
pub struct LookupSet {
    /// Uids, gids, and numbers that a range may cover.
    pub ids: HashSet<u32>,
    names: HashSet<u64, Ready>,
    homes: HashSet<u64, Ready>,
    /// Every name and home is wanted.
    all: bool,
    /// Lists of gshadow that hold the names are wanted.
    lists: bool,
    /// What the users of these names have is wanted too: their numbers, their homes and what
    /// is below those, and ranges that name them by number.
    with_belongings: bool,
    hashes: DefaultHashBuilder,
}

/// Where lines begin, by the hash of what they are about.
type LinesByHash = HashMap<u64, Vec<usize>, Ready>;

/// Where lines begin, by a number on them.
type LinesById = HashMap<u32, Vec<usize>>;

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

    /// These users and groups and the lists that hold them, and maybe what the users have.
    pub(super) fn of_names<'n>(
        names: impl Iterator<Item = &'n [u8]>,
        with_belongings: bool,
    ) -> Self {
        let mut wanted = LookupSet { lists: true, with_belongings, ..LookupSet::default() };
        names.for_each(|name| wanted.seek_name(name));
        wanted
    }

    /// Adds a user, group or owner of ranges.
    pub fn seek_name(&mut self, name: &[u8]) {
        if !self.all {
            self.names.insert(self.hashes.hash_one(name));
        }
    }

    /// Adds the path of a home.
    pub fn seek_home(&mut self, home: &[u8]) {
        if !self.all {
            self.homes.insert(self.hashes.hash_one(home));
        }
    }

    /// The hash of a name that is wanted.
    fn name(&self, name: &[u8]) -> Option<u64> {
        let hash = self.hashes.hash_one(name);
        (self.all || self.names.contains(&hash)).then_some(hash)
    }

    /// Whether numbers or homes are wanted.
    fn has_places(&self) -> bool {
        self.all || !self.ids.is_empty() || !self.homes.is_empty()
    }

    fn home(&self, home: &[u8]) -> Option<u64> {
        let hash = self.hashes.hash_one(home);
        (self.all || self.homes.contains(&hash)).then_some(hash)
    }

    /// Adds what the users of these names have.
    fn add_belongings(&mut self, passwd: &Lines) {
        let found = passwd.sweep(Vec::new, |found: &mut Vec<(Uid, Gid, Vec<u8>)>, _, text| {
            crate::table::each_row(text, |row| {
                if row.field(0).and_then(|name| self.name(name)).is_none() {
                    return;
                }
                let user = Passwd::read(row.line);
                found.extend(
                    user.and_then(|user| Some((user.uid()?, user.gid()?, user.home.into()))),
                );
            });
        });
        for (uid, gid, home) in found.into_iter().flatten() {
            self.ids.extend([uid.0, gid.0]);
            self.seek_name(uid.to_string().as_bytes());
            self.seek_home(&home);
        }
    }
}

/// What was found of it. What was wanted and is not here is not in the files.
#[derive(Debug)]
pub(super) struct BatchLookup {
    wanted: LookupSet,
    /// The lines of each file.
    named: [LinesByHash; 6],
    listing: LinesByHash,
    mentioning: LinesByHash,
    homes: LinesByHash,
    homes_below: LinesByHash,
    users: LinesById,
    primaries: LinesById,
    groups: LinesById,
    covered: HashMap<u32, (File, usize)>,
    /// The names that some file has.
    met: HashSet<u64, Ready>,
}

/// What one file held.
#[derive(Default)]
struct FileMatches {
    named: LinesByHash,
    /// Of group and gshadow: by those that a list names.
    listing: LinesByHash,
    homes: LinesByHash,
    homes_below: LinesByHash,
    ids: LinesById,
    primaries: LinesById,
}

impl BatchLookup {
    /// Goes through files.
    pub fn search<'b>(
        lines: impl Fn(File) -> Option<&'b Lines> + Sync,
        mut wanted: LookupSet,
    ) -> Self {
        if wanted.with_belongings
            && let Some(passwd) = lines(File::Passwd)
        {
            wanted.add_belongings(passwd);
        }
        let mut ids: Vec<u32> = wanted.ids.iter().copied().collect();
        ids.sort_unstable();
        let search = |file: &File| -> (File, FileMatches) {
            let found = lines(*file).map(|lines| search_file(lines, &wanted, &ids));
            (*file, found.unwrap_or_default())
        };
        let found: Vec<(File, FileMatches)> = File::ALL.par_iter().map(search).collect();
        let mut batch = BatchLookup {
            wanted,
            named: Default::default(),
            listing: LinesByHash::default(),
            mentioning: LinesByHash::default(),
            homes: LinesByHash::default(),
            homes_below: LinesByHash::default(),
            users: LinesById::new(),
            primaries: LinesById::new(),
            groups: LinesById::new(),
            covered: HashMap::new(),
            met: HashSet::default(),
        };
        for (file, found) in found {
            batch.met.extend(found.named.keys());
            batch.named[file as usize] = found.named;
            match file {
                File::Passwd => {
                    (batch.homes, batch.homes_below) = (found.homes, found.homes_below);
                    (batch.users, batch.primaries) = (found.ids, found.primaries);
                }
                File::Group => {
                    batch.met.extend(found.listing.keys());
                    (batch.listing, batch.groups) = (found.listing, found.ids);
                }
                File::Gshadow => batch.mentioning = found.listing,
                File::Subuid | File::Subgid => {
                    for (id, lines) in found.ids {
                        let first = lines.first().map(|at| (file, *at));
                        first.map(|first| *batch.covered.entry(id).or_insert(first));
                    }
                }
                File::Shadow => {}
            }
        }
        batch
    }

    /// Whether a name was wanted and is nowhere: in no file, and on no list.
    pub fn is_nowhere(&self, name: &[u8]) -> bool {
        self.wanted.name(name).is_some_and(|hash| !self.met.contains(&hash))
    }

    /// Lines among which are those of this name, if it was wanted.
    pub fn named(&self, file: File, name: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.name(name)?;
        Some(self.named[file as usize].get(&hash).map_or(&[], Vec::as_slice))
    }

    /// Lines of `group` among which are those that list this user, if it was wanted.
    pub fn listing(&self, name: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.name(name)?;
        Some(self.listing.get(&hash).map_or(&[], Vec::as_slice))
    }

    /// Lines of `gshadow` among which are those that name this user, likewise.
    pub fn mentioning(&self, name: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.name(name).filter(|_| self.wanted.lists)?;
        Some(self.mentioning.get(&hash).map_or(&[], Vec::as_slice))
    }

    /// Lines of `passwd` among which are those with this home, if it was wanted.
    pub fn at_home(&self, home: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.home(home)?;
        Some(self.homes.get(&hash).map_or(&[], Vec::as_slice))
    }

    /// Lines of `passwd` among which are those whose home is this path or below it, likewise.
    pub fn homes_below(&self, path: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.home(path).filter(|_| self.wanted.with_belongings)?;
        Some(self.homes_below.get(&hash).map_or(&[], Vec::as_slice))
    }

    /// The users of this uid, if it was wanted, in order.
    pub fn users(&self, uid: Uid) -> Option<&[usize]> {
        self.ids(&self.users, uid.0)
    }

    /// The users whose primary group has this gid, likewise.
    pub fn primaries(&self, gid: Gid) -> Option<&[usize]> {
        self.ids(&self.primaries, gid.0).filter(|_| self.wanted.with_belongings)
    }

    /// The groups of this gid, likewise.
    pub fn groups(&self, gid: Gid) -> Option<&[usize]> {
        self.ids(&self.groups, gid.0)
    }

    fn ids<'s>(&'s self, lines: &'s LinesById, id: u32) -> Option<&'s [usize]> {
        let found = lines.get(&id).map_or(&[][..], Vec::as_slice);
        self.wanted.ids.contains(&id).then_some(found)
    }

    /// The first range that covers a number, if it was wanted: then the inner value says
    /// whether there is one.
    pub fn covering(&self, id: u32) -> Option<Option<(File, usize)>> {
        self.wanted.ids.contains(&id).then(|| self.covered.get(&id).copied())
    }
}

fn search_file(lines: &Lines, wanted: &LookupSet, ids: &[u32]) -> FileMatches {
    let mut found = FileMatches::default();
    for line in lines.iter() {
        let (name, record) = (line.name(), line.record());
        // Without a colon it names nobody.
        if !line.is_record() || name.len() == record.len() {
            continue;
        }
        if let Some(hash) = wanted.name(name) {
            found.named.entry(hash).or_default().push(line.start);
        }
        match lines.file() {
            File::Passwd => search_user(&mut found, line, wanted),
            File::Group => {
                let Some(group) = Group::read(record) else { continue };
                for hash in group.members().filter_map(|member| wanted.name(member)) {
                    found.listing.entry(hash).or_default().push(line.start);
                }
                if let Some(gid) = group.gid().filter(|gid| wanted.ids.contains(&gid.0)) {
                    found.ids.entry(gid.0).or_default().push(line.start);
                }
            }
            File::Gshadow if wanted.lists => {
                let Some(group) = Gshadow::read(record) else { continue };
                let names = group.members().chain(members(group.admins));
                for hash in names.filter_map(|name| wanted.name(name)) {
                    found.listing.entry(hash).or_default().push(line.start);
                }
            }
            File::Subuid | File::Subgid if !ids.is_empty() => {
                let Some(span) = SubId::read(record).and_then(|range| range.span()) else {
                    continue;
                };
                let from = ids.partition_point(|id| *id < span.first());
                for id in ids[from..].iter().take_while(|id| **id <= span.last()) {
                    found.ids.entry(*id).or_default().push(line.start);
                }
            }
            File::Shadow | File::Gshadow | File::Subuid | File::Subgid => {}
        }
    }
    found
}

fn search_user(found: &mut FileMatches, line: Line<'_>, wanted: &LookupSet) {
    let Some(user) = Passwd::read(line.record()) else { return };
    if !wanted.has_places() {
        return;
    }
    if let Some(hash) = wanted.home(user.home) {
        found.homes.entry(hash).or_default().push(line.start);
    }
    if let Some(uid) = user.uid().filter(|uid| wanted.ids.contains(&uid.0)) {
        found.ids.entry(uid.0).or_default().push(line.start);
    }
    if !wanted.with_belongings {
        return;
    }
    if let Some(gid) = user.gid().filter(|gid| wanted.ids.contains(&gid.0)) {
        found.primaries.entry(gid.0).or_default().push(line.start);
    }
    let ends = memchr::memchr_iter(b'/', user.home).chain([user.home.len()]).filter(|end| *end > 0);
    for hash in ends.filter_map(|end| wanted.home(&user.home[..end])) {
        found.homes_below.entry(hash).or_default().push(line.start);
    }
}
