//! The hours of an account, as people write them: `mon-fri 08:00-18:00, sat 09:00-12:00`.

use std::fmt;

use super::week::{DAYS, Week};

/// Why hours can't be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum HoursFault {
    /// Nothing, or a comma with nothing beside it.
    #[error("a stretch of time is missing; for no restriction write any")]
    Empty,
    /// Days without times.
    #[error("\"{0}\" names no times: write it like mon-fri 08:00-18:00")]
    NoTimes(String),
    /// A word that is no day.
    #[error(
        "\"{0}\" is no day: write mon, tue, wed, thu, fri, sat, sun, mon-fri, mon+wed or daily"
    )]
    NoDay(String),
    /// Times that are none.
    #[error("\"{0}\" is no stretch of time: write it like {1}")]
    NoStretch(String, String),
    /// A time that no day has.
    #[error("\"{0}\" is no time of a day: they go from 00:00 to 24:00")]
    NoTime(String),
    /// A stretch that begins where the day is over.
    #[error("no stretch of time begins at 24:00: that is 00:00 of the day after")]
    BeginsAtEnd,
    /// A stretch that ends where it begins.
    #[error("\"{0}\" ends where it begins; a whole day is 00:00-24:00")]
    NoLength(String),
    /// More than the file takes.
    #[error("these are too many stretches of time for one line of the file")]
    TooMany,
}

/// The hours in which an account may sign in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hours(Week);

impl Hours {
    /// As many bytes as the module takes of one field, with room to spare.
    const MOST: usize = 900;

    /// Those of a week; nothing where it has no moment or all.
    pub fn of(week: Week) -> Option<Self> {
        (!week.is_never() && !week.is_always()).then_some(Hours(week))
    }

    /// Reads them; nothing is no restriction: `any`, or what comes to the whole week.
    ///
    /// # Errors
    /// Where it can't be read, and why.
    pub fn parse(text: &str) -> Result<Option<Self>, HoursFault> {
        if text.trim().eq_ignore_ascii_case("any") {
            return Ok(None);
        }
        let mut week = Week::never();
        for part in text.split(',') {
            let part = part.trim();
            let at = part.find(|c: char| c.is_ascii_digit());
            let (days, times) = match at {
                _ if part.is_empty() => return Err(HoursFault::Empty),
                None => return Err(HoursFault::NoTimes(part.to_owned())),
                Some(0) => ("daily", part),
                Some(at) => (part[..at].trim(), &part[at..]),
            };
            let (days, (start, end)) = (read_days(days)?, read_times(times)?);
            days.into_iter().for_each(|day| week.add(day, start, end));
        }
        let hours = Hours::of(week);
        if hours.as_ref().is_some_and(|hours| hours.field().len() > Hours::MOST) {
            return Err(HoursFault::TooMany);
        }
        Ok(hours)
    }

    /// The minutes.
    pub fn week(&self) -> &Week {
        &self.0
    }

    /// As the field of the file has them: `MoTuWeThFr0800-1800|Sa0900-1200`. The format is that
    /// of time.conf(5).
    pub(super) fn field(&self) -> String {
        let stretches = self.0.stretches().into_iter().map(|(days, start, end)| {
            let days: String = (0..7)
                .filter(|day| days & (1 << day) != 0)
                .map(|day| super::time_rules::DAY_CODES[day])
                .collect();
            let clock = |minute: u16| format!("{:02}{:02}", minute / 60, minute % 60);
            // Of what goes over midnight the module lets in the last minute too.
            let end = if end <= start { end - 1 } else { end };
            format!("{days}{}-{}", clock(start), clock(end))
        });
        stretches.collect::<Vec<_>>().join("|")
    }
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

fn read_days(text: &str) -> Result<Vec<usize>, HoursFault> {
    let lower = text.to_ascii_lowercase();
    if lower == "daily" {
        return Ok((0..7).collect());
    }
    let day = |word: &str| {
        let whole = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
        let at = DAYS.iter().zip(whole).position(|(short, whole)| word == *short || word == whole);
        at.ok_or_else(|| HoursFault::NoDay(text.to_owned()))
    };
    let mut days = Vec::new();
    for part in lower.split('+') {
        let (first, last) = match part.split_once('-') {
            Some((first, last)) => (day(first)?, day(last)?),
            None => (day(part)?, day(part)?),
        };
        // From Friday to Monday is over the end of the week.
        let last = if last < first { last + 7 } else { last };
        days.extend((first..=last).map(|day| day % 7));
    }
    Ok(days)
}

fn read_times(text: &str) -> Result<(u16, u16), HoursFault> {
    let stretch = || {
        // What was probably meant.
        let padded = |time: &str| {
            let digits = !time.is_empty() && time.bytes().all(|byte| byte.is_ascii_digit());
            let hour: Option<u16> = time.parse().ok().filter(|hour| digits && *hour <= 24);
            hour.map(|hour| format!("{hour:02}:00"))
        };
        let meant = text.split_once('-').and_then(|(start, end)| {
            Some(format!("{}-{}", padded(start.trim())?, padded(end.trim())?))
        });
        HoursFault::NoStretch(text.to_owned(), meant.unwrap_or_else(|| "08:00-18:00".to_owned()))
    };
    let (start, end) = text.split_once('-').ok_or_else(stretch)?;
    let time = |text: &str| {
        let (hours, minutes) = text.split_once(':').ok_or_else(stretch)?;
        let number = |digits: &str, lengths: std::ops::RangeInclusive<usize>| {
            let is_number = digits.bytes().all(|byte| byte.is_ascii_digit());
            let number = digits.parse::<u16>().ok();
            number.filter(|_| is_number && lengths.contains(&digits.len())).ok_or_else(stretch)
        };
        let (hours, minutes) = (number(hours, 1..=2)?, number(minutes, 2..=2)?);
        let fits = minutes < 60 && hours * 60 + minutes <= 24 * 60;
        fits.then_some(hours * 60 + minutes).ok_or_else(|| HoursFault::NoTime(text.to_owned()))
    };
    let (start, end) = (time(start.trim())?, time(end.trim())?);
    if start == 24 * 60 {
        return Err(HoursFault::BeginsAtEnd);
    }
    if start == end {
        return Err(HoursFault::NoLength(text.to_owned()));
    }
    Ok((start, end))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> String {
        match Hours::parse(text) {
            Ok(Some(hours)) => hours.to_string(),
            Ok(None) => "any".to_owned(),
            Err(fault) => fault.to_string(),
        }
    }

    #[test]
    fn hours_come_back_in_one_form_however_they_are_written() {
        let same = [
            ("mon-fri 08:00-18:00, sat 09:00-12:00", "mon-fri 08:00-18:00, sat 09:00-12:00"),
            ("Sat 9:00-12:00,MONDAY-friday 8:00-18:00", "mon-fri 08:00-18:00, sat 09:00-12:00"),
            ("fri-mon 10:00-11:00", "fri-mon 10:00-11:00"),
            ("fri 22:00-06:00", "fri 22:00-06:00"),
            ("sun 22:00-06:00, mon 05:00-07:00", "sun 22:00-07:00"),
            ("mon 08:00-12:00, mon 10:00-14:00", "mon 08:00-14:00"),
            ("mon 08:00-12:00, mon 12:00-14:00", "mon 08:00-14:00"),
            (
                "fri 18:00-24:00, sat-sun 00:00-24:00, mon 0:00-8:00",
                "mon 00:00-08:00, fri 18:00-24:00, sat+sun 00:00-24:00",
            ),
            ("mon+wed 08:00-09:00, thu 08:00-09:00", "mon+wed+thu 08:00-09:00"),
            ("08:00-18:00", "daily 08:00-18:00"),
            ("mon 08:00 - 18:00", "mon 08:00-18:00"),
            ("daily 00:00-24:00", "any"),
            (" any ", "any"),
            // Only what is longer than a day is cut at midnight.
            ("mon 23:00-22:00", "mon 23:00-22:00"),
        ];
        for (written, told) in same {
            assert_eq!(read(written), told, "{written}");
            assert_eq!(read(told), told, "{written}");
        }
    }

    #[test]
    fn what_is_no_hours_is_told_with_what_would_be() {
        for (written, word) in [
            ("", "missing"),
            ("mon 08:00-18:00,", "missing"),
            ("mon-fri", "names no times"),
            ("mon 25:00-26:00", "\"25:00\" is no time of a day"),
            ("mon 08:60-09:00", "\"08:60\" is no time"),
            ("mon 24:00-25:00", "is no time"),
            ("mon 24:00-01:00", "begins at 24:00"),
            ("mon 8-18", "write it like 08:00-18:00"),
            ("mon 9-17", "write it like 09:00-17:00"),
            ("mon 08:00", "is no stretch"),
            ("mon 08:00 18:00", "is no"),
            ("moon 08:00-18:00", "\"moon\" is no day"),
            ("mon-xyz 08:00-18:00", "is no day"),
            ("mon 08:00-08:00", "ends where it begins"),
            ("mon +8:00-18:00", "is no"),
        ] {
            let told = read(written);
            assert!(told.contains(word), "{written}: {told}");
        }
        let many: Vec<String> = (0..7 * 24 * 4)
            .map(|at| {
                format!(
                    "{} {:02}:{:02}-{:02}:{:02}",
                    DAYS[at / 96],
                    at % 96 / 4,
                    at % 4 * 15,
                    at % 96 / 4,
                    at % 4 * 15 + 1 + at / 96
                )
            })
            .collect();
        assert_eq!(Hours::parse(&many.join(",")), Err(HoursFault::TooMany));
    }
}
