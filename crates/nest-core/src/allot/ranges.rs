//! Ranges of subordinate ids: which are taken, and where the gaps are.

use super::ids::span_of;
use crate::book::Book;
use crate::surroundings::Retired;
use crate::table::Lines;
use crate::value::IdSpan;

/// Every subordinate range, of uids and of gids alike, in order.
#[derive(Debug, Default)]
pub struct RangeMap {
    /// Sorted, and joined where they touch or overlap.
    spans: Vec<IdSpan>,
}

impl RangeMap {
    /// The ranges of both files, and of deleted accounts.
    pub fn new(book: &Book, retired: &Retired) -> Self {
        let read = |lines: Option<&Lines>| -> Vec<IdSpan> {
            let records = lines.into_iter().flat_map(Lines::iter).filter(|line| line.is_record());
            records.filter_map(|line| span_of(line.record())).collect()
        };
        let (mut spans, gids) = rayon::join(
            || read(book.lines(crate::table::File::Subuid)),
            || read(book.lines(crate::table::File::Subgid)),
        );
        // Nearly always the two files hold the same ranges.
        if spans != gids {
            spans.extend(gids);
        }
        spans.extend(retired.ranges.iter().map(|retired| retired.span));
        Self::of(spans)
    }

    fn of(mut spans: Vec<IdSpan>) -> Self {
        spans.sort();
        spans.dedup_by(|next, last| {
            let touches = u64::from(next.first) <= u64::from(last.last) + 1;
            if touches {
                last.last = last.last.max(next.last);
            }
            touches
        });
        RangeMap { spans }
    }

    /// The (joined) range that covers `id`.
    pub fn covering(&self, id: u32) -> Option<IdSpan> {
        let at = self.spans.partition_point(|span| span.last < id);
        self.spans.get(at).copied().filter(|span| span.contains(id))
    }

    /// The first span of `count` free ids from `first` on that ends by `last`.
    pub fn gap(&self, first: u32, count: u32, last: u32) -> Option<IdSpan> {
        let mut first = first;
        let from = self.spans.partition_point(|span| span.last < first);
        for taken in &self.spans[from..] {
            let span = IdSpan::counted(first, u64::from(count))?;
            if span.last < taken.first {
                break;
            }
            first = taken.last.checked_add(1)?;
        }
        IdSpan::counted(first, u64::from(count)).filter(|span| span.last <= last)
    }

    /// Adds a range that is being planned.
    pub fn take(&mut self, span: IdSpan) {
        let at = self.spans.partition_point(|taken| *taken < span);
        self.spans.insert(at, span);
        *self = Self::of(std::mem::take(&mut self.spans));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn span(first: u32, last: u32) -> IdSpan {
        IdSpan { first, last }
    }

    #[test]
    fn the_first_gap_that_is_large_enough_is_found() {
        let mut map = RangeMap::of(vec![span(300, 399), span(100, 199), span(150, 220)]);
        assert_eq!(map.covering(221), None);
        assert_eq!(map.covering(205), Some(span(100, 220)));
        assert_eq!(map.gap(0, 50, 1000), Some(span(0, 49)));
        assert_eq!(map.gap(100, 50, 1000), Some(span(221, 270)));
        assert_eq!(map.gap(100, 80, 1000), Some(span(400, 479)));
        assert_eq!(map.gap(100, 80, 450), None);
        map.take(span(221, 299));
        assert_eq!(map.covering(250), Some(span(100, 399)));
        assert_eq!(map.gap(u32::MAX - 3, 9, u32::MAX), None);
    }
}
