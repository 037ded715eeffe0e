//! Rules about hours, time.conf(5), read as pam_time(8) reads them.
//!
//! Of all lines that fit a sign-in each has to let it pass.

use bstr::{BString, ByteSlice};

use super::own::Owned;
use super::week::Week;
use crate::configuration::Place;

/// The days as the file has them, from Monday on.
pub(super) const DAY_CODES: [&str; 7] = ["Mo", "Tu", "We", "Th", "Fr", "Sa", "Su"];

/// As many bytes as the module takes at a time: no field may be longer.
const MOST: usize = 1000;

/// A line of the file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct TimeRule {
    pub place: Place,
    /// Whether it is the account's own, as the mark before it says.
    pub owned: bool,
    /// The line as it is.
    pub text: BString,
    services: BString,
    terminals: BString,
    pub users: BString,
    /// When it lets pass.
    pub week: Week,
}

impl TimeRule {
    /// Whether it is about an account at a service, on a terminal; nothing where the name
    /// services have to say.
    pub fn fits(&self, service: &str, terminal: &str, user: &[u8]) -> Option<bool> {
        let named = |field: &BString, name: &[u8]| agrees(field, &|token| is_same(name, token));
        if !named(&self.services, service.as_bytes())
            || !named(&self.terminals, terminal.as_bytes())
        {
            return Some(false);
        }
        match self.users.first() {
            Some(b'@') => None,
            _ => Some(named(&self.users, user)),
        }
    }
}

/// Reads the rules of a file; lines that the module passes over are none.
pub(crate) fn read(file: &str, text: &[u8]) -> Vec<TimeRule> {
    let mut rules = Vec::new();
    let mut owned = Owned::default();
    let mut lines = text.split_inclusive(|&byte| byte == b'\n').enumerate();
    while let Some((at, first)) = lines.next() {
        let mut line = first.to_vec();
        // A backslash at the end of a line goes with it, but not in a comment.
        while let Some(start) = line.strip_suffix(b"\\\n").filter(|start| !start.contains(&b'#')) {
            let next = lines.next().map_or(&b""[..], |(_, next)| next);
            line = [start, next].concat();
        }
        let is_own = owned.takes(first);
        // What has no end of its line is not taken, unless it is a comment.
        let Some(line) = line.strip_suffix(b"\n") else { continue };
        let line = line.find_byte(b'#').map_or(line, |at| &line[..at]);
        let fields: Vec<BString> = line.split(|&byte| byte == b';').map(squeezed).collect();
        let [services, terminals, users, times] = fields.as_slice() else { continue };
        if fields.iter().any(|field| field.len() >= MOST) || services.is_empty() {
            continue;
        }
        let place = Place { file: file.into(), line: at + 1 };
        let week = week_of(times);
        let [services, terminals, users] = [services, terminals, users].map(BString::clone);
        let text = BString::from(first.trim_end_with(|c| c == '\n'));
        rules.push(TimeRule { place, owned: is_own, text, services, terminals, users, week });
    }
    rules
}

/// A field without blanks at its ends and after a `!`, and with one where there are several.
fn squeezed(field: &[u8]) -> BString {
    let mut squeezed = BString::default();
    let mut on_space = true;
    for &byte in field {
        match byte {
            b' ' | b'\t' if on_space => {}
            b' ' | b'\t' => {
                on_space = true;
                squeezed.push(b' ');
            }
            b'!' => {
                on_space = true;
                squeezed.push(b'!');
            }
            byte => {
                on_space = false;
                squeezed.push(byte);
            }
        }
    }
    while squeezed.ends_with(b" ") {
        squeezed.pop();
    }
    squeezed
}

fn is_of_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"*_-./:".contains(&byte)
}

/// Whether a name can stand in the file for itself.
pub(super) fn can_hold(name: &[u8]) -> bool {
    !name.is_empty() && name.iter().all(|&byte| is_of_word(byte) && byte != b'*')
}

/// A part of a field: a word, or a sign.
enum Token<'f> {
    Word(&'f [u8]),
    Sign(u8),
}

fn tokens(field: &[u8]) -> impl Iterator<Item = Token<'_>> {
    let mut rest = field;
    std::iter::from_fn(move || {
        let start = rest.iter().position(|&byte| is_of_word(byte) || b"&|!".contains(&byte))?;
        rest = &rest[start..];
        if !is_of_word(rest[0]) {
            let sign = rest[0];
            rest = &rest[1..];
            return Some(Token::Sign(sign));
        }
        let end = rest.iter().position(|&byte| !is_of_word(byte)).unwrap_or(rest.len());
        let (word, after) = rest.split_at(end);
        rest = after;
        Some(Token::Word(word))
    })
}

/// What a field comes to: its words from left to right, joined as the signs say; `garbled`
/// where they are none.
fn combined<T>(
    field: &[u8],
    garbled: T,
    word: &dyn Fn(&[u8], bool) -> T,
    joined: &dyn Fn(T, T, bool) -> T,
) -> T {
    let (mut left, mut not, mut both, mut wants_word) = (None, false, false, true);
    for token in tokens(field) {
        match token {
            Token::Sign(b'!') if wants_word => not = !not,
            Token::Word(text) if wants_word => {
                let right = word(text, not);
                left = Some(match left {
                    None => right,
                    Some(left) => joined(left, right, both),
                });
                wants_word = false;
            }
            Token::Sign(sign @ (b'&' | b'|')) if !wants_word => {
                (both, wants_word, not) = (sign == b'&', true, false);
            }
            _ => return garbled,
        }
    }
    left.unwrap_or(garbled)
}

fn agrees(field: &[u8], word: &dyn Fn(&[u8]) -> bool) -> bool {
    combined(field, false, &|text, not| word(text) != not, &|left, right, both| {
        if both { left && right } else { left || right }
    })
}

/// Whether a name is a word of the file: one `*` stands for anything.
fn is_same(name: &[u8], word: &[u8]) -> bool {
    match word.find_byte(b'*') {
        None => name == word,
        Some(at) => {
            let (start, end) = (&word[..at], &word[at + 1..]);
            name.starts_with(start) && name.ends_with(end)
        }
    }
}

/// The minutes of a field of times.
fn week_of(times: &[u8]) -> Week {
    combined(
        times,
        Week::never(),
        &|word, not| {
            let week = stretch(word);
            if not { week.not() } else { week }
        },
        &|left, right, both| if both { left.and(&right) } else { left.or(&right) },
    )
}

/// The minutes of one word: days, then times. The module lets pass where the times can't be
/// read, and does not where the days can't. What ends on the day after takes its last minute in.
fn stretch(word: &[u8]) -> Week {
    let mut days = [false; 7];
    let mut rest = word;
    while rest.first().is_some_and(u8::is_ascii_alphabetic) {
        let code: String =
            rest.iter().take(2).map(|byte| byte.to_ascii_lowercase() as char).collect();
        let meant: &[usize] = match code.as_str() {
            "wk" => &[0, 1, 2, 3, 4],
            "wd" => &[5, 6],
            "al" => &[0, 1, 2, 3, 4, 5, 6],
            code => {
                let known = DAY_CODES.iter().position(|day| day.eq_ignore_ascii_case(code));
                match known {
                    Some(day) => &[[0], [1], [2], [3], [4], [5], [6]][day],
                    None => return Week::never(),
                }
            }
        };
        // A day that is named twice is not meant.
        meant.iter().for_each(|day| days[*day] = !days[*day]);
        rest = &rest[2..];
    }
    if !days.contains(&true) {
        return Week::never();
    }
    let digits = |text: &[u8]| text.iter().take(4).take_while(|byte| byte.is_ascii_digit()).count();
    let start = digits(rest);
    let end = rest.get(start + 1..).map_or(0, digits);
    if rest.get(start) != Some(&b'-') || end != 4 {
        return Week::always();
    }
    let clock = |text: &[u8]| text.iter().fold(0, |all, byte| all * 10 + i32::from(byte - b'0'));
    let (start, end) = (clock(&rest[..start]), clock(&rest[start + 1..start + 5]));
    // Clocks as numbers of four digits: 1830, and what no clock shows too.
    let minute = |shown: i32| {
        let (hours, minutes) = (shown / 100, (shown % 100).min(60));
        u16::try_from((hours * 60 + minutes).min(24 * 60)).unwrap_or(0)
    };
    let mut week = Week::never();
    for day in (0..7).filter(|day| days[*day]) {
        let mut add = |day: usize, start: u16, end: u16| {
            if start < end {
                week.add(day % 7, start, end);
            }
        };
        match start < end {
            true => add(day, minute(start), minute(end)),
            false => {
                add(day, minute(start), 24 * 60);
                add(day + 1, 0, (minute(end) + 1).min(24 * 60));
            }
        }
    }
    week
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::windows::Moment;

    fn week(times: &str) -> String {
        week_of(times.as_bytes()).to_string()
    }

    #[test]
    fn times_are_read_as_the_module_reads_them() {
        for (field, told) in [
            ("Al0000-2400", "any"),
            ("Wk0800-1800", "mon-fri 08:00-18:00"),
            ("Wk0800-1800 | Sa0900-1200", "mon-fri 08:00-18:00, sat 09:00-12:00"),
            ("!Wk0800-1800", "sat+sun 00:00-24:00, mon-fri 18:00-24:00"),
            ("Al0800-1800 & !Su0000-2400", "mon-sat 08:00-18:00"),
            ("Fr2200-0559", "fri 22:00-06:00"),
            ("Su2200-0559", "sun 22:00-06:00"),
            ("Su2200-0000", "sun 22:00-00:01"),
            ("WkMo0800-0900", "tue-fri 08:00-09:00"),
            ("Mo", "any"),
            ("Mo0800", "any"),
            ("Mo800-0900", "mon 08:00-09:00"),
            ("Mo0875-9999", "mon 09:00-24:00"),
            ("MoTu2275-0059", "mon+tue 23:00-01:00"),
            ("Xx0800-0900", "never"),
            ("0800-0900", "never"),
            ("", "never"),
            ("Mo0800-0900 Tu0800-0900", "never"),
        ] {
            let told_now = week(field);
            if field.starts_with("!Wk") {
                let read = week_of(field.as_bytes());
                let at = |day, minute| read.has(&Moment { day, minute, zone: String::new() });
                assert!(at(5, 0) && !at(0, 8 * 60) && at(0, 7 * 60) && at(4, 18 * 60));
            } else {
                assert_eq!(told_now, told, "{field}");
            }
        }
    }

    #[test]
    fn only_whole_lines_are_rules_and_marks_are_known() {
        let text =
            b"# all\nlogin;*;maren;Al0800-1000 # early\n\nlogin;tty*;\\\n!tavish;Wk0800-1800\n\
            *;*;x\n# copper-nest: hours of hesper\n*;*;hesper;Mo0800-1000\n*;*;last;Mo0800-1000";
        let rules = read("etc/security/time.conf", text);
        let places: Vec<usize> = rules.iter().map(|rule| rule.place.line).collect();
        assert_eq!(places, [2, 4, 8]);
        assert_eq!(rules.iter().map(|rule| rule.owned).collect::<Vec<_>>(), [false, false, true]);
        assert_eq!(rules[0].fits("login", "tty1", b"maren"), Some(true));
        assert_eq!(rules[0].fits("sshd", "ssh", b"maren"), Some(false));
        assert_eq!(rules[1].fits("login", "tty1", b"maren"), Some(true));
        assert_eq!(rules[1].fits("login", "tty1", b"tavish"), Some(false));
        assert_eq!(rules[1].fits("login", "pts/0", b"maren"), Some(false));
    }
}
