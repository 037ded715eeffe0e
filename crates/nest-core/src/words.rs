//! How counts, lists of names and the like are put into words: the one place for it.

use std::fmt::Display;

use bstr::BString;

/// A count with its noun: `1 file`, `3 files`.
///
/// ```
/// use nest_core::words::counted;
/// assert_eq!(counted(1, "file", "files"), "1 file");
/// assert_eq!(counted(0_u64, "file", "files"), "0 files");
/// ```
pub fn counted<N: Display + PartialEq + From<u8>>(count: N, one: &str, many: &str) -> String {
    let noun = agree(&count, one, many);
    format!("{count} {noun}")
}

/// A count with commas between its thousands: `9,998`.
///
/// ```
/// assert_eq!(nest_core::words::grouped(9998), "9,998");
/// assert_eq!(nest_core::words::grouped(210), "210");
/// ```
pub fn grouped(count: usize) -> String {
    let digits = count.to_string();
    let mut grouped = String::with_capacity(digits.len() + digits.len() / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            grouped.push(',');
        }
        grouped.push(digit);
    }
    grouped
}

/// The word that agrees with a count, `one` for 1 and `many` for all others.
pub fn agree<'w, N: PartialEq + From<u8>>(count: &N, one: &'w str, many: &'w str) -> &'w str {
    if *count == N::from(1) { one } else { many }
}

/// Names one after the other, with commas between them.
pub fn list<T: AsRef<[u8]>>(names: impl IntoIterator<Item = T>) -> BString {
    bstr::join(", ", names).into()
}

/// The first `most` names with commas between them, and how many more there are.
pub fn first_of<T: AsRef<[u8]>>(names: &[T], most: usize) -> BString {
    let first = list(names.iter().take(most));
    match names.len().saturating_sub(most) {
        0 => first,
        more => format!("{first} and {more} more").into(),
    }
}

/// The first few of some names.
pub(crate) fn some(names: &[BString]) -> String {
    const MOST: usize = 5;
    let first: Vec<String> = names.iter().take(MOST).map(ToString::to_string).collect();
    match (first.as_slice(), names.len().saturating_sub(MOST)) {
        ([], _) => "nobody".to_owned(),
        ([one], _) => one.clone(),
        ([all @ .., last], 0) => format!("{} and {last}", all.join(", ")),
        (all, more) => format!("{} and {more} more", all.join(", ")),
    }
}

/// An error and what it comes from, each after the one that it is the cause of.
pub fn in_full(error: &dyn std::error::Error) -> String {
    let causes = std::iter::successors(Some(error), |error| error.source());
    let words: Vec<String> =
        causes.map(|cause| without_error_numbers(&cause.to_string())).collect();
    words.join(": ")
}

/// A message without the numbers that the system has for its errors: its words say the
/// same to people.
pub fn without_error_numbers(message: &str) -> String {
    let mut parts = message.split(" (os error ");
    let mut plain = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        match part.split_once(')') {
            Some((number, rest)) if number.bytes().all(|byte| byte.is_ascii_digit()) => {
                plain.push_str(rest);
            }
            _ => plain.extend([" (os error ", part]),
        }
    }
    plain
}

/// "one thing is", "7 things are".
pub(crate) fn things(count: usize) -> String {
    match count {
        1 => "one thing is".to_owned(),
        count => format!("{count} things are"),
    }
}

/// Rows that would say the same as one that is told.
pub(crate) fn also(alike: usize) -> String {
    match alike {
        0 | 1 => String::new(),
        alike => format!("; no number is left for {} further rows either", alike - 1),
    }
}

pub(crate) fn gone(now: &Option<BString>) -> String {
    now.as_ref().map_or_else(|| "gone".to_owned(), ToString::to_string)
}

pub(crate) fn nearest(near: &Option<BString>) -> String {
    near.as_ref().map(|near| format!("; the nearest is {near}")).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn errors_of_the_system_are_told_in_words() {
        let plain = without_error_numbers;
        assert_eq!(
            plain("/a: Is a directory (os error 21); as it was"),
            "/a: Is a directory; as it was"
        );
        assert_eq!(plain("no (os error x) (os error 2"), "no (os error x) (os error 2");
    }

    #[test]
    fn of_many_names_the_first_are_told() {
        let names: Vec<BString> = (1..8).map(|at| BString::from(format!("crew{at}"))).collect();
        assert_eq!(some(&[]), "nobody");
        assert_eq!(some(&names[..1]), "crew1");
        assert_eq!(some(&names[..3]), "crew1, crew2 and crew3");
        assert_eq!(some(&names), "crew1, crew2, crew3, crew4, crew5 and 2 more");
        assert_eq!(first_of(&names, 2), "crew1, crew2 and 5 more");
        assert_eq!(first_of(&names[..2], 2), "crew1, crew2");
    }
}
