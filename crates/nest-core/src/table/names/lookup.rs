//! Looking names up, many at a time.

use std::sync::atomic::AtomicU32;
use std::sync::atomic::Ordering::Relaxed;

use rayon::prelude::*;

use super::text::{is_named, same_list};
use super::{BATCH, Files, Hash, NAMED, NONE, NameIndex, position, text};
use crate::table::File;

/// The names of some files, to be looked up in their texts.
#[derive(Clone, Copy)]
pub(crate) struct Lookup<'b> {
    pub(super) names: &'b NameIndex,
    pub(super) files: Files<'b>,
}

/// What a name was found to be: the lines it has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct NameEntry(pub(super) u32);

impl NameEntry {
    /// Its number: names of passwd come first, in the order of their lines.
    pub fn number(self) -> usize {
        self.0 as usize
    }
}

impl<'b> Lookup<'b> {
    /// See [`NameIndex::doubled`].
    pub fn doubled(&self, file: File) -> &'b [(u32, u32)] {
        self.names.doubled(file)
    }

    /// See [`NameIndex::again`].
    pub fn again(&self, file: File, first: usize) -> impl Iterator<Item = usize> + use<'b> {
        self.names.again(file, first)
    }

    /// Where the lines of `file` begin whose name no line of `other` has, in order.
    pub fn lacking(&self, file: File, other: File) -> Vec<u32> {
        let (names, both) = (self.names, [file, other].map(position));
        let [ours, theirs] = match both.iter().all(|at| names.complete[*at]) {
            // No user lacks a line of files that have one for each.
            true => both.map(|at| &names.places[at][names.users_count()..]),
            false => [file, other].map(|file| self.places(file)),
        };
        let mut lacking = Vec::new();
        for (ours, theirs) in ours.iter().zip(theirs) {
            let start = ours.load(Relaxed);
            if theirs.load(Relaxed) == NONE && start != NONE {
                lacking.push(start);
            }
        }
        if lacking.is_empty() {
            return lacking;
        }
        lacking.sort_unstable();
        let again = self.doubled(file).iter();
        let again = again.filter(|(first, _)| lacking.binary_search(first).is_ok());
        let again: Vec<u32> = again.map(|(_, again)| *again).collect();
        lacking.extend(again);
        lacking.sort_unstable();
        lacking
    }

    /// Where the lines of groups begin whose members are written otherwise in gshadow, in
    /// order.
    pub fn differing(&self) -> Vec<u32> {
        let [groups, gshadows] = [File::Group, File::Gshadow].map(|file| self.places(file));
        let (ours, theirs) = (text(self.files, File::Group), text(self.files, File::Gshadow));
        let line = |text: &'b [u8], at: &AtomicU32| {
            text.get(at.load(Relaxed) as usize..).unwrap_or_default()
        };
        let batches = groups.par_chunks(BATCH).zip(gshadows.par_chunks(BATCH)).with_min_len(64);
        let mut differing: Vec<u32> = batches
            .flat_map_iter(|(groups, gshadows)| {
                // Only to have them near.
                let near = groups.iter().map(|at| line(ours, at));
                let near = near.chain(gshadows.iter().map(|at| line(theirs, at)));
                let near = near.filter_map(<[u8]>::first).fold(0, |near, byte| near ^ byte);
                std::hint::black_box(near);
                groups.iter().zip(gshadows).filter_map(move |(group, gshadow)| {
                    let (ours, theirs) = (line(ours, group), line(theirs, gshadow));
                    let alike = ours.is_empty() || theirs.is_empty() || same_list(ours, theirs);
                    (!alike).then(|| group.load(Relaxed))
                })
            })
            .collect();
        // Of a name that is there twice each line is looked at.
        differing.extend(self.doubled(File::Group).iter().map(|(_, again)| *again));
        differing.sort_unstable();
        differing
    }

    /// What a name is, if any file has it.
    pub fn entry(&self, name: &[u8]) -> Option<NameEntry> {
        if memchr::memchr(b':', name).is_some() {
            return None;
        }
        let same = |line: &[u8]| is_named(line, name);
        self.probe(self.names.hasher.hash(name), same).ok().map(NameEntry)
    }

    /// Where the first line of this name begins in a file.
    pub fn find(&self, file: File, name: &[u8]) -> Option<usize> {
        self.start(file, self.entry(name)?)
    }

    /// Where its first line begins in a file.
    #[inline]
    pub fn start(&self, file: File, entry: NameEntry) -> Option<usize> {
        let (at, names) = (position(file), self.names);
        let mut start = names.places[at].get(entry.number())?.load(Relaxed);
        if start == NONE && names.unnoted[at] {
            start = self.places(file)[entry.number()].load(Relaxed);
        }
        (start != NONE).then_some(start as usize)
    }

    /// What looks names up of which many come, each with something that belongs to it.
    pub fn many<T: Copy + Default>(&self) -> BatchedLookups<'b, T> {
        BatchedLookups { lookup: *self, batch: Batch::default() }
    }

    /// The first line that an entry has anywhere.
    #[inline]
    pub(super) fn line(&self, entry: u32) -> &'b [u8] {
        for (places, file) in self.names.places.iter().zip(NAMED) {
            let start = places.get(entry as usize).map_or(NONE, |start| start.load(Relaxed));
            if start != NONE {
                let lines = self.files[position(file)];
                return lines.map(|lines| lines.at(start as usize).bytes).unwrap_or_default();
            }
        }
        b""
    }

    /// The entry of a name, or the slot where it is to go.
    pub(super) fn probe(&self, hash: Hash, same: impl Fn(&[u8]) -> bool) -> Result<u32, usize> {
        let slots = self.names.slots.view();
        let mut at = slots.home(hash);
        loop {
            match slots.at(at) {
                None => return Err(at),
                Some((other, entry)) if other == hash && same(self.line(entry)) => {
                    return Ok(entry);
                }
                Some(_) => at = slots.after(at),
            }
        }
    }
}

/// Looks names up, many at a time; what came of each is told in the order in which
/// they came, but later.
pub(crate) struct BatchedLookups<'b, T> {
    lookup: Lookup<'b>,
    batch: Batch<T>,
}

impl<T: Copy + Default> BatchedLookups<'_, T> {
    /// Looks a name up, sooner or later. Returns its hash.
    #[inline]
    pub fn ask(&mut self, name: &[u8], with: T, tell: impl FnMut(T, Option<NameEntry>)) -> Hash {
        let hash = self.lookup.names.hasher.hash(name);
        if self.batch.add(hash, with) {
            self.finish(tell);
        }
        hash
    }

    /// Looks up all that were not yet.
    pub fn finish(&mut self, mut tell: impl FnMut(T, Option<NameEntry>)) {
        self.lookup.names.slots.view().resolve(&mut self.batch);
        let with = self.batch.with;
        for (with, entry) in with.into_iter().zip(self.batch.take()) {
            tell(with, (entry != NONE).then_some(NameEntry(entry)));
        }
    }
}

/// Names that are looked up together.
#[derive(Default)]
pub(super) struct Batch<T> {
    pub count: usize,
    pub hashes: [Hash; BATCH],
    /// What was given with each.
    pub with: [T; BATCH],
    pub entries: [u32; BATCH],
}

impl<T> Batch<T> {
    /// Returns whether it is full.
    #[inline]
    pub fn add(&mut self, hash: Hash, with: T) -> bool {
        self.hashes[self.count] = hash;
        self.with[self.count] = with;
        self.count += 1;
        self.count == BATCH
    }

    /// The entries that were found, and room for others.
    #[inline]
    pub fn take(&mut self) -> std::iter::Take<std::array::IntoIter<u32, BATCH>> {
        let count = std::mem::take(&mut self.count);
        self.entries.into_iter().take(count)
    }
}
