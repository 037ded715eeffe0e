//! A list of users.

use nest_core::account::Account;
use nest_core::last_seen::LastSeen;
use nest_core::sign_in::SignIn;
use nest_core::suspended::Suspended;
use nest_core::value::Day;
use nest_core::words::counted;

use super::columns::{Columns, Rows};
use super::user::note_of;
use super::{remark, table, visible};
use crate::cli::Global;

/// One user of the list.
pub struct Listed<'a> {
    /// What the files say.
    pub account: Account<'a>,
    /// Whether it can sign in.
    pub sign_in: SignIn,
    /// When it was last signed in.
    pub last_seen: LastSeen,
}

/// The columns of a list of users.
pub const COLUMNS: Columns<12> = columns! {
    "name": "login name",
    "uid": "user number",
    "kind": "person or service",
    "primary": "primary group, by name, or its number where no group has it",
    "groups": "groups that list the user, with commas between",
    "home": "home directory",
    "shell": "shell; /bin/sh where the field is empty",
    "full-name": "first part of the GECOS field",
    "sign-in": "whether, and how, the user can sign in, or why not",
    "changed": "day of the last password change; empty without a password",
    "expires": "first day on which the account no longer works; empty for never",
    "seen": "day of the last sign-in; never, or empty where it is not known",
};

/// The columns of a list of those who are suspended.
pub const SUSPENDED: Columns<6> = columns! {
    "name": "login name",
    "uid": "user number",
    "full-name": "first part of the GECOS field",
    "since": "day on which the account was suspended",
    "expires": "expiry that comes back with resume; empty for never",
    "reason": "why, in the words that were given",
};

/// Prints users: a table on a terminal, else rows. `of` is how many people and how many services
/// there are in all.
pub fn print(global: &Global, rows: &Rows, listed: &[Listed<'_>], of: impl FnOnce() -> [usize; 2]) {
    if rows.are_wanted(global) {
        rows.print(global, &COLUMNS, listed.iter().map(row));
        return;
    }
    let titles =
        ["name", "uid", "full name", "member of", "sign-in", "last seen", "expires", "home"];
    let for_people = |one: &Listed<'_>| {
        let [name, uid, _, _, groups, home, _, full_name, sign_in, _, expires, seen] = row(one);
        [name, uid, full_name, groups.replace(',', ", "), sign_in, seen, expires, home]
    };
    let table = table(titles, listed.iter().map(for_people));
    if !listed.is_empty() {
        outln!("{table}");
        outln!();
    }
    let [people, services] = of();
    remark(&format!(
        "{} of {}: there are {} and {}",
        counted(listed.len(), "user", "users"),
        people + services,
        counted(people, "person", "people"),
        counted(services, "service", "services")
    ));
}

/// Prints those who are suspended: since when, what expiry returns, and why.
pub fn print_suspended(
    global: &Global,
    rows: &Rows,
    listed: &[Listed<'_>],
    notes: &[Suspended],
    of: usize,
) {
    let row = |one: &Listed<'_>| {
        let user = &one.account.user;
        let note = note_of(&one.account, notes);
        let expires = note.and_then(|note| note.expires).map(|day| day.to_string());
        [
            visible(user.name),
            visible(user.uid),
            visible(user.full_name()),
            note.map_or_else(|| "not known".to_owned(), |note| note.since.to_string()),
            expires.unwrap_or_default(),
            note.map(|note| visible(note.reason.as_bytes())).unwrap_or_default(),
        ]
    };
    if rows.are_wanted(global) {
        rows.print(global, &SUSPENDED, listed.iter().map(row));
        return;
    }
    if !listed.is_empty() {
        let titles = ["name", "uid", "full name", "suspended since", "expires when resumed", "why"];
        outln!("{}", table(titles, listed.iter().map(row)));
        outln!();
    }
    remark(&format!("{} of {of}", counted(listed.len(), "user", "users")));
}

fn row(one: &Listed<'_>) -> [String; 12] {
    let account = &one.account;
    let user = &account.user;
    let groups: Vec<String> = account.groups.iter().map(|group| visible(group.name)).collect();
    let aging = account.aging();
    let changed = aging.and_then(|aging| aging.changed).filter(|day| *day > 0);
    let set = account.password().scheme().is_some();
    let expires = aging.and_then(|aging| aging.expires).filter(|_| !account.is_suspended());
    [
        visible(user.name),
        visible(user.uid),
        account.kind.to_string(),
        account.primary.map_or_else(|| visible(user.gid), visible),
        groups.join(","),
        visible(user.home),
        visible(user.effective_shell()),
        visible(user.full_name()),
        one.sign_in.in_short(),
        changed.filter(|_| set).map(|day| Day(day).to_string()).unwrap_or_default(),
        expires.map(|day| day.to_string()).unwrap_or_default(),
        match &one.last_seen {
            LastSeen::At(visit) => visit.day().to_string(),
            LastSeen::Never => "never".to_owned(),
            LastSeen::NoLog | LastSeen::Unknown(_) => String::new(),
        },
    ]
}
