//! How many changes there were in each week, and how many users.

use std::collections::BTreeMap;

use jiff::civil::Date;
use nest_core::report::Moment;
use nest_core::value::Day;
use nest_core::words::counted;

use super::Px;

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
