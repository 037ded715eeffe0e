//! Numbers: who is behind one, how full the spans are, the subordinate ranges.

use nest_core::account::AccountKind;
use nest_core::holdings::{Holding, NextIds, OutsideUse, RangeOrGap, SpanUse};
use nest_core::words::{counted, list};
use serde_json::{Value, json};

use super::columns::{Columns, Rows};
use super::{is_narrow, remark, style, visible, width};
use crate::cli::Global;

/// How many parts a span is drawn in.
pub const PARTS: usize = 50;

/// Prints what holds or covers a number.
pub fn print_holdings(id: u32, all: &[Holding]) {
    let (heading, quiet) = (style::HEADING, style::QUIET);
    outln!("{heading}{id}{heading:#}");
    outln!();
    for (what, label) in [("uid", "as uid"), ("gid", "as gid"), ("both", "as either")] {
        let of: Vec<&Holding> = all.iter().filter(|holding| holding.what == what).collect();
        if of.is_empty() && what != "both" {
            outln!("  {label:10} nobody");
        }
        for (at, holding) in of.into_iter().enumerate() {
            let label = if at == 0 { label } else { "" };
            let place = holding.place.map(|(file, line)| format!("{}:{line}", file.path()));
            let words = visible(holding.words.as_bytes());
            match place {
                Some(place) => outln!("  {label:10} {words}   {quiet}{place}{quiet:#}"),
                None => outln!("  {label:10} {words}"),
            }
        }
    }
}

/// The same for machines.
pub fn holdings_to_json(id: u32, all: &[Holding]) -> Value {
    let holdings: Vec<Value> = all
        .iter()
        .map(|holding| {
            json!({
                "as": holding.what,
                "holder": visible(holding.words.as_bytes()),
                "file": holding.place.map(|(file, _)| file.path()),
                "line": holding.place.map(|(_, line)| line),
            })
        })
        .collect();
    json!({"id": id, "held_by": holdings})
}

/// The columns of the map of numbers.
pub const SPANS: Columns<8> = columns! {
    "span": "people, services or subordinate; more people and more services are outside those",
    "first": "lowest number",
    "last": "highest number",
    "used": "how many are in use",
    "retired": "how many are kept back for deleted accounts",
    "avoided": "how many the policy keeps free",
    "free": "how many can be given",
    "next": "the one that is given next; empty for none",
};

/// The columns of the numbers that are given next.
pub const NEXT: Columns<2> = columns! {
    "span": "people, services or subordinate",
    "id": "the number, or the range",
};

/// The columns of the subordinate ranges.
pub const RANGES: Columns<6> = columns! {
    "what": "uid or gid",
    "first": "lowest number",
    "last": "highest number",
    "count": "how many numbers",
    "owner": "whose it is; empty for a gap",
    "overlaps": "the word overlaps where it overlaps the one before",
};

/// The spans as rows, and what is held outside of them.
pub fn span_rows<'s>(
    spans: &'s [SpanUse],
    outside: &'s [OutsideUse],
) -> impl Iterator<Item = [String; 8]> + 's {
    let of_span = |span: &SpanUse| {
        [
            span.name.to_owned(),
            span.span.first().to_string(),
            span.span.last().to_string(),
            span.used.to_string(),
            span.retired.to_string(),
            span.avoided.to_string(),
            span.free.to_string(),
            span.next.map(|next| next.to_string()).unwrap_or_default(),
        ]
    };
    let of_rest = |other: &OutsideUse| {
        let (first, last) = (lowest(other).to_string(), highest(other).to_string());
        let empty = String::new;
        let used = count(other).to_string();
        [called(other).to_owned(), first, last, used, empty(), empty(), empty(), empty()]
    };
    spans.iter().map(of_span).chain(outside.iter().map(of_rest))
}

/// Prints the spans: a bar drawn to scale, and the exact numbers beside it.
pub fn print_spans(global: &Global, rows: &Rows, spans: &[SpanUse], outside: &[OutsideUse]) {
    if rows.are_wanted(global) {
        rows.print(global, &SPANS, span_rows(spans, outside));
        return;
    }
    let (heading, warn) = (style::HEADING, style::WARN);
    for span in spans {
        outln!("{heading}{:14}{heading:#} {}", span.name, span.span);
        let bar: String = span.parts.iter().map(|part| block(*part)).collect();
        outln!("  {heading}{bar}{heading:#}  {} full", percent(span));
        let numbers = [
            (span.used, "used"),
            (span.retired, "retired"),
            (span.avoided, "avoided"),
            (span.free, "free"),
        ];
        let numbers = numbers.into_iter().filter(|(count, word)| *count > 0 || *word == "free");
        let numbers: Vec<String> = numbers.map(|(count, word)| format!("{count} {word}")).collect();
        let next = match span.next {
            Some(next) => format!("next to be given: {next}"),
            None => format!("{warn}nothing left to be given{warn:#}"),
        };
        outln!("  {}; {next}", numbers.join(", "));
        outln!();
    }
    for other in outside {
        let numbers = counted(count(other), "number", "numbers");
        outln!(
            "{heading}{:14}{heading:#} {}",
            called(other),
            list(other.ids.spans().iter().map(ToString::to_string))
        );
        outln!("  {numbers} used outside the span that new ones are taken from");
        outln!();
    }
    remark("each block is a fiftieth of its span; its height tells how much of it is held");
}

/// Prints the numbers that would be given next: a line for each span, or a row for each number.
pub fn print_next(global: &Global, rows: &Rows, next: &NextIds) {
    let numbers = |ids: &[u32]| ids.iter().map(ToString::to_string).collect::<Vec<_>>();
    let ranges: Vec<String> = next.ranges.iter().map(ToString::to_string).collect();
    let all = [
        ("people", numbers(&next.people)),
        ("services", numbers(&next.services)),
        ("subordinate", ranges),
    ];
    let (heading, warn) = (style::HEADING, style::WARN);
    if rows.are_wanted(global) {
        let each = all
            .into_iter()
            .flat_map(|(name, ids)| ids.into_iter().map(move |id| [name.to_owned(), id]));
        rows.print(global, &NEXT, each);
        return;
    }
    for (name, ids) in all {
        match ids.as_slice() {
            [] => outln!("{heading}{name:14}{heading:#} {warn}nothing left to be given{warn:#}"),
            ids => outln!("{heading}{name:14}{heading:#} {}", ids.join(", ")),
        }
    }
}

/// The same for machines.
pub fn next_to_json(next: &NextIds) -> Value {
    let ranges = next.ranges.iter().map(|span| json!({"first": span.first(), "last": span.last()}));
    json!({
        "people": next.people,
        "services": next.services,
        "subordinate": ranges.collect::<Vec<Value>>(),
    })
}

/// What they are called, in a list of spans.
fn called(outside: &OutsideUse) -> &'static str {
    match outside.kind {
        AccountKind::Person => "more people",
        AccountKind::Service => "more services",
    }
}

fn count(outside: &OutsideUse) -> u64 {
    outside.ids.spans().iter().map(|span| span.count()).sum()
}

fn lowest(outside: &OutsideUse) -> u32 {
    outside.ids.spans().first().map_or(0, |span| span.first())
}

fn highest(outside: &OutsideUse) -> u32 {
    outside.ids.spans().last().map_or(0, |span| span.last())
}

/// Blocks from an eighth to full height; an empty part is a low line.
fn block(eighths: u8) -> char {
    match eighths {
        0 => '_',
        1 => '▁',
        2 => '▂',
        3 => '▃',
        4 => '▄',
        5 => '▅',
        6 => '▆',
        7 => '▇',
        _ => '█',
    }
}

fn percent(span: &SpanUse) -> String {
    let count = span.span.count().max(1);
    let tenths = (count - span.free) * 1000 / count;
    format!("{}.{} %", tenths / 10, tenths % 10)
}

/// The same for machines.
pub fn spans_to_json(spans: &[SpanUse], outside: &[OutsideUse]) -> Value {
    let all = spans.iter().map(|span| {
        json!({
            "name": span.name,
            "first": span.span.first(),
            "last": span.span.last(),
            "used": span.used,
            "retired": span.retired,
            "avoided": span.avoided,
            "free": span.free,
            "next": span.next,
        })
    });
    let outside = outside.iter().map(|other| {
        let ids = other.ids.spans().iter().map(ToString::to_string);
        json!({
            "name": called(other),
            "first": lowest(other),
            "last": highest(other),
            "used": count(other),
            "ids": ids.collect::<Vec<String>>(),
        })
    });
    json!({"spans": all.chain(outside).collect::<Vec<_>>()})
}

/// Whose a range is; empty for a gap.
fn owner(range: &RangeOrGap) -> String {
    range.owner.as_ref().map(|owner| visible(owner)).unwrap_or_default()
}

/// A range, or a gap, as a row.
pub fn range_row(range: &RangeOrGap) -> [String; 6] {
    let overlaps = if range.overlaps { "overlaps" } else { "" };
    let span = range.span;
    let numbers = [u64::from(span.first()), u64::from(span.last()), span.count()];
    let [first, last, count] = numbers.map(|number| number.to_string());
    [range.what.to_owned(), first, last, count, owner(range), overlaps.to_owned()]
}

/// Prints ranges and gaps in order.
pub fn print_ranges(global: &Global, rows: &Rows, all: &[RangeOrGap]) {
    if rows.are_wanted(global) {
        rows.print(global, &RANGES, all.iter().map(range_row));
        return;
    }
    let (heading, quiet, warn) = (style::HEADING, style::QUIET, style::WARN);
    for (what, label) in [("uid", "subordinate uids"), ("gid", "subordinate gids")] {
        let of: Vec<&RangeOrGap> = all.iter().filter(|range| range.what == what).collect();
        outln!("{heading}{label}{heading:#}");
        let wide = of.iter().map(|range| width(&range.span.to_string())).max().unwrap_or(0);
        for range in &of {
            let (span, count) = (range.span.to_string(), range.span.count());
            let ids = counted(count, "id", "ids");
            // Where there is little room, what it is has a line of its own.
            let gap = if is_narrow() { "\n    " } else { "   " };
            match (&range.owner, range.overlaps) {
                (None, _) => outln!("  {quiet}{span:wide$}{gap}gap of {ids}{quiet:#}"),
                (Some(_), false) => outln!("  {span:wide$}{gap}{}, {ids}", owner(range)),
                (Some(_), true) => outln!(
                    "  {span:wide$}{gap}{}, {ids}{gap}{warn}overlaps the one before{warn:#}",
                    owner(range)
                ),
            }
        }
        if of.is_empty() {
            outln!("  none");
        }
    }
}

/// The same for machines.
pub fn ranges_to_json(all: &[RangeOrGap]) -> Value {
    let all = all.iter().map(|range| {
        json!({
            "what": range.what,
            "start": range.span.first(),
            "count": range.span.count(),
            "owner": range.owner.as_ref().map(|owner| visible(owner)),
            "overlaps": range.overlaps,
        })
    });
    json!({"ranges": all.collect::<Vec<_>>()})
}
