//! Adding the lines of a file to the index of the users' names.

use std::ops::Range;
use std::sync::atomic::AtomicU32;
use std::sync::atomic::Ordering::Relaxed;

use rayon::prelude::*;

use super::fill::IndexFiller;
use super::{
    File, Files, Hash, Lines, NAMED, NONE, NameHasher, NameIndex, NameKey, Sum, each_name, name_of,
    position, text,
};

/// Out of step, so many lines are passed over before one is looked up to be in step again.
const STRIDE: usize = 32;

/// Of a part with more lines out of step than this none of them is kept.
const MOST_KEPT: usize = 4096;

/// Adds the lines of one part of a file. Files are in step, mostly: then it is the
/// entry after the last one.
pub(crate) struct InOrderMatcher<'n> {
    names: &'n NameIndex,
    /// Where the lines of the file are noted; subordinate ids are not.
    places: Option<&'n [AtomicU32]>,
    /// The users whose lines came last, one after the other.
    steps: Range<u32>,
    /// Some of those that come after them.
    batch: &'n [NameKey],
    /// So many lines more are passed over.
    wait: usize,
    matched: MatchedLines,
}

/// What came of one part.
#[derive(Default)]
pub(crate) struct MatchedLines {
    /// The users whose lines came one after the other.
    steps: Vec<Range<u32>>,
    /// The other lines that name somebody, in order: nothing was looked up for them yet.
    /// Where they are those of the other users it never has to be. Many are not kept.
    pub(super) others: Vec<NameKey>,
    /// What their names come to.
    total: Total,
}

/// How many names there are, and the sum of their hashes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Total(usize, Sum);

impl Total {
    fn add(&mut self, hash: Hash) {
        self.0 += 1;
        self.1.add(hash);
    }

    fn and(mut self, other: Total) -> Total {
        self.0 += other.0;
        self.1.extend(other.1);
        self
    }
}

/// Whether no user's line was met twice in step.
fn are_apart(parts: &[MatchedLines]) -> bool {
    let steps = parts.iter().flat_map(|part| &part.steps).filter(|steps| !steps.is_empty());
    let mut steps: Vec<&Range<u32>> = steps.collect();
    steps.sort_unstable_by_key(|steps| steps.start);
    steps.windows(2).all(|pair| pair[0].end <= pair[1].start)
}

impl NameIndex {
    /// What adds the lines of a part of a file.
    pub fn matcher(&self, file: File) -> InOrderMatcher<'_> {
        let places = NAMED.contains(&file).then(|| &self.places[position(file)][..]);
        let (batch, matched) = (self.users_from(0), MatchedLines::default());
        InOrderMatcher { names: self, places, steps: 0..0, batch, wait: 0, matched }
    }

    /// Takes in the lines that were not in step with those of users, when all parts of a
    /// file have been added. Mostly nothing has to be: each user has one, and nobody else.
    pub fn settle(&mut self, file: File, parts: &[MatchedLines], files: Files<'_>) {
        let at = position(file);
        let (apart, in_step) = (are_apart(parts), parts.iter().all(MatchedLines::is_in_step));
        if apart && self.are_the_others(parts, &[]) {
            (self.complete[at], self.unnoted[at]) = (true, !in_step);
            return;
        }
        if apart && in_step {
            return;
        }
        let places = &self.places[at];
        let unmatched = self.unmatched(parts, files[at], || IndexFiller::new(self, Some(places)));
        let filled = places.iter().filter(|place| place.load(Relaxed) != NONE).count();
        let lines: usize = parts.iter().map(MatchedLines::lines).sum();
        if filled + unmatched.len() < lines {
            return self.settle_again(file, files);
        }
        for key in unmatched {
            self.take_in(file, key, files);
        }
    }

    /// Where the lines begin whose name no user has, in order, when all parts of a file
    /// that is not indexed have been added. Of the users who are told, by entry and in
    /// order, nobody expects a line.
    pub fn unowned(&self, lines: &Lines, parts: &[MatchedLines], unexpected: &[u32]) -> Vec<u32> {
        if parts.iter().all(MatchedLines::is_in_step)
            || self.are_the_others(parts, &[])
            || self.are_the_others(parts, unexpected)
        {
            return Vec::new();
        }
        let unmatched = self.unmatched(parts, Some(lines), || IndexFiller::new(self, None));
        unmatched.iter().map(|key| key.start).collect()
    }

    /// Whether the lines that were not in step are those of all users whose lines were
    /// not, one each, but of those users who are told. What is compared is the sum of
    /// the hashes of names: to look each up takes several times as long.
    fn are_the_others(&self, parts: &[MatchedLines], but: &[u32]) -> bool {
        let mut wanted = vec![true; self.users_count()];
        for steps in parts.iter().flat_map(|part| &part.steps) {
            wanted[steps.start as usize..steps.end as usize].fill(false);
        }
        but.iter().for_each(|entry| wanted[*entry as usize] = false);
        let mut rest = &wanted[..];
        let users = self.users.iter().map(|keys| {
            let (wanted, after) = rest.split_at(keys.len());
            rest = after;
            (keys, wanted)
        });
        let users: Vec<(&Vec<NameKey>, &[bool])> = users.collect();
        let total = |(keys, wanted): &(&Vec<NameKey>, &[bool])| {
            let mut total = Total::default();
            for (key, wanted) in keys.iter().zip(*wanted) {
                // Lines that repeat a name have no hash.
                if *wanted && key.hash() != Hash::default() {
                    total.add(key.hash());
                }
            }
            total
        };
        let expected = users.par_iter().map(total).reduce(Total::default, Total::and);
        parts.iter().map(|part| part.total).fold(Total::default(), Total::and) == expected
    }

    /// The keys of some users from this entry on; none after the last.
    fn users_from(&self, entry: u32) -> &[NameKey] {
        let mut before = entry as usize;
        for keys in &self.users {
            if before < keys.len() {
                return &keys[before..];
            }
            before -= keys.len();
        }
        &[]
    }

    /// Takes in the lines of a file one after the other: names are there twice, and
    /// which of their lines is the first one threads can't tell.
    fn settle_again(&mut self, file: File, files: Files<'_>) {
        self.places[position(file)].iter().for_each(|place| place.store(NONE, Relaxed));
        each_name(text(files, file), |name, at| {
            let key = self.hasher.key(name, at);
            self.take_in(file, key, files);
        });
    }

    /// Takes in one line.
    fn take_in(&mut self, file: File, key: NameKey, files: Files<'_>) {
        let at = position(file);
        let line = files[at].map(|lines| lines.at(key.start as usize).bytes).unwrap_or_default();
        let found = self.with(files).probe(key.hash(), |other| name_of(line) == name_of(other));
        let entry = found.unwrap_or_else(|slot| {
            let entry = self.places[0].len() as u32;
            for places in &mut self.places {
                places.push(AtomicU32::new(NONE));
            }
            self.slots.set(slot, key.hash(), entry);
            if self.places[0].len() * 3 > self.slots.len() * 2 {
                self.slots.grow();
            }
            entry
        });
        let place = &self.places[at][entry as usize];
        match place.load(Relaxed) {
            NONE => place.store(key.start, Relaxed),
            first => self.doubled[at].push((first, key.start)),
        }
    }
}

impl<'n> InOrderMatcher<'n> {
    /// How names are hashed.
    pub fn hasher(&self) -> &'n NameHasher {
        &self.names.hasher
    }

    /// Adds the line of this name that begins at `start` in the file.
    #[inline(always)]
    pub fn line(&mut self, name: &[u8], start: usize) {
        // Against one other, half of the hash is enough.
        let upper = self.hasher().half(0, [name]);
        match self.batch.split_first() {
            Some((next, batch)) if next.upper == upper => {
                self.place(self.steps.end, start as u32);
                self.steps.end += 1;
                self.batch = batch;
                self.wait = 0;
            }
            _ => self.out_of_step(name, start),
        }
    }

    #[inline]
    fn place(&self, entry: u32, start: u32) {
        if let Some(places) = self.places
            && places[entry as usize].load(Relaxed) == NONE
        {
            places[entry as usize].store(start, Relaxed);
        }
    }

    #[inline(never)]
    fn out_of_step(&mut self, name: &[u8], start: usize) {
        let names = self.names;
        if self.batch.is_empty() {
            self.batch = names.users_from(self.steps.end);
            if !self.batch.is_empty() {
                return self.line(name, start);
            }
        }
        let (hash, start) = (names.hasher.hash(name), start as u32);
        if self.wait == 0 {
            self.wait = STRIDE;
            let entry = names.slots.view().entry(hash);
            // Names that only other files have may be there too.
            if let Some(entry) = entry.filter(|entry| (*entry as usize) < names.users_count()) {
                self.place(entry, start);
                let last = std::mem::replace(&mut self.steps, entry..entry + 1);
                self.matched.steps.push(last);
                self.batch = names.users_from(entry + 1);
                return;
            }
        }
        self.wait -= 1;
        if self.matched.are_kept() {
            match self.matched.others.len() < MOST_KEPT {
                true => self.matched.others.push(NameKey::new(hash, start)),
                false => self.matched.others = Vec::new(),
            }
        }
        self.matched.total.add(hash);
    }

    /// What came of it.
    pub fn finish(mut self) -> MatchedLines {
        self.matched.steps.push(self.steps);
        self.matched
    }
}

impl MatchedLines {
    /// How many lines name somebody.
    fn lines(&self) -> usize {
        self.total.0 + self.steps.iter().map(ExactSizeIterator::len).sum::<usize>()
    }

    /// Whether all of them were in step.
    fn is_in_step(&self) -> bool {
        self.total.0 == 0
    }

    /// Whether those that were not are all kept.
    pub(super) fn are_kept(&self) -> bool {
        self.others.len() == self.total.0
    }
}
