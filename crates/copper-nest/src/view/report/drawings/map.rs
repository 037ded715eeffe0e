//! The numbers, to scale.

use nest_core::holdings::SpanUse;
use nest_core::report::{LaneKind, Mark, NumberMap};
use nest_core::value::IdSpan;
use nest_core::words::counted;

use super::Px;
use crate::view::visible;

/// A part of the numbers, to scale.
pub struct MapDrawn {
    pub title: String,
    pub alt: String,
    pub first: u32,
    pub last: u32,
    pub height: usize,
    pub plot_height: usize,
    pub bottom: usize,
    pub ticks: Vec<TickDrawn>,
    pub bands: Vec<MarkDrawn>,
    pub lanes: Vec<LaneDrawn>,
    pub nexts: Vec<NextDrawn>,
}

/// A number of the scale.
pub struct TickDrawn {
    pub x: Px,
    pub words: String,
}

/// What holds numbers in one way.
pub struct LaneDrawn {
    pub title: &'static str,
    pub class: &'static str,
    pub y: usize,
    pub text_y: usize,
    pub marks: Vec<MarkDrawn>,
}

/// Numbers that follow each other.
pub struct MarkDrawn {
    pub first: u32,
    pub last: u32,
    pub x: Px,
    pub width: Px,
    pub words: String,
}

/// The number that is given next.
pub struct NextDrawn {
    pub first: u32,
    pub path: String,
    pub words: String,
}

/// The scale of a map, as its script knows it too.
struct Scale {
    first: u32,
    count: f64,
}

impl Scale {
    const LEFT: f64 = 150.0;
    const WIDE: f64 = 830.0;
    /// What is narrower would not be seen.
    const LEAST: f64 = 1.5;

    fn of(span: IdSpan) -> Self {
        Scale { first: span.first(), count: span.count() as f64 }
    }

    fn x(&self, number: f64) -> f64 {
        let x = Self::LEFT + (number - f64::from(self.first)) / self.count * Self::WIDE;
        x.clamp(Self::LEFT, Self::LEFT + Self::WIDE)
    }

    fn mark(&self, span: IdSpan, words: String) -> MarkDrawn {
        let x = self.x(f64::from(span.first()));
        let end = self.x(f64::from(span.last()) + 1.0);
        MarkDrawn {
            first: span.first(),
            last: span.last(),
            x: Px(x),
            width: Px((end - x).max(Self::LEAST)),
            words,
        }
    }
}

/// Draws the numbers: all of them, then each part in which something is.
pub fn maps(map: &NumberMap, spans: &[SpanUse]) -> Vec<MapDrawn> {
    let Some(last) = map.parts.last() else { return Vec::new() };
    let whole = IdSpan::fixed(0, last.last());
    let title = |span: IdSpan| match span.count() {
        1 => span.to_string(),
        _ => format!("{} to {}", span.first(), span.last()),
    };
    let mut drawn = vec![part(map, spans, wider(whole), format!("All numbers, {}", title(whole)))];
    if map.parts.len() > 1 {
        drawn.extend(map.parts.iter().map(|span| part(map, spans, wider(*span), title(*span))));
    }
    drawn
}

/// With a little room on both sides.
fn wider(span: IdSpan) -> IdSpan {
    let room = u32::try_from(span.count() / 40).unwrap_or(u32::MAX).max(2);
    IdSpan::fixed(span.first().saturating_sub(room), span.last().saturating_add(room))
}

fn part(map: &NumberMap, spans: &[SpanUse], of: IdSpan, title: String) -> MapDrawn {
    const ROW: usize = 24;
    const TOP: usize = 26;
    let scale = Scale::of(of);
    let inside = map.lanes.iter().filter_map(|lane| {
        let marks: Vec<&Mark> =
            lane.marks.iter().filter(|mark| mark.span.common(of).is_some()).collect();
        (!marks.is_empty()).then_some((lane.kind, marks))
    });
    let lanes: Vec<LaneDrawn> = inside
        .enumerate()
        .map(|(at, (kind, marks))| {
            let marks = marks.into_iter().map(|mark| {
                let ids = counted(mark.count, "number", "numbers");
                let words = visible(mark.words.as_bytes());
                scale.mark(mark.span, format!("{}, {ids}: {words}", mark.span))
            });
            let (title, class) = called(kind);
            let y = TOP + at * ROW;
            LaneDrawn { title, class, y, text_y: y + 13, marks: marks.collect() }
        })
        .collect();
    let bottom = TOP + lanes.len() * ROW;
    let inside = spans.iter().filter(|span| span.span.common(of).is_some());
    let bands = inside
        .map(|span| scale.mark(span.span, format!("{} are given out of {}", span.name, span.span)));
    let nexts = spans.iter().filter_map(|span| Some((span.name, span.next?)));
    let nexts = nexts.filter(|(_, next)| of.contains(*next)).map(|(name, next)| {
        let x = Px(scale.x(f64::from(next) + 0.5));
        let words = format!("{name}: {next} is given next");
        NextDrawn { first: next, path: format!("M{x} {bottom}l-6 11h12z"), words }
    });
    let told: Vec<String> = lanes
        .iter()
        .map(|lane| format!("{} in {}", lane.title, counted(lane.marks.len(), "place", "places")))
        .collect();
    MapDrawn {
        alt: format!(
            "{title}: {}",
            if told.is_empty() { "nothing".to_owned() } else { told.join(", ") }
        ),
        title,
        first: of.first(),
        last: of.last(),
        height: bottom + 14,
        plot_height: bottom - 20,
        bottom,
        ticks: ticks(&scale, of),
        bands: bands.collect(),
        lanes,
        nexts: nexts.collect(),
    }
}

fn called(kind: LaneKind) -> (&'static str, &'static str) {
    let title = match kind {
        LaneKind::Uids => "uids",
        LaneKind::Gids => "gids",
        LaneKind::UidRanges => "subordinate uids",
        LaneKind::GidRanges => "subordinate gids",
        LaneKind::Retired => "retired",
        LaneKind::Avoided => "avoided",
    };
    (title, kind.into())
}

/// Round numbers, eight of them at most.
fn ticks(scale: &Scale, of: IdSpan) -> Vec<TickDrawn> {
    let mut steps = (0..11).flat_map(|power| [1, 2, 5].map(|digit| digit * 10u64.pow(power)));
    let Some(step) = steps.find(|step| of.count() / step < 8) else { return Vec::new() };
    let first = u64::from(of.first()).div_ceil(step) * step;
    let numbers = (0..).map(|at| first + at * step).take_while(|id| *id <= u64::from(of.last()));
    numbers.map(|id| TickDrawn { x: Px(scale.x(id as f64)), words: id.to_string() }).collect()
}

#[cfg(test)]
mod tests {

    use super::*;

    #[test]
    fn a_map_is_to_scale_and_its_ticks_are_round() {
        let scale = Scale::of(IdSpan::fixed(1000, 1999));
        let mark = scale.mark(IdSpan::fixed(1500, 1749), String::new());
        assert_eq!((mark.x, mark.width), (Px(565.0), Px(207.5)));
        let numbers = |first, last| -> Vec<String> {
            let of = IdSpan::fixed(first, last);
            ticks(&Scale::of(of), of).into_iter().map(|tick| tick.words).collect()
        };
        assert_eq!(numbers(998, 1006), ["998", "1000", "1002", "1004", "1006"]);
        assert_eq!(numbers(0, u32::MAX)[1], "1000000000");
        assert!(numbers(0, u32::MAX).len() <= 8);
    }
}
