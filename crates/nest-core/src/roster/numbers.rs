//! Tables of numbers: which user and which group gets which. Columns or keys `kind`, `name` and
//! `id`; in JSON and TOML also lists `user` and `group`, which say the kind. With `was` they are
//! about files that carry the number that somebody had on another system.

use std::borrow::Cow;

use bstr::{BStr, BString};

use super::cells::{CellValue, TakesRows};
use super::fields::{check_quotes, field_at};
use super::source::{Fault, Form, RosterSource, Wrong};
use super::{Column, json, toml};
use crate::book::Book;
use crate::ldif::DirectoryAccounts;
use crate::table::{File, Line, Lines};
use crate::value::{UserOrGroup, read_plain_id};
use crate::words::counted;

/// Numbers that users and groups are to have.
#[derive(Debug, Default)]
pub struct NumberTable {
    /// Where they come from.
    pub sources: Vec<RosterSource>,
    /// The rows that could be read, in order.
    pub rows: Vec<NumberRow>,
    /// What is wrong with the files or with values in them.
    pub faults: Vec<Fault>,
}

/// One row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NumberRow {
    /// Whether it is about a user or a group.
    pub thing: UserOrGroup,
    /// The name.
    pub name: BString,
    /// The number that it is to have.
    pub id: u32,
    /// The number that files of its carry, which come from another system: then it has the new
    /// one already.
    pub was: Option<u32>,
    /// Which source it is from.
    source: usize,
    /// Where the name and the number stand in it.
    at: [usize; 2],
}

/// What the columns are called.
const COLUMNS: [&str; 4] = ["kind", "name", "id", "was"];

/// So many of them are in each table.
const NEEDED: usize = 3;

/// One that can be put in the place of an empty table.
const EXAMPLE: &str = "a header, kind,name,id , and a line for each: user,maren,2004";

impl NumberTable {
    /// Reads tables. Nothing is refused yet: what is wrong is among the faults.
    pub fn read(sources: Vec<RosterSource>) -> Self {
        let mut table = NumberTable::default();
        for (number, source) in sources.iter().enumerate() {
            let mut reading = Numbers { source, number, table: &mut table };
            reading.read();
        }
        table.sources = sources;
        table
    }

    /// The numbers that the users and groups of another tree have; the tree as it is named in
    /// messages.
    pub fn like(tree: &str, book: &Book) -> Self {
        let source = |file: File, lines: &Lines| {
            let shown = format!("{}/{}", tree.trim_end_matches('/'), file.path());
            RosterSource::new(shown, Form::Csv, lines.text().to_vec())
        };
        let row = |thing, name: &[u8], id, line: Line<'_>| {
            let source = usize::from(thing == UserOrGroup::Group);
            NumberRow { thing, name: name.into(), id, was: None, source, at: [line.start; 2] }
        };
        let users = book.users.records().filter_map(|(line, user)| {
            Some(row(UserOrGroup::User, user.name, user.uid()?.0, line))
        });
        let groups = book.groups.records().filter_map(|(line, group)| {
            Some(row(UserOrGroup::Group, group.name, group.gid()?.0, line))
        });
        NumberTable {
            rows: users.chain(groups).collect(),
            sources: vec![
                source(File::Passwd, book.users.lines()),
                source(File::Group, book.groups.lines()),
            ],
            faults: Vec::new(),
        }
    }

    /// Something wrong with the name of a row.
    pub fn fault_of_name(&self, row: &NumberRow, wrong: Wrong) -> Fault {
        self.sources[row.source].fault(row.at[0], Some(Column::Name), wrong)
    }

    /// Something wrong with the number of a row.
    pub fn fault_of_id(&self, row: &NumberRow, wrong: Wrong) -> Fault {
        let column = match row.thing {
            UserOrGroup::User => Column::Uid,
            UserOrGroup::Group => Column::Gid,
        };
        self.sources[row.source].fault(row.at[1], Some(column), wrong)
    }

    /// Where a row stands: `crew.csv:3`.
    pub fn place(&self, row: &NumberRow) -> String {
        let fault = self.fault_of_name(row, Wrong::new("", ""));
        format!("{}:{}", fault.file, fault.line)
    }
}

/// One table being read.
struct Numbers<'s> {
    source: &'s RosterSource,
    number: usize,
    table: &'s mut NumberTable,
}

impl TakesRows for Numbers<'_> {
    fn fault(&mut self, offset: usize, column: Option<Column>, wrong: Wrong) {
        self.table.faults.push(self.source.fault(offset, column, wrong));
    }

    fn table(
        &mut self,
        thing: Option<UserOrGroup>,
        _: usize,
        offset: usize,
        values: Vec<(Cow<'_, str>, usize, CellValue)>,
    ) {
        let mut found: [Option<(String, usize)>; 4] = Default::default();
        for (key, at, value) in values {
            let Some(column) = COLUMNS.iter().position(|column| *column == key) else {
                self.fault(at, None, unknown(&key));
                continue;
            };
            match value {
                CellValue::Text(text) if found[column].is_none() => {
                    found[column] = Some((text, at));
                }
                CellValue::Text(_) => {
                    let wrong = Wrong::new(format!("the key {key} is there twice"), "one of them");
                    self.fault(at, None, wrong);
                }
                CellValue::Nothing => {}
                CellValue::List(_) | CellValue::Unfit(_) => {
                    let wrong = Wrong::new(format!("{key} is no text and no number"), "one value");
                    self.fault(at, None, wrong);
                }
            }
        }
        if let (Some(thing), None) = (thing, &found[0]) {
            found[0] = Some((thing.to_string(), offset));
        }
        self.row(offset, found);
    }
}

impl Numbers<'_> {
    fn read(&mut self) {
        let text = match std::str::from_utf8(self.source.text()) {
            Ok(text) if text.trim().is_empty() => {
                return self.fault(0, None, Wrong::new("it is empty", EXAMPLE));
            }
            Ok(text) => text,
            Err(error) => {
                let wrong = Wrong::new("this is not UTF-8", "the same as UTF-8");
                return self.fault(error.valid_up_to(), None, wrong);
            }
        };
        let before = self.table.rows.len() + self.table.faults.len();
        match self.source.form {
            Form::Csv => self.csv(text),
            Form::Json => json::read(self, text),
            Form::Toml => toml::read(self, text),
            Form::Ldif => self.ldif(),
        }
        if self.table.rows.len() + self.table.faults.len() == before {
            self.fault(0, None, Wrong::new("it holds no rows", EXAMPLE));
        }
    }

    /// The numbers that a directory has: who goes over to it gets those.
    fn ldif(&mut self) {
        let (accounts, faults) = DirectoryAccounts::read(self.source.text());
        for fault in faults {
            self.fault(fault.offset, None, Wrong::new(fault.message, fault.instead));
        }
        let source = self.number;
        let row = |thing, name: BString, id, at| NumberRow {
            thing,
            name,
            id,
            was: None,
            source,
            at: [at; 2],
        };
        let apart = accounts.made_with_users();
        // Somebody's own group goes along.
        let groups = apart
            .iter()
            .filter(|(_, own)| !own)
            .map(|(group, _)| row(UserOrGroup::Group, group.name.clone(), group.gid, group.offset));
        let users = accounts.users.iter();
        let users =
            users.map(|user| row(UserOrGroup::User, user.name.clone(), user.uid, user.offset));
        self.table.rows.extend(users.chain(groups));
    }

    fn csv(&mut self, text: &str) {
        let source = self.source;
        if let Some((at, wrong)) = check_quotes(source) {
            return self.fault(at, None, wrong);
        }
        let text = &text[source.start()..];
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(source.separator())
            .has_headers(false)
            .flexible(true)
            .from_reader(text.as_bytes());
        let mut columns: Option<Vec<Option<usize>>> = None;
        let mut record = csv::StringRecord::new();
        loop {
            match reader.read_record(&mut record) {
                Ok(false) => break,
                Ok(true) => {}
                Err(error) => {
                    let at = error.position().map_or(0, |position| position.byte() as usize);
                    let at = source.start() + at;
                    return self.fault(at, None, Wrong::new(error.to_string(), ""));
                }
            }
            let start = record.position().map_or(0, |position| position.byte() as usize);
            let blank = text.as_bytes()[start..].iter();
            let blank = blank.take_while(|byte| matches!(byte, b'\r' | b'\n')).count();
            let start = source.start() + start + blank;
            let place = |field| field_at(source, start, field);
            let Some(columns) = &columns else {
                let found = self.header(&record, place);
                if (0..NEEDED).any(|at| !found.contains(&Some(at))) {
                    return self.fault(
                        start,
                        None,
                        Wrong::new("the header is not whole", "kind,name,id"),
                    );
                }
                columns = Some(found);
                continue;
            };
            if record.len() != columns.len() {
                let (fields, wanted) = (counted(record.len(), "field", "fields"), columns.len());
                let message = format!("this row has {fields}, and the header has {wanted}");
                self.fault(start, None, Wrong::new(message, "a comma between the values"));
                continue;
            }
            let mut found: [Option<(String, usize)>; 4] = Default::default();
            for (field, value) in record.iter().enumerate() {
                if let Some(Some(column)) = columns.get(field) {
                    found[*column] = Some((value.trim().to_owned(), place(field)));
                }
            }
            self.row(start, found);
        }
    }

    /// Which column each field of a header is.
    fn header(
        &mut self,
        record: &csv::StringRecord,
        place: impl Fn(usize) -> usize,
    ) -> Vec<Option<usize>> {
        let mut columns = Vec::new();
        for (field, title) in record.iter().enumerate() {
            let column = COLUMNS.iter().position(|column| *column == Column::plain_title(title));
            if column.is_none() {
                self.fault(place(field), None, unknown(title));
            } else if columns.contains(&column) {
                let wrong = Wrong::new(format!("the column {title} is there twice"), "one of them");
                self.fault(place(field), None, wrong);
            }
            columns.push(column);
        }
        columns
    }

    /// A row, of what was found of it.
    fn row(&mut self, start: usize, found: [Option<(String, usize)>; 4]) {
        let [kind, name, id, was] = found.map(|found| found.filter(|(text, _)| !text.is_empty()));
        let mut missing = |what: Option<(String, usize)>, column: &str| {
            if what.is_none() {
                let wrong = Wrong::new(format!("this row has no {column}"), EXAMPLE);
                self.fault(start, None, wrong);
            }
            what
        };
        let (kind, name, id) = (missing(kind, "kind"), missing(name, "name"), missing(id, "id"));
        let (Some((kind, kind_at)), Some((name, name_at)), Some((id, id_at))) = (kind, name, id)
        else {
            return;
        };
        let thing = match &*kind {
            "user" => Some(UserOrGroup::User),
            "group" => Some(UserOrGroup::Group),
            _ => {
                let wrong = Wrong::new(format!("{kind:?} is no kind"), "user or group");
                self.fault(kind_at, None, wrong);
                None
            }
        };
        let mut number = |text: &str, at: usize| {
            let number = read_plain_id(BStr::new(text));
            if number.is_none() {
                let wrong =
                    Wrong::new(format!("{text:?} is no number"), "a whole number, 2004 say");
                self.fault(at, None, wrong);
            }
            number
        };
        let id = number(&id, id_at);
        let was = was.map(|(was, at)| number(&was, at));
        if let (Some(thing), Some(id), true) = (thing, id, was != Some(None)) {
            let (name, source, at) = (name.into(), self.number, [name_at, id_at]);
            self.table.rows.push(NumberRow { thing, name, id, was: was.flatten(), source, at });
        }
    }
}

fn unknown(title: &str) -> Wrong {
    let message = match title.trim() {
        "" => "a column has no title".to_owned(),
        title => format!("there is no column {title:?}"),
    };
    Wrong::new(message, "kind, name and id, and was for copied files")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(form: Form, text: &str) -> NumberTable {
        NumberTable::read(vec![RosterSource::new("t", form, text.into())])
    }

    #[test]
    fn the_three_forms_say_the_same() {
        let csv = read(Form::Csv, "kind,name,id\nuser,maren,2004\ngroup,\"slip way\",2100\n");
        let json = read(
            Form::Json,
            r#"[{"kind": "user", "name": "maren", "id": 2004},
                {"kind": "group", "name": "slip way", "id": "2100"}]"#,
        );
        let lists = read(
            Form::Json,
            r#"{"user": [{"name": "maren", "id": 2004}], "group": [{"name": "slip way", "id": 2100}]}"#,
        );
        let toml = read(
            Form::Toml,
            "[[user]]\nname = \"maren\"\nid = 2004\n[[group]]\nname = \"slip way\"\nid = 2100\n",
        );
        for table in [csv, json, lists, toml] {
            assert_eq!(table.faults, []);
            let rows: Vec<_> =
                table.rows.iter().map(|row| (row.thing, &row.name[..], row.id)).collect();
            let wanted =
                [(UserOrGroup::User, &b"maren"[..], 2004), (UserOrGroup::Group, b"slip way", 2100)];
            assert_eq!(rows, wanted);
        }
    }

    #[test]
    fn everything_that_is_wrong_is_told_with_its_place() {
        for (form, text, wanted) in [
            (Form::Csv, "", "1:1 it is empty"),
            (Form::Csv, "kind,name,id\n", "1:1 it holds no rows"),
            (Form::Csv, "kind,name\nuser,maren\n", "1:1 the header is not whole"),
            (Form::Csv, "kind,nam,id\n", "1:6 there is no column \"nam\""),
            (Form::Csv, "kind,name,id\nuser,maren,2004\ncrew,x,7\n", "3:1 \"crew\" is no kind"),
            (Form::Csv, "kind,name,id\nuser,maren,020\n", "2:12 \"020\" is no number"),
            (Form::Csv, "kind,name,id\nuser,,7\n", "2:1 this row has no name"),
            (Form::Csv, "kind,name,id\nuser,x\n", "2:1 this row has 2 fields"),
            (Form::Json, "[{\"name\": \"x\", \"id\": 7}]", "1:2 this row has no kind"),
            (Form::Json, "[{\"kind\": [1]}]", "1:11 kind is no text and no number"),
            (Form::Toml, "[[user]]\nname = \"x\"\nuid = 7\n", "3:7 there is no column \"uid\""),
        ] {
            let table = read(form, text);
            let fault = table.faults.first().expect(text);
            let said = format!("{}:{} {}", fault.line, fault.at, fault.message);
            assert!(said.starts_with(wanted), "{said}, not {wanted}");
        }
    }
}
