//! Ranges of ids of a whole file, without their lines: whether they overlap.

use rayon::prelude::*;

use crate::allot::IdSet;
use crate::value::IdSpan;

/// Some ranges of a file. Mostly they were given out one after the other: then they are
/// one stretch, and its first id and its last say enough.
#[derive(Default)]
pub(super) struct Spans {
    all: Vec<IdSpan>,
    /// The lowest id of all and the highest.
    ends: Option<IdSpan>,
    /// Whether some range began before an earlier one ended.
    unordered: bool,
}

impl Spans {
    /// Adds a range.
    #[inline]
    pub fn add(&mut self, span: IdSpan) {
        match self.all.last_mut() {
            // The next one, given out after it: both are one stretch.
            Some(last) if last.last.checked_add(1) == Some(span.first) => last.last = span.last,
            _ => self.all.push(span),
        }
        self.stretch(span);
    }

    #[inline]
    fn stretch(&mut self, span: IdSpan) {
        let Some(ends) = &mut self.ends else { return self.ends = Some(span) };
        self.unordered |= span.first <= ends.last;
        *ends = IdSpan { first: ends.first.min(span.first), last: ends.last.max(span.last) };
    }

    /// Puts the ranges of a part in order.
    pub fn finish(&mut self) {
        if self.unordered {
            self.all.sort_unstable_by_key(|span| span.first);
        }
    }

    /// Whether ranges of a file, of which these are the parts, overlap, and whether one
    /// covers a number that is held.
    pub fn judge(parts: &[Spans], held: &IdSet) -> (bool, bool) {
        let mut whole = Spans::default();
        for part in parts {
            whole.unordered |= part.unordered;
            part.ends.into_iter().for_each(|ends| whole.stretch(ends));
        }
        let covers = |span: &IdSpan| held.highest_in(span.first, span.last).is_some();
        let overlapping = whole.unordered && {
            let mut all = parts.iter().map(|part| &part.all[..]).collect::<Vec<_>>().concat();
            // The parts are in order each, and only have to be merged.
            all.par_sort_by_key(|span| span.first);
            all.windows(2).any(|pair| pair[1].first <= pair[0].last)
        };
        // Nearly always they are far from what is held.
        let covering = whole.ends.as_ref().is_some_and(covers)
            && parts.iter().flat_map(|part| &part.all).any(covers);
        (overlapping, covering)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// In whatever order and parts they come, as one by one.
        #[test]
        fn ranges_are_judged_as_each_pair_is(
            ranges in proptest::collection::vec((0u32..40, 1u64..6), 0..9),
            cut in 0usize..9,
            held in proptest::collection::vec(0u32..45, 0..3),
        ) {
            let all: Vec<IdSpan> = ranges
                .iter()
                .filter_map(|(first, count)| IdSpan::counted(*first, *count))
                .collect();
            let mut set = IdSet::default();
            held.iter().for_each(|id| _ = set.insert(*id));
            let (one, other) = all.split_at(cut.min(all.len()));
            let parts = [one, other].map(|part| {
                let mut spans = Spans::default();
                part.iter().for_each(|span| spans.add(*span));
                spans.finish();
                spans
            });
            let pairs = || (0..all.len()).flat_map(|at| (0..at).map(move |other| (at, other)));
            let overlap = pairs().any(|(at, other)| all[at].overlaps(all[other]));
            let cover = all.iter().any(|span| held.iter().any(|id| span.contains(*id)));
            prop_assert_eq!(Spans::judge(&parts, &set), (overlap, cover));
        }
    }
}
