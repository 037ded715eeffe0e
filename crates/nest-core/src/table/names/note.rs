//! Looking lines up and noting where they begin, for those that were not in step.

use std::sync::atomic::{AtomicU32, Ordering::Relaxed};

use rayon::prelude::*;

use super::lookup::Batch;
use super::{File, Key, Lines, Lookup, NONE, Names, Placed, each_name, position};

impl Names {
    /// The lines of these parts that have no entry, in order. If not all were kept, those
    /// of the whole file are gone through again.
    pub(super) fn strays<'n>(
        &self,
        parts: &[Placed],
        lines: Option<&Lines>,
        noter: impl Fn() -> Noter<'n> + Sync,
    ) -> Vec<Key> {
        if parts.iter().all(Placed::are_kept) {
            let strays = parts.par_iter().map(|part| {
                let mut noter = noter();
                part.others.iter().for_each(|key| noter.add(*key));
                noter.finish()
            });
            return strays.collect::<Vec<_>>().concat();
        }
        let Some(lines) = lines else { return Vec::new() };
        let noters = lines.sweep(noter, |noter, from, text| {
            each_name(text, |name, at| noter.add(self.keying.key(name, from + at)));
        });
        noters.into_iter().flat_map(Noter::finish).collect()
    }
}

impl<'b> Lookup<'b> {
    /// Where the lines of a file begin, by entry.
    pub(super) fn places(&self, file: File) -> &'b [AtomicU32] {
        let (names, at) = (self.names, position(file));
        let (places, lines) = (&names.places[at][..], self.files[at]);
        if let Some(lines) = lines.filter(|_| names.unnoted[at]) {
            names.noted[at].get_or_init(|| {
                // Not by rayon, whose threads may all be waiting here.
                let threads = rayon::current_num_threads();
                std::thread::scope(|scope| {
                    for thread in 0..threads {
                        scope.spawn(move || {
                            let mut noter = Noter::new(names, Some(places));
                            lines.sweep_part(thread, threads, |from, text| {
                                each_name(text, |name, at| {
                                    noter.add(names.keying.key(name, from + at));
                                });
                            });
                            noter.finish();
                        });
                    }
                });
            });
        }
        places
    }
}

/// Looks lines up, many at a time, and notes where they begin.
pub(super) struct Noter<'n> {
    names: &'n Names,
    places: Option<&'n [AtomicU32]>,
    batch: Batch<Key>,
    /// Those without an entry; where nothing is noted also those whose name only files
    /// of other things have.
    strays: Vec<Key>,
}

impl<'n> Noter<'n> {
    pub fn new(names: &'n Names, places: Option<&'n [AtomicU32]>) -> Self {
        Noter { names, places, batch: Batch::default(), strays: Vec::new() }
    }

    #[inline]
    fn add(&mut self, key: Key) {
        if self.batch.add(key.hash(), key) {
            self.settle();
        }
    }

    fn settle(&mut self) {
        self.names.slots.view().resolve(&mut self.batch);
        let keys = self.batch.with;
        let known = self.places.map_or_else(|| self.names.users_count(), <[AtomicU32]>::len);
        for (key, entry) in keys.into_iter().zip(self.batch.take()) {
            match self.places {
                _ if entry as usize >= known => self.strays.push(key),
                Some(places) if places[entry as usize].load(Relaxed) == NONE => {
                    places[entry as usize].store(key.start, Relaxed);
                }
                _ => {}
            }
        }
    }

    fn finish(mut self) -> Vec<Key> {
        self.settle();
        self.strays
    }
}
