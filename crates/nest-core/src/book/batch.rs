//! Looking many things up at once: each file is gone through a single time, and
//! the book answers from what was found.
//!
//! What is wanted is kept by its hash alone: a hundred thousand names need not be
//! copied for it. Two texts may share one, so that who asks has to look whether a
//! line is about what was meant.

use std::hash::{BuildHasher, Hash};

use hashbrown::{DefaultHashBuilder, HashMap, HashSet};
use rayon::prelude::*;
use smallvec::SmallVec;

use crate::table::{File, Group, Gshadow, Line, Lines, Passwd, Record, SubId, each_line};
use crate::value::{Gid, IdSet, Uid, members};

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
    /// But not their homes.
    without_homes: bool,
    /// Neither `shadow` nor `gshadow` is searched.
    without_secrets: bool,
    hashes: DefaultHashBuilder,
    /// The ids once more, and some bits of each hash of a name: most of what files hold is
    /// not wanted, and told apart by these.
    id_bits: IdSet,
    name_bits: Vec<u64>,
}

/// Bits for each name that is wanted, so that few others are taken for one.
const BITS_A_NAME: usize = 16;

/// Where lines begin in a text, in order; most things are on one.
type Starts = SmallVec<[usize; 1]>;

/// Where lines begin, by the hash of what they are about.
type LinesByHash = HashMap<u64, Starts, Ready>;

/// Where lines begin, by a number on them.
type LinesById = HashMap<u32, Starts>;

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
        wanted.names.reserve(names.size_hint().0);
        names.for_each(|name| wanted.seek_name(name));
        wanted
    }

    /// Homes are not wanted, of whomever they are.
    pub(super) fn leave_homes_out(&mut self) {
        self.without_homes = true;
    }

    /// `shadow` and `gshadow` are not searched: who asks for them all the same has it done
    /// then.
    pub(super) fn leave_secrets_out(&mut self) {
        self.without_secrets = true;
    }

    /// Whether a file is searched.
    fn searches(&self, file: File) -> bool {
        !file.is_secret() || !self.without_secrets
    }

    /// Whether every file is.
    fn searches_all(&self) -> bool {
        File::ALL.iter().all(|file| self.searches(*file))
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

    /// Makes ready for files to be searched: nothing is added to what is wanted after it.
    fn complete(&mut self) {
        self.ids.iter().for_each(|id| _ = self.id_bits.insert(*id));
        self.note_names();
    }

    /// Notes some bits of each name that is wanted by now.
    fn note_names(&mut self) {
        let words = (self.names.len() * BITS_A_NAME / 64 + 1).next_power_of_two();
        self.name_bits = vec![0; words];
        for hash in &self.names {
            let (word, bit) = place_of(*hash, words);
            self.name_bits[word] |= bit;
        }
    }

    /// The hash of a name that is wanted.
    fn name(&self, name: &[u8]) -> Option<u64> {
        let hash = self.hashes.hash_one(name);
        let may_be = || {
            let (word, bit) = place_of(hash, self.name_bits.len());
            self.name_bits.get(word).is_none_or(|bits| bits & bit != 0)
        };
        (self.all || may_be() && self.names.contains(&hash)).then_some(hash)
    }

    /// Whether a number is wanted.
    fn id(&self, id: u32) -> bool {
        self.id_bits.contains(id)
    }

    /// Whether numbers or homes are wanted.
    fn has_places(&self) -> bool {
        self.all || !self.ids.is_empty() || !self.homes.is_empty()
    }

    fn home(&self, home: &[u8]) -> Option<u64> {
        if self.homes.is_empty() && !self.all {
            return None;
        }
        let hash = self.hashes.hash_one(home);
        (self.all || self.homes.contains(&hash)).then_some(hash)
    }

    /// Adds the numbers of the groups of these names.
    fn add_gids(&mut self, group: &Lines) {
        let found = group.sweep(Vec::new, |found: &mut Vec<u32>, _, text| {
            crate::table::each_row(text, |row| {
                if row.field(0).and_then(|name| self.name(name)).is_some() {
                    found.extend(Group::read(row.line).and_then(|group| Some(group.gid()?.0)));
                }
            });
        });
        self.ids.extend(found.into_iter().flatten());
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
            if !self.without_homes {
                self.seek_home(&home);
            }
        }
    }
}

/// The word and the bit of a hash among so many words, a power of two.
fn place_of(hash: u64, words: usize) -> (usize, u64) {
    ((hash >> 6) as usize & words.wrapping_sub(1), 1 << (hash & 63))
}

/// What was found of it. What was wanted and is not here is not in the files.
#[derive(Debug)]
pub(super) struct BatchLookup {
    wanted: LookupSet,
    files: [FileMatches; 6],
    /// The first range over a number.
    covered: HashMap<u32, (File, usize)>,
    /// The names that some file has.
    met: HashSet<u64, Ready>,
}

/// What one file held.
#[derive(Debug, Default)]
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
        wanted.note_names();
        if wanted.with_belongings
            && let Some(passwd) = lines(File::Passwd)
        {
            wanted.add_belongings(passwd);
        }
        if wanted.with_belongings
            && let Some(group) = lines(File::Group)
        {
            wanted.add_gids(group);
        }
        wanted.complete();
        let mut ids: Vec<u32> = wanted.ids.iter().copied().collect();
        ids.sort_unstable();
        let search = |file: File| {
            let lines = lines(file).filter(|_| wanted.searches(file));
            lines.map(|lines| search_file(lines, &wanted, &ids)).unwrap_or_default()
        };
        let mut files: [FileMatches; 6] = Default::default();
        let places = files.par_iter_mut().zip(File::ALL).with_max_len(1);
        places.for_each(|(found, file)| *found = search(file));
        let mut met: HashSet<u64, Ready> = HashSet::default();
        // Of names that are not searched for everywhere nobody is told that they are nowhere.
        if wanted.searches_all() {
            files.iter().for_each(|found| met.extend(found.named.keys()));
            met.extend(files[File::Group as usize].listing.keys());
        }
        let mut covered = HashMap::new();
        for file in [File::Subuid, File::Subgid] {
            for (id, lines) in &files[file as usize].ids {
                if let Some(first) = lines.first() {
                    covered.entry(*id).or_insert((file, *first));
                }
            }
        }
        BatchLookup { wanted, files, covered, met }
    }

    /// Whether a name was wanted and is nowhere: in no file, and on no list.
    pub fn is_nowhere(&self, name: &[u8]) -> bool {
        self.wanted.searches_all()
            && self.wanted.name(name).is_some_and(|hash| !self.met.contains(&hash))
    }

    /// Lines among which are those of this name, if it was wanted.
    pub fn named(&self, file: File, name: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.name(name).filter(|_| self.wanted.searches(file))?;
        Some(found(&self.files[file as usize].named, hash))
    }

    /// Lines of `group` among which are those that list this user, if it was wanted.
    pub fn listing(&self, name: &[u8]) -> Option<&[usize]> {
        Some(found(&self.files[File::Group as usize].listing, self.wanted.name(name)?))
    }

    /// Lines of `gshadow` among which are those that name this user, likewise.
    pub fn mentioning(&self, name: &[u8]) -> Option<&[usize]> {
        let is_searched = self.wanted.lists && self.wanted.searches(File::Gshadow);
        let hash = self.wanted.name(name).filter(|_| is_searched)?;
        Some(found(&self.files[File::Gshadow as usize].listing, hash))
    }

    /// Lines of `passwd` among which are those with this home, if it was wanted.
    pub fn at_home(&self, home: &[u8]) -> Option<&[usize]> {
        Some(found(&self.files[File::Passwd as usize].homes, self.wanted.home(home)?))
    }

    /// Lines of `passwd` among which are those whose home is this path or below it, likewise.
    pub fn homes_below(&self, path: &[u8]) -> Option<&[usize]> {
        let hash = self.wanted.home(path).filter(|_| self.wanted.with_belongings)?;
        Some(found(&self.files[File::Passwd as usize].homes_below, hash))
    }

    /// The lines of users or groups of this number, if it was wanted, in order.
    pub fn of_id(&self, file: File, id: u32) -> Option<&[usize]> {
        self.wanted.id(id).then(|| found(&self.files[file as usize].ids, id))
    }

    /// The users whose primary group has this gid, likewise.
    pub fn primaries(&self, gid: Gid) -> Option<&[usize]> {
        let wanted = self.wanted.with_belongings && self.wanted.id(gid.0);
        wanted.then(|| found(&self.files[File::Passwd as usize].primaries, gid.0))
    }

    /// The first range that covers a number, if it was wanted: then the inner value says
    /// whether there is one.
    pub fn covering(&self, id: u32) -> Option<Option<(File, usize)>> {
        self.wanted.id(id).then(|| self.covered.get(&id).copied())
    }
}

fn found<K: Eq + Hash, S: BuildHasher>(lines: &HashMap<K, Starts, S>, key: K) -> &[usize] {
    lines.get(&key).map_or(&[], SmallVec::as_slice)
}

/// What one part of a file held, in the order of its lines.
#[derive(Debug, Default)]
struct PartMatches {
    named: Vec<(u64, usize)>,
    listing: Vec<(u64, usize)>,
    homes: Vec<(u64, usize)>,
    homes_below: Vec<(u64, usize)>,
    ids: Vec<(u32, usize)>,
    primaries: Vec<(u32, usize)>,
}

fn search_file(lines: &Lines, wanted: &LookupSet, ids: &[u32]) -> FileMatches {
    // Who looks lines up will want the text; it is read once.
    _ = lines.text();
    let parts = lines.sweep(PartMatches::default, |part, from, text| {
        each_line(text, |row| {
            let line = Line { bytes: row.line, start: from + row.start };
            search_line(part, lines.file(), line, (wanted, ids));
        });
    });
    FileMatches {
        named: gathered(&parts, |part| &part.named),
        listing: gathered(&parts, |part| &part.listing),
        homes: gathered(&parts, |part| &part.homes),
        homes_below: gathered(&parts, |part| &part.homes_below),
        ids: gathered(&parts, |part| &part.ids),
        primaries: gathered(&parts, |part| &part.primaries),
    }
}

/// What the parts of a file held, by what was wanted.
fn gathered<K: Copy + Eq + Hash, S: BuildHasher + Default>(
    parts: &[PartMatches],
    of: impl Fn(&PartMatches) -> &Vec<(K, usize)>,
) -> HashMap<K, Starts, S> {
    let count = parts.iter().map(|part| of(part).len()).sum();
    let mut all: HashMap<K, Starts, S> = HashMap::with_capacity_and_hasher(count, S::default());
    for (key, start) in parts.iter().flat_map(of) {
        all.entry(*key).or_default().push(*start);
    }
    all
}

fn search_line(
    part: &mut PartMatches,
    file: File,
    line: Line<'_>,
    (wanted, ids): (&LookupSet, &[u32]),
) {
    let (name, record) = (line.name(), line.record());
    // Without a colon it names nobody.
    if !line.is_record() || name.len() == record.len() {
        return;
    }
    part.named.extend(wanted.name(name).map(|hash| (hash, line.start)));
    match file {
        File::Passwd => search_user(part, line, wanted),
        File::Group => {
            let Some(group) = Group::read(record) else { return };
            let listed = group.members().filter_map(|member| wanted.name(member));
            part.listing.extend(listed.map(|hash| (hash, line.start)));
            let gid = group.gid().filter(|gid| wanted.id(gid.0));
            part.ids.extend(gid.map(|gid| (gid.0, line.start)));
        }
        File::Gshadow if wanted.lists => {
            let Some(group) = Gshadow::read(record) else { return };
            let names = group.members().chain(members(group.admins));
            let hashes = names.filter_map(|name| wanted.name(name));
            part.listing.extend(hashes.map(|hash| (hash, line.start)));
        }
        File::Subuid | File::Subgid if !ids.is_empty() => {
            let Some(span) = SubId::read(record).and_then(|range| range.span()) else { return };
            // Nearly all ranges lie above every number.
            if ids.last().is_some_and(|last| *last < span.first()) {
                return;
            }
            let from = ids.partition_point(|id| *id < span.first());
            let covered = ids[from..].iter().take_while(|id| **id <= span.last());
            part.ids.extend(covered.map(|id| (*id, line.start)));
        }
        File::Shadow | File::Gshadow | File::Subuid | File::Subgid => {}
    }
}

fn search_user(part: &mut PartMatches, line: Line<'_>, wanted: &LookupSet) {
    let Some(user) = Passwd::read(line.record()) else { return };
    if !wanted.has_places() {
        return;
    }
    part.homes.extend(wanted.home(user.home).map(|hash| (hash, line.start)));
    let uid = user.uid().filter(|uid| wanted.id(uid.0));
    part.ids.extend(uid.map(|uid| (uid.0, line.start)));
    if !wanted.with_belongings {
        return;
    }
    let gid = user.gid().filter(|gid| wanted.id(gid.0));
    part.primaries.extend(gid.map(|gid| (gid.0, line.start)));
    if wanted.homes.is_empty() && !wanted.all {
        return;
    }
    let ends = memchr::memchr_iter(b'/', user.home).chain([user.home.len()]).filter(|end| *end > 0);
    let below = ends.filter_map(|end| wanted.home(&user.home[..end]));
    part.homes_below.extend(below.map(|hash| (hash, line.start)));
}
