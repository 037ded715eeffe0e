//! The ranges of a file by the ids in them.

use crate::table::{SubIds, Table};
use crate::value::IdSpan;

/// The ranges of a file by their first id.
#[derive(Debug)]
pub(super) struct RangeIndex {
    /// Each with where its line begins, and the highest id of it and all before it.
    ranges: Vec<(IdSpan, usize, u32)>,
}

impl RangeIndex {
    pub fn of(table: &Table<SubIds>) -> Self {
        let spans =
            table.records().filter_map(|(line, range)| Some((range.span()?, line.start, 0)));
        let mut ranges: Vec<_> = spans.collect();
        ranges.sort_unstable();
        let mut highest = 0;
        for (span, _, reach) in &mut ranges {
            highest = highest.max(span.last());
            *reach = highest;
        }
        RangeIndex { ranges }
    }

    /// Where the lines begin whose ranges have ids of a span.
    pub fn overlapping(&self, span: IdSpan) -> impl Iterator<Item = usize> {
        let from = self.ranges.partition_point(|(_, _, reach)| *reach < span.first());
        let near =
            self.ranges[from..].iter().take_while(move |(other, ..)| other.first() <= span.last());
        near.filter(move |(other, ..)| other.overlaps(span)).map(|(_, start, _)| *start)
    }
}
