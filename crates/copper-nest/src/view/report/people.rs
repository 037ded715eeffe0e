//! The users on a page, and their ways to root.

use nest_core::last_seen::LastSeen;
use nest_core::powers::Way;
use nest_core::sign_in::SignIn;
use nest_core::value::Day;

use super::tree::Reported;
use crate::view::user::ShownUser;
use crate::view::{admins, visible};

/// A user of the table.
pub struct UserRow {
    pub is: String,
    pub name: String,
    pub full_name: String,
    pub uid: String,
    pub kind: String,
    pub tone: &'static str,
    pub sign_in: String,
    pub root: &'static str,
    pub seen: String,
    pub changed: String,
    pub expires: String,
    pub primary: String,
    pub groups: String,
}

/// A way of somebody to root.
pub struct AdminRow {
    pub name: String,
    pub by: String,
    pub runs: String,
    pub asks: String,
    pub sign_in: String,
    pub change: Option<u64>,
    pub since: String,
    pub whole: bool,
}

/// Whether somebody can sign in, and how, or why not.
fn sign_in(answer: &SignIn) -> (String, &'static str) {
    let password = answer.by_password() || answer.by_password_over_ssh();
    let how = match (password, answer.by_key()) {
        (true, true) => "password and key",
        (true, false) => "password",
        (false, true) => "key",
        (false, false) => return (format!("no: {}", answer.in_short()), "quiet"),
    };
    match answer.is_possible_now() {
        true => (format!("yes: {how}"), ""),
        false => (format!("not now: {how}"), "quiet"),
    }
}

/// What the table says of a user.
pub fn user_row(user: &ShownUser<'_>) -> UserRow {
    let account = user.account;
    let (sign_in, tone) = sign_in(user.sign_in);
    let root = user.powers.iter().any(Way::amounts_to_root);
    let mut is = vec![account.kind.to_string()];
    for (holds, word) in [
        (user.sign_in.is_possible_now(), "signs-in"),
        (root, "root"),
        (account.is_suspended(), "suspended"),
    ] {
        is.extend(holds.then(|| word.to_owned()));
    }
    let aging = account.aging();
    let set = account.password().scheme().is_some();
    let changed = aging.and_then(|aging| aging.changed).filter(|day| set && *day > 0);
    let expires = aging.and_then(|aging| aging.expires).filter(|_| !account.is_suspended());
    // A group of the own name says nothing.
    let primary = account.primary.map_or_else(|| visible(account.user.gid), visible);
    let name = visible(account.user.name);
    let groups: Vec<String> = account.groups.iter().map(|group| visible(group.name)).collect();
    UserRow {
        is: is.join(" "),
        primary: if primary == name { String::new() } else { primary },
        name,
        full_name: visible(account.user.full_name()),
        uid: visible(account.user.uid),
        kind: account.kind.to_string(),
        tone,
        sign_in,
        root: match (root, user.powers.is_empty()) {
            (true, _) => "root",
            (false, false) => "in part",
            (false, true) => "",
        },
        seen: match &user.last_seen {
            LastSeen::At(visit) => visit.day().to_string(),
            LastSeen::Never => "never".to_owned(),
            LastSeen::NoLog | LastSeen::Unknown(_) => String::new(),
        },
        changed: changed.map(|day| Day(day).to_string()).unwrap_or_default(),
        expires: expires.map(|day| day.to_string()).unwrap_or_default(),
        groups: groups.join(", "),
    }
}

/// The ways to root, each with the change by which it came where that is on the page.
pub fn admin_rows(reported: &Reported<'_>, linked: &[u64]) -> Vec<AdminRow> {
    let mut rows = Vec::new();
    for one in reported.admins {
        for way in &one.ways {
            let [name, by, runs, asks, _, since] = admins::row(one, way);
            let change = one.since.as_ref().map(|since| since.change);
            rows.push(AdminRow {
                name,
                by,
                runs,
                asks,
                sign_in: sign_in(&one.sign_in).0,
                change: change.filter(|change| linked.contains(change)),
                since,
                whole: way.amounts_to_root(),
            });
        }
    }
    rows
}
