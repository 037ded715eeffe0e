//! Writing accounts as a roster that can be taken in again.

use std::collections::{HashMap, HashSet};

use bstr::{BStr, ByteSlice};
use serde_json::{Map, Value};

use super::{Column, Form};
use crate::account::{Account, AccountKind, NO_HOME};
use crate::book::Book;
use crate::group_account::{GroupAccount, GroupIndex, GroupKind};
use crate::policy::Policy;
use crate::value::{IdSpan, Scheme, UserOrGroup, check_hash};
use crate::windows::Windows;

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

    /// Puts a text in that need not be UTF-8; an empty one is none.
    fn text(&mut self, column: Column, text: &[u8]) {
        match text.to_str() {
            Ok("") => {}
            Ok(text) => {
                let plain = text.trim();
                if plain != text {
                    let name = BStr::new(self.name);
                    self.left_out.push(format!("the blanks around the {column} of {name}"));
                }
                if !plain.is_empty() {
                    self.values.push((column, plain.into()));
                }
            }
            Err(_) => {
                let name = BStr::new(self.name);
                self.left_out.push(format!("the {column} of {name}, which is not UTF-8"));
            }
        }
    }

    fn list<'l>(&mut self, column: Column, names: impl Iterator<Item = &'l [u8]>) {
        let names: Vec<Value> = names.filter_map(|name| Some(name.to_str().ok()?.into())).collect();
        if !names.is_empty() {
            self.values.push((column, names.into()));
        }
    }
}

/// The groups that are made with their users and need no row: of one user alone,
/// with its name and its number.
pub fn made_with_users<'b>(book: &'b Book, policy: &'b Policy) -> HashSet<&'b [u8]> {
    let groups = GroupIndex::new(book, policy);
    let mut own: HashMap<&[u8], Option<u32>> = HashMap::new();
    for group in groups.groups() {
        let alone = group.kind == GroupKind::Private && group.listed.is_empty();
        if alone && group.admins.is_empty() {
            own.insert(group.group.name, group.group.gid().map(|id| id.0));
        }
    }
    let users = book.users.records().map(|(_, user)| user);
    let same = users
        .filter(|user| own.get(user.name).is_some_and(|gid| *gid == user.uid().map(|id| id.0)));
    same.map(|user| user.name).collect()
}

/// Writes users; `own` are the groups that will be made with them.
pub fn written_users<'b>(
    accounts: impl Iterator<Item = Account<'b>>,
    form: Form,
    hashes: PasswordHashes,
    own: &HashSet<&[u8]>,
    windows: &Windows,
) -> WrittenRoster {
    let rows = accounts.map(|account| {
        let user = &account.user;
        let mut row = WrittenRow::new(user.name);
        row.text(Column::FullName, user.full_name());
        match user.uid() {
            Some(uid) => row.values.push((Column::Uid, uid.0.into())),
            None => row
                .left_out
                .push(format!("the uid of {}, which is unreadable", BStr::new(user.name))),
        }
        let private = account.primary == Some(user.name) && own.contains(user.name);
        if !private {
            row.text(Column::Primary, account.primary.unwrap_or(user.gid));
        }
        let others = account.groups.iter().map(|group| group.name);
        row.list(Column::Join, others.filter(|group| Some(*group) != account.primary));
        let home = if user.home == NO_HOME.as_bytes() { b"none" } else { user.home };
        row.text(Column::Home, home);
        row.text(Column::Shell, user.effective_shell());
        if account.kind == AccountKind::Service {
            row.values.push((Column::Service, true.into()));
        }
        lasting(&account, &mut row);
        window(user.name, windows, &mut row);
        ranges(&account, &mut row);
        if hashes == PasswordHashes::Included {
            password(&account, &mut row);
        }
        row
    });
    let rows: Vec<WrittenRow<'_>> = rows.collect();
    let columns = Column::of(UserOrGroup::User).filter(|column| match column {
        Column::PasswordHash | Column::MustChange => hashes == PasswordHashes::Included,
        // What they say is in other columns, or in the homes.
        Column::Admin | Column::SshKey => false,
        // Hardly anybody has any.
        Column::Hours | Column::Places => {
            rows.iter().any(|row| row.values.iter().any(|(has, _)| has == column))
        }
        _ => true,
    });
    written(UserOrGroup::User, &columns.collect::<Vec<_>>(), rows, form)
}

/// Writes groups. Without members it can be taken in before the users are there.
pub fn written_groups<'b>(
    groups: impl Iterator<Item = GroupAccount<'b>>,
    form: Form,
    with_members: bool,
) -> WrittenRoster {
    let rows = groups.map(|account| {
        let group = &account.group;
        let mut row = WrittenRow::new(group.name);
        match group.gid() {
            Some(gid) => row.values.push((Column::Gid, gid.0.into())),
            None => row
                .left_out
                .push(format!("the gid of {}, which is unreadable", BStr::new(group.name))),
        }
        if account.kind == GroupKind::Services {
            row.values.push((Column::Service, true.into()));
        }
        if with_members {
            row.list(Column::Member, group.members());
            row.list(Column::GroupAdmin, account.admins.iter().copied());
        }
        row
    });
    let rows: Vec<WrittenRow<'_>> = rows.collect();
    let columns: Vec<Column> = Column::of(UserOrGroup::Group)
        .filter(|column| with_members || !matches!(column, Column::Member | Column::GroupAdmin))
        .collect();
    written(UserOrGroup::Group, &columns, rows, form)
}

fn lasting(account: &Account<'_>, row: &mut WrittenRow<'_>) {
    let expires = account.aging().and_then(|aging| aging.expires);
    if account.is_suspended() {
        let name = BStr::new(row.name);
        row.left_out.push(format!("that {name} is suspended: taken in, it can sign in"));
    } else if let Some(day) = expires {
        row.values.push((Column::Expires, day.to_string().into()));
    }
}

fn window(name: &[u8], windows: &Windows, row: &mut WrittenRow<'_>) {
    if let Some(hours) = windows.hours_of(name) {
        row.values.push((Column::Hours, hours.says.to_string().into()));
    }
    let Some(places) = windows.places_of(name) else { return };
    match places.says {
        Some(says) => row.values.push((Column::Places, says.to_string().into())),
        None => {
            let (name, at) = (BStr::new(name), places.place);
            row.left_out.push(format!("the places of {name}, of which {at} says more than that"));
        }
    }
}

fn ranges(account: &Account<'_>, row: &mut WrittenRow<'_>) {
    let spans: Vec<IdSpan> = account.uid_ranges.clone();
    if spans != account.gid_ranges {
        let name = BStr::new(row.name);
        row.left_out.push(format!("the gid ranges of {name}, which differ from those of uids"));
    }
    if !spans.is_empty() {
        let spans: Vec<Value> = spans.iter().map(|span| span_text(*span).into()).collect();
        row.values.push((Column::Ranges, spans.into()));
    } else if account.kind == AccountKind::Person {
        row.values.push((Column::Ranges, "none".into()));
    }
}

/// Always both ends: a number alone is a count.
fn span_text(span: IdSpan) -> String {
    format!("{}-{}", span.first(), span.last())
}

fn password(account: &Account<'_>, row: &mut WrittenRow<'_>) {
    let Some(shadow) = account.shadow else { return };
    let field = shadow.password;
    let hash = field.strip_prefix(b"!").unwrap_or(field);
    if check_hash(hash).is_ok() {
        row.text(Column::PasswordHash, field);
        if shadow.aging().changed == Some(0) {
            row.values.push((Column::MustChange, true.into()));
        }
    } else if Scheme::of(hash).is_some() {
        let name = BStr::new(row.name);
        row.left_out.push(format!("the password hash of {name}, which can't be checked"));
    } else if field.is_empty() {
        let name = BStr::new(row.name);
        row.left_out.push(format!("that {name} signs in without a password"));
    }
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountIndex;
    use crate::book::tests::book;
    use crate::table::File;

    const HASH: &str = "$y$j9T$F5Jx5fExrKuPp53xLKQ..1$X3DX6M94c7o.9agCG9G317fhZg9SqC.5i5rd.RhAtQ7";

    fn the_book() -> Book {
        let shadow = format!(
            "maren:{HASH}:0:0::7:::\ncorwin:!{HASH}:20000::::::\nodile::20000:::::20908:\n\
             gauge:*:20000::::::\nsuspended:!{HASH}:20000:::::1:\nold:$6$Gullhaven2$0123456789abcdef:20000::::::\n"
        );
        book(&[
            (
                File::Passwd,
                "maren:x:1000:1000:Maren \"Mar\" Solvik,,:/home/maren:/bin/bash\n\
                 corwin:x:1001:300::/nonexistent:\n\
                 odile:x:1002:77::/home/odile:/bin/sh\n\
                 gauge:x:200:200::/nonexistent:/usr/sbin/nologin\n\
                 suspended:x:1003:1003::/home/s:/bin/sh\n\
                 old:x:1004:1005::/home/old:/bin/sh\n",
            ),
            (
                File::Group,
                "maren:x:1000:\ncrew:x:300:maren,corwin\nrest:x:301:maren\ngauge:x:200:\n\
                 suspended:x:1003:maren\nold:x:1005:\n",
            ),
            (File::Shadow, &shadow),
            (File::Gshadow, "crew:!:maren,odile:maren,corwin\n"),
            (File::Subuid, "maren:2001:10\nmaren:3000:1\ncorwin:4000:10\n"),
            (File::Subgid, "maren:2001:10\nmaren:3000:1\ncorwin:5000:10\n"),
        ])
    }

    fn users(form: Form, hashes: PasswordHashes) -> WrittenRoster {
        let (book, policy) = (the_book(), Policy::default());
        let own = made_with_users(&book, &policy);
        written_users(
            AccountIndex::new(&book, &policy).accounts(),
            form,
            hashes,
            &own,
            &Windows::default(),
        )
    }

    #[test]
    fn users_are_written_as_they_would_be_asked_for() {
        let written = users(Form::Csv, PasswordHashes::LeftOut);
        let lines: Vec<&str> = written.text.lines().collect();
        assert_eq!(
            lines,
            [
                "name,full_name,uid,primary,join,home,shell,service,expires,ranges",
                "maren,\"Maren \"\"Mar\"\" Solvik\",1000,,crew;rest;suspended,/home/maren,/bin/bash,,,2001-2010;3000-3000",
                "corwin,,1001,crew,,none,/bin/sh,,,4000-4009",
                "odile,,1002,77,,/home/odile,/bin/sh,,2027-03-31,none",
                "gauge,,200,,,none,/usr/sbin/nologin,yes,,",
                "suspended,,1003,suspended,,/home/s,/bin/sh,,,none",
                "old,,1004,old,,/home/old,/bin/sh,,,none",
            ]
        );
        assert_eq!((written.rows, written.left_out.len()), (6, 2), "{:?}", written.left_out);
        assert!(written.left_out[0].contains("corwin"), "{:?}", written.left_out);
        assert!(written.left_out[1].contains("suspended is suspended"), "{:?}", written.left_out);
    }

    #[test]
    fn hashes_are_written_when_asked_and_only_whole_ones() {
        let written = users(Form::Json, PasswordHashes::Included);
        let rows: Vec<serde_json::Value> = serde_json::from_str(&written.text).unwrap();
        assert_eq!(
            (&rows[0]["password_hash"], &rows[0]["must_change"]),
            (&HASH.into(), &true.into())
        );
        assert_eq!(rows[1]["password_hash"], format!("!{HASH}"));
        for row in &rows[2..4] {
            assert_eq!(row.get("password_hash"), None, "{row}");
        }
        let left_out = written.left_out.join("; ");
        assert!(left_out.contains("odile signs in without a password"), "{left_out}");
        assert!(
            left_out.contains("the password hash of old, which can't be checked"),
            "{left_out}"
        );
        let without = users(Form::Json, PasswordHashes::LeftOut);
        assert!(!without.text.contains('$'), "{}", without.text);
    }

    #[test]
    fn groups_are_written_with_and_without_members() {
        let (book, policy) = (the_book(), Policy::default());
        let own = made_with_users(&book, &policy);
        let mut names: Vec<&[u8]> = own.iter().copied().collect();
        names.sort_unstable();
        // Somebody is in one of the others, and one has another number.
        assert_eq!(names, [&b"gauge"[..], b"maren"]);
        let index = GroupIndex::new(&book, &policy);
        let others = || index.groups().filter(|group| !own.contains(group.group.name));
        let written = written_groups(others(), Form::Toml, true);
        assert!(
            written.text.starts_with(
                "[[group]]\nname = \"crew\"\ngid = 300\nservice = true\n\
                 member = [\"maren\", \"corwin\"]\ngroup_admin = [\"maren\", \"odile\"]\n"
            ) || written.text.starts_with(
                "[[group]]\nname = \"crew\"\ngid = 300\nmember = [\"maren\", \"corwin\"]\n\
                 group_admin = [\"maren\", \"odile\"]\n"
            ),
            "{}",
            written.text
        );
        let bare = written_groups(others(), Form::Csv, false);
        assert_eq!(bare.text.lines().next(), Some("name,gid,service"));
        assert!(bare.text.contains("rest,301,"), "{}", bare.text);
    }

    #[test]
    fn a_text_that_is_no_utf_8_is_left_out_and_told() {
        let mut texts = crate::book::Texts::default();
        let passwd = b"soren:x:1000:1000:S\xf8ren:/home/soren:/bin/sh\n".to_vec();
        texts.set(File::Passwd, std::sync::Arc::new(passwd));
        texts.set(File::Group, std::sync::Arc::new(b"soren:x:1000:\n".to_vec()));
        let (book, policy) = (Book::new(texts), Policy::default());
        let own = made_with_users(&book, &policy);
        let accounts = AccountIndex::new(&book, &policy);
        let written = written_users(
            accounts.accounts(),
            Form::Toml,
            PasswordHashes::LeftOut,
            &own,
            &Windows::default(),
        );
        assert!(!written.text.contains("full_name"), "{}", written.text);
        assert_eq!(written.left_out, ["the full_name of soren, which is not UTF-8"]);
    }
}
