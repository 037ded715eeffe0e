//! Rosters: tables of users and groups that somebody else made, as requests.
//!
//! A [`Roster`] is read from one or more [`RosterSource`]s, each CSV, JSON, TOML or LDIF. Every
//! value is looked at, and everything that is wrong is kept as a [`Fault`] with its
//! place; the planner of `intake` then looks at the accounts.

mod cells;
mod column;
mod csv;
mod dates;
mod fields;
mod json;
mod ldif;
mod numbers;
mod sheet;
mod source;
mod toml;
mod write;

pub use column::{Column, Columns};
pub use dates::DateOrder;
pub use numbers::{NumberRow, NumberTable};
pub use sheet::SheetFault;
pub use source::{Fault, Form, RosterSource, Wrong};
pub use write::{
    GroupWriting, PasswordHashes, ReadKeys, UserWriting, WrittenRoster, made_with_users,
    written_groups, written_users,
};

use std::borrow::Cow;
use std::ops::Range;

use bstr::{BStr, ByteSlice};

use self::cells::Reading;
use self::source::Cells;
use crate::request::{CreateGroup, CreateUser};

pub use cells::{ReadingOptions, RowBuffer};
pub(crate) use write::unfit_name;

/// Rows to be taken in.
#[derive(Debug, Default)]
pub struct Roster {
    /// Where they come from.
    pub sources: Vec<RosterSource>,
    /// The rows that could be read, in order.
    pub rows: Vec<RosterRow>,
    /// What is wrong with the files or with values in them.
    pub faults: Vec<Fault>,
    /// How many values had blanks around them, which went.
    pub trimmed: usize,
    /// The columns that were passed over, as it was asked.
    pub passed_over: Vec<String>,
    /// Titles that nobody knows, each with the column that it is nearly called.
    pub near: Vec<(String, Column)>,
    /// The columns of each source, for those that have them.
    headers: Vec<Vec<Option<Column>>>,
    /// In which order days are written.
    dates: Option<DateOrder>,
}

/// One row.
#[derive(Debug, Clone)]
pub struct RosterRow {
    /// Which source it is from.
    pub source: usize,
    /// The row in its source, counted from 1; a header is not counted.
    pub number: usize,
    /// Where it begins.
    offset: usize,
    cells: Cells,
    /// Where its name stands, when it is read from the text.
    name: Option<Range<usize>>,
    /// The columns in which it says something.
    pub given: Columns,
    /// What is to be made.
    pub what: RowRequest,
}

/// What a row asks for.
#[derive(Debug, Clone)]
pub enum RowRequest {
    /// A user; the name is missing where one is to be made. Nothing where it is read
    /// from the text when it is wanted: of very many rows that takes the least time
    /// and room.
    User(Option<Box<CreateUser>>),
    /// A group.
    Group(Box<CreateGroup>),
}

impl Roster {
    /// Reads rosters as they are usual.
    pub fn read(sources: Vec<RosterSource>) -> Self {
        Roster::read_with(sources, &ReadingOptions::default())
    }

    /// Reads rosters. Nothing is refused yet: what is wrong is among the faults.
    pub fn read_with(sources: Vec<RosterSource>, options: &ReadingOptions) -> Self {
        let mut roster = Roster { dates: options.dates, ..Roster::default() };
        for (number, source) in sources.iter().enumerate() {
            let mut reading = Reading::new(source, number, options);
            reading.faults.extend(source.wrongs());
            read(&mut reading);
            roster.headers.push(match source.form {
                Form::Csv => csv::header(source, &reading),
                Form::Json | Form::Toml | Form::Ldif => Vec::new(),
            });
            roster.trimmed += reading.trimmed;
            roster.passed_over.append(&mut reading.passed_over);
            roster.near.append(&mut reading.near);
            match roster.rows.is_empty() {
                true => roster.rows = reading.rows,
                false => roster.rows.append(&mut reading.rows),
            }
            roster.faults.append(&mut reading.faults);
        }
        roster.sources = sources;
        roster
    }

    /// Accounts of another tree as rows: each stands where its line is in one of these files.
    pub(crate) fn of_lines(sources: Vec<RosterSource>, rows: Vec<RosterRow>) -> Self {
        let headers = sources.iter().map(|_| Vec::new()).collect();
        Roster { sources, rows, headers, ..Roster::default() }
    }

    /// Something wrong with a row, at the value of a column.
    pub fn fault(&self, row: &RosterRow, column: Column, wrong: Wrong) -> Fault {
        let source = &self.sources[row.source];
        let at = source.locate(row.offset, &row.cells, &self.headers[row.source], column);
        source.fault(at, Some(column), wrong)
    }

    /// The line on which a row begins.
    pub fn line(&self, row: &RosterRow) -> usize {
        self.sources[row.source].fault(row.offset, None, Wrong::new("", "")).line
    }

    /// The user that a row asks for; nothing where it is about a group.
    pub fn user<'r>(&'r self, row: &'r RosterRow) -> Option<Cow<'r, CreateUser>> {
        match &row.what {
            RowRequest::User(Some(user)) => Some(Cow::Borrowed(user)),
            RowRequest::User(None) => {
                let mut buffer = RowBuffer::default();
                self.user_onto(row, &mut buffer);
                Some(Cow::Owned(buffer.user))
            }
            RowRequest::Group(_) => None,
        }
    }

    /// Reads the user that a row asks for into a buffer. Returns whether it asks for one.
    pub fn user_onto(&self, row: &RosterRow, buffer: &mut RowBuffer) -> bool {
        match &row.what {
            RowRequest::User(Some(user)) => buffer.user.clone_from(user),
            RowRequest::User(None) => {
                let (source, header) = (&self.sources[row.source], &self.headers[row.source]);
                buffer.dates = self.dates;
                csv::user(source, row.offset, header, buffer);
            }
            RowRequest::Group(_) => return false,
        }
        true
    }

    /// The name that a row gives.
    pub fn name<'r>(&'r self, row: &'r RosterRow) -> Option<&'r BStr> {
        match &row.what {
            RowRequest::User(Some(user)) => user.names.first().map(|name| name.as_bstr()),
            RowRequest::User(None) => {
                Some(self.sources[row.source].text()[row.name.clone()?].as_bstr())
            }
            RowRequest::Group(group) => (!group.name.is_empty()).then_some(group.name.as_bstr()),
        }
    }
}

impl RosterRow {
    /// A row that is not read from a text: which source its line is in, where it begins there,
    /// and in which columns it says something.
    pub(crate) fn of_line(
        (source, number, offset): (usize, usize, usize),
        given: &[Column],
        what: RowRequest,
    ) -> Self {
        let mut columns = Columns::default();
        given.iter().for_each(|column| _ = columns.insert(*column));
        let cells = Cells::At(Vec::new());
        RosterRow { source, number, offset, cells, name: None, given: columns, what }
    }

    /// Whether it asks for a number.
    pub fn gives_id(&self) -> bool {
        self.given.contains(Column::Uid) || self.given.contains(Column::Gid)
    }
}

/// Reads one roster.
fn read(reading: &mut Reading<'_>) {
    let source = reading.source;
    let text = match std::str::from_utf8(source.text()) {
        Ok(text) if text.trim().is_empty() => {
            let instead = match source.form {
                Form::Csv => "a header, name,full_name,… , and a line for each account",
                Form::Json => "[{\"name\": \"maren\"}]",
                Form::Toml => "[[user]] and name = \"maren\"",
                Form::Ldif => "a dump of a directory",
            };
            return reading.fault(0, None, Wrong::new("it is empty", instead));
        }
        Ok(text) => text,
        Err(error) => {
            let at = error.valid_up_to();
            let bytes = source.text();
            let wrong = match bytes {
                [0xff, 0xfe, ..] | [0xfe, 0xff, ..] => {
                    Wrong::new("it is UTF-16", "the same as UTF-8, which most programs offer")
                }
                _ => Wrong::new(
                    format!("byte 0x{:02x} is not UTF-8; the file may be Latin-1", bytes[at]),
                    "the same as UTF-8: iconv -f LATIN1 -t UTF-8",
                ),
            };
            return reading.fault(at, None, wrong);
        }
    };
    match source.form {
        Form::Csv => csv::read(reading, text),
        Form::Json => json::read(reading, text),
        Form::Toml => toml::read(reading, text),
        Form::Ldif => ldif::read(reading),
    }
    for at in 0..reading.rows.len() {
        let row = &reading.rows[at];
        let nameless = match &row.what {
            RowRequest::User(_) => {
                !row.given.contains(Column::Name) && !row.given.contains(Column::FullName)
            }
            RowRequest::Group(group) => group.name.is_empty(),
        };
        if nameless {
            let (offset, instead) = (
                row.offset,
                match row.what {
                    RowRequest::User(_) => "a name, or a full_name to make one from",
                    RowRequest::Group(_) => "a name",
                },
            );
            reading.fault(offset, Some(Column::Name), Wrong::new("this row has no name", instead));
        }
    }
    if reading.rows.is_empty() && reading.faults.is_empty() {
        reading.fault(0, None, Wrong::new("it holds no rows", "one for each account"));
    }
}

#[cfg(test)]
mod tests;
