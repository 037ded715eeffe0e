//! One index over the names of passwd, shadow, group and gshadow, for work that looks
//! up more than a few: which lines each name has in each of them.
//!
//! # How it is built
//!
//! Users come first: each of their names gets an entry, in file order. An entry holds, for
//! each of the four files, where the first line of that name begins. A hash table leads from
//! the hash of a name to its entry, for lookups that come in no order.
//!
//! ```text
//!     passwd           entries                           slots, in shards by the
//!                      passwd  group   shadow  gshadow   upper bits of the hash
//!     maren:x:1004…    0       0       0       0         ┌──────────────────┐
//!     odile:x:1005…    31      16      29      12        │ hash(odile) → 2  │  shard 0
//!     tavish:x:1006…   62      –       58      –         │ hash(maren) → 1  │
//!                      –       32      –       24        ├──────────────────┤
//!                              ↑ pilots, a group that    │ hash(pilots) → 4 │  shard 1
//!                                is no user's            │ hash(tavish) → 3 │
//!                                                        └──────────────────┘
//! ```
//!
//! The other files are then gone through, each by all threads, a part of the text for each:
//!
//! 1. [`InOrderMatcher`] holds each line against the user after the one that the line before
//!    was about. Files are mostly in step, so most lines find their entry without a lookup,
//!    and note there where they begin. Now and then a line that is out of step is looked up,
//!    to fall into step again; the rest is left over as [`MatchedLines`], with the sum of its
//!    hashes.
//! 2. `NameIndex::settle` joins the parts. Where the sum of what is left over is that of the
//!    users who were not met, the lines are those users' in another order: nothing is missing,
//!    and where they begin is only noted (`Lookup::places`) if somebody asks.
//! 3. Otherwise `IndexFiller` looks up what is left, a batch at a time, so that waiting for
//!    memory is done for all of it at once. Names that no user has get entries of their own,
//!    after those of the users.
//! 4. Where fewer lines were noted than there are, some name stands twice. Which line is the
//!    first threads can't tell, so that the file is gone through again by one.
//!
//! Names are compared by 96 bits of hash, with a key of its own for each index. Whatever is
//! told to somebody was compared as text ([`Lookup`]).

mod fill;
mod in_order;
mod lookup;
mod slots;
mod text;

use std::hash::{BuildHasher, Hasher};
use std::sync::OnceLock;
use std::sync::atomic::AtomicU32;
use std::sync::atomic::Ordering::Relaxed;

use hashbrown::DefaultHashBuilder;
use rayon::prelude::*;
use slots::Slots;
use text::each_name;

use super::{File, Lines};

pub(crate) use in_order::{InOrderMatcher, MatchedLines};
pub(crate) use lookup::{BatchedLookups, Lookup, NameEntry};
pub(crate) use text::{block, name_of};

/// The files whose lines are named by what they are about, in the order in which their
/// names are taken in.
const NAMED: [File; 4] = [File::Passwd, File::Group, File::Shadow, File::Gshadow];

/// Those files of a tree, as far as it has them.
pub(crate) type Files<'b> = [Option<&'b Lines>; 4];

/// No place, or no entry.
const NONE: u32 = u32::MAX;

/// So many names are looked up together: what is slow is to wait for memory, and for
/// many places at once one waits no longer than for one.
const BATCH: usize = 32;

/// The hash of a name: 96 bits, keyed anew for each index. That two of a million names
/// have the same is less likely than that memory fails, and nobody can choose such
/// names. Where many names are looked up, one that has the hash of another is taken for
/// the same; where somebody is told that names are the same, they were compared.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Hash {
    upper: u64,
    lower: u32,
}

/// The sum of hashes: two sets of names have the same if they are the same, in whatever
/// order.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Sum(u128);

impl Sum {
    /// Adds one hash.
    #[inline]
    pub fn add(&mut self, Hash { upper, lower }: Hash) {
        // Hashes of names that are alike need not be quite unlike, which is enough to find
        // them but not to add them up: one more multiplication, folded, mends that.
        let wide = u128::from(upper) * 0x9e37_79b9_7f4a_7c15;
        let folded = (wide >> 64) as u64 ^ wide as u64;
        self.extend(Sum(u128::from(folded) << 32 | u128::from(lower)));
    }

    /// Adds those of another sum.
    #[inline]
    pub fn extend(&mut self, other: Sum) {
        self.0 = self.0.wrapping_add(other.0);
    }
}

/// A name as the index looks for it.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct NameKey {
    upper: u64,
    lower: u32,
    /// Where its line begins in the text.
    start: u32,
}

impl NameKey {
    #[inline]
    fn new(Hash { upper, lower }: Hash, start: u32) -> Self {
        NameKey { upper, lower, start }
    }

    #[inline]
    fn hash(&self) -> Hash {
        Hash { upper: self.upper, lower: self.lower }
    }
}

/// How the names of one index are hashed.
#[derive(Debug, Default)]
pub(crate) struct NameHasher([DefaultHashBuilder; 2]);

impl NameHasher {
    /// The key of a name on the line that begins at `start`.
    #[inline]
    pub fn key(&self, name: &[u8], start: usize) -> NameKey {
        NameKey::new(self.hash(name), start as u32)
    }

    #[inline(always)]
    fn hash(&self, name: &[u8]) -> Hash {
        self.hash_all([name])
    }

    /// The hash of texts in their order.
    #[inline(always)]
    pub fn hash_all<const N: usize>(&self, texts: [&[u8]; N]) -> Hash {
        Hash { upper: self.half(0, texts), lower: self.half(1, texts) as u32 }
    }

    #[inline(always)]
    fn half<const N: usize>(&self, half: usize, texts: [&[u8]; N]) -> u64 {
        let mut hasher = self.0[half].build_hasher();
        texts.iter().for_each(|text| hasher.write(text));
        hasher.finish()
    }
}

/// The first line of each name in each file. Lines that repeat a name are kept apart.
///
/// Every name has an entry, by number: those of passwd in the order of its lines, then
/// those that only other files have.
pub(crate) struct NameIndex {
    hasher: NameHasher,
    slots: Slots,
    /// The keys of the lines of passwd, in their order, which is that of their entries.
    /// Those of lines that repeat a name are no name's.
    users: Vec<Vec<NameKey>>,
    /// Where the first line of each entry begins, file by file; [`NONE`] for none.
    places: [Vec<AtomicU32>; 4],
    /// Of which files not all lines are noted there yet, but when they are asked for.
    unnoted: [bool; 4],
    noted: [OnceLock<()>; 4],
    /// Which files are known to have a line for each user.
    complete: [bool; 4],
    doubled: [Vec<(u32, u32)>; 4],
    /// The same by the first lines, where they were asked for.
    by_first: [OnceLock<Vec<(u32, u32)>>; 4],
}

impl std::fmt::Debug for NameIndex {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Names").field("entries", &self.places[0].len()).finish_non_exhaustive()
    }
}

impl NameIndex {
    /// Indexes the names of these files.
    pub fn build<'b>(lines: impl Fn(File) -> Option<&'b Lines> + Sync) -> Self {
        let hasher = NameHasher::default();
        let keys: Option<Vec<Vec<NameKey>>> = lines(File::Passwd).map(|lines| {
            lines.sweep(Vec::new, |keys, from, text| {
                each_name(text, |name, at| keys.push(hasher.key(name, from + at)));
            })
        });
        let files = Self::files(&lines);
        let mut names = NameIndex::of_users(hasher, keys.unwrap_or_default(), files);
        for file in &NAMED[1..] {
            let Some(lines) = lines(*file) else { continue };
            let matchers = lines.sweep(
                || names.matcher(*file),
                |matcher, from, text| each_name(text, |name, at| matcher.line(name, from + at)),
            );
            let matched: Vec<MatchedLines> =
                matchers.into_iter().map(InOrderMatcher::finish).collect();
            names.settle(*file, &matched, files);
        }
        names
    }

    /// The index of the users, each with the key of its line, to which the lines of
    /// other files are to be added.
    pub fn of_users(hasher: NameHasher, users: Vec<Vec<NameKey>>, files: Files<'_>) -> Self {
        let count: usize = users.iter().map(Vec::len).sum();
        let mut slots = Slots::new(count);
        let passwd = files[position(File::Passwd)];
        let starts = || users.iter().flatten().map(|key| AtomicU32::new(key.start)).collect();
        let none = || (0..count).map(|_| AtomicU32::new(NONE)).collect();
        let (doubled, places): (Vec<Vec<(u32, u32)>>, _) = rayon::join(
            || slots.shards().map(|mut shard| shard.take_in(&users, passwd)).collect(),
            || [starts(), none(), none(), none()],
        );
        let (unnoted, noted, doubles, by_first) = Default::default();
        let complete = [true, false, false, false];
        let mut names = NameIndex {
            hasher,
            slots,
            users,
            places,
            unnoted,
            noted,
            complete,
            doubled: doubles,
            by_first,
        };
        let places = &names.places[0];
        let start = |entry: u32| places[entry as usize].load(Relaxed);
        let mut doubled: Vec<(u32, u32)> = doubled.concat();
        doubled.sort_unstable_by_key(|(_, again)| *again);
        names.doubled[0] =
            doubled.iter().map(|(first, again)| (start(*first), start(*again))).collect();
        // Nothing leads to the entries of the others.
        doubled.iter().for_each(|(_, again)| places[*again as usize].store(NONE, Relaxed));
        let mut first = 0;
        for keys in &mut names.users {
            let here = first..first + keys.len();
            let again = doubled.iter().map(|(_, again)| *again as usize);
            again
                .filter(|at| here.contains(at))
                .for_each(|at| keys[at - first] = NameKey::default());
            first = here.end;
        }
        names
    }

    /// How many entries are those of passwd.
    fn users_count(&self) -> usize {
        self.users.iter().map(Vec::len).sum()
    }

    /// The files that have names.
    pub fn files<'b>(lines: impl Fn(File) -> Option<&'b Lines>) -> Files<'b> {
        NAMED.map(lines)
    }

    /// The names with the files they are in.
    pub fn over<'b>(&'b self, lines: impl Fn(File) -> Option<&'b Lines>) -> Lookup<'b> {
        self.with(Self::files(lines))
    }

    /// The same, of these files.
    pub fn with<'b>(&'b self, files: Files<'b>) -> Lookup<'b> {
        Lookup { names: self, files }
    }

    /// The lines of a file whose name an earlier line has, as where (that one, this)
    /// begin, in file order.
    pub fn doubled(&self, file: File) -> &[(u32, u32)] {
        &self.doubled[position(file)]
    }

    /// Where the lines begin, in order, that repeat the name of the one that begins at `first`.
    fn again(&self, file: File, first: usize) -> impl Iterator<Item = usize> {
        let at = position(file);
        let pairs = self.by_first[at].get_or_init(|| {
            let mut pairs = self.doubled[at].clone();
            pairs.sort_unstable();
            pairs
        });
        let from = pairs.partition_point(|(of, _)| (*of as usize) < first);
        let same = pairs[from..].iter().take_while(move |(of, _)| *of as usize == first);
        same.map(|(_, again)| *again as usize)
    }
}

/// The text of one of them. One that is read when it is wanted is seldom wanted.
fn text<'b>(files: Files<'b>, file: File) -> &'b [u8] {
    files[position(file)].map(Lines::text).unwrap_or_default()
}

fn position(file: File) -> usize {
    match file {
        File::Passwd => 0,
        File::Group => 1,
        File::Shadow => 2,
        _ => 3,
    }
}

#[cfg(test)]
mod tests;
