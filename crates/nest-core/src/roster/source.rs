//! The text of a roster, and places in it.

use std::sync::OnceLock;

use memchr::memchr_iter;

use super::{Column, csv};

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
}

/// One roster, as it was read.
#[derive(Debug)]
pub struct RosterSource {
    /// How it is named in messages.
    pub shown: String,
    /// How it is written.
    pub form: Form,
    text: Vec<u8>,
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
    /// A roster. A byte-order mark is passed over.
    pub fn new(shown: impl Into<String>, form: Form, mut text: Vec<u8>) -> Self {
        if text.starts_with(b"\xef\xbb\xbf") {
            text.drain(..3);
        }
        RosterSource { shown: shown.into(), form, text, lines: OnceLock::new() }
    }

    /// The text.
    pub fn text(&self) -> &[u8] {
        &self.text
    }

    /// A fault at a place of the text.
    pub(super) fn fault(&self, offset: usize, column: Option<Column>, wrong: Wrong) -> Fault {
        let lines = self.lines.get_or_init(|| {
            std::iter::once(0).chain(memchr_iter(b'\n', &self.text).map(|at| at + 1)).collect()
        });
        let offset = offset.min(self.text.len());
        let line = lines.partition_point(|start| *start <= offset).max(1);
        let before = &self.text[lines[line - 1]..offset];
        let at = String::from_utf8_lossy(before).chars().count() + 1;
        let Wrong { message, instead } = wrong;
        Fault { file: self.shown.clone(), line, at, column, message, instead }
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
                field.map_or(row, |field| csv::field_at(&self.text, row, field))
            }
        }
    }
}
