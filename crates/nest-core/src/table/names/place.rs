//! Adding the lines of a file to the index of the users' names.

use std::sync::atomic::{AtomicU32, Ordering::Relaxed};

use super::lookup::Batch;
use super::text::same_name;
use super::{File, Files, Key, Lookup, NAMED, NONE, Names, name_of, position, text};
use crate::table::each_line;

/// Adds the lines of one part of a file. Files are in step, mostly: then it is the
/// entry after the last one.
pub(crate) struct Placer<'n> {
    lookup: Lookup<'n>,
    /// Where the lines of the file are noted; subordinate ids are not.
    places: Option<&'n [AtomicU32]>,
    users: &'n [u8],
    next: usize,
    batch: Batch<u32>,
    placed: Placed,
}

/// What came of one part.
#[derive(Default)]
pub(crate) struct Placed {
    /// How many lines name somebody.
    lines: usize,
    /// Those whose name no user has, in order.
    strays: Vec<Key>,
}

impl Placed {
    /// Where the lines begin whose name no user has, in order.
    pub fn unowned(&self) -> impl Iterator<Item = u32> {
        self.strays.iter().map(|key| key.start)
    }
}

impl Names {
    /// What adds the lines of a part of a file.
    pub fn placer<'n>(&'n self, file: File, files: Files<'n>) -> Placer<'n> {
        let places = NAMED.contains(&file).then(|| &self.places[position(file)][..]);
        let (lookup, users) = (self.with(files), text(files, File::Passwd));
        let batch = Batch::default();
        Placer { lookup, places, users, next: 0, batch, placed: Placed::default() }
    }

    /// Takes in the lines that no user's name was found for, when all parts of a file
    /// have been added.
    pub fn settle(&mut self, file: File, parts: &[Placed], files: Files<'_>) {
        let places = &self.places[position(file)];
        let filled = places.iter().filter(|place| place.load(Relaxed) != NONE).count();
        if filled < parts.iter().map(|part| part.lines - part.strays.len()).sum() {
            return self.settle_again(file, files);
        }
        for key in parts.iter().flat_map(|part| &part.strays) {
            self.take_in(file, *key, files);
        }
    }

    /// Takes in the lines of a file one after the other: names are there twice, and
    /// which of their lines is the first one threads can't tell.
    fn settle_again(&mut self, file: File, files: Files<'_>) {
        self.places[position(file)].iter().for_each(|place| place.store(NONE, Relaxed));
        each_line(text(files, file), |row| {
            if let Some(name) = name_of(row.line) {
                let key = self.keying.key(name, row.start);
                self.take_in(file, key, files);
            }
        });
    }

    /// Takes in one line.
    fn take_in(&mut self, file: File, key: Key, files: Files<'_>) {
        let at = position(file);
        let line = text(files, file).get(key.start as usize..).unwrap_or_default();
        let found = self.with(files).probe(key.hash(), |other| same_name(line, other));
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

impl Placer<'_> {
    /// Adds the line at the beginning of a text, which begins at `start` in the file.
    #[inline(always)]
    pub fn line(&mut self, line: &[u8], name: &[u8], start: usize) {
        self.placed.lines += 1;
        let users = &self.lookup.names.places[0];
        if let Some(user) = users.get(self.next) {
            let user = self.users.get(user.load(Relaxed) as usize..).unwrap_or_default();
            if same_name(line, user) {
                self.place(self.next as u32, start as u32);
                self.next += 1;
                return;
            }
        }
        if self.batch.add(self.lookup.names.keying.hash(name), start as u32) {
            self.settle();
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
    fn settle(&mut self) {
        self.lookup.resolve(&mut self.batch);
        let (hashes, starts) = (self.batch.hashes, self.batch.with);
        for (at, entry) in self.batch.take().enumerate() {
            if entry == NONE {
                self.placed.strays.push(Key::new(hashes[at], starts[at]));
            } else {
                self.place(entry, starts[at]);
                self.next = entry as usize + 1;
            }
        }
    }

    /// What came of it.
    pub fn finish(mut self) -> Placed {
        self.settle();
        self.placed
    }
}
