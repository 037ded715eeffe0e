//! Groups: one, or a list of them.

use nest_core::account::ShownLine;
use nest_core::book::Book;
use nest_core::group_account::{GroupAccount, GroupKind};
use nest_core::secret::{told, told_list};
use nest_core::table::File;
use nest_core::value::PasswordField;
use nest_core::words::counted;
use serde_json::{Value, json};

use super::columns::{Columns, Rows};
use super::user::print_lines;
use super::user_fields::{field, file_heading};
use super::{JsonTexts, remark, style, table, visible};
use crate::cli::Global;

/// More names than this are only unless `--verbose` says otherwise.
const MOST_NAMES: usize = 12;

/// Prints a group: what is so, then every line that says it.
pub fn print_one(global: &Global, book: &Book, account: &GroupAccount<'_>, lines: &[ShownLine]) {
    let heading = style::HEADING;
    let name = visible(account.group.name);
    outln!("{heading}{name}{heading:#}   {}", in_words(account));
    outln!();
    let row = |label: &str, value: String| outln!("  {label:11} {value}");
    row("gid", visible(account.group.gid));
    row("listed", names(global, book, &account.listed));
    row("by primary", names(global, book, &account.primary));
    row("admins", names(global, book, &account.admins));
    let password = match account.has_password {
        None => "not known: etc/gshadow can't be read",
        Some(true) => "set: whoever knows it can act as a member",
        Some(false) => "none: only members are let in",
    };
    row("password", password.to_owned());
    if !account.same_gid.is_empty() {
        let others = names(global, book, &account.same_gid);
        row("same gid", format!("{others}: to the files they are one group"));
    }
    outln!();
    print_lines(lines);
    let more = account.primary.len().saturating_sub(MOST_NAMES);
    if more > 0 {
        outln!("  and the lines of {} in etc/passwd", counted(more, "more user", "more users"));
    }
}

/// How many lines of users are shown with a group.
pub fn most_lines() -> usize {
    MOST_NAMES
}

fn in_words(account: &GroupAccount<'_>) -> String {
    let kind = match account.kind {
        GroupKind::Private => "the private group of the user of that name",
        GroupKind::People => "a group of people",
        GroupKind::Services => "a group with an id of the services",
    };
    let admins = if account.makes_admins { "; its members administer the machine" } else { "" };
    format!("{kind}{admins}")
}

/// Names in a row; those that are no account are marked.
fn names(global: &Global, book: &Book, names: &[&[u8]]) -> String {
    if names.is_empty() {
        return "nobody".to_owned();
    }
    let most = if global.verbose > 0 { usize::MAX } else { MOST_NAMES };
    let is_account = |name: &[u8]| {
        !book.named(File::Passwd, name).is_empty() || !book.named(File::Group, name).is_empty()
    };
    let shown: Vec<String> = names
        .iter()
        .take(most)
        .map(|name| match is_account(name) {
            true => visible(name),
            false => format!("{} (no local account)", visible(name)),
        })
        .collect();
    let more = names.len().saturating_sub(most);
    match more {
        0 => shown.join(", "),
        more => format!("{} and {more} more (--verbose names all)", shown.join(", ")),
    }
}

/// Explains the records, field by field.
pub fn print_fields(book: &Book, account: &GroupAccount<'_>) {
    let group = &account.group;
    file_heading("etc/group", "who is in the group; everybody can read it");
    let password = match group.password {
        b"x" => "a password, if there is one, is in etc/gshadow, which only root can read",
        field if PasswordField::is_harmless(field) => "no password",
        _ => "the password is kept here, where everybody can read its hash",
    };
    let hidden = |bytes: &[u8]| match PasswordField::is_harmless(bytes) {
        true => visible(bytes),
        false => "(hash)".to_owned(),
    };
    let primary = counted(account.primary.len(), "user has", "users have");
    let listed = format!("listed members; {primary} it as primary group besides");
    let rows = [
        ("name", visible(group.name), "what the group is called"),
        ("password", hidden(group.password), password),
        ("gid", visible(group.gid), "the number that files carry"),
        ("members", visible(group.members), &listed),
    ];
    for (at, (label, value, meaning)) in rows.into_iter().enumerate() {
        field(at, label, &value, meaning);
    }
    let Some((_, gshadow)) = book.gshadow(group.name) else { return };
    outln!();
    file_heading("etc/gshadow", "its password and who administers it");
    let password = match PasswordField::is_harmless(gshadow.password) {
        true => "no password: only members are let in",
        false => "whoever knows it can act as a member",
    };
    let rows = [
        ("name", visible(told(File::Gshadow, gshadow.name)), "the same as in etc/group"),
        ("password", hidden(gshadow.password), password),
        (
            "admins",
            visible(&told_list(File::Gshadow, gshadow.admins)),
            "who may alter the list of members",
        ),
        (
            "members",
            visible(&told_list(File::Gshadow, gshadow.members)),
            "the same as in etc/group",
        ),
    ];
    for (at, (label, value, meaning)) in rows.into_iter().enumerate() {
        field(at, label, &value, meaning);
    }
}

/// A group for machines. No hash is in it.
pub fn to_json(account: &GroupAccount<'_>) -> Value {
    let json = JsonTexts::default();
    let texts =
        |names: &[&[u8]]| -> Vec<String> { names.iter().map(|name| json.text(name)).collect() };
    let document = json!({
        "name": json.text(account.group.name),
        "gid": account.group.gid(),
        "kind": account.kind.to_string(),
        "members": texts(&account.listed),
        "primary_members": texts(&account.primary),
        "admins": texts(&account.admins),
        "has_password": account.has_password,
        "makes_admins": account.makes_admins,
        "same_gid": texts(&account.same_gid),
    });
    json.mark(document)
}

/// The columns of a list of groups.
pub const COLUMNS: Columns<9> = columns! {
    "name": "name of the group",
    "gid": "group number",
    "kind": "people, services, or private: the own group of a user",
    "listed": "how many members the group lists",
    "by-primary": "how many users have it as primary group",
    "members": "the members that it lists, with commas between",
    "primary-members": "the users who have it as primary group, with commas between",
    "admins": "who may alter its members, with commas between",
    "password": "whether it has a password: yes or no; empty where that can't be read",
};

/// Prints groups: a table on a terminal, else rows. `of` is how many groups there are in all.
pub fn print_list(global: &Global, as_rows: &Rows, listed: &[GroupAccount<'_>], of: usize) {
    let join = |names: &[&[u8]], between: &str| -> String {
        names.iter().map(|name| visible(name)).collect::<Vec<_>>().join(between)
    };
    if as_rows.are_wanted(global) {
        let row = |one: &GroupAccount<'_>| {
            let password = match one.has_password {
                None => "",
                Some(true) => "yes",
                Some(false) => "no",
            };
            [
                visible(one.group.name),
                visible(one.group.gid),
                one.kind.to_string(),
                one.listed.len().to_string(),
                one.primary.len().to_string(),
                join(&one.listed, ","),
                join(&one.primary, ","),
                join(&one.admins, ","),
                password.to_owned(),
            ]
        };
        as_rows.print(global, &COLUMNS, listed.iter().map(row));
        return;
    }
    const FEW: usize = 6;
    let few = |names: &[&[u8]]| match names.len().saturating_sub(FEW) {
        0 => join(names, ", "),
        more => format!("{} and {more} more", join(&names[..FEW], ", ")),
    };
    let number = |count: usize| if count == 0 { String::new() } else { count.to_string() };
    let titles =
        ["name", "gid", "kind", "listed", "by primary", "who is listed", "whose primary", "admins"];
    let rows = listed.iter().map(|one| {
        let password = if one.has_password == Some(true) { ", password" } else { "" };
        [
            visible(one.group.name),
            visible(one.group.gid),
            format!("{}{password}", one.kind),
            number(one.listed.len()),
            number(one.primary.len()),
            few(&one.listed),
            few(&one.primary),
            few(&one.admins),
        ]
    });
    if !listed.is_empty() {
        outln!("{}", table(titles, rows));
        outln!();
    }
    remark(&format!("{} of {of}", counted(listed.len(), "group", "groups")));
}
