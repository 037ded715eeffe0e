//! Rosters as comma-separated values, RFC 4180.

use std::borrow::Cow;
use std::ops::Range;

use memchr::{memchr, memchr_iter, memchr2};
use rayon::prelude::*;

use super::cells::{Reading, RowBuffer};
use super::source::{Cells, Wrong};
use super::{Column, RosterRow, RosterSource};
use crate::value::{UserOrGroup, nearest};
use crate::words::counted;

/// Reads the rows of a text that is known to be UTF-8.
pub(super) fn read(reading: &mut Reading<'_>, text: &str) {
    if let Some((at, wrong)) = check_quotes(text.as_bytes()) {
        reading.fault(at, None, wrong);
        return;
    }
    let mut header: Option<Header> = None;
    let mut first_row = text.len();
    each(reading, text, 0..text.len(), |reading, record, start| {
        match &header {
            None => header = Some(Header::read(reading, record, start)),
            Some(_) => first_row = start,
        }
        first_row == text.len()
    });
    let Some(header) = header else { return };
    let source = reading.source;
    let plain = is_plain(text.as_bytes());
    let parts: Vec<_> = parts(text, first_row, plain)
        .into_par_iter()
        .map(|part| {
            let (number, mut count) = (reading.number, 0);
            let mut reading = Reading::new(source, number);
            reading.rows.reserve(memchr_iter(b'\n', &text.as_bytes()[part.clone()]).count() + 1);
            if plain {
                for (start, line) in plain_lines(text, part) {
                    count += 1;
                    header.row(&mut reading, plain_fields(line), start, count, plain);
                }
            } else {
                each(&mut reading, text, part, |reading, record, start| {
                    count += 1;
                    header.row(reading, record.iter(), start, count, plain);
                    true
                });
            }
            (reading.rows, reading.faults, count)
        })
        .collect();
    let mut number = 0;
    reading.rows.reserve_exact(parts.iter().map(|(rows, ..)| rows.len()).sum());
    for (rows, faults, count) in parts {
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

/// Whether each line is a record and each comma ends a field: no quotes, and no
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
fn plain_fields(line: &str) -> impl Iterator<Item = &str> {
    let mut from = 0;
    memchr_iter(b',', line.as_bytes())
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
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(bytes);
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
    /// The columns that are known, by field.
    columns: Vec<Option<Column>>,
    thing: UserOrGroup,
}

impl Header {
    fn read(reading: &mut Reading<'_>, record: &csv::StringRecord, start: usize) -> Self {
        let known: Vec<Option<Column>> =
            record.iter().map(|title| title.trim().parse().ok()).collect();
        let thing = Column::about(known.iter().flatten().copied());
        let mut columns: Vec<Option<Column>> = Vec::new();
        for (field, (title, column)) in record.iter().zip(known).enumerate() {
            let wrong = match column {
                Some(column) if !column.belongs_to(thing) => Some(Wrong::new(
                    format!("{column} is a column of users, and this is a table of groups"),
                    "one file for groups, and one for users: intake takes both at once",
                )),
                Some(column) if columns.contains(&Some(column)) => {
                    Some(Wrong::new(format!("the column {column} is there twice"), "one of them"))
                }
                Some(_) => None,
                None => Some(unknown(title, thing)),
            };
            columns.push(column.filter(|_| wrong.is_none()));
            if let Some(wrong) = wrong {
                let at = field_at(reading.source.text(), start, field);
                reading.fault(at, None, wrong);
            }
        }
        let has = |column| columns.contains(&Some(column));
        if !has(Column::Name) && (thing == UserOrGroup::Group || !has(Column::FullName)) {
            let (what, instead) = match thing {
                UserOrGroup::User => (
                    "neither a column name nor a column full_name is there",
                    "name, or full_name to have names made from it",
                ),
                UserOrGroup::Group => ("there is no column name", "name"),
            };
            reading.fault(start, None, Wrong::new(what, instead));
        }
        Header { columns, thing }
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
        let mut fields = 0;
        for value in values {
            let column = self.columns.get(fields);
            fields += 1;
            if let Some(Some(column)) = column
                && !value.is_empty()
            {
                let set = match read_later {
                    false => row.set(*column, Cow::Borrowed(value)),
                    true => {
                        row.given.insert(*column);
                        match column.takes_any_text() {
                            true => Ok(()),
                            false => reading.tried.set(*column, value),
                        }
                    }
                };
                if let Err(wrong) = set {
                    let at = field_at(reading.source.text(), start, record_field(self, *column));
                    reading.faults.push(reading.source.fault(at, Some(*column), wrong));
                }
                row.name = row.name.or((*column == Column::Name).then(|| at..at + value.len()));
            }
            at += value.len() + 1;
        }
        let wanted = self.columns.len();
        if fields != wanted {
            let (at, instead) = match fields < wanted {
                true => (start, "a comma for each value that is left out"),
                false => (
                    field_at(reading.source.text(), start, wanted),
                    "quotes around a value with a comma in it",
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
    for (value, column) in plain_fields(line).zip(header) {
        if let Some(column) = column
            && !value.is_empty()
        {
            let _ = buffer.set(*column, value);
        }
    }
}

/// The columns of the fields of a roster.
pub(super) fn header(source: &RosterSource) -> Vec<Option<Column>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(source.text());
    let mut record = csv::StringRecord::new();
    match reader.read_record(&mut record) {
        Ok(true) => record.iter().map(|title| title.trim().parse().ok()).collect(),
        _ => Vec::new(),
    }
}

fn record_field(header: &Header, column: Column) -> usize {
    header.columns.iter().position(|other| *other == Some(column)).unwrap_or(0)
}

/// What to say of a column or key that nobody knows.
pub(super) fn unknown(title: &str, thing: UserOrGroup) -> Wrong {
    let titles: Vec<String> = Column::of(thing).map(|column| column.to_string()).collect();
    let found = nearest(title.as_bytes(), titles.iter().map(String::as_bytes));
    let instead = match found {
        _ if title.contains(';') => "commas between the columns, not semicolons".to_owned(),
        _ if title.contains('\t') => "commas between the columns, not tabs".to_owned(),
        Some(near) => format!("{}, the nearest there is", String::from_utf8_lossy(near)),
        None => format!("one of {}", titles.join(", ")),
    };
    match title.trim() {
        "" => Wrong::new("a column has no title", instead),
        title => Wrong::new(format!("there is no column {title:?}"), instead),
    }
}

/// Where a field of the record that begins at `start` begins.
pub(super) fn field_at(text: &[u8], start: usize, field: usize) -> usize {
    let mut at = start;
    for _ in 0..field {
        at = end_of_field(text, at);
        match text.get(at) {
            Some(b',') => at += 1,
            _ => return start,
        }
    }
    at
}

/// Where a well-formed field ends: at a comma, a line end, or the end.
fn end_of_field(text: &[u8], mut at: usize) -> usize {
    if text.get(at) == Some(&b'"') {
        at += 1;
        while let Some(found) = memchr(b'"', &text[at..]) {
            at += found + 1;
            if text.get(at) != Some(&b'"') {
                break;
            }
            at += 1;
        }
    }
    let rest = &text[at..];
    let end = memchr2(b',', b'\n', rest).unwrap_or(rest.len());
    at + end - usize::from(end > 0 && rest[end - 1] == b'\r' && rest.get(end) != Some(&b','))
}

/// The first quote that stands where none may, or is never closed.
pub(super) fn check_quotes(text: &[u8]) -> Option<(usize, Wrong)> {
    memchr(b'"', text)?;
    let mut at = 0;
    while at < text.len() {
        if text[at] == b'"' {
            let opened = at;
            at += 1;
            loop {
                let Some(found) = memchr(b'"', &text[at..]) else {
                    return Some((
                        opened,
                        Wrong::new(
                            "a quote is opened here and never closed",
                            "a closing quote; a quote inside a value is doubled",
                        ),
                    ));
                };
                at += found + 1;
                if text.get(at) != Some(&b'"') {
                    break;
                }
                at += 1;
            }
            if !matches!(text.get(at), None | Some(b',' | b'\r' | b'\n')) {
                let instead = "a comma; a quote inside a value is doubled";
                return Some((at, Wrong::new("text follows a closing quote", instead)));
            }
        } else {
            let end = end_of_field(text, at);
            if let Some(found) = memchr(b'"', &text[at..end]) {
                let instead = "quotes around the whole value, and the one in it doubled";
                let message = "a quote stands inside a value that does not begin with one";
                return Some((at + found, Wrong::new(message, instead)));
            }
            at = end;
        }
        at += usize::from(text.get(at) == Some(&b'\r'));
        at += 1;
    }
    None
}
