//! Rosters as comma-separated values, RFC 4180.

use std::borrow::Cow;
use std::ops::Range;

use memchr::{memchr, memchr_iter};
use rayon::prelude::*;

use super::cells::{Reading, RowBuffer};
use super::fields::{check_quotes, field_at};
use super::source::{Cells, Wrong};
use super::{Column, RosterRow, RosterSource};
use crate::value::{UserOrGroup, nearest};
use crate::words::counted;

/// Reads the rows of a text that is known to be UTF-8.
pub(super) fn read(reading: &mut Reading<'_>, text: &str) {
    let source = reading.source;
    if let Some((at, wrong)) = check_quotes(source) {
        reading.fault(at, None, wrong);
        return;
    }
    let mut header: Option<Header> = None;
    let mut first_row = text.len();
    each(reading, text, source.start()..text.len(), |reading, record, start| {
        match &header {
            None => header = Some(Header::read(reading, record, start)),
            Some(_) => first_row = start,
        }
        first_row == text.len()
    });
    let Some(header) = header else { return };
    if header.columns.iter().all(Option::is_none)
        && let Some(line) = header_below(reading, text)
    {
        // What stands above it is a title, or nothing.
        reading.faults.clear();
        let message = format!("this is no header; the one of the table seems to be in line {line}");
        let wrong = Wrong::new(message, "the table without the lines above that");
        return reading.fault(source.start(), None, wrong);
    }
    // Of a header that is wrong every row would say the same.
    if header.is_nameless {
        return;
    }
    let (separator, options) = (source.separator(), reading.options);
    let plain = is_plain(text.as_bytes());
    let parts: Vec<_> = parts(text, first_row, plain)
        .into_par_iter()
        .map(|part| {
            let (number, mut count) = (reading.number, 0);
            let mut reading = Reading::new(source, number, options);
            reading.tried.dates = options.dates;
            reading.rows.reserve(memchr_iter(b'\n', &text.as_bytes()[part.clone()]).count() + 1);
            if plain {
                for (start, line) in plain_lines(text, part) {
                    count += 1;
                    header.row(&mut reading, plain_fields(line, separator), start, count, plain);
                }
            } else {
                each(&mut reading, text, part, |reading, record, start| {
                    count += 1;
                    header.row(reading, record.iter(), start, count, plain);
                    true
                });
            }
            (reading.rows, reading.faults, reading.trimmed, count)
        })
        .collect();
    let mut number = 0;
    reading.rows.reserve_exact(parts.iter().map(|(rows, ..)| rows.len()).sum());
    for (rows, faults, trimmed, count) in parts {
        reading.trimmed += trimmed;
        let numbered = |row: RosterRow| RosterRow { number: row.number + number, ..row };
        reading.rows.extend(rows.into_iter().map(numbered));
        number += count;
        reading.faults.extend(faults);
    }
    if number == 0 {
        let wrong = Wrong::new("it has a header and no rows", "a line for each account");
        reading.fault(text.len(), None, wrong);
    }
}

/// Which of the next lines looks like a header.
fn header_below(reading: &Reading<'_>, text: &str) -> Option<usize> {
    const MOST: usize = 8;
    let source = reading.source;
    let mut looking = Reading::new(source, reading.number, reading.options);
    let (mut found, mut records) = (None, 0);
    each(&mut looking, text, source.start()..text.len(), |reading, record, start| {
        records += 1;
        let known = record.iter().filter(|title| reading.column(title).is_some()).count();
        if known > 0 && known * 2 >= record.iter().filter(|title| !title.is_empty()).count() {
            found = Some(source.fault(start, None, Wrong::new("", "")).line);
        }
        found.is_none() && records < MOST
    });
    found
}

/// Whether each line is a record and each separator ends a field: no quotes, and no
/// carriage return that ends a line by itself.
fn is_plain(text: &[u8]) -> bool {
    let mut returns = memchr_iter(b'\r', text);
    memchr(b'"', text).is_none() && returns.all(|at| text.get(at + 1) == Some(&b'\n'))
}

/// The records of a part of a plain text, with where they begin.
fn plain_lines(text: &str, part: Range<usize>) -> impl Iterator<Item = (usize, &str)> {
    let ends = memchr_iter(b'\n', &text.as_bytes()[part.clone()]).map(move |at| part.start + at);
    let mut from = part.start;
    let lines = ends.chain([part.end]).map(move |end| {
        let start = std::mem::replace(&mut from, end + 1);
        let line = text.get(start..end).unwrap_or_default();
        (start, line.strip_suffix('\r').unwrap_or(line))
    });
    lines.filter(|(_, line)| !line.is_empty())
}

/// The fields of a record of a plain text.
fn plain_fields(line: &str, separator: u8) -> impl Iterator<Item = &str> {
    let mut from = 0;
    memchr_iter(separator, line.as_bytes())
        .chain([line.len()])
        .map(move |end| &line[std::mem::replace(&mut from, end + 1)..end])
}

/// Where the rows can be cut so that several threads read them: at line ends, where
/// no quote may hold one.
fn parts(text: &str, from: usize, plain: bool) -> Vec<Range<usize>> {
    const SHORTEST: usize = 64 << 10;
    let mut parts = Vec::new();
    let mut from = from;
    while plain && text.len() - from > 2 * SHORTEST {
        let rest = &text.as_bytes()[from + SHORTEST..];
        let Some(end) = memchr(b'\n', rest) else { break };
        let end = from + SHORTEST + end + 1;
        parts.push(from..end);
        from = end;
    }
    parts.push(from..text.len());
    parts
}

/// Tells the records of a part of a text, with where they begin, as long as that
/// asks for more.
fn each<'s>(
    reading: &mut Reading<'s>,
    text: &str,
    part: Range<usize>,
    mut tell: impl FnMut(&mut Reading<'s>, &csv::StringRecord, usize) -> bool,
) {
    let bytes = &text.as_bytes()[part.clone()];
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(reading.source.separator())
        .has_headers(false)
        .flexible(true)
        .from_reader(bytes);
    let mut record = csv::StringRecord::new();
    while next(reading, &mut reader, part.start, &mut record) {
        let start = record.position().map_or(0, |position| position.byte() as usize);
        // The place is where the record before ended: blank lines follow.
        let blank = bytes[start..].iter().take_while(|byte| byte.is_ascii_whitespace());
        let start = start + blank.filter(|byte| matches!(byte, b'\r' | b'\n')).count();
        if !tell(reading, &record, part.start + start) {
            return;
        }
    }
}

fn next(
    reading: &mut Reading<'_>,
    reader: &mut csv::Reader<&[u8]>,
    offset: usize,
    record: &mut csv::StringRecord,
) -> bool {
    match reader.read_record(record) {
        Ok(more) => more,
        Err(error) => {
            let at = error.position().map_or(0, |position| position.byte() as usize);
            reading.fault(offset + at, None, Wrong::new(error.to_string(), ""));
            false
        }
    }
}

/// The first line.
struct Header {
    /// The columns that are known, by field; empty ones at the end are none.
    columns: Vec<Option<Column>>,
    thing: UserOrGroup,
    /// Rows have no names by it.
    is_nameless: bool,
}

impl Header {
    fn read(reading: &mut Reading<'_>, record: &csv::StringRecord, start: usize) -> Self {
        let mut titles: Vec<&str> = record.iter().collect();
        while titles.len() > 1 && titles.last().is_some_and(|title| title.trim().is_empty()) {
            titles.pop();
        }
        let known: Vec<Option<Column>> = titles.iter().map(|title| reading.column(title)).collect();
        let thing = Column::about(known.iter().flatten().copied());
        let mut columns: Vec<Option<Column>> = Vec::new();
        for (field, (title, column)) in titles.iter().zip(known).enumerate() {
            let wrong = match column {
                Some(column) if !column.belongs_to(thing) => Some(Wrong::new(
                    format!("{column} is a column of users, and this is a table of groups"),
                    "one file for groups, and one for users: intake takes both at once",
                )),
                Some(column) if columns.contains(&Some(column)) => {
                    Some(Wrong::new(format!("the column {column} is there twice"), "one of them"))
                }
                Some(_) => None,
                None => reading.unknown(title, thing),
            };
            columns.push(column.filter(|_| wrong.is_none()));
            if let Some(wrong) = wrong {
                let at = field_at(reading.source, start, field);
                reading.fault(at, None, wrong);
            }
        }
        let has = |column| columns.contains(&Some(column));
        let is_nameless =
            !has(Column::Name) && (thing == UserOrGroup::Group || !has(Column::FullName));
        if is_nameless {
            let (what, instead) = match thing {
                UserOrGroup::User => (
                    "neither a column name nor a column full_name is there",
                    "name, or full_name to have names made from it",
                ),
                UserOrGroup::Group => ("there is no column name", "name"),
            };
            reading.fault(start, None, Wrong::new(what, instead));
        }
        Header { columns, thing, is_nameless }
    }

    fn row<'f>(
        &self,
        reading: &mut Reading<'_>,
        values: impl Iterator<Item = &'f str>,
        start: usize,
        number: usize,
        plain: bool,
    ) {
        let read_later = plain && self.thing == UserOrGroup::User;
        let thing = (!read_later).then_some(self.thing);
        let mut row = reading.row(thing, number, start, Cells::Fields);
        let mut at = start;
        if read_later {
            reading.tried.wipe();
        }
        let (mut fields, mut last) = (0, 0);
        for whole in values {
            let column = self.columns.get(fields);
            fields += 1;
            let value = whole.trim();
            if !value.is_empty() {
                last = fields;
            }
            if let Some(Some(column)) = column
                && !value.is_empty()
            {
                reading.trimmed += usize::from(value.len() != whole.len());
                let set = match read_later {
                    false => row.set(*column, Cow::Borrowed(value), reading.options.dates),
                    true => {
                        row.given.insert(*column);
                        match column.takes_any_text() {
                            true => Ok(()),
                            false => reading.tried.set(*column, value),
                        }
                    }
                };
                if let Err(wrong) = set {
                    let at = field_at(reading.source, start, record_field(self, *column));
                    reading.faults.push(reading.source.fault(at, Some(*column), wrong));
                }
                let name = at + (whole.len() - whole.trim_start().len());
                row.name = row.name.or((*column == Column::Name).then(|| name..name + value.len()));
            }
            at += whole.len() + 1;
        }
        // An empty row is nothing, and so are empty columns at the end.
        if last == 0 {
            return;
        }
        let wanted = self.columns.len();
        let fields = if last <= wanted { fields.min(wanted) } else { fields };
        if fields != wanted {
            let (at, instead) = match fields < wanted {
                true => (start, "a separator for each value that is left out"),
                false => (
                    field_at(reading.source, start, wanted),
                    "quotes around a value with a separator in it",
                ),
            };
            let counted = counted(fields, "field", "fields");
            let message = format!("this row has {counted}, and the header has {wanted}");
            reading.fault(at, None, Wrong::new(message, instead));
            return;
        }
        reading.rows.push(row);
    }
}

/// Reads the user of the record that begins at `start`, of a text without quotes. Values
/// that can't be had were told when it was first read.
pub(super) fn user(
    source: &RosterSource,
    start: usize,
    header: &[Option<Column>],
    buffer: &mut RowBuffer,
) {
    let rest = &source.text()[start..];
    let line = &rest[..memchr(b'\n', rest).unwrap_or(rest.len())];
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    buffer.wipe();
    let Ok(line) = std::str::from_utf8(line) else { return };
    for (value, column) in plain_fields(line, source.separator()).zip(header) {
        if let Some(column) = column
            && !value.trim().is_empty()
        {
            let _ = buffer.set(*column, value.trim());
        }
    }
}

/// The columns of the fields of a roster.
pub(super) fn header(source: &RosterSource, reading: &Reading<'_>) -> Vec<Option<Column>> {
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(source.separator())
        .has_headers(false)
        .from_reader(&source.text()[source.start()..]);
    let mut record = csv::StringRecord::new();
    match reader.read_record(&mut record) {
        Ok(true) => record.iter().map(|title| reading.column(title)).collect(),
        _ => Vec::new(),
    }
}

fn record_field(header: &Header, column: Column) -> usize {
    header.columns.iter().position(|other| *other == Some(column)).unwrap_or(0)
}

/// The column that a title, plainly written, is nearly called.
pub(super) fn nearest_column(plain: &str, thing: UserOrGroup) -> Option<Column> {
    let titles: Vec<String> = Column::of(thing).map(|column| column.to_string()).collect();
    let near = nearest(plain.as_bytes(), titles.iter().map(String::as_bytes))?;
    // Without what stands between the words it may be the very one.
    std::str::from_utf8(near).ok()?.parse().ok()
}

/// What to say of a column or key that nobody knows.
pub(super) fn unknown(title: &str, thing: UserOrGroup) -> Wrong {
    let titles: Vec<String> = Column::of(thing).map(|column| column.to_string()).collect();
    let instead = match nearest_column(&Column::plain_title(title), thing) {
        Some(near) => format!("{near}, the nearest there is"),
        None => format!("one of {}; or pass it over with --ignore-columns", titles.join(", ")),
    };
    match title.trim() {
        "" => Wrong::new("a column has no title", instead),
        title => Wrong::new(format!("there is no column {title:?}"), instead),
    }
}
