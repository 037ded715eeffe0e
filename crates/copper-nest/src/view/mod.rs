//! What is printed, one file a thing shown. Colour carries no meaning that the
//! words lack.

pub mod bar;
pub mod changes;
pub mod faults;
pub mod findings;
pub mod groups;
pub mod ids;
pub mod receipt;
pub mod remedy;
pub mod retired;
pub mod sarif;
pub mod style;
pub mod trace;
pub mod user;
pub mod users;

use std::borrow::Cow;
use std::io::IsTerminal;

use comfy_table::{Cell, Color, ContentArrangement, Table, presets};
use nest_core::value::escaped;

use crate::cli::{Color as Choice, Global};

pub use bar::Bar;

/// How wide running text is set.
const TEXT_WIDTH: usize = 78;

/// Prints one JSON document.
pub fn print_json(document: &serde_json::Value) {
    // A value made of strings and numbers always serialises.
    let text = serde_json::to_string_pretty(document).unwrap_or_default();
    outln!("{text}");
}

/// Whether results are read by a person at a terminal, or to look so.
pub fn for_a_person(global: &Global) -> bool {
    std::io::stdout().is_terminal() || global.color == Choice::Always
}

/// Prints a heading.
pub fn heading(text: &str) {
    let heading = style::HEADING;
    outln!("{heading}{text}{heading:#}");
}

/// A table with a copper heading, for a terminal.
pub fn table<const N: usize>(titles: [&str; N], rows: impl Iterator<Item = [String; N]>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    // Colour is always put in; what prints it takes it out where it has no place.
    // The table knows its own colours only; 208 is the copper of the rest.
    table.enforce_styling();
    table.set_header(titles.map(|title| Cell::new(title).fg(Color::AnsiValue(208))));
    for row in rows {
        table.add_row(row);
    }
    table.trim_fmt()
}

/// Text from an account file as it can be shown: what is not UTF-8, and what
/// would steer the terminal, is written as `\xNN` or `\u{…}`.
pub fn visible(text: &[u8]) -> String {
    made_visible(text).into_owned()
}

/// The same; plain text, as nearly all is, is not copied.
pub fn made_visible(text: &[u8]) -> Cow<'_, str> {
    if let Cow::Borrowed(plain) = escaped(text)
        && plain.is_ascii()
    {
        return Cow::Borrowed(plain);
    }
    let mut shown = String::with_capacity(text.len());
    for chunk in text.utf8_chunks() {
        for c in chunk.valid().chars() {
            let steers = c.is_control()
                || matches!(c, '\u{200e}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
            match c {
                _ if !steers => shown.push(c),
                c if c.is_ascii() => shown += &format!("\\x{:02x}", u32::from(c)),
                c => shown += &c.escape_unicode().to_string(),
            }
        }
        for byte in chunk.invalid() {
            shown += &format!("\\x{byte:02x}");
        }
    }
    Cow::Owned(shown)
}

/// A line of an account file as people can read it: of a very long one the middle
/// is left out. Machines get all of it.
pub fn visible_line(line: &[u8]) -> String {
    const LONG: usize = 1200;
    const PART: usize = 400;
    let shown = visible(line);
    let length = shown.chars().count();
    if length <= LONG {
        return shown;
    }
    let first: String = shown.chars().take(PART).collect();
    let last: String = shown.chars().skip(length - PART).collect();
    format!("{first} … ({} characters) … {last}", length - 2 * PART)
}

/// How many columns a text takes, one a character.
pub fn width(text: &str) -> usize {
    text.chars().count()
}

/// Prints a label and a paragraph beside it.
pub fn print_wrapped(label: &str, text: &str) {
    let heading = style::HEADING;
    let mut first = true;
    for line in wrap(text, TEXT_WIDTH - 12) {
        let label = if first { label } else { "" };
        outln!("  {heading}{label:8}{heading:#}{line}");
        first = false;
    }
}

/// A line of trouble as it is printed: on a terminal broken where it would be too
/// long to be read at ease.
pub fn for_stderr(line: &str) -> Vec<String> {
    const EASE: usize = 100;
    // What is indented lines up with something else.
    match std::io::stderr().is_terminal() && !line.starts_with(' ') {
        true => wrap(line, EASE),
        false => vec![line.to_owned()],
    }
}

/// Breaks a text into lines of at most `width` columns, at spaces.
fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split_whitespace() {
        let line =
            lines.last_mut().filter(|line| line.is_empty() || line.len() + word.len() < width);
        match line {
            Some(line) if line.is_empty() => line.push_str(word),
            Some(line) => {
                line.push(' ');
                line.push_str(word);
            }
            None => lines.push(word.to_owned()),
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_in_a_file_steers_the_terminal() {
        assert_eq!(visible(b"S\xf8lvi \x1b[2J\n"), "S\\xf8lvi \\x1b[2J\\x0a");
        assert_eq!(visible("Sølvi \u{202e}x\u{85}".as_bytes()), "Sølvi \\u{202e}x\\u{85}");
    }

    #[test]
    fn of_a_very_long_line_the_middle_is_left_out() {
        let line = [b"all:x:7:".as_slice(), &b"maren,".repeat(1000)].concat();
        let shown = visible_line(&line);
        assert!(shown.starts_with("all:x:7:maren,") && shown.ends_with(",maren,"));
        assert!(shown.contains(" … (5208 characters) … "), "{shown}");
        assert_eq!(visible_line(b"short"), "short");
    }

    #[test]
    fn text_is_broken_at_spaces() {
        assert_eq!(wrap("one two three", 8), ["one two", "three"]);
        assert_eq!(wrap("", 8), [""]);
    }
}
