//! What was found while a change was planned, so that it need not be looked for again when the
//! change follows at once.

use std::io::{Error, Result};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use nest_core::ownership::Reown;

use super::{Carriers, Search, find, lock};
use crate::tree::Tree;

/// A list is as good as a new one for so long: others may make files at any time, be it while
/// the list is gone through.
const FRESH: Duration = Duration::from_secs(2);

/// Longer lists are not kept.
const MOST: usize = 16 << 20;

/// The files that were found last.
#[derive(Debug, Default)]
pub struct Earlier(Mutex<Option<Found>>);

/// What one search brought.
#[derive(Debug)]
pub(crate) struct Found {
    reown: Reown,
    at: Instant,
    /// The files that carry the numbers.
    pub list: Vec<u8>,
    /// Those that carry one of the new numbers already.
    pub there: Vec<u8>,
    /// How many there are.
    pub carriers: Carriers,
}

impl Earlier {
    /// Looks for the files that carry the numbers, and keeps the list where it is not too long.
    ///
    /// # Errors
    /// As [`find`].
    pub fn find(&self, tree: &Tree, reown: &Reown) -> Result<Carriers> {
        // Of files that are given away the list is made anew: they may be many people's.
        if !reown.follows {
            return find(tree, reown, Search::default());
        }
        let [list, there] = [Mutex::new(Some(Vec::new())), Mutex::new(Some(Vec::new()))];
        let keep = |to: &Mutex<Option<Vec<u8>>>, part: &[u8]| {
            let mut kept = lock(to);
            if let Some(text) = kept.as_mut() {
                text.extend_from_slice(part);
            }
            if kept.as_ref().is_some_and(|text| text.len() > MOST) {
                *kept = None;
            }
            Ok::<(), Error>(())
        };
        let (write, write_there) =
            (|part: &[u8]| keep(&list, part), |part: &[u8]| keep(&there, part));
        let search = Search { list: Some(&write), there: Some(&write_there), but: b"" };
        let carriers = find(tree, reown, search)?;
        let (list, there) = (lock(&list).take(), lock(&there).take());
        *lock(&self.0) = list.zip(there).map(|(list, there)| Found {
            reown: reown.clone(),
            at: Instant::now(),
            list,
            there,
            carriers: carriers.clone(),
        });
        Ok(carriers)
    }

    /// Takes out what was found a moment ago for just this.
    pub(crate) fn take(&self, reown: &Reown) -> Option<Found> {
        lock(&self.0).take().filter(|found| found.reown == *reown && found.at.elapsed() < FRESH)
    }
}
