//! The days of a year and what ends on each.

use std::collections::BTreeMap;

use jiff::civil::Date;
use nest_core::report::{Due, DueKind};
use nest_core::value::Day;
use nest_core::words::{agree, counted, list};

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
fn ends_in_words(due: &Due) -> String {
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

#[cfg(test)]
mod tests {

    use super::*;

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
}
