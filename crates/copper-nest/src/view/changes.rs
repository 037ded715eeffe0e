//! Changes: a list of them, and one.

use std::collections::BTreeMap;

use nest_core::change::{Label, access_lines};
use nest_core::drift::Drift;
use nest_core::record::ChangeRecord;
use nest_core::value::Author;
use nest_core::words::counted;
use serde_json::json;

use super::columns::{Columns, Rows};
use super::{receipt, remark, style, table, visible};
use crate::cli::Global;
use crate::clock::for_people;

/// What there is to show of the changes.
pub struct ShownChanges<'a> {
    /// The records, newest first.
    pub records: Vec<&'a ChangeRecord>,
    /// Which change is undone by which.
    pub undone: &'a BTreeMap<u64, u64>,
    /// What other hands did since the newest change.
    pub since: &'a [Drift],
    /// Whether it is about who gained and who lost access.
    pub access: bool,
}

/// The columns of a list of changes.
pub const COLUMNS: Columns<6> = columns! {
    "change": "number; - for what other hands did",
    "time": "when",
    "by": "by whom",
    "what": "what was done",
    "fate": "what became of it; empty where it stands",
    "note": "the note that was given",
};

/// The columns of a list of who gained and who lost access.
pub const ACCESS: Columns<6> = columns! {
    "change": "number",
    "time": "when",
    "by": "by whom",
    "account": "who gained or lost access",
    "access": "what access, and by what",
    "note": "the note that was given",
};

/// Prints a list of changes: a table on a terminal, else rows.
pub fn print(global: &Global, as_rows: &Rows, shown: &ShownChanges<'_>) {
    let rows = if shown.access { access_rows(shown) } else { rows(shown) };
    let noted = rows.iter().any(|row| !row[5].is_empty());
    if as_rows.are_wanted(global) {
        let columns = if shown.access { &ACCESS } else { &COLUMNS };
        as_rows.print(global, columns, rows.into_iter());
        return;
    }
    if rows.is_empty() {
        outln!("no changes");
        return;
    }
    let titles = match shown.access {
        true => ["change", "when", "by", "account", "access", "note"],
        false => ["change", "when", "by", "what", "", "note"],
    };
    let without = |[number, when, by, what, fate, _]: [String; 6]| [number, when, by, what, fate];
    match noted {
        true => outln!("{}", table(titles, rows.into_iter())),
        false => {
            let [one, two, three, four, five, _] = titles;
            outln!("{}", table([one, two, three, four, five], rows.into_iter().map(without)));
        }
    }
    outln!();
    let count = shown.records.len();
    remark(&counted(count, "change", "changes"));
}

/// One row a change, and one for what other hands did in between.
fn rows(shown: &ShownChanges<'_>) -> Vec<[String; 6]> {
    let drift = |drift: &Drift| {
        [
            "-".into(),
            String::new(),
            "other hands".into(),
            visible(drift.to_string().as_bytes()),
            String::new(),
            String::new(),
        ]
    };
    let mut rows: Vec<_> = shown.since.iter().map(drift).collect();
    for record in &shown.records {
        rows.push([
            record.number.to_string(),
            for_people(&record.time),
            by(&record.by),
            what(record),
            fate(record, shown.undone),
            note(record),
        ]);
        rows.extend(record.other_hands.iter().map(drift));
    }
    rows
}

/// One row for each account that gained or lost access.
fn access_rows(shown: &ShownChanges<'_>) -> Vec<[String; 6]> {
    let rows = shown.records.iter().flat_map(|record| {
        access_lines(&record.told.access).into_iter().map(|(name, what)| {
            [
                record.number.to_string(),
                for_people(&record.time),
                by(&record.by),
                visible(name),
                match shown.undone.get(&record.number) {
                    Some(by) => format!("{} (undone by {by})", visible(what.as_bytes())),
                    None => visible(what.as_bytes()),
                },
                note(record),
            ]
        })
    });
    rows.collect()
}

/// The note that was given; may be empty.
pub fn note(record: &ChangeRecord) -> String {
    record.note.as_deref().map(|note| visible(note.as_bytes())).unwrap_or_default()
}

/// The change in a few words; of an undo, also what it takes back.
pub fn what(record: &ChangeRecord) -> String {
    let taken_back = record.told.subjects.first().filter(|_| record.undoes.is_some());
    let taken_back = taken_back.and_then(|subject| {
        let comes_to = subject.decisions.iter().find(|one| one.label == Label::COMES_TO);
        comes_to.or(subject.decisions.first())
    });
    let summary = visible(record.told.summary.as_bytes());
    match taken_back {
        Some(decision) => format!("{summary}: {}", visible(&decision.value)),
        None => summary,
    }
}

/// By whom.
pub fn by(author: &Author) -> String {
    match &author.name {
        Some(name) => visible(name.as_bytes()),
        None => format!("uid {}", author.uid),
    }
}

/// What became of a change; empty where it stands.
pub fn fate(record: &ChangeRecord, undone: &BTreeMap<u64, u64>) -> String {
    match undone.get(&record.number) {
        Some(by) => format!("undone by {by}"),
        None => String::new(),
    }
}

/// Prints one change: the receipt as it was.
pub fn print_one(global: &Global, record: &ChangeRecord, undone: &BTreeMap<u64, u64>) {
    let (heading, quiet) = (style::HEADING, style::QUIET);
    let summary = visible(record.told.summary.as_bytes());
    outln!("{heading}change {}{heading:#}   {summary}", record.number);
    outln!();
    let typed: Vec<String> = record.arguments.iter().map(|word| visible(word.as_bytes())).collect();
    let uid = format!("uid {}", record.by.uid);
    let mut facts = vec![
        ("when", record.time.clone(), String::new()),
        ("by", by(&record.by), if record.by.name.is_some() { uid } else { String::new() }),
        ("as typed", format!("copper-nest {}", shell_words::join(&typed)), String::new()),
    ];
    if record.note.is_some() {
        facts.push(("note", note(record), String::new()));
    }
    if let Some(number) = record.undoes {
        facts.push(("undoes", format!("change {number}"), String::new()));
    }
    if let Some(number) = undone.get(&record.number) {
        facts.push(("undone by", format!("change {number}"), String::new()));
    }
    for (label, value, why) in facts {
        let gap = if why.is_empty() { "" } else { "   " };
        outln!("  {label:9}   {value}{gap}{quiet}{why}{quiet:#}");
    }
    outln!();
    receipt::body(global, &record.told);
    if !record.told.totals.is_empty() {
        receipt::hint(global);
    }
    receipt::cautions(global, &record.told.cautions);
    let drifts: Vec<String> = record.other_hands.iter().map(ToString::to_string).collect();
    receipt::cautions(global, &drifts);
}

/// A list of changes, for machines.
pub fn to_json(global: &Global, shown: &ShownChanges<'_>) -> serde_json::Value {
    let records: Vec<_> =
        shown.records.iter().map(|record| one_to_json(global, record, shown.undone)).collect();
    json!({"changes": records, "other_hands": drifts(shown.since)})
}

/// One change, for machines.
pub fn one_to_json(
    global: &Global,
    record: &ChangeRecord,
    undone: &BTreeMap<u64, u64>,
) -> serde_json::Value {
    let mut document = json!({
        "change": record.number,
        "time": record.time,
        "by": {"uid": record.by.uid, "name": record.by.name},
        "arguments": record.arguments,
        "note": record.note,
        "undoes": record.undoes,
        "undone_by": undone.get(&record.number),
        "other_hands": drifts(&record.other_hands),
    });
    let told = receipt::told_to_json(global, &record.told, record.told.cautions.clone());
    if let (Some(document), Some(told)) = (document.as_object_mut(), told.as_object()) {
        document.extend(told.clone());
    }
    document
}

fn drifts(drifts: &[Drift]) -> Vec<serde_json::Value> {
    drifts
        .iter()
        .map(|drift| json!({"file": drift.file.path(), "since": drift.since, "lines": drift.lines}))
        .collect()
}
