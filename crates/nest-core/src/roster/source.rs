//! The text of a roster, and places in it.

use std::sync::OnceLock;

use memchr::memchr_iter;

use super::sheet::{SheetPlaces, cell_name};
use super::{Column, fields};

/// How a roster is written.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::EnumString, strum::IntoStaticStr,
)]
#[strum(serialize_all = "lowercase")]
pub enum Form {
    /// Comma-separated values with a header, RFC 4180.
    Csv,
    /// An array of objects, or an object of arrays `user` and `group`, RFC 8259.
    Json,
    /// Tables `[[user]]` and `[[group]]`, TOML 1.0.
    Toml,
    /// A dump of a directory, RFC 2849 and RFC 2307.
    Ldif,
}

/// One roster, as it was read.
#[derive(Debug)]
pub struct RosterSource {
    /// How it is named in messages.
    pub shown: String,
    /// How it is written.
    pub form: Form,
    text: Vec<u8>,
    /// Of CSV, what stands between the values.
    separator: u8,
    /// Of CSV, where the header begins: a line that names the separator may come before.
    start: usize,
    /// Which cells it was, where it comes out of a spreadsheet.
    sheet: Option<SheetPlaces>,
    /// What is wrong with cells of that, each by its row and its column, counted from 0.
    wrong: Vec<((u32, u32), Wrong)>,
    /// Where its lines begin; found out when first asked for.
    lines: OnceLock<Vec<usize>>,
}

/// Something wrong with a roster, and what to put instead.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Fault {
    /// The file, as it is named.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// The character in the line, counted from 1.
    pub at: usize,
    /// The cell, of a spreadsheet: `B7`.
    pub cell: Option<String>,
    /// The column or key that is wrong.
    pub column: Option<Column>,
    /// What is wrong.
    pub message: String,
    /// What to put instead; may be empty.
    pub instead: String,
}

/// What is wrong with a value, wherever it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wrong {
    /// What is wrong.
    pub message: String,
    /// What to put instead; may be empty.
    pub instead: String,
}

impl Wrong {
    /// What is wrong, and what to put instead.
    pub fn new(message: impl Into<String>, instead: impl Into<String>) -> Self {
        Wrong { message: message.into(), instead: instead.into() }
    }
}

/// Where the values of a row are.
#[derive(Debug, Clone)]
pub(super) enum Cells {
    /// In a record of CSV, field by field: these columns.
    Fields,
    /// At these places.
    At(Vec<(Column, usize)>),
}

impl RosterSource {
    /// A roster. A byte-order mark is passed over; what it says is UTF-16 is read as that. Of
    /// CSV the separator is told from the header, or by a line `sep=;` before it.
    pub fn new(shown: impl Into<String>, form: Form, text: Vec<u8>) -> Self {
        let text = decoded(text);
        let (separator, start) = match form {
            Form::Csv => fields::separator_of(&text),
            Form::Json | Form::Toml | Form::Ldif => (b',', 0),
        };
        let (shown, lines) = (shown.into(), OnceLock::new());
        let (sheet, wrong) = (None, Vec::new());
        RosterSource { shown, form, text, separator, start, sheet, wrong, lines }
    }

    /// What stood in the cells of a spreadsheet, row by row.
    pub(super) fn of_table(
        shown: String,
        form: Form,
        text: Vec<u8>,
        places: SheetPlaces,
        wrong: Vec<((u32, u32), Wrong)>,
    ) -> Self {
        let (separator, start, sheet, lines) = (b',', 0, Some(places), OnceLock::new());
        RosterSource { shown, form, text, separator, start, sheet, wrong, lines }
    }

    /// What is wrong with it whatever it is read as.
    pub(super) fn wrongs(&self) -> impl Iterator<Item = Fault> {
        self.wrong.iter().map(|((row, column), wrong)| {
            let Wrong { message, instead } = wrong.clone();
            let (line, at) = (*row as usize + 1, *column as usize + 1);
            let (cell, file) = (Some(cell_name(*column, row + 1)), self.shown.clone());
            Fault { file, line, at, cell, column: None, message, instead }
        })
    }

    /// The same, with this between the values whatever the header looks like.
    #[must_use]
    pub fn separated_by(self, separator: u8) -> Self {
        RosterSource { separator, ..self }
    }

    /// Of CSV, what stands between the values.
    pub(super) fn separator(&self) -> u8 {
        self.separator
    }

    /// Where the header begins, or what else there is.
    pub(super) fn start(&self) -> usize {
        self.start
    }

    /// The text.
    pub fn text(&self) -> &[u8] {
        &self.text
    }

    /// A fault at a place of the text that is in no column.
    pub(crate) fn fault_at(&self, offset: usize, wrong: Wrong) -> Fault {
        self.fault(offset, None, wrong)
    }

    /// A fault at a place of the text.
    pub fn fault(&self, offset: usize, column: Option<Column>, wrong: Wrong) -> Fault {
        if let Some(places) = &self.sheet {
            let at = places.rows.partition_point(|(start, _)| *start <= offset).max(1) - 1;
            let (start, row) = places.rows.get(at).copied().unwrap_or((0, 1));
            let field = fields::field_of(self, start, offset) as u32;
            let Wrong { message, instead } = wrong;
            let cell = Some(cell_name(places.first + field, row));
            let (line, at) = (row as usize, field as usize + 1);
            return Fault { file: self.shown.clone(), line, at, cell, column, message, instead };
        }
        let lines = self.lines.get_or_init(|| {
            std::iter::once(0).chain(memchr_iter(b'\n', &self.text).map(|at| at + 1)).collect()
        });
        let offset = offset.min(self.text.len());
        let line = lines.partition_point(|start| *start <= offset).max(1);
        let before = &self.text[lines[line - 1]..offset];
        let at = String::from_utf8_lossy(before).chars().count() + 1;
        let Wrong { message, instead } = wrong;
        let cell = None;
        Fault { file: self.shown.clone(), line, at, cell, column, message, instead }
    }

    /// Where the value of a column stands in a row; the row itself where it has none.
    pub(super) fn locate(
        &self,
        row: usize,
        cells: &Cells,
        header: &[Option<Column>],
        column: Column,
    ) -> usize {
        match cells {
            Cells::At(all) => {
                all.iter().find(|(other, _)| *other == column).map_or(row, |(_, at)| *at)
            }
            Cells::Fields => {
                let field = header.iter().position(|other| *other == Some(column));
                field.map_or(row, |field| fields::field_at(self, row, field))
            }
        }
    }
}

/// The text as UTF-8, without a mark; what can't be read as what its mark says stays as it is.
fn decoded(mut text: Vec<u8>) -> Vec<u8> {
    if text.starts_with(b"\xef\xbb\xbf") {
        text.drain(..3);
        return text;
    }
    let unit: fn([u8; 2]) -> u16 = match text.get(..2) {
        Some([0xff, 0xfe]) => u16::from_le_bytes,
        Some([0xfe, 0xff]) => u16::from_be_bytes,
        _ => return text,
    };
    let units = text[2..].chunks_exact(2).map(|pair| unit([pair[0], pair[1]]));
    let read: Option<String> = char::decode_utf16(units).map(Result::ok).collect();
    let whole = text.len().is_multiple_of(2);
    read.filter(|_| whole).map_or(text, String::into_bytes)
}
