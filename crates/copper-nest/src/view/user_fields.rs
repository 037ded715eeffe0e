//! A user, field by field, each with what it means.

use nest_core::secret::{HIDDEN, told_list};
use nest_core::table::File;
use nest_core::value::{Day, PasswordField};
use nest_core::words::counted;

use super::user::{ShownUser, last_seen};
use super::{style, visible, width};

/// Explains the record, field by field.
pub fn print_fields(shown: &ShownUser<'_>) {
    let user = &shown.account.user;
    let name = visible(user.name);
    let uid = visible(user.uid);
    file_heading("etc/passwd", "who the account is; everybody can read it");
    let password = match user.password {
        b"x" => "the hash is in etc/shadow, which only root can read".to_owned(),
        b"" => "empty: no password is asked".to_owned(),
        _ => "the password is kept here, and not in etc/shadow".to_owned(),
    };
    let primary = match shown.account.primary {
        Some(group) => {
            format!("the gid of the primary group, {}: new files belong to it", visible(group))
        }
        None => "the gid of the primary group, which no group has".to_owned(),
    };
    let rows = [
        ("name", visible(user.name), format!("what {name} signs in with")),
        ("password", harmless(user.password), password),
        (
            "uid",
            visible(user.uid),
            format!("the number that files and processes carry; {uid} is {}", shown.kind()),
        ),
        ("gid", visible(user.gid), primary),
        (
            "gecos",
            visible(user.gecos),
            "the full name, and after commas up to four more parts".to_owned(),
        ),
        ("home", visible(user.home), "where a session starts".to_owned()),
        ("shell", visible(user.shell), "what a session runs; empty means /bin/sh".to_owned()),
    ];
    for (at, (label, value, meaning)) in rows.into_iter().enumerate() {
        field(at, label, &value, &meaning);
    }
    let Some(shadow) = &shown.account.shadow else { return print_tree_fields(shown) };
    outln!();
    file_heading("etc/shadow", "the password and how it ages; days count from 1970-01-01");
    let aging = shadow.aging();
    let day = |day: Option<i64>, what: &str, none: &str| match day {
        Some(day) => format!("{what} {}", Day(day)),
        None => none.to_owned(),
    };
    let days = |days: Option<i64>, what: &str, none: &str| match days {
        Some(0) => format!("no day {what}"),
        Some(days) => format!("{} {what}", counted(days.unsigned_abs() as usize, "day", "days")),
        None => none.to_owned(),
    };
    let changed = match aging.changed {
        Some(0) => "0: the password must be changed at the next sign-in".to_owned(),
        changed => {
            day(changed, "the password was last changed on", "no day: the password does not age")
        }
    };
    let password = match shadow.field() {
        PasswordField::Set(scheme) => format!("a hash, made with {}", scheme.name()),
        PasswordField::Locked(scheme) => {
            format!("! before a hash made with {}: locked", scheme.name())
        }
        PasswordField::None => "!: none was ever set".to_owned(),
        PasswordField::Never => "no password can match".to_owned(),
        PasswordField::Open => "empty: no password is asked".to_owned(),
    };
    let expires = day(
        aging.expires.map(|day| day.0),
        "the account no longer works from",
        "empty: the account does not expire",
    );
    let told = |value: &[u8]| visible(&told_list(File::Shadow, value));
    let rows = [
        ("name", told(shadow.name), "the same as in etc/passwd".to_owned()),
        ("password", harmless(shadow.password), password),
        ("changed", told(shadow.changed), changed),
        (
            "hold",
            told(shadow.hold),
            days(
                aging.hold,
                "before it can be changed again",
                "empty: it can be changed at any time",
            ),
        ),
        (
            "renew",
            told(shadow.renew),
            days(aging.renew, "after which it must be changed", "it need not be renewed"),
        ),
        (
            "remind",
            told(shadow.remind),
            days(aging.remind, "of reminder before that", "empty: no reminder"),
        ),
        (
            "late",
            told(shadow.late),
            days(aging.late, "of grace after that", "empty: grace without end"),
        ),
        ("expires", told(shadow.expires), expires),
        ("reserved", told(shadow.reserved), "not used".to_owned()),
    ];
    for (at, (label, value, meaning)) in rows.into_iter().enumerate() {
        field(at, label, &value, &meaning);
    }
    print_tree_fields(shown);
}

/// Explains what is told besides the account files.
fn print_tree_fields(shown: &ShownUser<'_>) {
    outln!();
    file_heading("beside the files", "what the rest of the tree says about the account");
    let count = |count: usize| if count == 0 { "none".to_owned() } else { count.to_string() };
    let working = shown.keys.iter().filter(|key| key.works()).count();
    let rows = [
        (
            "sign-in",
            visible(shown.sign_in.in_short().as_bytes()),
            "whether anything lets it in now: password, key, shell, expiry and the SSH server agree",
        ),
        (
            "hours",
            visible(shown.window[0].value.as_bytes()),
            "when it may sign in, by etc/security/time.conf, where a service keeps to that",
        ),
        (
            "places",
            visible(shown.window[1].value.as_bytes()),
            "from where, by etc/security/access.conf, where a service keeps to that",
        ),
        (
            "last seen",
            shown
                .last_seen
                .visit()
                .map_or_else(|| last_seen(&shown.last_seen), |visit| visit.day().to_string()),
            "the latest sign-in that the system's own logs have",
        ),
        (
            "keys",
            count(working),
            "SSH keys that let it in, in the files that the SSH server looks at",
        ),
        (
            "powers",
            count(shown.powers.len()),
            "ways to run something as root: uid 0, sudoers, doas.conf, groups that amount to root",
        ),
    ];
    for (at, (label, value, meaning)) in rows.into_iter().enumerate() {
        field(at, label, &value, meaning);
    }
}

/// A password field, without hash.
fn harmless(field: &[u8]) -> String {
    if PasswordField::is_harmless(field) { visible(field) } else { HIDDEN.to_owned() }
}

/// The heading over the fields of a file's record.
pub fn file_heading(file: &str, what: &str) {
    let (heading, quiet) = (style::HEADING, style::QUIET);
    outln!("{heading}{file}{heading:#}   {quiet}{what}{quiet:#}");
}

/// One field of a record, with what it means.
pub fn field(at: usize, label: &str, value: &str, meaning: &str) {
    let quiet = style::QUIET;
    let value = if value.is_empty() { "(empty)" } else { value };
    let gap = " ".repeat(24usize.saturating_sub(width(value)));
    outln!("  {}  {label:9} {value}{gap}  {quiet}{meaning}{quiet:#}", at + 1);
}
