//! Values of a roster as requests, whatever form they were written in.

use std::borrow::Cow;

use bstr::BString;

use super::dates::{DateOrder, plain_date};
use super::source::{Cells, RosterSource, Wrong};
use super::{Column, Columns, Fault, RosterRow, RowRequest};
use crate::request::{CreateGroup, CreateUser, KeyFile, RangesAsked, SuspensionAsked};
use crate::value::{Day, Gid, Uid, UserName, UserOrGroup, check_hash, is_lock, read_plain_id};

/// A roster being read.
pub(super) struct Reading<'s> {
    /// What the values of users that are read later are tried on.
    pub tried: RowBuffer,
    pub source: &'s RosterSource,
    /// Which of several it is.
    pub number: usize,
    pub rows: Vec<RosterRow>,
    pub faults: Vec<Fault>,
    /// How it is to be read.
    pub options: &'s ReadingOptions,
    /// How many values had blanks around them, which went.
    pub trimmed: usize,
    /// The columns that were passed over.
    pub passed_over: Vec<String>,
    /// Titles that nobody knows, each with the column that it is nearly called.
    pub near: Vec<(String, Column)>,
}

/// How tables are to be read.
#[derive(Debug, Clone, Default)]
pub struct ReadingOptions {
    /// Columns that are passed over.
    pub ignored: Vec<String>,
    /// All columns that are not known are.
    pub ignores_unknown: bool,
    /// Titles that stand for a column.
    pub meant: Vec<(String, Column)>,
    /// In which order days are written that are not as ISO 8601 has them.
    pub dates: Option<DateOrder>,
}

/// Takes what stands in JSON or TOML, row by row.
pub(super) trait TakesRows {
    /// Notes a fault.
    fn fault(&mut self, offset: usize, column: Option<Column>, wrong: Wrong);

    /// A row with its values, each with its key and where it stands: of a list of such things,
    /// the how manieth, and where it begins.
    fn table(
        &mut self,
        thing: Option<UserOrGroup>,
        number: usize,
        offset: usize,
        values: Vec<(Cow<'_, str>, usize, CellValue)>,
    );
}

/// A value of JSON or TOML.
pub(super) enum CellValue {
    Nothing,
    Text(String),
    List(Vec<CellValue>),
    /// One that can't stand there, in words.
    Unfit(&'static str),
}

impl<'s> Reading<'s> {
    /// Nothing read yet.
    pub fn new(source: &'s RosterSource, number: usize, options: &'s ReadingOptions) -> Self {
        Reading {
            options,
            trimmed: 0,
            passed_over: Vec::new(),
            near: Vec::new(),
            tried: RowBuffer::default(),
            source,
            number,
            rows: Vec::new(),
            faults: Vec::new(),
        }
    }

    /// The column of a title.
    pub fn column(&self, title: &str) -> Option<Column> {
        let meant = self.options.meant.iter().find(|(known, _)| known == title.trim());
        Column::of_title(title).or(meant.map(|(_, column)| *column))
    }

    /// What is wrong with a column that is not known; nothing where it is to be passed over.
    pub fn unknown(&mut self, title: &str, thing: UserOrGroup) -> Option<Wrong> {
        let plain = Column::plain_title(title);
        let named = self.options.ignored.iter().any(|name| Column::plain_title(name) == plain);
        if named || self.options.ignores_unknown {
            let title = title.trim().to_owned();
            if !self.passed_over.contains(&title) {
                self.passed_over.push(title);
            }
            return None;
        }
        if let Some(near) = super::csv::nearest_column(&plain, thing) {
            self.near.push((title.trim().to_owned(), near));
        }
        Some(super::csv::unknown(title, thing))
    }

    /// Notes a fault.
    pub fn fault(&mut self, offset: usize, column: Option<Column>, wrong: Wrong) {
        self.faults.push(self.source.fault(offset, column, wrong));
    }

    /// A row without values; of a user that is read later, without anything.
    pub fn row(
        &self,
        thing: Option<UserOrGroup>,
        number: usize,
        offset: usize,
        cells: Cells,
    ) -> RosterRow {
        let what = match thing {
            None => RowRequest::User(None),
            Some(UserOrGroup::User) => RowRequest::User(Some(Box::default())),
            Some(UserOrGroup::Group) => RowRequest::Group(Box::default()),
        };
        let (source, given) = (self.number, Columns::default());
        RosterRow { source, number, offset, cells, name: None, given, what }
    }
}

impl TakesRows for Reading<'_> {
    fn fault(&mut self, offset: usize, column: Option<Column>, wrong: Wrong) {
        Reading::fault(self, offset, column, wrong);
    }

    fn table(
        &mut self,
        thing: Option<UserOrGroup>,
        number: usize,
        offset: usize,
        values: Vec<(Cow<'_, str>, usize, CellValue)>,
    ) {
        let known = values.iter().filter_map(|(key, ..)| self.column(key));
        let thing = thing.unwrap_or_else(|| Column::about(known));
        let mut row = self.row(Some(thing), number, offset, Cells::At(Vec::new()));
        let mut seen = Columns::default();
        for (key, at, value) in values {
            let column = self.column(&key);
            let wrong = match column.filter(|column| column.belongs_to(thing)) {
                None if column.is_none() => self.unknown(&key, thing).map_or(Ok(()), Err),
                None => Err(super::csv::unknown(&key, thing)),
                Some(column) if !seen.insert(column) => {
                    Err(Wrong::new(format!("the key {column} is there twice"), "one of them"))
                }
                Some(column) => {
                    if let Cells::At(cells) = &mut row.cells {
                        cells.push((column, at));
                    }
                    as_text(value, column).and_then(|text| match text {
                        Some(text) if !text.trim().is_empty() => {
                            let trimmed = text.trim();
                            self.trimmed += usize::from(trimmed.len() != text.len());
                            row.set(column, Cow::Owned(trimmed.to_owned()), self.options.dates)
                        }
                        _ => Ok(()),
                    })
                }
            };
            if let Err(wrong) = wrong {
                Reading::fault(self, at, column, wrong);
            }
        }
        self.rows.push(row);
    }
}

/// A value as it would stand in a CSV file.
fn as_text(value: CellValue, column: Column) -> Result<Option<String>, Wrong> {
    let unfit = |what| {
        Err(Wrong::new(format!("{column} is {what}"), format!("a text: {}", column.meaning())))
    };
    match value {
        CellValue::Nothing => Ok(None),
        CellValue::Text(text) => Ok(Some(text)),
        CellValue::Unfit(what) => unfit(what),
        CellValue::List(values) => {
            let between = match column {
                Column::Join | Column::Member | Column::GroupAdmin | Column::Ranges => ";",
                Column::SshKey => "\n",
                _ => return unfit("a list"),
            };
            let mut texts = Vec::new();
            for value in values {
                match value {
                    CellValue::Text(text) => texts.push(text),
                    _ => return unfit("a list of something else than texts"),
                }
            }
            Ok(Some(texts.join(between)))
        }
    }
}

impl RosterRow {
    /// Puts a value, which is not empty, into its place.
    pub(super) fn set(
        &mut self,
        column: Column,
        text: Cow<'_, str>,
        dates: Option<DateOrder>,
    ) -> Result<(), Wrong> {
        self.given.insert(column);
        match &mut self.what {
            RowRequest::User(user) => {
                set_user(user.get_or_insert_default(), column, text, &mut Vec::new(), dates)
            }
            RowRequest::Group(group) => set_group(group, column, text),
        }
    }
}

/// A user onto which one row after another is read: what the texts of one took up
/// holds those of the next.
#[derive(Debug, Default)]
pub struct RowBuffer {
    /// The user.
    pub user: CreateUser,
    /// In which order days are written.
    pub(super) dates: Option<DateOrder>,
    spare: Vec<BString>,
}

impl RowBuffer {
    /// Puts a value, which is not empty, into its place.
    pub(super) fn set(&mut self, column: Column, text: &str) -> Result<(), Wrong> {
        set_user(&mut self.user, column, Cow::Borrowed(text), &mut self.spare, self.dates)
    }

    /// Wipes all of it.
    pub(super) fn wipe(&mut self) {
        let CreateUser { mut names, mut join, full_name, primary, home, shell, .. } =
            std::mem::take(&mut self.user);
        self.spare.extend([full_name, home, shell].into_iter().flatten());
        self.spare.extend(names.drain(..).map(BString::from));
        self.spare.extend(primary.into_iter().chain(join.drain(..)).map(BString::from));
        (self.user.names, self.user.join) = (names, join);
    }
}

/// Puts a value into its place in a user; texts take up what is spare.
fn set_user(
    user: &mut CreateUser,
    column: Column,
    text: Cow<'_, str>,
    spare: &mut Vec<BString>,
    dates: Option<DateOrder>,
) -> Result<(), Wrong> {
    let mut owned = |text: Cow<'_, str>| match text {
        Cow::Owned(text) => text.into(),
        Cow::Borrowed(text) => {
            let mut owned = spare.pop().unwrap_or_default();
            owned.clear();
            owned.extend_from_slice(text.as_bytes());
            owned
        }
    };
    match column {
        Column::Name => user.names.push(owned(text).into()),
        Column::FullName => user.full_name = Some(owned(text)),
        Column::Uid => user.uid = Some(Uid(id("uid", &text)?)),
        Column::Primary => user.primary = Some(owned(text).into()),
        Column::Join => {
            for name in list(&text)? {
                match is_none(name) {
                    true => user.no_groups = true,
                    false => user.join.push(owned(name.into()).into()),
                }
            }
        }
        Column::Room | Column::PhoneWork | Column::PhoneHome | Column::Other | Column::Gecos => {
            let text = if is_none(&text) { BString::default() } else { owned(text) };
            let gecos = &mut user.details.get_or_insert_default().gecos;
            let part = match column {
                Column::Room => &mut gecos.room,
                Column::PhoneWork => &mut gecos.phone_work,
                Column::PhoneHome => &mut gecos.phone_home,
                Column::Other => &mut gecos.other,
                _ => &mut gecos.whole,
            };
            *part = Some(text);
        }
        Column::ShareId => user.share_id = yes(&text)?,
        Column::Suspended => {
            let asked = match yes(&text) {
                Ok(false) => SuspensionAsked::No,
                Ok(true) => SuspensionAsked::Yes(String::new()),
                Err(_) => SuspensionAsked::Yes(text.into_owned()),
            };
            user.details.get_or_insert_default().suspended = Some(asked);
        }
        Column::Changed => {
            let day = match is_none(&text) || text.eq_ignore_ascii_case("never") {
                true => None,
                false => Some(day(&plain_date(&text, dates)?)?),
            };
            user.details.get_or_insert_default().changed = Some(day);
        }
        Column::Hold | Column::Renew | Column::Remind | Column::Late => {
            let field = Some(days(column, &text)?);
            let aging = &mut user.details.get_or_insert_default().aging;
            let part = match column {
                Column::Hold => &mut aging.hold,
                Column::Renew => &mut aging.renew,
                Column::Remind => &mut aging.remind,
                _ => &mut aging.late,
            };
            *part = field;
        }
        Column::Admin => user.admin = yes(&text)?,
        Column::Home if is_none(&text) => user.no_home = true,
        Column::Home => user.home = Some(owned(text)),
        Column::Shell => user.shell = Some(owned(text)),
        Column::Service => user.service = yes(&text)?,
        Column::Expires => user.expires = Some(plain_date(&text, dates)?.into_owned()),
        Column::Hours => user.window.hours = Some(text.into_owned()),
        Column::Places => user.window.places = Some(text.into_owned()),
        Column::Ranges => ranges(user, &text)?,
        Column::MustChange => user.must_change = yes(&text)?,
        Column::PasswordHash => {
            password_field(&text)?;
            user.hashes = vec![Some(owned(text))];
        }
        Column::SshKey => {
            let path = "the table".to_owned();
            user.keys = vec![KeyFile { path, text: text.into_owned().into_bytes() }];
        }
        Column::Gid | Column::Member | Column::GroupAdmin => {}
    }
    Ok(())
}

fn set_group(group: &mut CreateGroup, column: Column, text: Cow<'_, str>) -> Result<(), Wrong> {
    match column {
        Column::Name => group.name = text.into_owned().into(),
        Column::Gid => group.gid = Some(Gid(id("gid", &text)?)),
        Column::Service => group.service = yes(&text)?,
        Column::Member if is_none(&text) => group.no_members = true,
        Column::GroupAdmin if is_none(&text) => group.no_admins = true,
        Column::ShareId => group.share_id = yes(&text)?,
        Column::PasswordHash if is_none(&text) => group.password = Some(BString::default()),
        Column::PasswordHash => {
            password_field(&text)?;
            group.password = Some(text.into_owned().into());
        }
        Column::Member => group.members = list(&text)?.map(UserName::from).collect(),
        Column::GroupAdmin => group.admins = list(&text)?.map(UserName::from).collect(),
        _ => {}
    }
    Ok(())
}

/// Looks at what is to stand for a password: a hash, one that is locked, or what no password
/// matches.
fn password_field(text: &str) -> Result<(), Wrong> {
    if is_lock(text.as_bytes()) {
        return Ok(());
    }
    let hash = text.strip_prefix('!').unwrap_or(text);
    let fault =
        |fault| Wrong::new(format!("the hash {fault}"), "a hash that the C library can check");
    check_hash(hash.as_bytes()).map(|_| ()).map_err(fault)
}

/// A number of days as shadow writes it; empty for none.
fn days(column: Column, text: &str) -> Result<BString, Wrong> {
    if is_none(text) || text.eq_ignore_ascii_case("never") {
        return Ok(BString::default());
    }
    // Programs for spreadsheets write whole numbers with a part that is nothing.
    let text = text.strip_suffix(".0").unwrap_or(text);
    let days = text.parse::<u32>().ok().filter(|_| text.bytes().all(|byte| byte.is_ascii_digit()));
    let wrong = || Wrong::new(format!("{text:?} is no number of days"), column.meaning());
    Ok(days.ok_or_else(wrong)?.to_string().into())
}

/// A day of the calendar.
fn day(text: &str) -> Result<Day, Wrong> {
    let wrong = || Wrong::new(format!("{text:?} is no day"), "2026-11-02, or none");
    let plain = text.starts_with(|sign: char| sign.is_ascii_digit());
    // It does not count from a day, so that none is needed.
    let day = plain.then(|| Day::parse(text, Day(0)).ok()).flatten();
    day.ok_or_else(wrong)
}

fn id(what: &str, text: &str) -> Result<u32, Wrong> {
    read_plain_id(text.as_bytes()).ok_or_else(|| {
        Wrong::new(format!("{text:?} is no {what}"), "a whole number from 0 to 4294967293")
    })
}

/// Whether a value says that there is nothing.
fn is_none(text: &str) -> bool {
    text.eq_ignore_ascii_case("none")
}

fn yes(text: &str) -> Result<bool, Wrong> {
    match text.to_ascii_lowercase().as_str() {
        "yes" | "true" | "y" | "1" => Ok(true),
        "no" | "false" | "n" | "0" => Ok(false),
        _ => Err(Wrong::new(format!("{text:?} is neither yes nor no"), "yes, no, or nothing")),
    }
}

fn list(text: &str) -> Result<impl Iterator<Item = &str>, Wrong> {
    if text.contains(',') {
        return Err(Wrong::new("names are separated by commas", text.replace(',', ";")));
    }
    Ok(text.split(';').map(str::trim).filter(|name| !name.is_empty()))
}

fn ranges(user: &mut CreateUser, text: &str) -> Result<(), Wrong> {
    let fault = || {
        Wrong::new(format!("{text:?} is no number of ids and no span"), Column::Ranges.meaning())
    };
    let text = if is_none(text) { "none" } else { text };
    match RangesAsked::parse(text).ok_or_else(fault)? {
        RangesAsked::Count(count) => user.ranges = Some(count),
        RangesAsked::Spans(spans) => user.spans = spans,
    }
    Ok(())
}
