//! Rows of users.

use std::collections::HashSet;

use bstr::{BStr, BString, ByteSlice};
use serde_json::Value;

use super::{Chosen, PasswordHashes, WrittenRoster, WrittenRow, cell_text, unfit_name, written};
use crate::account::{Account, AccountKind, NO_HOME};
use crate::policy::Policy;
use crate::request::CreateUser;
use crate::roster::{Column, Form, RosterRow, RowRequest};
use crate::suspended::Suspended;
use crate::table::{Passwd, Shadow};
use crate::value::{
    Day, GecosParts, IdSpan, PasswordField, UserOrGroup, check_hash, path_fault, unfit,
};
use crate::windows::Windows;

/// Reads the keys that let an account in, as their files hold them; nothing where it has none.
pub type ReadKeys<'w> = dyn Fn(Passwd<'_>) -> Result<Option<String>, String> + 'w;

/// How users are written, and what is known of them beside the account files.
pub struct UserWriting<'w> {
    /// The form.
    pub form: Form,
    /// Whether hashes are.
    pub hashes: PasswordHashes,
    /// The groups that will be made with them.
    pub own: &'w HashSet<&'w [u8]>,
    /// What new accounts get unasked.
    pub policy: &'w Policy,
    /// When and from where they may sign in.
    pub windows: &'w Windows,
    /// What is noted of those who are suspended.
    pub suspended: &'w [Suspended],
    /// Whether the tree has a shadow file.
    pub has_shadow: bool,
    /// Reads keys, where they are written too.
    pub keys: Option<&'w ReadKeys<'w>>,
}

/// Writes users.
pub fn written_users<'b>(
    accounts: impl Iterator<Item = Account<'b>>,
    writing: &UserWriting<'_>,
) -> WrittenRoster {
    let (mut rows, mut chosen) = (Vec::new(), Chosen::default());
    for account in accounts {
        let uid = account.user.uid().map(|uid| uid.0);
        rows.extend(chosen.takes(account.user.name, uid).map(|it| writing.row(&account, it)));
    }
    let columns = Column::of(UserOrGroup::User).filter(|column| match column {
        Column::PasswordHash | Column::MustChange | Column::Changed => {
            writing.hashes == PasswordHashes::Included
        }
        // What it says is in the groups.
        Column::Admin => false,
        Column::Name
        | Column::FullName
        | Column::Uid
        | Column::Primary
        | Column::Join
        | Column::Home
        | Column::Shell
        | Column::Service
        | Column::Expires
        | Column::Ranges => true,
        // Hardly anybody has any, or all have none.
        _ => rows.iter().any(|row| row.values.iter().any(|(has, _)| has == column)),
    });
    let columns: Vec<Column> = columns.collect();
    chosen.before(written(UserOrGroup::User, &columns, rows, writing.form))
}

impl UserWriting<'_> {
    fn row<'b>(&self, account: &Account<'b>, shares: bool) -> WrittenRow<'b> {
        let user = &account.user;
        let mut row = WrittenRow::new(user.name);
        let name = row.name();
        gecos(user.gecos, &mut row);
        match user.uid() {
            Some(uid) => row.put(Column::Uid, uid.0),
            None => row.leave_out(format_args!("the uid of {name}, which is unreadable")),
        }
        if shares {
            row.put(Column::ShareId, true);
        }
        self.groups(account, &mut row);
        match path_fault(user.home) {
            _ if user.home == NO_HOME.as_bytes() => row.text(Column::Home, b"none"),
            None => row.text(Column::Home, user.home),
            Some(fault) => {
                let home = BStr::new(user.home);
                row.leave_out(format_args!("the home of {name}: {home:?} {fault}"));
            }
        }
        match path_fault(user.effective_shell()) {
            None => row.text(Column::Shell, user.effective_shell()),
            Some(fault) => {
                let shell = BStr::new(user.shell);
                row.leave_out(format_args!("the shell of {name}: {shell} {fault}"));
            }
        }
        if account.kind == AccountKind::Service {
            row.put(Column::Service, true);
        }
        self.shadow(account, &mut row);
        self.window(user.name, &mut row);
        ranges(account, &mut row);
        if let Some(read) = self.keys {
            match read(*user) {
                Ok(None) => {}
                Ok(Some(keys)) => row.put(Column::SshKey, keys),
                Err(why) => row.leave_out(format_args!("the keys of {name}: {why}")),
            }
        }
        row
    }

    /// What would be asked to make an account as it is, and what can't be.
    pub(crate) fn asked_of(
        &self,
        account: &Account<'_>,
        shares: bool,
    ) -> (CreateUser, Vec<String>) {
        let row = self.row(account, shares);
        let mut left_out = row.left_out;
        let what = RowRequest::User(Some(Box::default()));
        let mut asked = RosterRow::of_line((0, 0, 0), &[], what);
        for (column, value) in row.values {
            if let Err(wrong) = asked.set(column, cell_text(&value).into(), None) {
                let name = BStr::new(account.user.name);
                left_out.push(format!("the {column} of {name}: {}", wrong.message));
            }
        }
        match asked.what {
            RowRequest::User(Some(user)) => (*user, left_out),
            RowRequest::User(None) | RowRequest::Group(_) => (CreateUser::default(), left_out),
        }
    }

    fn groups(&self, account: &Account<'_>, row: &mut WrittenRow<'_>) {
        let user = &account.user;
        let private = account.primary == Some(user.name) && self.own.contains(user.name);
        // A group that can't be named is there by its number all the same.
        let primary = account.primary.filter(|name| unfit_name(name).is_none());
        if !private {
            row.text(Column::Primary, primary.unwrap_or(user.gid));
        }
        let others = account.groups.iter().map(|group| group.name);
        let others = others.filter(|group| Some(*group) != account.primary);
        row.list(Column::Join, others);
        let joins = row.values.iter().position(|(column, _)| *column == Column::Join);
        let of_all = &self.policy.people_groups;
        let gets_more =
            of_all.iter().any(|group| account.groups.iter().all(|it| it.name != group.as_bytes()));
        if account.kind == AccountKind::Person && (joins.is_none() || gets_more) {
            let joins = joins.map(|at| row.values.remove(at).1);
            let mut all = vec![Value::from("none")];
            all.extend(joins.and_then(|joins| joins.as_array().cloned()).into_iter().flatten());
            row.put(Column::Join, all);
        }
    }

    /// What the shadow line says.
    fn shadow(&self, account: &Account<'_>, row: &mut WrittenRow<'_>) {
        let name = row.name();
        if !account.user.is_shadowed() {
            let what = "its password field is not x";
            row.leave_out(format_args!("what etc/passwd says of the password of {name}: {what}"));
        }
        let Some(shadow) = account.shadow else {
            if self.has_shadow {
                row.leave_out(format_args!("that {name} has no line in etc/shadow: it gets one"));
            }
            return;
        };
        let note = self.suspended.iter().find(|note| note.is_of(row.name, account.user.uid()));
        let note = note.filter(|_| account.is_suspended());
        let expires = match account.is_suspended() {
            true => note.and_then(|note| note.expires),
            false => shadow.aging().expires,
        };
        match expires.map(|day| (day, as_date(day))) {
            None => {}
            Some((_, Some(text))) => row.put(Column::Expires, text),
            Some((day, None)) => {
                row.leave_out(format_args!("the expiry of {name}, {day}: no calendar has it"));
            }
        }
        if account.is_suspended() {
            let reason = note.map_or("", |note| note.reason.trim());
            let says = if is_answer(reason) { "yes" } else { reason };
            if is_answer(reason) && !reason.is_empty() {
                let what = "which a table would read as an answer";
                row.leave_out(format_args!("the reason why {name} is suspended, {reason}, {what}"));
            }
            row.put(Column::Suspended, says);
        }
        aging(&shadow, row);
        if self.hashes == PasswordHashes::Included {
            password(&shadow, account.is_suspended(), note, row);
        }
        if !shadow.reserved.is_empty() {
            row.leave_out(format_args!(
                "the last field of {name} in etc/shadow, which is kept free"
            ));
        }
    }

    fn window(&self, name: &[u8], row: &mut WrittenRow<'_>) {
        if let Some(hours) = self.windows.hours_of(name) {
            row.put(Column::Hours, hours.says.to_string());
        }
        let Some(places) = self.windows.places_of(name) else { return };
        match places.says {
            Some(says) => row.put(Column::Places, says.to_string()),
            None => {
                let (name, at) = (row.name(), places.place);
                row.leave_out(format_args!(
                    "the places of {name}, of which {at} says more than that"
                ));
            }
        }
    }
}

/// The full name, and the parts after it.
fn gecos(field: &[u8], row: &mut WrittenRow<'_>) {
    let full_name = field.split(|byte| *byte == b',').next().unwrap_or_default();
    let parts = GecosParts::of(field);
    let all = [
        (Column::FullName, Some(BString::from(full_name))),
        (Column::Room, parts.room),
        (Column::PhoneWork, parts.phone_work),
        (Column::PhoneHome, parts.phone_home),
        (Column::Other, parts.other),
        (Column::Gecos, parts.whole),
    ];
    for (column, part) in all {
        let Some(part) = part else { continue };
        let commas = matches!(column, Column::Other | Column::Gecos);
        let plain = part.replace(b",", b"");
        match unfit(if commas { &plain } else { &part }) {
            None if !part.eq_ignore_ascii_case(b"none") => row.text(column, &part),
            None => {
                let name = row.name();
                row.leave_out(format_args!("the {column} of {name}, {part}, which means nothing"));
            }
            Some(fault) => {
                let name = row.name();
                row.leave_out(format_args!("the {column} of {name}, which holds {fault}"));
            }
        }
    }
}

/// A day as a table has it; nothing where the calendar does not reach.
fn as_date(day: Day) -> Option<String> {
    let text = day.to_string();
    (Day::parse(&text, Day(0)).ok() == Some(day)).then_some(text)
}

/// Whether a reason would be taken for yes or no.
fn is_answer(reason: &str) -> bool {
    let answers = ["", "yes", "no", "true", "false", "y", "n", "1", "0"];
    answers.iter().any(|answer| reason.eq_ignore_ascii_case(answer))
}

fn aging(shadow: &Shadow<'_>, row: &mut WrittenRow<'_>) {
    for (column, field) in [
        (Column::Hold, shadow.hold),
        (Column::Renew, shadow.renew),
        (Column::Remind, shadow.remind),
        (Column::Late, shadow.late),
    ] {
        let days = field.to_str().ok().and_then(|text| text.parse::<u32>().ok());
        match days {
            _ if field.is_empty() => row.put(column, "none"),
            Some(days) if days.to_string().as_bytes() == field => row.put(column, days),
            _ => {
                let (name, field) = (row.name(), BStr::new(field));
                row.leave_out(format_args!("the days {column} of {name}, {field:?}"));
            }
        }
    }
}

/// The hash, as it was before the account was suspended, and the day on which it was made.
fn password(
    shadow: &Shadow<'_>,
    is_suspended: bool,
    note: Option<&Suspended>,
    row: &mut WrittenRow<'_>,
) {
    let name = row.name();
    let was_locked = note.is_some_and(|note| note.was_locked);
    let field = match shadow.password.strip_prefix(b"!") {
        Some(hash) if is_suspended && !was_locked && check_hash(hash).is_ok() => hash,
        _ => shadow.password,
    };
    if PasswordField::read(field) == PasswordField::Open {
        row.leave_out(format_args!("that {name} signs in without a password"));
    } else {
        row.password(field);
        if note.is_some_and(|note| note.was_open) {
            row.leave_out(format_args!(
                "that {name} signed in without a password before it was suspended"
            ));
        }
    }
    match (shadow.changed, shadow.aging().changed.map(Day)) {
        (b"", _) => row.put(Column::Changed, "none"),
        (_, Some(Day(0))) => row.put(Column::MustChange, true),
        (field, day) => match day.and_then(as_date) {
            Some(text) => row.put(Column::Changed, text),
            None => {
                let field = BStr::new(field);
                row.leave_out(format_args!("the day {name}'s password was changed, {field:?}"));
            }
        },
    }
}

fn ranges(account: &Account<'_>, row: &mut WrittenRow<'_>) {
    let spans: Vec<IdSpan> = account.uid_ranges.clone();
    if spans != account.gid_ranges {
        let name = row.name();
        row.leave_out(format_args!("the gid ranges of {name}, which differ from those of uids"));
    }
    if !spans.is_empty() {
        // Always both ends: a number alone is a count.
        let text = |span: &IdSpan| format!("{}-{}", span.first(), span.last()).into();
        let spans: Vec<Value> = spans.iter().map(text).collect();
        row.put(Column::Ranges, spans);
    } else if account.kind == AccountKind::Person {
        row.put(Column::Ranges, "none");
    }
}
