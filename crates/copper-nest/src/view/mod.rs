//! What is printed, one file a thing shown. Colour carries no meaning that the
//! words lack.

#[macro_use]
pub mod columns;

pub mod admins;
pub mod bar;
pub mod changes;
pub mod compare;
pub mod earlier;
pub mod faults;
pub mod findings;
pub mod groups;
pub mod handover;
pub mod ids;
pub mod keys;
pub mod many;
pub mod receipt;
pub mod receipt_lines;
pub mod remedy;
pub mod report;
pub mod retired;
pub mod rules;
pub mod sarif;
pub mod style;
pub mod trace;
pub mod user;
pub mod user_fields;
pub mod users;

use std::borrow::Cow;
use std::io::{IsTerminal, Write};

use comfy_table::{Cell, Color, ColumnConstraint, ContentArrangement, Table, Width, presets};
use nest_core::value::{escaped, is_unseen};
use serde::{Serialize, Serializer};
use serde_json::Value;
use unicode_width::UnicodeWidthStr;

use crate::cli::{Color as Choice, Global};

pub use bar::Bar;

/// How wide running text is set.
const TEXT_WIDTH: usize = 78;

/// A document for machines: what it is, and the version of its form. The version is raised when
/// a key goes or means something else; keys may come without that.
#[derive(Serialize)]
struct Document<'a, T> {
    document: &'static str,
    version: u32,
    #[serde(flatten)]
    rest: &'a T,
}

impl<'a, T> Document<'a, T> {
    fn new(document: &'static str, rest: &'a T) -> Self {
        Self { document, version: 1, rest }
    }
}

/// What a document is made of.
const PLAIN: &str = "BUG: what is shown is made of strings, numbers and lists of them";

/// Prints a JSON document of this kind, an object.
pub fn print_json(kind: &'static str, document: &impl Serialize) {
    print_foreign_json(&Document::new(kind, document));
}

/// Prints a JSON document whose form is not ours.
pub fn print_foreign_json(document: &impl Serialize) {
    let mut lines = PrintedLines::default();
    serde_json::to_writer_pretty(&mut lines, document).expect(PLAIN);
    lines.end();
}

/// Prints a JSON document of this kind on one line.
pub fn print_json_line(kind: &'static str, document: &impl Serialize) {
    outln!("{}", serde_json::to_string(&Document::new(kind, document)).expect(PLAIN));
}

/// Text on its way to stdout, whole lines at a time: a document may be very long.
#[derive(Default)]
struct PrintedLines(Vec<u8>);

/// So much is printed at once.
const AT_ONCE: usize = 1 << 16;

impl PrintedLines {
    fn print(&mut self, end: usize) {
        let lines: Vec<u8> = self.0.drain(..end).collect();
        crate::output::print_lines(&String::from_utf8_lossy(&lines));
    }

    fn end(mut self) {
        self.0.push(b'\n');
        self.print(self.0.len());
    }
}

impl Write for PrintedLines {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.extend_from_slice(bytes);
        if self.0.len() > AT_ONCE
            && let Some(last) = self.0.iter().rposition(|&byte| byte == b'\n')
        {
            self.print(last + 1);
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Prints a table as spreadsheets take it (RFC 4180): no cell is taken for a formula.
///
/// # Errors
/// Why it can't be written.
pub fn print_csv<'t>(
    titles: impl Iterator<Item = &'t str>,
    rows: impl Iterator<Item = Vec<String>>,
) -> Result<(), String> {
    let failed = |error: csv::Error| error.to_string();
    let mut table = csv::Writer::from_writer(PrintedLines::default());
    table.write_record(titles).map_err(failed)?;
    for row in rows {
        let as_text = |cell: String| match cell.starts_with(['=', '+', '-', '@', '\t', '\r']) {
            true => format!("'{cell}"),
            false => cell,
        };
        table.write_record(row.into_iter().map(as_text)).map_err(failed)?;
    }
    let mut lines = table.into_inner().map_err(|error| error.to_string())?;
    let end = lines.0.len();
    lines.print(end);
    Ok(())
}

/// A list for machines that is made while it is printed.
pub struct Listed<F>(pub F);

impl<F: Fn() -> I, I: Iterator<Item = Value>> Serialize for Listed<F> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq((self.0)())
    }
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

/// Prints what is told below a list.
pub fn remark(text: &str) {
    let quiet = style::QUIET;
    for line in beside(0, text) {
        outln!("{quiet}{line}{quiet:#}");
    }
}

/// A table with a copper heading, for a terminal.
pub fn table<const N: usize>(titles: [&str; N], rows: impl Iterator<Item = [String; N]>) -> String {
    table_of(&titles, rows.map(Vec::from).collect())
}

/// The same, of as many columns as there are titles.
pub fn table_of(titles: &[&str], rows: Vec<Vec<String>>) -> String {
    // What a column can't do with less than: no word is broken.
    let longest = |at: usize| {
        let cells = rows.iter().map(|row| row[at].as_str()).chain([titles[at]]);
        cells.flat_map(str::split_whitespace).map(width).max().unwrap_or(0)
    };
    let least: Vec<usize> = (0..titles.len()).map(longest).collect();
    // Each column has a space before it and one after it.
    let needed = least.iter().map(|width| width + 2).sum::<usize>();
    if is_narrow() || columns().is_some_and(|columns| needed > columns) {
        return one_field_a_line(titles, &rows).replace(UNBROKEN, " ");
    }
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    if let Some(columns) = columns() {
        table.set_width(u16::try_from(columns).unwrap_or(u16::MAX));
    }
    // Colour is always put in; what prints it takes it out where it has no place.
    // The table knows its own colours only.
    table.enforce_styling();
    table.set_header(
        titles.iter().map(|title| Cell::new(title).fg(Color::AnsiValue(style::COPPER))),
    );
    for row in rows {
        table.add_row(row);
    }
    for (column, width) in table.column_iter_mut().zip(least) {
        let width = u16::try_from(width + 2).unwrap_or(u16::MAX);
        column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(width)));
    }
    table.trim_fmt().replace(UNBROKEN, " ")
}

/// Stands for a blank in a cell at which no line is broken.
const UNBROKEN: char = '\u{a0}';

/// Text of a cell that stays on one line, such as a command with its arguments.
pub fn unbroken(text: &str) -> String {
    text.replace(' ', &UNBROKEN.to_string())
}

/// Rows as blocks, for where there is little room.
fn one_field_a_line(titles: &[&str], rows: &[Vec<String>]) -> String {
    let heading = style::HEADING;
    let wide = titles.iter().map(|title| width(title)).max().unwrap_or(0);
    let block = |row: &Vec<String>| {
        let fields = titles.iter().zip(row).filter(|(_, value)| !value.is_empty());
        let lines = fields.map(|(title, value)| {
            let gap = " ".repeat(wide - width(title));
            format!(" {heading}{title}{heading:#}{gap}  {value}")
        });
        lines.collect::<Vec<_>>().join("\n")
    };
    rows.iter().map(block).collect::<Vec<_>>().join("\n\n")
}

/// Text from an account file as it can be shown: what is not UTF-8, and what
/// would steer the terminal, is written as `\xNN` or `\u{…}`.
pub fn visible(text: &[u8]) -> String {
    made_visible(text).into_owned()
}

/// The texts of a JSON document. One that is not UTF-8, or holds control characters, is
/// escaped so that nothing of it is lost, and the document says so.
#[derive(Debug, Default)]
pub struct JsonTexts(std::cell::Cell<bool>);

impl JsonTexts {
    /// A text of the document.
    pub fn text(&self, bytes: &[u8]) -> String {
        let text = escaped(bytes);
        if text.as_bytes() != bytes {
            self.0.set(true);
        }
        text.into_owned()
    }

    /// The document, with the mark that some of its texts are escaped, where they are.
    pub fn mark(&self, mut document: Value) -> Value {
        if self.0.get() {
            document["escaped"] = Value::from(true);
        }
        document
    }
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
            let steers = c.is_control() || is_unseen(c);
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

/// How many columns a text takes: two for a wide character, none for one that combines.
pub fn width(text: &str) -> usize {
    text.width()
}

/// How many columns there are; nothing where nobody says.
pub fn columns() -> Option<usize> {
    let said = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    let terminal = || terminal_size::terminal_size_of(std::io::stdout());
    said.filter(|columns| *columns > 0).or_else(|| Some(usize::from(terminal()?.0.0)))
}

/// Under so many columns there is one field a line.
const NARROW: usize = 60;

/// Whether there is no room for more than one field a line.
pub fn is_narrow() -> bool {
    columns().is_some_and(|columns| columns < NARROW)
}

/// Breaks running text that comes after a margin, at spaces; nothing is broken in itself.
pub fn beside(margin: usize, text: &str) -> Vec<String> {
    match columns() {
        Some(columns) => wrap(text, columns.saturating_sub(margin).max(24)),
        None => vec![text.to_owned()],
    }
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
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split_whitespace() {
        let line =
            lines.last_mut().filter(|line| line.is_empty() || line.width() + word.width() < width);
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
    fn wide_letters_take_two_columns_and_unseen_ones_are_codes() {
        assert_eq!((width("渡辺"), width("e\u{301}"), width("maren")), (4, 1, 5));
        assert_eq!(visible("ma\u{200b}ren".as_bytes()), "ma\\u{200b}ren");
        let block = one_field_a_line(&["user", "uid"], &[vec!["maren".into(), "1004".into()]]);
        let plain = anstream::adapter::strip_str(&block).to_string();
        assert_eq!(plain, " user  maren\n uid   1004");
    }

    #[test]
    fn text_is_broken_at_spaces() {
        assert_eq!(wrap("one two three", 8), ["one two", "three"]);
        assert_eq!(wrap("", 8), [""]);
    }
}
