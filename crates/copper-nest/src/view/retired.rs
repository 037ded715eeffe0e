//! Deleted users and groups that are kept.

use nest_core::plan::history::kept_until;
use nest_core::retired::{Became, Belonging, BelongingKind, Kept, RetiredAccount};
use nest_core::secret::shown;
use nest_core::value::{Day, bytes_in_words};
use nest_core::words::counted;
use serde_json::{Value, json};

use super::columns::{Columns, Rows};
use super::{remark, style, table, visible, visible_line};
use crate::cli::Global;

fn by(account: &RetiredAccount) -> String {
    account.by.name.clone().unwrap_or_else(|| format!("uid {}", account.by.uid))
}

/// The number; nothing where lines alone are kept, of an account that nobody knows.
fn id(account: &RetiredAccount) -> String {
    match account.kept.id {
        Kept::NO_ID => String::new(),
        id => id.to_string(),
    }
}

fn day(account: &RetiredAccount) -> &str {
    account.time.get(..10).unwrap_or_default()
}

fn until(account: &RetiredAccount, days: u32) -> String {
    kept_until(account, days).map(|day| day.to_string()).unwrap_or_default()
}

/// What became of a belonging: a word, and where it is.
fn became(account: &RetiredAccount, belonging: &Belonging) -> (&'static str, String) {
    match &belonging.became {
        Became::Stays => ("stays", visible(&belonging.path)),
        Became::SetAside { place } => ("set aside", visible(place)),
        Became::Archived { file } => ("archived", format!("retired/{}/{file}", account.folder)),
        Became::Erased => ("erased", String::new()),
        Became::Given { place, .. } => ("given", visible(place)),
    }
}

/// The columns of a list of deleted accounts.
pub const COLUMNS: Columns<10> = columns! {
    "thing": "user or group",
    "name": "what it was called",
    "id": "its number; empty where only lines are kept",
    "deleted": "day of the deletion",
    "by": "who deleted it",
    "change": "the change that did",
    "home": "what became of the home: stays, set aside, archived, erased, given",
    "place": "where the home is now",
    "bytes": "size of the home",
    "until": "day until which it is kept",
};

/// One of them as a row.
pub fn row(account: &RetiredAccount, days: u32) -> [String; 10] {
    let home = account.kept.belonging(BelongingKind::Home);
    let (word, place) = home.map(|home| became(account, home)).unwrap_or_default();
    let bytes = home.map(|home| home.bytes.to_string()).unwrap_or_default();
    [
        account.kept.thing.to_string(),
        visible(&account.kept.name),
        id(account),
        day(account).to_owned(),
        by(account),
        account.change.to_string(),
        word.to_owned(),
        place,
        bytes,
        until(account, days),
    ]
}

/// Prints all of them: a table on a terminal, else rows.
pub fn print(global: &Global, rows: &Rows, kept: &[RetiredAccount], days: u32, today: Day) {
    if rows.are_wanted(global) {
        rows.print(global, &COLUMNS, kept.iter().map(|account| row(account, days)));
        return;
    }
    let titles =
        ["", "name", "id", "deleted", "by", "change", "home", "where", "size", "kept until"];
    let rows = kept.iter().map(|account| {
        let [thing, name, id, day, by, change, home, place, _, until] = row(account, days);
        let home_kept = account.kept.belonging(BelongingKind::Home);
        let bytes = home_kept.map(|home| bytes_in_words(home.bytes)).unwrap_or_default();
        let is_due = kept_until(account, days).is_some_and(|day| day <= today);
        let due = if is_due { ", due" } else { "" };
        [thing, name, id, day, by, change, home, place, bytes, format!("{until}{due}")]
    });
    if !kept.is_empty() {
        outln!("{}", table(titles, rows));
        outln!();
    }
    remark(&format!("{} kept", counted(kept.len(), "deleted account", "deleted accounts")));
}

/// Prints one: what is kept of it, line by line.
pub fn print_one(account: &RetiredAccount, days: u32) {
    let (heading, quiet) = (style::HEADING, style::QUIET);
    let kept = &account.kept;
    let name = visible(&kept.name);
    outln!(
        "{heading}{name}{heading:#}   deleted {} by {}, change {}",
        day(account),
        by(account),
        account.change
    );
    outln!();
    let row = |label: &str, value: String| outln!("  {label:11} {value}");
    row("id", format!("{} {}, retired", kept.thing, kept.id));
    row("kept", format!("retired/{}, until {}", account.folder, until(account, days)));
    let mut groups: Vec<String> = Vec::new();
    for place in &kept.places {
        let group = visible(&place.group);
        let group = if place.admins { format!("{group} (administrator)") } else { group };
        if !groups.contains(&group) {
            groups.push(group);
        }
    }
    let groups = if groups.is_empty() { "no other group".to_owned() } else { groups.join(", ") };
    row("was in", groups);
    for belonging in &kept.belongings {
        let (word, place) = became(account, belonging);
        let size = bytes_in_words(belonging.bytes);
        let path = visible(&belonging.path);
        row(
            belonging.what.into(),
            format!("{path}   {word}, {size}   {place}").trim_end().to_owned(),
        );
    }
    if let Some(note) = &kept.suspended {
        row("suspended", format!("since {}: {}", note.since, note.reason));
    }
    outln!();
    let place = |line: &nest_core::retired::KeptLine| format!("{}:{}", line.file.path(), line.line);
    let column = kept.lines.iter().map(|line| place(line).len()).max().unwrap_or(0);
    for line in &kept.lines {
        let text = visible_line(&shown(line.file, &line.text));
        outln!("  {quiet}{:column$}{quiet:#}   {text}", place(line));
    }
}

/// One for machines. No hash is in it.
pub fn to_json(account: &RetiredAccount, days: u32) -> Value {
    let kept = &account.kept;
    let belongings: Vec<Value> = kept
        .belongings
        .iter()
        .map(|belonging| {
            let (word, place) = became(account, belonging);
            json!({
                "what": belonging.what,
                "path": visible(&belonging.path),
                "became": word.replace(' ', "-"),
                "place": place,
                "files": belonging.files,
                "bytes": belonging.bytes,
            })
        })
        .collect();
    let groups: std::collections::BTreeSet<String> =
        kept.places.iter().map(|place| visible(&place.group)).collect();
    json!({
        "thing": kept.thing.to_string(),
        "name": visible(&kept.name),
        "id": kept.id,
        "time": account.time,
        "by": {"uid": account.by.uid, "name": account.by.name},
        "change": account.change,
        "kept_until": until(account, days),
        "groups": groups,
        "belongings": belongings,
        "suspended": kept.suspended.is_some(),
    })
}
