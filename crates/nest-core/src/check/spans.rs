//! Ranges of ids of a whole file, without their lines: whether they overlap.

use rayon::prelude::*;

use crate::value::{IdSet, IdSpan};

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
            Some(last) if last.last().checked_add(1) == Some(span.first()) => {
                *last = last.up_to(span.last())
            }
            _ => self.all.push(span),
        }
        self.stretch(span);
    }

    #[inline]
    fn stretch(&mut self, span: IdSpan) {
        let Some(ends) = &mut self.ends else { return self.ends = Some(span) };
        self.unordered |= span.first() <= ends.last();
        *ends = ends.hull(span);
    }

    /// Whether ranges of a file, of which these are the parts, overlap, and whether one
    /// covers a number that is held.
    pub fn judge(parts: &[Spans], held: &IdSet) -> (bool, bool) {
        let mut whole = Spans::default();
        for part in parts {
            whole.unordered |= part.unordered;
            part.ends.into_iter().for_each(|ends| whole.stretch(ends));
        }
        let covers = |span: &IdSpan| held.highest_in(span.first(), span.last()).is_some();
        let overlapping = whole.unordered
            && Grid::of(parts).and_then(|grid| grid.holds_one_twice(parts)).unwrap_or_else(|| {
                let mut all = parts.iter().map(|part| &part.all[..]).collect::<Vec<_>>().concat();
                all.par_sort_unstable_by_key(|span| span.first());
                all.windows(2).any(|pair| pair[1].first() <= pair[0].last())
            });
        // Nearly always they are far from what is held.
        let covering = whole.ends.as_ref().is_some_and(covers)
            && parts.iter().flat_map(|part| &part.all).any(covers);
        (overlapping, covering)
    }
}

/// So many fields of a grid are gone through at most.
const MOST_FIELDS: u64 = 1 << 24;

/// Where ranges are as one who always gives the same number of ids lays them: each is a
/// field of the grid, or some fields one after the other.
#[derive(Clone, Copy)]
struct Grid {
    /// How many ids a field has.
    width: u32,
    /// Where the first field begins.
    origin: u32,
}

impl Grid {
    /// The grid on which all ranges would be, if there is one.
    fn of(parts: &[Spans]) -> Option<Self> {
        let all = || parts.iter().flat_map(|part| &part.all);
        let width = u32::try_from(all().map(|span| span.count()).min()?).ok()?;
        let fields: u64 = all().map(|span| span.count() / u64::from(width)).sum();
        let origin = all().next()?.first() % width;
        (fields <= MOST_FIELDS).then_some(Grid { width, origin })
    }

    /// Whether two ranges are on the same field; `None` if one is not on the grid.
    fn holds_one_twice(self, parts: &[Spans]) -> Option<bool> {
        let taken = |part: &Spans| {
            let (mut fields, mut twice) = (IdSet::default(), false);
            for span in &part.all {
                let (from, to) =
                    (self.field(span.first())?, self.field(span.last().checked_add(1)?)?);
                for field in from..to {
                    twice |= !fields.insert(field);
                }
            }
            Some((fields, twice))
        };
        let join = |(mut fields, twice): (IdSet, bool), (more, again): (IdSet, bool)| {
            let apart = fields.extend(&more);
            Some((fields, twice | again | !apart))
        };
        parts.par_iter().map(taken).try_reduce(Default::default, join).map(|(_, twice)| twice)
    }

    /// The field that begins at an id.
    #[inline]
    fn field(self, id: u32) -> Option<u32> {
        let at = id.checked_sub(self.origin)?;
        at.is_multiple_of(self.width).then_some(at / self.width)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Any ranges, or such as one gives who always gives four ids, perhaps with a gap
    /// before the first and sometimes one that is off.
    fn ranges() -> impl Strategy<Value = Vec<(u32, u64)>> {
        let four = |at: u32| (3 + at * 4, 4);
        let on_grid = proptest::collection::vec((0u32..12).prop_map(four), 0..9);
        let off = proptest::option::of((0u32..40, 1u64..9));
        prop_oneof![
            proptest::collection::vec((0u32..40, 1u64..6), 0..9),
            (on_grid, off).prop_map(|(all, off)| all.into_iter().chain(off).collect()),
        ]
    }

    proptest! {
        /// In whatever order and parts they come, as one by one.
        #[test]
        fn ranges_are_judged_as_each_pair_is(
            ranges in ranges(),
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
                spans
            });
            let pairs = || (0..all.len()).flat_map(|at| (0..at).map(move |other| (at, other)));
            let overlap = pairs().any(|(at, other)| all[at].overlaps(all[other]));
            let cover = all.iter().any(|span| held.iter().any(|id| span.contains(*id)));
            prop_assert_eq!(Spans::judge(&parts, &set), (overlap, cover));
        }
    }

    #[test]
    fn a_grid_holds_fields_of_one_width() {
        let parts = |spans: &[(u32, u32)]| {
            let mut part = Spans::default();
            spans.iter().for_each(|(first, last)| part.add(IdSpan::new(*first, *last).unwrap()));
            [part]
        };
        let twice = |spans: &[(u32, u32)]| {
            let parts = parts(spans);
            Grid::of(&parts)?.holds_one_twice(&parts)
        };
        assert_eq!(twice(&[(14, 17), (6, 9), (22, 29)]), Some(false));
        assert_eq!(twice(&[(14, 17), (6, 9), (26, 29), (22, 29)]), Some(true));
        assert_eq!(twice(&[(14, 17), (7, 10)]), None, "off the grid");
        assert_eq!(twice(&[(14, 17), (2, 3), (6, 8)]), None, "three ids are not twos");
        assert_eq!(twice(&[(5, 5), (0, u32::MAX)]), None, "too many fields to look at");
    }
}
