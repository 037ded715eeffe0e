//! The slots of a hash table, in large pages of memory where there are many.

use memmap2::{Advice, MmapMut, MmapOptions};
use rayon::prelude::*;

use super::lookup::Batch;
use super::text::name_of;
use super::{BATCH, Hash, Lines, NONE, NameKey};

/// From so many slots on they are worth large pages, which have 2 MB here and there.
const MANY: usize = 1 << 17;

/// A hash, and an entry counted from 1, or 0 for none.
type Slot = [u8; 16];

/// The slots of a hash table. Whoever goes from one to another in no order waits for the
/// tables of pages as well, unless pages are large.
///
/// They are in shards of the same size by the upper bits of the hash, so that several
/// threads can fill them.
pub(super) struct Slots {
    few: Vec<Slot>,
    many: Option<MmapMut>,
    shards: usize,
}

/// The slots of some hashes.
pub(super) struct Shard<'s> {
    slots: &'s mut [Slot],
    /// Where they begin among all.
    first: usize,
    all: usize,
}

impl Slots {
    /// Slots for so many entries.
    pub fn new(entries: usize) -> Self {
        let shards = (2 * rayon::current_num_threads()).next_power_of_two().min(8);
        Self::of(entries, if entries < MANY { 1 } else { shards })
    }

    fn of(entries: usize, shards: usize) -> Self {
        let count = (2 * entries + 1).next_multiple_of(shards);
        let map = || {
            let map = MmapOptions::new().len(count * size_of::<Slot>()).map_anon().ok()?;
            // Only advice: a kernel without large pages does without.
            let _ = map.advise(Advice::HugePage);
            Some(map)
        };
        match (count >= MANY).then(map).flatten() {
            Some(map) => Slots { few: Vec::new(), many: Some(map), shards },
            None => Slots { few: vec![Slot::default(); count], many: None, shards },
        }
    }

    #[inline]
    fn all(&self) -> &[Slot] {
        self.many.as_ref().map_or(&self.few, |map| map.as_chunks().0)
    }

    fn all_mut(&mut self) -> &mut [Slot] {
        match &mut self.many {
            Some(map) => map.as_chunks_mut().0,
            None => &mut self.few,
        }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.all().len()
    }

    /// The shards, to be filled by several threads.
    pub fn shards(&mut self) -> impl IndexedParallelIterator<Item = Shard<'_>> {
        let (all, shards) = (self.len(), self.shards);
        let of = self.all_mut().par_chunks_mut(all / shards).enumerate();
        of.map(move |(at, slots)| Shard { slots, first: at * (all / shards), all })
    }

    /// The slots to be looked at.
    #[inline]
    pub fn view(&self) -> View<'_> {
        let slots = self.all();
        View { slots, shard: slots.len() / self.shards }
    }

    /// Puts an entry in a free slot.
    pub fn set(&mut self, at: usize, hash: Hash, entry: u32) {
        self.all_mut()[at] = packed(hash, entry);
    }

    /// Makes twice the room.
    pub fn grow(&mut self) {
        let mut more = Slots::of(self.len() + 1, self.shards);
        for (hash, entry) in self.all().iter().filter_map(|slot| unpacked(*slot)) {
            let view = more.view();
            let mut at = view.home(hash);
            while view.at(at).is_some() {
                at = view.after(at);
            }
            more.set(at, hash, entry);
        }
        *self = more;
    }
}

/// Slots as they are looked through.
#[derive(Clone, Copy)]
pub(super) struct View<'s> {
    slots: &'s [Slot],
    /// How many slots a shard has.
    shard: usize,
}

impl View<'_> {
    /// Where a hash is looked for first.
    #[inline]
    pub fn home(self, hash: Hash) -> usize {
        home(hash, self.slots.len())
    }

    /// Where it is looked for next: in the same shard.
    #[inline]
    pub fn after(self, at: usize) -> usize {
        match (at + 1).is_multiple_of(self.shard) {
            true => at + 1 - self.shard,
            false => at + 1,
        }
    }

    /// The hash and the entry that are there.
    #[inline]
    pub fn at(self, at: usize) -> Option<(Hash, u32)> {
        unpacked(self.slots[at])
    }

    /// The entry of a hash.
    pub fn entry(self, hash: Hash) -> Option<u32> {
        let mut at = self.home(hash);
        while let Some((other, entry)) = self.at(at) {
            if other == hash {
                return Some(entry);
            }
            at = self.after(at);
        }
        None
    }

    /// Finds the entries of a batch, each step for all of it.
    #[inline]
    pub fn resolve<T>(self, batch: &mut Batch<T>) {
        let mut seen = [None; BATCH];
        let hashes = &batch.hashes[..batch.count];
        for (seen, hash) in seen.iter_mut().zip(hashes) {
            *seen = self.at(self.home(*hash));
        }
        for ((hash, seen), found) in hashes.iter().zip(seen).zip(&mut batch.entries) {
            *found = match seen {
                None => NONE,
                Some((other, entry)) if other == *hash => entry,
                Some(_) => self.entry(*hash).unwrap_or(NONE),
            };
        }
    }
}

impl Shard<'_> {
    /// Takes in the names whose hashes belong here; their entries count all names.
    /// Returns the entries of names that are there already, as (that one, this).
    pub fn take_in(&mut self, users: &[Vec<NameKey>], lines: Option<&Lines>) -> Vec<(u32, u32)> {
        let mut doubled = Vec::new();
        let mut batch: Vec<(NameKey, u32)> = Vec::with_capacity(BATCH);
        let here = self.first..self.first + self.slots.len();
        for (entry, key) in users.iter().flatten().enumerate() {
            if here.contains(&home(key.hash(), self.all)) {
                batch.push((*key, entry as u32));
                if batch.len() == BATCH {
                    self.put(&mut batch, users, lines, &mut doubled);
                }
            }
        }
        self.put(&mut batch, users, lines, &mut doubled);
        doubled
    }

    fn put(
        &mut self,
        batch: &mut Vec<(NameKey, u32)>,
        users: &[Vec<NameKey>],
        lines: Option<&Lines>,
        doubled: &mut Vec<(u32, u32)>,
    ) {
        // Only to have them near.
        let near =
            batch.iter().map(|(key, _)| self.slots[home(key.hash(), self.all) - self.first][0]);
        std::hint::black_box(near.fold(0, |near, byte| near ^ byte));
        let name = |key: NameKey| name_of(lines?.at(key.start as usize).bytes);
        for (key, entry) in batch.drain(..) {
            let mut at = home(key.hash(), self.all) - self.first;
            self.slots[at] = loop {
                match unpacked(self.slots[at]) {
                    None => break packed(key.hash(), entry),
                    Some((hash, other))
                        if hash == key.hash() && name(key_of(users, other)) == name(key) =>
                    {
                        doubled.push((other, entry));
                        break self.slots[at];
                    }
                    Some(_) => at = (at + 1) % self.slots.len(),
                }
            };
        }
    }
}

/// The key of an entry.
fn key_of(users: &[Vec<NameKey>], entry: u32) -> NameKey {
    let mut at = entry as usize;
    for part in users {
        match part.get(at) {
            Some(key) => return *key,
            None => at -= part.len(),
        }
    }
    NameKey::default()
}

#[inline]
fn home(hash: Hash, slots: usize) -> usize {
    // As far in the slots as the hash is among all hashes.
    (((hash.upper >> 32) * slots as u64) >> 32) as usize
}

#[inline]
fn packed(hash: Hash, entry: u32) -> Slot {
    let lower = u64::from(hash.lower) << 32 | u64::from(entry + 1);
    (u128::from(hash.upper) << 64 | u128::from(lower)).to_ne_bytes()
}

#[inline]
fn unpacked(slot: Slot) -> Option<(Hash, u32)> {
    let slot = u128::from_ne_bytes(slot);
    let entry = (slot as u32).checked_sub(1)?;
    Some((Hash { upper: (slot >> 64) as u64, lower: (slot >> 32) as u32 }, entry))
}
