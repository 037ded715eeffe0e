//! The minutes of a week, each in it or not.

use crate::order;
use std::fmt;

/// How many minutes a day has.
const DAY: usize = 24 * 60;
/// How many a week has.
const ALL: usize = 7 * DAY;

/// The days, as they are written; the week begins on Monday.
pub(super) const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// A moment of some week, where the machine stands.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Moment {
    /// The day, counted from Monday, which is 0.
    pub day: u8,
    /// The minute of that day.
    pub minute: u16,
    /// What the time zone is called.
    pub zone: String,
}

/// `sat 21:14`.
impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (day, minute) = (DAYS[usize::from(self.day) % 7], self.minute);
        write!(f, "{day} {:02}:{:02}", minute / 60, minute % 60)
    }
}

/// Some minutes of the week.
#[derive(Clone, PartialEq, Eq)]
pub struct Week(Box<[u64; ALL.div_ceil(64)]>);

impl fmt::Debug for Week {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Week({self})")
    }
}

/// Days of a week, a bit for each.
type Days = u8;

impl Week {
    /// None of them.
    pub fn never() -> Self {
        Week(Box::new([0; ALL.div_ceil(64)]))
    }

    /// All of them.
    pub fn always() -> Self {
        let mut week = Week(Box::new([u64::MAX; ALL.div_ceil(64)]));
        week.0[ALL / 64] = (1 << (ALL % 64)) - 1;
        week
    }

    /// Adds minutes of the week from `start` on and before `end`.
    fn fill(&mut self, start: usize, end: usize) {
        for (at, word) in self.0.iter_mut().enumerate().take(end.div_ceil(64)).skip(start / 64) {
            let (first, last) = (start.max(at * 64) - at * 64, end.min(at * 64 + 64) - at * 64);
            let below = |bit: usize| if bit == 64 { u64::MAX } else { (1 << bit) - 1 };
            *word |= below(last) & !below(first);
        }
    }

    fn has_minute(&self, minute: usize) -> bool {
        let minute = minute % ALL;
        self.0[minute / 64] & (1 << (minute % 64)) != 0
    }

    /// Adds the minutes of a day from `start` on and before `end`; where that is no later, it is
    /// of the day after.
    pub(super) fn add(&mut self, day: usize, start: u16, end: u16) {
        let (start, mut end) = (usize::from(start), usize::from(end));
        if end <= start {
            end += DAY;
        }
        let (start, end) = (day * DAY + start, day * DAY + end);
        self.fill(start, end.min(ALL));
        // What goes beyond Sunday is of Monday.
        self.fill(0, end.saturating_sub(ALL));
    }

    /// Whether a moment is in it.
    pub fn has(&self, moment: &Moment) -> bool {
        self.has_minute(usize::from(moment.day) * DAY + usize::from(moment.minute))
    }

    /// Whether none is in it.
    pub fn is_never(&self) -> bool {
        *self == Week::never()
    }

    /// Whether all are.
    pub fn is_always(&self) -> bool {
        *self == Week::always()
    }

    /// Those that are in both.
    #[must_use]
    pub fn and(mut self, other: &Week) -> Week {
        self.0.iter_mut().zip(*other.0).for_each(|(one, other)| *one &= other);
        self
    }

    /// Those that are in one of them.
    #[must_use]
    pub(super) fn or(mut self, other: &Week) -> Week {
        self.0.iter_mut().zip(*other.0).for_each(|(one, other)| *one |= other);
        self
    }

    /// All others.
    #[must_use]
    pub(super) fn not(self) -> Week {
        let mut other = Week::always();
        other.0.iter_mut().zip(*self.0).for_each(|(all, own)| *all &= !own);
        other
    }

    /// The stretches of time, each by its days, first minute and end, in the order of the week.
    /// None is longer than a day, and of those that go over midnight the days are those on which
    /// they begin.
    pub(super) fn stretches(&self) -> Vec<(Days, u16, u16)> {
        let mut all: Vec<(Days, u16, u16)> = Vec::new();
        let mut add = |start: usize, end: usize| {
            let (day, from) = (start / DAY % 7, (start % DAY) as u16);
            let to = match end % DAY {
                0 => DAY as u16,
                to => to as u16,
            };
            let same = all.iter_mut().find(|(_, start, end)| (*start, *end) == (from, to));
            match same {
                Some((days, ..)) => *days |= 1 << day,
                None => all.push((1 << day, from, to)),
            }
        };
        if self.is_always() {
            (0..7).for_each(|day| add(day * DAY, (day + 1) * DAY));
            return all;
        }
        let begins =
            |minute: &usize| self.has_minute(*minute) && !self.has_minute(minute + ALL - 1);
        for start in (0..ALL).filter(begins) {
            let length = (start..start + ALL).take_while(|minute| self.has_minute(*minute)).count();
            let (mut start, end) = (start, start + length);
            // What takes a whole day or more ends at each midnight.
            while length >= DAY && end - start > DAY - start % DAY {
                let midnight = start - start % DAY + DAY;
                add(start, midnight);
                start = midnight;
            }
            add(start, end);
        }
        order::sort_by_key(&mut all, |(days, start, _)| (days.trailing_zeros(), *start));
        all
    }
}

/// `mon-fri 08:00-18:00, sat 09:00-12:00`; `any` for all, `never` for none.
impl fmt::Display for Week {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_always() {
            return f.write_str("any");
        }
        let stretches = self.stretches();
        if stretches.is_empty() {
            return f.write_str("never");
        }
        for (at, (days, start, end)) in stretches.into_iter().enumerate() {
            let comma = if at > 0 { ", " } else { "" };
            let (days, clock) = (days_in_words(days), |minute: u16| {
                format!("{:02}:{:02}", minute / 60, minute % 60)
            });
            write!(f, "{comma}{days} {}-{}", clock(start), clock(end))?;
        }
        Ok(())
    }
}

/// `mon-fri`, `mon+wed`, `daily`.
fn days_in_words(days: Days) -> String {
    let has = |day: usize| days & (1 << (day % 7)) != 0;
    if (0..7).all(has) {
        return "daily".to_owned();
    }
    let begins = |day: &usize| has(*day) && !has(day + 6);
    let runs = (0..7).filter(begins).flat_map(|first| {
        let length = (first..first + 7).take_while(|day| has(*day)).count();
        let last = (first + length - 1) % 7;
        match length {
            1 => vec![DAYS[first].to_owned()],
            2 => vec![DAYS[first].to_owned(), DAYS[last].to_owned()],
            _ => vec![format!("{}-{}", DAYS[first], DAYS[last])],
        }
    });
    runs.collect::<Vec<_>>().join("+")
}
