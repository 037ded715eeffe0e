//! Looking lines up and noting where they begin, for those that were not in step.

use std::sync::atomic::AtomicU32;
use std::sync::atomic::Ordering::Relaxed;

use rayon::prelude::*;

use super::lookup::Batch;
use super::{File, Lines, Lookup, MatchedLines, NONE, NameIndex, NameKey, each_name, position};

impl NameIndex {
    /// The lines of these parts that have no entry, in order. If not all were kept, those
    /// of the whole file are gone through again.
    pub(super) fn unmatched<'n>(
        &self,
        parts: &[MatchedLines],
        lines: Option<&Lines>,
        filler: impl Fn() -> IndexFiller<'n> + Sync,
    ) -> Vec<NameKey> {
        if parts.iter().all(MatchedLines::are_kept) {
            let unmatched = parts.par_iter().map(|part| {
                let mut filler = filler();
                part.others.iter().for_each(|key| filler.add(*key));
                filler.finish()
            });
            return unmatched.collect::<Vec<_>>().concat();
        }
        let Some(lines) = lines else { return Vec::new() };
        let fillers = lines.sweep(filler, |filler, from, text| {
            each_name(text, |name, at| filler.add(self.hasher.key(name, from + at)));
        });
        fillers.into_iter().flat_map(IndexFiller::finish).collect()
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
                            let mut filler = IndexFiller::new(names, Some(places));
                            lines.sweep_part(thread, threads, |from, text| {
                                each_name(text, |name, at| {
                                    filler.add(names.hasher.key(name, from + at));
                                });
                            });
                            filler.finish();
                        });
                    }
                });
            });
        }
        places
    }
}

/// Looks lines up, many at a time, and notes where they begin.
pub(super) struct IndexFiller<'n> {
    names: &'n NameIndex,
    places: Option<&'n [AtomicU32]>,
    batch: Batch<NameKey>,
    /// Those without an entry; where nothing is noted also those whose name only files
    /// of other things have.
    unmatched: Vec<NameKey>,
}

impl<'n> IndexFiller<'n> {
    pub fn new(names: &'n NameIndex, places: Option<&'n [AtomicU32]>) -> Self {
        IndexFiller { names, places, batch: Batch::default(), unmatched: Vec::new() }
    }

    #[inline]
    fn add(&mut self, key: NameKey) {
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
                _ if entry as usize >= known => self.unmatched.push(key),
                Some(places) if places[entry as usize].load(Relaxed) == NONE => {
                    places[entry as usize].store(key.start, Relaxed);
                }
                _ => {}
            }
        }
    }

    fn finish(mut self) -> Vec<NameKey> {
        self.settle();
        self.unmatched
    }
}
