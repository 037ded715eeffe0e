//! Subordinate ids: overlapping-range.

use bstr::BStr;

use super::lines::found;
use super::{Mark, Out, Related, Rule, Selection, rule};
use crate::plan::Ground;
use crate::secret::shown;
use crate::table::{Line, SubId, SubIds, Table};
use crate::value::IdSpan;

pub(super) fn run(ground: Ground<'_>, selection: &Selection) -> Out {
    let mut out = Out::default();
    let Some(rule) = rule("overlapping-range").filter(|rule| selection.wants(rule)) else {
        return out;
    };
    for table in [&ground.book.subuid, &ground.book.subgid].into_iter().flatten() {
        overlaps(rule, table, &mut out);
    }
    out
}

fn overlaps(rule: &'static Rule, table: &Table<SubIds>, out: &mut Out) {
    let mut spans: Vec<(IdSpan, Line<'_>, SubId<'_>)> =
        table.records().filter_map(|(line, range)| Some((range.span()?, line, range))).collect();
    spans.sort_by_key(|(span, line, _)| (span.first, line.start));
    // The range so far that reaches furthest: whatever begins inside it overlaps.
    let mut furthest: Option<(IdSpan, Line<'_>, SubId<'_>)> = None;
    for (span, line, range) in spans {
        if let Some((other_span, other_line, other)) = furthest
            && other_span.overlaps(span)
            // The same line twice is a duplicate, and harmless.
            && (other_span != span || other.owner != range.owner)
        {
            let shared = span.first..=span.last.min(other_span.last);
            let message = format!(
                "{}-{} are also {}'s ({}, line {}): their containers share files.",
                shared.start(),
                shared.end(),
                BStr::new(other.owner),
                other_span,
                table.lines().number(other_line.start)
            );
            let remedy = format!("give {} a range of its own", BStr::new(range.owner));
            let mut finding = found(rule, table.lines(), line, Mark::Field(1), message, remedy);
            finding.related.push(Related {
                file: table.lines().file(),
                line: table.lines().number(other_line.start),
                text: shown(table.lines().file(), other_line.bytes),
            });
            out.findings.push(finding);
        }
        if furthest.is_none_or(|(reach, ..)| span.last > reach.last) {
            furthest = Some((span, line, range));
        }
    }
}
