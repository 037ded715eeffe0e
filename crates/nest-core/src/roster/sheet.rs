//! Rosters out of files of spreadsheet programs, as CSV that knows its cells.
//!
//! Files are read by calamine. They come from anywhere: before it gets them it is seen to that
//! what is packed in them is no larger than a table can be.

use std::collections::BTreeMap;
use std::io::{Cursor, Read};

use calamine::{Data, DataRef, Dimensions, ExcelDateTime, Reader, Sheets, Xlsx};
use memchr::memmem;

use super::source::{Form, RosterSource, Wrong};
use crate::words::list;

/// Why a file gives no table.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SheetFault {
    /// It is none of these files, or damaged.
    #[error("it can't be read as a spreadsheet: {0}")]
    Unreadable(String),
    /// What is packed in it is too large.
    #[error("what is packed in it is larger than {}", crate::value::bytes_in_words(MOST_BYTES))]
    TooLarge,
    /// It has more cells than a table can have.
    #[error("it has more than {MOST_CELLS} cells, or rows beyond {MOST_ROWS}")]
    TooManyCells,
    /// No such sheet.
    #[error("it has no sheet {wanted}; there {}", sheets_in_words(.there))]
    NoSheet {
        /// The one that was asked for.
        wanted: String,
        /// Those that there are.
        there: Vec<String>,
    },
}

fn sheets_in_words(there: &[String]) -> String {
    match there {
        [] => "are none".to_owned(),
        [one] => format!("is {one}"),
        several => format!("are {}", list(several)),
    }
}

/// So much may be packed in a file.
const MOST_BYTES: u64 = 1 << 30;
/// So many cells with something in them are read.
const MOST_CELLS: usize = 20_000_000;
/// The last row and the last column that a table may have.
const MOST_ROWS: u32 = 1 << 20;
const MOST_COLUMNS: u32 = 1 << 14;

/// Which cells the rows of a text are.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct SheetPlaces {
    /// Where each row begins in the text, and which it is in the sheet, counted from 1.
    pub rows: Vec<(usize, u32)>,
    /// The column in which rows begin, counted from 0.
    pub first: u32,
}

/// The rows that have something in them, cell by cell.
type Rows = BTreeMap<u32, BTreeMap<u32, Value>>;

/// What a cell says.
enum Value {
    Text(String),
    /// A formula that failed.
    Failed(String),
}

impl RosterSource {
    /// A roster out of the first sheet of a file of a spreadsheet program, or of the one of this
    /// name.
    ///
    /// # Errors
    /// Why it gives no table.
    pub fn of_sheet(
        shown: impl Into<String>,
        bytes: Vec<u8>,
        sheet: Option<&str>,
    ) -> Result<Self, SheetFault> {
        if bytes.starts_with(b"PK") {
            look_into(&bytes)?;
        }
        let unreadable = |error: calamine::Error| SheetFault::Unreadable(error.to_string());
        let mut book =
            calamine::open_workbook_auto_from_rs(Cursor::new(bytes)).map_err(unreadable)?;
        let there = book.sheet_names();
        let name = match sheet {
            None => there.first().cloned(),
            Some(wanted) => there.iter().find(|name| *name == wanted).cloned(),
        };
        let Some(name) = name else {
            let wanted = sheet.unwrap_or("at all").to_owned();
            return Err(SheetFault::NoSheet { wanted, there });
        };
        let rows = match &mut book {
            Sheets::Xlsx(book) => cells_of_xlsx(book, &name)?,
            other => cells_of_range(&other.worksheet_range(&name).map_err(unreadable)?)?,
        };
        let merged = match &mut book {
            Sheets::Xlsx(book) => {
                let merged = book.merge_cells_by_sheet_name(&name);
                merged.map_err(|why| SheetFault::Unreadable(why.to_string()))?
            }
            Sheets::Xls(book) => {
                let merged = book.merge_cells_by_sheet_name(&name);
                merged.map_err(|why| SheetFault::Unreadable(why.to_string()))?
            }
            Sheets::Xlsb(_) | Sheets::Ods(_) => Vec::new(),
        };
        Ok(as_table(shown.into(), &rows, &merged))
    }
}

/// Sees to it that what is packed in a file is no larger than a table can be: by unpacking it,
/// as what it says of itself need not be so.
fn look_into(bytes: &[u8]) -> Result<(), SheetFault> {
    let unreadable = |error: &dyn std::fmt::Display| SheetFault::Unreadable(error.to_string());
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|why| unreadable(&why))?;
    let mut left = MOST_BYTES;
    for at in 0..archive.len() {
        let mut file = archive.by_index(at).map_err(|why| unreadable(&why))?;
        let is_content = file.name().is_ok_and(|name| name == "content.xml");
        let mut limited = (&mut file).take(left + 1);
        let read = if is_content {
            let mut text = Vec::new();
            let read = limited.read_to_end(&mut text).map(|read| read as u64);
            if cells_repeated(&text) > MOST_CELLS as u64 {
                return Err(SheetFault::TooManyCells);
            }
            read
        } else {
            std::io::copy(&mut limited, &mut std::io::sink())
        };
        left = read
            .map_err(|why| unreadable(&why))
            .and_then(|read| left.checked_sub(read).ok_or(SheetFault::TooLarge))?;
    }
    Ok(())
}

/// How many cells with a value an OpenDocument sheet has, where it repeats cells and rows
/// (OpenDocument 1.3, part 3, 19.679 and 19.681).
fn cells_repeated(content: &[u8]) -> u64 {
    let repeated = |tag: &[u8], attribute: &[u8]| -> u64 {
        let found = memmem::find(tag, attribute).map(|at| &tag[at + attribute.len()..]);
        let digits = found.map(|rest| rest.iter().take_while(|byte| byte.is_ascii_digit()));
        let number = digits.map(|digits| {
            digits.fold(0_u64, |all, byte| all.saturating_mul(10) + u64::from(byte - b'0'))
        });
        number.unwrap_or(1).max(1)
    };
    let mut all = 0_u64;
    for row in memmem::find_iter(content, b"<table:table-row") {
        let rest = &content[row..];
        let end = memmem::find(rest, b"</table:table-row").unwrap_or(rest.len());
        let row = &rest[..end];
        let opening = &row[..row.iter().position(|byte| *byte == b'>').unwrap_or(row.len())];
        let cells = memmem::find_iter(row, b"<table:table-cell").map(|at| {
            let tag = &row[at..];
            let tag = &tag[..tag.iter().position(|byte| *byte == b'>').unwrap_or(tag.len())];
            match memmem::find(tag, b"value-type=").is_some() {
                true => repeated(tag, b"number-columns-repeated=\""),
                false => 0,
            }
        });
        let cells = cells.fold(0_u64, u64::saturating_add);
        let rows = repeated(opening, b"number-rows-repeated=\"");
        all = all.saturating_add(cells.saturating_mul(rows));
    }
    all
}

fn cells_of_xlsx(book: &mut Xlsx<Cursor<Vec<u8>>>, name: &str) -> Result<Rows, SheetFault> {
    let unreadable = |error: calamine::XlsxError| SheetFault::Unreadable(error.to_string());
    let mut reader = book.worksheet_cells_reader(name).map_err(unreadable)?;
    let mut rows = Rows::new();
    let mut cells = 0;
    while let Some(cell) = reader.next_cell().map_err(unreadable)? {
        let value = match cell.get_value() {
            DataRef::Empty => None,
            DataRef::Int(number) => Some(Value::Text(number.to_string())),
            DataRef::Float(number) => Some(Value::Text(number_text(*number))),
            DataRef::String(text) => Some(Value::Text(text.clone())),
            DataRef::SharedString(text) => Some(Value::Text((*text).to_owned())),
            DataRef::Bool(yes) => Some(Value::Text(yes_text(*yes))),
            DataRef::DateTime(moment) => Some(Value::Text(moment_text(*moment))),
            DataRef::DateTimeIso(text) | DataRef::DurationIso(text) => {
                Some(Value::Text(text.clone()))
            }
            DataRef::Error(error) => Some(Value::Failed(error.to_string())),
        };
        add(&mut rows, &mut cells, cell.get_position(), value)?;
    }
    Ok(rows)
}

fn cells_of_range(range: &calamine::Range<Data>) -> Result<Rows, SheetFault> {
    let (first_row, first_column) = range.start().unwrap_or((0, 0));
    let mut rows = Rows::new();
    let mut cells = 0;
    for (row, column, value) in range.used_cells() {
        let value = match value {
            Data::Empty => None,
            Data::Int(number) => Some(Value::Text(number.to_string())),
            Data::Float(number) => Some(Value::Text(number_text(*number))),
            Data::String(text) => Some(Value::Text(text.clone())),
            Data::Bool(yes) => Some(Value::Text(yes_text(*yes))),
            Data::DateTime(moment) => Some(Value::Text(moment_text(*moment))),
            Data::DateTimeIso(text) | Data::DurationIso(text) => Some(Value::Text(text.clone())),
            Data::Error(error) => Some(Value::Failed(error.to_string())),
        };
        let at = (first_row.saturating_add(row as u32), first_column.saturating_add(column as u32));
        add(&mut rows, &mut cells, at, value)?;
    }
    Ok(rows)
}

fn add(
    rows: &mut Rows,
    cells: &mut usize,
    (row, column): (u32, u32),
    value: Option<Value>,
) -> Result<(), SheetFault> {
    let Some(value) = value.filter(|value| !matches!(value, Value::Text(text) if text.is_empty()))
    else {
        return Ok(());
    };
    *cells += 1;
    if *cells > MOST_CELLS || row >= MOST_ROWS || column >= MOST_COLUMNS {
        return Err(SheetFault::TooManyCells);
    }
    rows.entry(row).or_default().insert(column, value);
    Ok(())
}

/// A number as it is shown: whole ones without a point.
fn number_text(number: f64) -> String {
    number.to_string()
}

fn yes_text(yes: bool) -> String {
    if yes { "yes" } else { "no" }.to_owned()
}

/// A moment: its day, and its time of day where that is not midnight.
fn moment_text(moment: ExcelDateTime) -> String {
    if moment.is_duration() {
        return number_text(moment.as_f64());
    }
    let (year, month, day, hour, minute, second, _) = moment.to_ymd_hms_milli();
    let date = format!("{year:04}-{month:02}-{day:02}");
    match (hour, minute, second) {
        (0, 0, 0) => date,
        _ => format!("{date} {hour:02}:{minute:02}:{second:02}"),
    }
}

/// The rows as CSV, with what is wrong in their cells.
fn as_table(shown: String, rows: &Rows, merged: &[Dimensions]) -> RosterSource {
    let first = rows.values().filter_map(|cells| cells.keys().next()).min().copied().unwrap_or(0);
    let last = rows.values().filter_map(|cells| cells.keys().next_back()).max().copied();
    let width = last.map_or(0, |last| last - first + 1);
    let mut places = SheetPlaces { rows: Vec::with_capacity(rows.len()), first };
    let mut wrong = Vec::new();
    let mut writer = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
    let mut text = Vec::new();
    for (row, cells) in rows {
        places.rows.push((text.len(), row + 1));
        for column in 0..width {
            let value = match cells.get(&(first + column)) {
                Some(Value::Text(text)) => text.as_str(),
                Some(Value::Failed(error)) => {
                    let message = format!("the formula here failed: {error}");
                    wrong.push((
                        (*row, first + column),
                        Wrong::new(message, "the value that it should have"),
                    ));
                    ""
                }
                None => "",
            };
            writer.write_field(value).expect("BUG: a field can't be written to memory");
        }
        writer.write_record(None::<&[u8]>).expect("BUG: a row can't be written to memory");
        let written = std::mem::replace(
            &mut writer,
            csv::WriterBuilder::new().flexible(true).from_writer(Vec::new()),
        );
        text.append(&mut written.into_inner().expect("BUG: memory can't be flushed"));
    }
    for region in merged {
        let (start, end) = (region.start, region.end);
        let name = |(row, column): (u32, u32)| cell_name(column, row + 1);
        if end.0 > start.0 || end.1 > start.1 {
            let message = format!(
                "the cells {} to {} are merged into one, and only the first has the value",
                name(start),
                name(end)
            );
            wrong.push((start, Wrong::new(message, "a value in each cell")));
        }
    }
    RosterSource::of_table(shown, Form::Csv, text, places, wrong)
}

/// What a cell is called: `B7`.
pub(super) fn cell_name(column: u32, row: u32) -> String {
    let mut letters = Vec::new();
    let mut left = column + 1;
    while left > 0 {
        letters.push(char::from(b'A' + ((left - 1) % 26) as u8));
        left = (left - 1) / 26;
    }
    let letters: String = letters.into_iter().rev().collect();
    format!("{letters}{row}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_called_by_letters_and_numbers() {
        let names = [(0, 1), (25, 2), (26, 3), (701, 4), (702, 5)].map(|(c, r)| cell_name(c, r));
        assert_eq!(names, ["A1", "Z2", "AA3", "ZZ4", "AAA5"]);
    }

    #[test]
    fn repeated_cells_are_counted_where_they_have_a_value() {
        let text = b"<table:table-row table:number-rows-repeated=\"1000\"><table:table-cell \
            office:value-type=\"string\" table:number-columns-repeated=\"9\"/></table:table-row>\
            <table:table-row table:number-rows-repeated=\"1048576\"><table:table-cell \
            table:number-columns-repeated=\"16384\"/></table:table-row>";
        assert_eq!(cells_repeated(text), 9000);
    }

    #[test]
    fn what_is_no_spreadsheet_is_told() {
        let read = |bytes: &[u8]| RosterSource::of_sheet("x", bytes.to_vec(), None).unwrap_err();
        assert!(matches!(read(b"name,uid\n"), SheetFault::Unreadable(_)));
        assert!(matches!(read(b"PK\x03\x04 cut"), SheetFault::Unreadable(_)));
        assert!(matches!(read(b""), SheetFault::Unreadable(_)));
    }
}
