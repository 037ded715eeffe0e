//! Writing accounts as a roster that can be taken in again. What a table can't hold is left out,
//! and said.
//!
//! - `users`: the rows of users
//! - `groups`: the rows of groups

mod groups;
#[cfg(test)]
mod tests;
mod users;

pub use self::groups::{GroupWriting, made_with_users, written_groups};
pub use self::users::{ReadKeys, UserWriting, written_users};

use std::collections::HashSet;

use bstr::{BStr, ByteSlice};
use serde_json::{Map, Value};

use super::{Column, Form};
use crate::value::{NameStyle, UserOrGroup, check_hash, check_name, is_lock};

/// Whether password hashes are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PasswordHashes {
    /// They are left out.
    LeftOut,
    /// They are written: the file must be readable for root alone.
    Included,
}

/// A roster, and what could not be written into it, in words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrittenRoster {
    /// The text.
    pub text: String,
    /// How many rows it has.
    pub rows: usize,
    /// What was left out, and why.
    pub left_out: Vec<String>,
}

/// One row being written: values of JSON, which the other forms take too.
struct WrittenRow<'a> {
    name: &'a [u8],
    values: Vec<(Column, Value)>,
    left_out: Vec<String>,
}

impl<'a> WrittenRow<'a> {
    fn new(name: &'a [u8]) -> Self {
        let mut row = WrittenRow { name, values: Vec::new(), left_out: Vec::new() };
        row.text(Column::Name, name);
        row
    }

    fn put(&mut self, column: Column, value: impl Into<Value>) {
        self.values.push((column, value.into()));
    }

    /// Says that something is left out.
    fn leave_out(&mut self, what: impl std::fmt::Display) {
        self.left_out.push(what.to_string());
    }

    fn name(&self) -> &'a BStr {
        BStr::new(self.name)
    }

    /// Puts a text in that need not be UTF-8; an empty one is none.
    fn text(&mut self, column: Column, text: &[u8]) {
        match text.to_str() {
            Ok("") => {}
            Ok(text) => {
                let plain = text.trim();
                if plain != text {
                    let name = self.name();
                    self.leave_out(format_args!("the blanks around the {column} of {name}"));
                }
                if !plain.is_empty() {
                    self.values.push((column, plain.into()));
                }
            }
            Err(_) => {
                let name = self.name();
                self.leave_out(format_args!("the {column} of {name}, which is not UTF-8"));
            }
        }
    }

    /// Puts names in, but for those that no list can hold.
    fn list<'l>(&mut self, column: Column, names: impl Iterator<Item = &'l [u8]>) {
        let mut held: Vec<Value> = Vec::new();
        for name in names {
            match (unfit_name(name), name.to_str()) {
                (None, Ok(name)) => held.push(name.into()),
                (why, _) => {
                    let (of, name) = (self.name(), BStr::new(name));
                    let why = why.unwrap_or("is not UTF-8");
                    self.leave_out(format_args!("{name} in the {column} of {of}: the name {why}"));
                }
            }
        }
        if !held.is_empty() {
            self.values.push((column, held.into()));
        }
    }

    /// What stands for a password.
    fn password(&mut self, field: &[u8]) {
        let hash = field.strip_prefix(b"!").unwrap_or(field);
        if is_lock(field) || check_hash(hash).is_ok() {
            return self.text(Column::PasswordHash, field);
        }
        let name = self.name();
        self.leave_out(format_args!(
            "the password field of {name}, which the C library can't check: it is taken in as none"
        ));
    }
}

/// Which of many rows are written: those of names that a table can hold, each once.
#[derive(Default)]
struct Chosen<'a> {
    names: HashSet<&'a [u8]>,
    ids: HashSet<u32>,
    left_out: Vec<String>,
}

impl<'a> Chosen<'a> {
    /// Whether one is written, and then whether another with its number is already.
    fn takes(&mut self, name: &'a [u8], id: Option<u32>) -> Option<bool> {
        let shown = BStr::new(name);
        if let Some(why) = unfit_name(name) {
            self.left_out.push(format!("{shown}: the name {why}"));
            return None;
        }
        if !self.names.insert(name) {
            self.left_out.push(format!("another line of {shown}: the first one counts"));
            return None;
        }
        Some(id.is_some_and(|id| !self.ids.insert(id)))
    }

    /// The roster, with what is left out of it before what is left out of its rows.
    fn before(mut self, mut written: WrittenRoster) -> WrittenRoster {
        self.left_out.append(&mut written.left_out);
        WrittenRoster { left_out: self.left_out, ..written }
    }
}

/// Why a name can't stand in a table, in words that follow it.
pub(crate) fn unfit_name(name: &[u8]) -> Option<&'static str> {
    if name.to_str().is_err() {
        return Some("is not UTF-8");
    }
    if name.contains(&b';') {
        return Some("holds a semicolon, which separates names");
    }
    if name.eq_ignore_ascii_case(b"none") {
        return Some("means that there is nothing");
    }
    let unfit = check_name(NameStyle::Loose, BStr::new(name)).is_err();
    unfit.then_some("is none that an account can be given")
}

fn written(
    thing: UserOrGroup,
    columns: &[Column],
    rows: Vec<WrittenRow<'_>>,
    form: Form,
) -> WrittenRoster {
    let mut left_out = Vec::new();
    let rows: Vec<Vec<(Column, Value)>> = rows
        .into_iter()
        .map(|row| {
            left_out.extend(row.left_out);
            row.values
        })
        .collect();
    let count = rows.len();
    let text = match form {
        Form::Csv => as_csv(columns, &rows),
        Form::Json => as_json(rows),
        Form::Toml => as_toml(thing, &rows),
        Form::Ldif => unreachable!("BUG: entries of a directory are no rows"),
    };
    WrittenRoster { text, rows: count, left_out }
}

fn as_csv(columns: &[Column], rows: &[Vec<(Column, Value)>]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let mut write = |cells: &mut dyn Iterator<Item = String>| {
        writer.write_record(cells).expect("BUG: a table can't be written into memory");
    };
    write(&mut columns.iter().map(Column::to_string));
    for row in rows {
        let cell = |column: &Column| {
            let found = row.iter().find(|(other, _)| other == column);
            found.map(|(_, value)| cell_text(value)).unwrap_or_default()
        };
        write(&mut columns.iter().map(cell));
    }
    let text = writer.into_inner().expect("BUG: a table can't be written into memory");
    String::from_utf8(text).expect("BUG: cells of text make no text")
}

fn cell_text(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Bool(set) => if *set { "yes" } else { "no" }.to_owned(),
        Value::Array(all) => all.iter().map(cell_text).collect::<Vec<_>>().join(";"),
        other => other.to_string(),
    }
}

fn as_json(rows: Vec<Vec<(Column, Value)>>) -> String {
    let object = |row: Vec<(Column, Value)>| {
        Value::Object(
            row.into_iter()
                .map(|(column, value)| (column.to_string(), value))
                .collect::<Map<_, _>>(),
        )
    };
    let rows = Value::Array(rows.into_iter().map(object).collect());
    serde_json::to_string_pretty(&rows).expect("BUG: texts and numbers don't serialise") + "\n"
}

fn as_toml(thing: UserOrGroup, rows: &[Vec<(Column, Value)>]) -> String {
    let mut text = String::new();
    for row in rows {
        if !text.is_empty() {
            text.push('\n');
        }
        text += &format!("[[{thing}]]\n");
        for (column, value) in row {
            text += &format!("{column} = {}\n", toml_text(value));
        }
    }
    text
}

fn toml_text(value: &Value) -> String {
    match value {
        Value::String(text) => toml::Value::from(text.as_str()).to_string(),
        Value::Array(all) => {
            let all: Vec<String> = all.iter().map(toml_text).collect();
            format!("[{}]", all.join(", "))
        }
        other => other.to_string(),
    }
}
