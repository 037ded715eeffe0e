//! Rosters as LDIF: a dump of a directory, by RFC 2307.

use std::borrow::Cow;
use std::collections::HashMap;

use bstr::{BString, ByteSlice};

use super::cells::{CellValue, Reading, TakesRows};
use super::source::Wrong;
use crate::account::NO_HOME;
use crate::ldif::{DirectoryAccounts, DirectoryGroup, DirectoryUser};
use crate::value::{Day, UserOrGroup};

/// What is told of passwords that can't be taken.
const OTHER_SCHEME: &str = "userPassword of another scheme than {CRYPT}";

/// Reads the rows of a dump. A group that is somebody's own has no row: it is made with them.
pub(super) fn read(reading: &mut Reading<'_>) {
    let (accounts, faults) = DirectoryAccounts::read(reading.source.text());
    for fault in faults {
        reading.fault(fault.offset, None, Wrong::new(fault.message, fault.instead));
    }
    if accounts.users.iter().any(|user| user.other_scheme) {
        reading.passed_over.push(OTHER_SCHEME.to_owned());
    }
    let apart = accounts.made_with_users();
    let mut by_gid: HashMap<u32, (&DirectoryGroup, bool)> = HashMap::new();
    for (group, own) in apart.iter().copied() {
        by_gid.entry(group.gid).or_insert((group, own));
    }
    for (at, (group, _)) in apart.iter().filter(|(_, own)| !own).enumerate() {
        let values = group_values(group);
        reading.table(Some(UserOrGroup::Group), at + 1, group.offset, values);
    }
    for (at, user) in accounts.users.iter().enumerate() {
        let values = user_values(user, by_gid.get(&user.gid).copied());
        reading.table(Some(UserOrGroup::User), at + 1, user.offset, values);
    }
}

type Values<'v> = Vec<(Cow<'v, str>, usize, CellValue)>;

fn text(text: &[u8]) -> CellValue {
    match text.to_str() {
        Ok(text) => CellValue::Text(text.to_owned()),
        Err(_) => CellValue::Unfit("not UTF-8"),
    }
}

fn group_values(group: &DirectoryGroup) -> Values<'static> {
    let value = |key: &'static str, value| (Cow::Borrowed(key), group.offset, value);
    let members = group.members.iter().map(|member| text(member)).collect();
    vec![
        value("name", text(&group.name)),
        value("gid", CellValue::Text(group.gid.to_string())),
        value("member", CellValue::List(members)),
    ]
}

fn user_values(user: &DirectoryUser, primary: Option<(&DirectoryGroup, bool)>) -> Values<'static> {
    let value = |key: &'static str, value| (Cow::Borrowed(key), user.offset, value);
    let number = |number: u32| CellValue::Text(number.to_string());
    let mut values = vec![
        value("name", text(&user.name)),
        value("uid", number(user.uid)),
        value("full_name", text(&user.full_name)),
    ];
    match primary {
        // It is made with them.
        Some((group, true)) if group.name == user.name => {}
        Some((group, _)) => values.push(value("primary", text(&group.name))),
        // A dump of users alone does not hold their own groups.
        None if user.gid == user.uid => {}
        None => values.push(value("primary", number(user.gid))),
    }
    let home = if user.home == NO_HOME { BString::from("none") } else { user.home.clone() };
    values.push(value("home", text(&home)));
    values.extend(user.shell.as_ref().map(|shell| value("shell", text(shell))));
    for (key, days) in ["hold", "renew", "remind", "late"].into_iter().zip(user.aging) {
        values.extend(days.map(|days| value(key, number(days))));
    }
    values.extend(user.expires.map(|day| value("expires", CellValue::Text(day.to_string()))));
    if let Some(hash) = &user.hash {
        values.push(value("password_hash", text(hash)));
        values.extend(user.changed.map(|day| match day {
            Day(0) => value("must_change", CellValue::Text("yes".to_owned())),
            day => value("changed", CellValue::Text(day.to_string())),
        }));
    }
    values
}
