//! Days, as the shadow file counts them: since 1970-01-01, in UTC.

use std::fmt;

use jiff::civil::Date;

/// A calendar day, counted from 1970-01-01 (day 0).
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Serialize, serde::Deserialize,
)]
pub struct Day(pub i64);

/// When an account stops working.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Expiry {
    /// It does not expire.
    Never,
    /// The first day on which it no longer works.
    On(Day),
}

/// A text that is no day.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is no day; write it as 2026-03-31, today or -7d")]
pub struct DayFault(pub String);

/// A text that does not say when an account stops working.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is no date; write it as 2027-03-31, today, +90d or never")]
pub struct ExpiryFault(pub String);

const EPOCH: Date = Date::constant(1970, 1, 1);

impl Day {
    /// The first day a clock may show before it is held to be wrong: 2020-01-01.
    pub const EARLIEST_TODAY: Day = Day(18262);

    /// The day that holds a moment given in seconds since 1970-01-01T00:00:00Z.
    pub fn of_seconds(seconds: i64) -> Self {
        Day(seconds.div_euclid(86_400))
    }

    /// The day that a moment is written with, RFC 3339: the one that whoever wrote it saw on the
    /// calendar, wherever that was. Nothing where it begins with none.
    pub fn of_time(time: &str) -> Option<Self> {
        Self::parse(time.get(..10)?, Day(0)).ok()
    }

    /// Reads `2027-03-31`, `today`, `+90d` or `-7d`, counted from `today`.
    ///
    /// # Errors
    /// [`DayFault`] for everything else.
    pub fn parse(text: &str, today: Day) -> Result<Self, DayFault> {
        let fault = || DayFault(text.to_owned());
        if text == "today" {
            return Ok(today);
        }
        if let Some(days) = text.strip_prefix('+').and_then(|rest| rest.strip_suffix('d')) {
            let days: u32 = days.parse().map_err(|_| fault())?;
            return Ok(Day(today.0 + i64::from(days)));
        }
        if let Some(days) = text.strip_prefix('-').and_then(|rest| rest.strip_suffix('d')) {
            let days: u32 = days.parse().map_err(|_| fault())?;
            return Ok(Day(today.0 - i64::from(days)));
        }
        if text.len() != 10 {
            return Err(fault());
        }
        let date: Date = text.parse().map_err(|_| fault())?;
        let days = date.since(EPOCH).map_err(|_| fault())?.get_days();
        Ok(Day(i64::from(days)))
    }
}

impl Expiry {
    /// Reads a [`Day`], or `never`.
    ///
    /// # Errors
    /// [`ExpiryFault`] for everything else.
    pub fn parse(text: &str, today: Day) -> Result<Self, ExpiryFault> {
        match text {
            "never" => Ok(Expiry::Never),
            _ => {
                Day::parse(text, today).map(Expiry::On).map_err(|DayFault(text)| ExpiryFault(text))
            }
        }
    }
}

impl fmt::Display for Day {
    /// As `2027-03-31`; as `day N` where the calendar does not reach.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let span = jiff::Span::new().try_days(self.0);
        match span.and_then(|span| EPOCH.checked_add(span)) {
            Ok(date) => write!(f, "{date}"),
            Err(_) => write!(f, "day {}", self.0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_counted_from_1970() {
        let today = Day::of_seconds(1_795_500_000);
        assert_eq!(today, Day(20781));
        assert_eq!(today.to_string(), "2026-11-24");
        assert_eq!(Day::parse("2026-11-24", today), Ok(today));
        assert_eq!(Day::parse("today", today), Ok(today));
        assert_eq!(Day::parse("+90d", today).unwrap().to_string(), "2027-02-22");
        assert_eq!(Day::of_seconds(-1), Day(-1));
        assert_eq!(Day::of_time("2026-11-24T23:30:00-05:00"), Some(today));
        assert_eq!(Day::of_time("yesterday"), None);
        assert_eq!(Day::EARLIEST_TODAY.to_string(), "2020-01-01");
    }

    #[test]
    fn what_is_no_date_is_told_with_the_forms_that_are() {
        for text in ["31.03.2027", "2027-02-30", "tomorrow", "", "90d", "+-3d", "2027-03-31T00"] {
            let fault = Day::parse(text, Day(20781)).unwrap_err();
            assert!(fault.to_string().contains("2026-03-31, today or -7d"), "{text}");
            let fault = Expiry::parse(text, Day(20781)).unwrap_err();
            assert!(fault.to_string().contains("2027-03-31, today, +90d or never"), "{text}");
        }
        assert_eq!(Expiry::parse("never", Day(0)), Ok(Expiry::Never));
    }

    #[test]
    fn days_beyond_the_calendar_can_still_be_shown() {
        assert_eq!(Day(i64::MAX).to_string(), format!("day {}", i64::MAX));
    }
}
