//! The drawings of a page, as places and lengths in the units of SVG.

use std::collections::BTreeMap;
use std::fmt;

use jiff::civil::Date;
use nest_core::holdings::SpanUse;
use nest_core::report::{AgeBar, Due, DueKind, LaneKind, Mark, Moment, NumberMap};
use nest_core::value::{Day, IdSpan};
use nest_core::words::{agree, counted, grouped, list};

use crate::view::visible;

/// A place or a length, written to a tenth.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct Px(pub f64);

impl fmt::Display for Px {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let tenths = (self.0 * 10.0).round();
        match tenths % 10.0 == 0.0 {
            true => write!(f, "{:.0}", tenths / 10.0),
            false => write!(f, "{:.1}", tenths / 10.0),
        }
    }
}

/// How many there are of each age.
pub struct Bars {
    pub id: &'static str,
    pub title: &'static str,
    pub by: String,
    pub alt: String,
    pub height: usize,
    pub bars: Vec<BarDrawn>,
}

/// One of them.
pub struct BarDrawn {
    pub label: &'static str,
    pub count: String,
    pub y: usize,
    pub text_y: usize,
    pub width: Px,
    pub end: Px,
}

/// Draws ages.
pub fn bars(id: &'static str, title: &'static str, by: String, ages: &[AgeBar]) -> Bars {
    const ROW: usize = 22;
    const LEFT: f64 = 140.0;
    const WIDE: f64 = 170.0;
    let most = ages.iter().map(|bar| bar.count).max().unwrap_or(0).max(1);
    let drawn = ages.iter().enumerate().map(|(at, bar)| {
        let width = WIDE * bar.count as f64 / most as f64;
        BarDrawn {
            label: bar.label,
            count: grouped(bar.count),
            y: at * ROW,
            text_y: at * ROW + 13,
            width: Px(width),
            end: Px(LEFT + width + 6.0),
        }
    });
    let told = ages.iter().filter(|bar| bar.count > 0);
    let told: Vec<String> = told.map(|bar| format!("{}: {}", bar.label, bar.count)).collect();
    let alt = match told.is_empty() {
        true => "nobody".to_owned(),
        false => told.join(", "),
    };
    Bars { id, title, by, alt, height: ages.len() * ROW, bars: drawn.collect() }
}

/// The days of a year and what ends on each.
pub struct Calendar {
    pub height: usize,
    pub alt: String,
    pub heads: Vec<(usize, usize)>,
    pub months: Vec<MonthDrawn>,
}

/// One row of it.
pub struct MonthDrawn {
    pub title: String,
    pub y: usize,
    pub text_y: usize,
    pub days: Vec<DayDrawn>,
}

/// One day.
pub struct DayDrawn {
    pub x: usize,
    pub middle: usize,
    pub class: &'static str,
    pub count: String,
    pub words: String,
}

/// What ends, in words: `2 passwords`.
pub fn ends_in_words(due: &Due) -> String {
    match due.kind {
        DueKind::Account => counted(due.names.len(), "account", "accounts"),
        DueKind::Password => counted(due.names.len(), "password", "passwords"),
        DueKind::Acceptance => {
            counted(due.names.len(), "acceptance of a finding", "acceptances of findings")
        }
    }
}

/// Draws what ends within a year from today.
pub fn calendar(coming: &[Due], today: Day) -> Calendar {
    const ROW: usize = 22;
    const TOP: usize = 18;
    const LEFT: usize = 90;
    let mut by_day: BTreeMap<Day, Vec<&Due>> = BTreeMap::new();
    for due in coming {
        by_day.entry(due.day).or_default().push(due);
    }
    let x_of = |day: usize| LEFT + (day - 1) * 22;
    let mut months: Vec<MonthDrawn> = Vec::new();
    for day in (today.0..today.0 + 366).map(Day) {
        // Where the calendar ends there is no year to come.
        let Ok(date) = day.to_string().parse::<Date>() else { break };
        let title = date.strftime("%b %Y").to_string();
        if months.last().is_none_or(|month| month.title != title) {
            let y = TOP + months.len() * ROW;
            months.push(MonthDrawn { title, y, text_y: y + 13, days: Vec::new() });
        }
        let due = by_day.get(&day).map_or(&[][..], |due| due);
        let count: usize = due.iter().map(|due| due.names.len()).sum();
        let class = match (count, day == today) {
            (0, false) => "day",
            (0, true) => "day today",
            (_, false) => "due",
            (_, true) => "due today",
        };
        let words: Vec<String> = due.iter().map(|due| ends_in_words(due)).collect();
        let words =
            if words.is_empty() { String::new() } else { format!("{day}: {}", list(&words)) };
        let x = x_of(usize::from(date.day().unsigned_abs()));
        let shown = match count {
            0 => String::new(),
            1..100 => count.to_string(),
            _ => "…".to_owned(),
        };
        if let Some(month) = months.last_mut() {
            month.days.push(DayDrawn { x, middle: x + 10, class, count: shown, words });
        }
    }
    let days = by_day.len();
    let all: usize = coming.iter().map(|due| due.names.len()).sum();
    let alt = match days {
        0 => "nothing ends within a year".to_owned(),
        _ => format!(
            "{} {} on {} of the year, which the table below tells day by day",
            counted(all, "thing", "things"),
            agree(&all, "ends", "end"),
            counted(days, "day", "days")
        ),
    };
    Calendar {
        height: TOP + months.len() * ROW,
        alt,
        heads: (1..=31).map(|day| (x_of(day) + 10, day)).collect(),
        months,
    }
}

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

/// How many changes there were in each week.
pub struct TimeLine {
    pub height: usize,
    pub bottom: usize,
    pub text_y: usize,
    pub alt: String,
    pub ticks: Vec<MonthTick>,
    pub weeks: Vec<WeekDrawn>,
    /// How many users there were, as a line; empty where nothing is known of that.
    pub users: String,
    /// What it says at its beginning and at its end.
    pub users_words: Vec<(Px, Px, &'static str, String)>,
    /// Where other hands were at the files.
    pub hands: Vec<(String, String)>,
}

/// Where a month begins.
pub struct MonthTick {
    pub x: Px,
    pub text_x: Px,
    pub words: String,
}

/// One week.
pub struct WeekDrawn {
    pub x: Px,
    pub width: Px,
    pub y: Px,
    pub height: Px,
    pub words: String,
}

/// Draws the weeks from one day to another, by the days of the changes; and above them how many
/// users there were.
pub fn time_line(
    days: impl Iterator<Item = Day>,
    history: &[Moment],
    since: Day,
    today: Day,
) -> TimeLine {
    const WIDE: f64 = 1000.0;
    const HIGH: f64 = 90.0;
    /// How much of it the line of users takes, and where it begins.
    const ABOVE: f64 = 50.0;
    const TOP: f64 = 16.0;
    /// So many days are drawn before the first change.
    const BEFORE: i64 = 27;
    /// Where the bars stand.
    const FOOT: f64 = TOP + ABOVE + HIGH + 14.0;
    /// More weeks than these are drawn by months of four.
    const MOST: i64 = 120;
    let days: Vec<Day> = days.collect();
    // Before the first change there is nothing to see.
    let first = days.iter().chain(history.iter().map(|one| &one.day)).min();
    let since = Day(first.map_or(since.0, |first| since.0.max((first.0 - BEFORE).min(today.0))));
    let all = (today.0 - since.0 + 1).max(1);
    let each = if all / 7 > MOST { 28 } else { 7 };
    let mut counts: BTreeMap<i64, usize> = BTreeMap::new();
    // A clock that went back made changes after today: they stand with the last ones.
    days.iter().for_each(|day| {
        *counts.entry((day.0.min(today.0) - since.0).max(0) / each).or_default() += 1
    });
    let most = counts.values().copied().max().unwrap_or(0).max(1);
    let x_of = |day: i64| WIDE * day as f64 / all as f64;
    let weeks = counts.iter().map(|(week, count)| {
        let height = HIGH * *count as f64 / most as f64;
        let first = Day(since.0 + week * each);
        let last = Day((first.0 + each - 1).min(today.0));
        let x = x_of(week * each) + 1.0;
        WeekDrawn {
            x: Px(x),
            width: Px((x_of((week + 1) * each).min(WIDE) - x - 1.0).max(2.0)),
            y: Px(FOOT - height),
            height: Px(height),
            words: format!("{first} to {last}: {}", counted(*count, "change", "changes")),
        }
    });
    let begins = (since.0..=today.0).filter_map(|day| {
        let date = Day(day).to_string().parse::<Date>().ok()?;
        (date.day() == 1).then(|| (day, date.strftime("%b %Y").to_string()))
    });
    let mut last = -1000.0;
    let ticks = begins.filter_map(|(day, words)| {
        let x = x_of(day - since.0);
        // Names that would lie over each other are left out.
        let fits = x - last > 70.0 && x < WIDE - 60.0;
        last = if fits { x } else { last };
        fits.then_some(MonthTick { x: Px(x), text_x: Px(x + 4.0), words })
    });
    let changes: usize = counts.values().sum();
    let busiest = counts.iter().max_by_key(|(_, count)| **count);
    let alt = match busiest {
        None => "no change".to_owned(),
        Some((week, count)) => format!(
            "{} in {}; most, {count}, from {}",
            counted(changes, "change", "changes"),
            counted(counts.len(), "week", "weeks"),
            Day(since.0 + week * each)
        ),
    };
    // What was before the days that are drawn is where the line comes from.
    let shown = history.iter().filter(|one| one.change > 0 && one.day >= since);
    let shown: Vec<&Moment> = shown.collect();
    let before = history.iter().rev().find(|one| one.day < since).or(history.first());
    let counts = shown.iter().map(|one| one.users).chain(before.map(|one| one.users));
    let (least, most) =
        counts.fold((usize::MAX, 0), |(least, most), users| (least.min(users), most.max(users)));
    let y_of = |users: usize| {
        let of = most.saturating_sub(least).max(1) as f64;
        Px(TOP + ABOVE - ABOVE * (users - least) as f64 / of)
    };
    let mut users = String::new();
    let mut users_words = Vec::new();
    if let (Some(before), Some(last)) = (before, shown.last()) {
        // The line begins where the records do.
        let from = if before.change == 0 { (before.day.0 - since.0).max(0) } else { 0 };
        let (from, first) = (Px(x_of(from)), y_of(before.users));
        users = format!("M{from} {first}");
        for one in &shown {
            let x = Px(x_of((one.day.0.min(today.0) - since.0).max(0)));
            users += &format!("H{x}V{}", y_of(one.users));
        }
        users += &format!("H{}", Px(WIDE));
        let words = |count| counted(count, "user", "users");
        let at_end = y_of(last.users);
        users_words.push((Px(WIDE), Px(at_end.0 - 4.0), "end", words(last.users)));
        if from.0 < WIDE - 150.0 {
            users_words.push((from, Px(first.0 - 4.0), "start", words(before.users)));
        }
    }
    let hands = shown.iter().filter(|one| one.other_hands).map(|one| {
        let x = Px(x_of((one.day.0.min(today.0) - since.0).max(0)));
        let path = format!("M{x} {}l5 8l-5 8l-5 -8z", FOOT - HIGH - 14.0);
        (path, format!("other hands were at the files before change {}", one.change))
    });
    let bottom = FOOT as usize;
    TimeLine {
        height: bottom + 18,
        bottom,
        text_y: bottom + 14,
        alt,
        ticks: ticks.collect(),
        weeks: weeks.collect(),
        users,
        users_words,
        hands: hands.collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nest_core::report::{Age, by_age};

    #[test]
    fn a_bar_is_as_long_as_what_it_counts() {
        let ages = [1, 1, 20, 20, 20, 20].map(Age::Days);
        let drawn = bars("passwords", "Passwords", String::new(), &by_age(ages));
        let widths: Vec<String> = drawn.bars.iter().map(|bar| bar.width.to_string()).collect();
        assert_eq!(widths, ["85", "170", "0", "0", "0", "0", "0"]);
        assert_eq!(drawn.alt, "up to 7 days: 2, up to 30 days: 4");
    }

    #[test]
    fn the_days_of_a_year_stand_in_rows_of_months() {
        let today = Day::parse("2026-11-29", Day(0)).unwrap();
        let due =
            Due { day: today, kind: DueKind::Password, names: vec!["maren".into(), "ann".into()] };
        let drawn = calendar(&[due], today);
        assert_eq!(drawn.months.len(), 13);
        let first = &drawn.months[0];
        assert_eq!((first.title.as_str(), first.days.len()), ("Nov 2026", 2));
        let day = &first.days[0];
        assert_eq!((day.class, day.words.as_str()), ("due today", "2026-11-29: 2 passwords"));
        assert_eq!(drawn.months.iter().map(|month| month.days.len()).sum::<usize>(), 366);
        assert_eq!(drawn.months[12].title, "Nov 2027");
    }

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

    #[test]
    fn changes_stand_in_their_weeks() {
        let (since, today) = (Day(20_600), Day(20_781));
        let days = [20_600, 20_606, 20_607, 20_781, 30_000].map(Day);
        let moment =
            |change, day, users, other_hands| Moment { change, day: Day(day), users, other_hands };
        let moments =
            [moment(0, 20_500, 4, false), moment(1, 20_500, 5, false), moment(2, 20_691, 7, true)];
        let drawn = time_line(days.into_iter(), &moments, since, today);
        let words: Vec<&str> = drawn.weeks.iter().map(|week| week.words.as_str()).collect();
        assert_eq!(
            words,
            [
                "2026-05-27 to 2026-06-02: 2 changes",
                "2026-06-03 to 2026-06-09: 1 change",
                "2026-11-18 to 2026-11-24: 2 changes",
            ]
        );
        assert_eq!(drawn.ticks[0].words, "Jun 2026");
        assert_eq!(drawn.users, "M0 66H500V16H1000", "two more came in the middle");
        let told: Vec<&str> = drawn.users_words.iter().map(|(.., words)| words.as_str()).collect();
        assert_eq!(told, ["7 users", "5 users"]);
        assert_eq!(drawn.hands[0].1, "other hands were at the files before change 2");
        assert_eq!(time_line([].into_iter(), &[], today, today).alt, "no change");
    }
}
