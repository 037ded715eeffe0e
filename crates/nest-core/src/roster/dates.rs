//! Days as programs for spreadsheets write them.

use std::borrow::Cow;

use jiff::civil::Date;

use super::source::Wrong;
use crate::value::Day;

/// In which order a day is written that is not as ISO 8601 has it.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::EnumString, strum::IntoStaticStr,
)]
#[strum(serialize_all = "lowercase")]
pub enum DateOrder {
    /// Day, month, year: 31.03.2027.
    Dmy,
    /// Month, day, year: 3/31/2027.
    Mdy,
}

/// The number that programs for spreadsheets have for 1970-01-01, where they count from 1900
/// (ECMA-376, part 1, 18.17.4.1).
const EPOCH_OF_SHEETS: i64 = 25_569;

/// A day as ISO 8601 has it, or what else may stand there, as it is.
///
/// # Errors
/// A day of which it can't be told which number is the month, with the reading that would be
/// chosen.
pub(super) fn plain_date<'t>(
    text: &'t str,
    order: Option<DateOrder>,
) -> Result<Cow<'t, str>, Wrong> {
    for word in ["never", "today"] {
        if text.eq_ignore_ascii_case(word) {
            return Ok(word.into());
        }
    }
    // With a time of day, which is not asked for.
    let day = text.split(['T', ' ']).next().unwrap_or(text);
    if day.len() == 10 && day.parse::<Date>().is_ok() {
        return Ok(day.into());
    }
    let whole = text.split_once('.').map_or(text, |(whole, part)| {
        let is_part = !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
        if is_part { whole } else { text }
    });
    if let Some(number) = whole.parse::<i64>().ok().filter(|it| (20_000..100_000).contains(it)) {
        return Ok(Day(number - EPOCH_OF_SHEETS).to_string().into());
    }
    let Some(numbers) = three_numbers(day) else { return Ok(text.into()) };
    let read = |order: DateOrder| {
        let [first, second, year] = numbers;
        let (day, month) = match order {
            DateOrder::Dmy => (first, second),
            DateOrder::Mdy => (second, first),
        };
        let date =
            Date::new(i16::try_from(year).ok()?, month.try_into().ok()?, day.try_into().ok()?);
        date.ok().map(|date| (order, date.to_string()))
    };
    match order {
        Some(order) => match read(order) {
            Some((_, date)) => Ok(date.into()),
            None => {
                Err(Wrong::new(format!("{text:?} is no day in the order {order}"), "2027-03-31"))
            }
        },
        None => {
            let readings = [DateOrder::Dmy, DateOrder::Mdy].into_iter().filter_map(read);
            let readings: Vec<String> = readings
                .map(|(order, date)| format!("{date}, as --dates {order} reads it"))
                .collect();
            let message = format!("it can't be told which day {text:?} is");
            let instead = match readings.is_empty() {
                true => "2027-03-31".to_owned(),
                false => readings.join(", or "),
            };
            Err(Wrong::new(message, instead))
        }
    }
}

/// The numbers of a day like 31.03.2027, 3/31/2027 or 31-3-2027, the year last.
fn three_numbers(text: &str) -> Option<[u16; 3]> {
    let separator = text.chars().find(|sign| ['.', '/', '-'].contains(sign))?;
    let parts: Vec<&str> = text.split(separator).collect();
    let [first, second, year] = parts.as_slice() else { return None };
    let number = |text: &str, longest: usize| {
        let digits = text.bytes().all(|byte| byte.is_ascii_digit());
        text.parse().ok().filter(|_| digits && (1..=longest).contains(&text.len()))
    };
    let is_year = year.len() == 4;
    Some([number(first, 2)?, number(second, 2)?, number(year, 4).filter(|_| is_year)?])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_read_as_they_are_meant_or_it_is_said_what_they_may_be() {
        let read = |text: &str, order| match plain_date(text, order) {
            Ok(date) => date.into_owned(),
            Err(wrong) => format!("{}: {}", wrong.message, wrong.instead),
        };
        for (text, told) in [
            ("2027-03-31", "2027-03-31"),
            ("2027-03-31T00:00:00", "2027-03-31"),
            ("2027-03-31 00:00", "2027-03-31"),
            ("46477", "2027-03-31"),
            ("46477.0", "2027-03-31"),
            ("NEVER", "never"),
            ("+90d", "+90d"),
            ("soon", "soon"),
            ("31.03.27", "31.03.27"),
        ] {
            assert_eq!(read(text, None), told, "{text}");
        }
        assert_eq!(read("31.03.2027", Some(DateOrder::Dmy)), "2027-03-31");
        assert_eq!(read("3/31/2027", Some(DateOrder::Mdy)), "2027-03-31");
        assert!(read("3/31/2027", Some(DateOrder::Dmy)).contains("no day in the order dmy"));
        let unsure = read("3/4/2027", None);
        assert!(
            unsure.ends_with(
                "2027-04-03, as --dates dmy reads it, or 2027-03-04, as --dates mdy reads it"
            ),
            "{unsure}"
        );
        assert!(read("31.03.2027", None).ends_with(": 2027-03-31, as --dates dmy reads it"));
    }
}
