//! The page of one tree.

use askama::Template;
use nest_core::account::AccountKind;
use nest_core::check::Severity;
use nest_core::policy::{KEYS, PolicyKey, SettingSource};
use nest_core::report::{AgeBar, Due, DueKind};
use nest_core::value::Day;
use nest_core::words::{counted, first_of, grouped};
use serde_json::json;

use super::drawings::{Bars, Calendar, MapDrawn, TimeLine, bars, calendar, maps, time_line};
use super::found::{RuleRow, accepted_rows, rule_rows};
use super::people::{AdminRow, UserRow, admin_rows, user_row};
use super::receipts::{ChangeShown, receipts};
use super::shell::{Card, Shell};
use super::tree::Reported;
use crate::cli::Global;
use crate::clock::for_people;
use crate::commands::show_policy::source_of;
use crate::view::{findings, ids, retired, visible};

#[derive(Template)]
#[template(path = "report/report.html")]
struct Page {
    head: Shell,
    cards: Vec<Card>,
    users: Vec<UserRow>,
    users_word: String,
    user_choices: Vec<(&'static str, &'static str)>,
    no_choices: Vec<(&'static str, &'static str)>,
    admins: Vec<AdminRow>,
    unclear: Vec<String>,
    matrix: String,
    matrix_counts: (usize, usize),
    matrix_word: String,
    maps: Vec<MapDrawn>,
    spans: Vec<[String; 8]>,
    ranges: Vec<[String; 6]>,
    ranges_word: String,
    retired: Vec<[String; 10]>,
    plots: Vec<Bars>,
    calendar: Calendar,
    dues: Vec<DueRow>,
    later: usize,
    findings_summary: String,
    findings: Vec<RuleRow>,
    accepted: Vec<[String; 5]>,
    since: Day,
    line: TimeLine,
    changes: Vec<ChangeShown>,
    more_changes: usize,
    settings: Vec<SettingRow>,
}

struct DueRow {
    day: Day,
    past: bool,
    what: &'static str,
    count: String,
    names: String,
}

struct SettingRow {
    key: &'static str,
    value: String,
    source: String,
    meaning: &'static str,
    own: bool,
}

const PARTS: &[(&str, &str)] = &[
    ("overview", "At a glance"),
    ("users", "Users"),
    ("root", "Root"),
    ("matrix", "Groups"),
    ("numbers", "Numbers"),
    ("dates", "Dates"),
    ("findings", "Findings"),
    ("changes", "Changes"),
    ("policy", "Policy"),
];

/// The page of one tree.
pub fn page_of(global: &Global, reported: &Reported<'_>) -> String {
    let services = reported.users.iter().filter(|user| user.account.kind != AccountKind::Person);
    let users: Vec<UserRow> = reported.people().chain(services).map(user_row).collect();
    let (changes, more_changes) = receipts(&reported.changes);
    let linked: Vec<u64> = changes.iter().map(|change| change.number).collect();
    let matrix = &reported.matrix;
    let page = Page {
        head: shell(reported),
        cards: cards(reported),
        users_word: counted(users.len(), "user", "users"),
        users,
        user_choices: vec![
            ("", "everybody"),
            ("person", "people"),
            ("service", "services"),
            ("signs-in", "who can sign in"),
            ("root", "who can become root"),
            ("suspended", "who is suspended"),
        ],
        no_choices: Vec::new(),
        admins: admin_rows(reported, &linked),
        unclear: reported.unclear.iter().map(|line| visible(line.as_bytes())).collect(),
        matrix: matrix_data(reported),
        matrix_counts: (matrix.groups.len(), matrix.rows.len()),
        matrix_word: counted(matrix.rows.len(), "person", "people"),
        maps: maps(&reported.map, &reported.spans),
        spans: ids::span_rows(&reported.spans, &reported.outside).collect(),
        ranges_word: counted(reported.ranges.len(), "range", "ranges"),
        ranges: range_rows(reported),
        retired: retired_rows(reported),
        plots: plots(reported),
        calendar: calendar(&reported.dues.coming, reported.today),
        dues: due_rows(reported),
        later: reported.dues.later,
        findings_summary: plain(&findings::summary(&reported.check, reported.files)),
        findings: rule_rows(global, &reported.check.findings),
        accepted: accepted_rows(reported),
        since: reported.since,
        line: time_line(
            reported.changes.records.iter().filter_map(|record| record.day()),
            &reported.history,
            reported.since,
            reported.today,
        ),
        changes,
        more_changes,
        settings: setting_rows(reported),
    };
    page.render().expect("BUG: a page is made of texts and numbers")
}

/// A text that was made for a terminal, without its colours.
fn plain(text: &str) -> String {
    anstream::adapter::strip_str(text).to_string()
}

fn shell(reported: &Reported<'_>) -> Shell {
    let host = &reported.run.host;
    let title = if host.is_empty() { "Accounts of a tree" } else { host };
    let mut facts = vec![for_people(&reported.run.time)];
    facts.extend(Some(visible(reported.system.as_bytes())).filter(|system| !system.is_empty()));
    facts.push(format!("policy {}", reported.run.policy));
    Shell {
        facts,
        notes: reported.notes.iter().map(|note| visible(note.as_bytes())).collect(),
        ..Shell::new(title.to_owned(), PARTS)
    }
}

fn cards(reported: &Reported<'_>) -> Vec<Card> {
    let totals = reported.totals();
    let count = |severity| reported.check.count(severity);
    vec![
        Card::new(totals.people, ["person", "people"], "list users"),
        Card::new(totals.services, ["service", "services"], "list users --kind services"),
        Card::new(reported.groups.len(), ["group", "groups"], "list groups --kind all"),
        Card::new(
            totals.can_sign_in,
            ["can sign in", "can sign in"],
            "list users --kind all --sign-in yes",
        ),
        Card::new(
            totals.can_become_root,
            ["can become root", "can become root"],
            "list admins --whole",
        ),
        Card::new(totals.suspended, ["is suspended", "are suspended"], "list users --suspended"),
        Card::new(count(Severity::Error), ["error", "errors"], "check").against("bad"),
        Card::new(count(Severity::Warning), ["warning", "warnings"], "check").against("warn"),
        Card::new(reported.changes.records.len(), ["change", "changes"], "list changes"),
    ]
}

/// The matrix as its script takes it, within a page: nothing in it ends the element that it is in.
fn matrix_data(reported: &Reported<'_>) -> String {
    let groups: Vec<String> = reported.matrix.groups.iter().map(|name| visible(name)).collect();
    let people: Vec<_> = reported
        .people()
        .zip(&reported.matrix.rows)
        .map(|(user, row)| {
            let primary = row.primary.map_or(json!(-1), |at| json!(at));
            json!([visible(user.account.user.name), primary, row.listed])
        })
        .collect();
    json!({"groups": groups, "people": people}).to_string().replace('<', "\\u003c")
}

fn range_rows(reported: &Reported<'_>) -> Vec<[String; 6]> {
    let rows = reported.ranges.iter().map(|range| {
        let [what, first, last, count, owner, overlaps] = ids::range_row(range);
        match range.owner {
            Some(_) => [owner, what, first, last, count, overlaps],
            None => ["a gap".to_owned(), what, first, last, count, overlaps],
        }
    });
    rows.collect()
}

fn retired_rows(reported: &Reported<'_>) -> Vec<[String; 10]> {
    let days = reported.policy.retired_keep_days;
    reported.retired.iter().map(|account| retired::row(account, days)).collect()
}

fn plots(reported: &Reported<'_>) -> Vec<Bars> {
    let of = |bars: &[AgeBar]| {
        counted(bars.iter().map(|bar| bar.count).sum::<usize>(), "person", "people")
    };
    vec![
        bars("passwords", "Age of passwords", of(&reported.passwords), &reported.passwords),
        bars(
            "accounts",
            "Age of accounts, by the records",
            of(&reported.accounts),
            &reported.accounts,
        ),
        bars("seen", "Last seen", of(&reported.seen), &reported.seen),
    ]
}

fn due_rows(reported: &Reported<'_>) -> Vec<DueRow> {
    /// So many are named.
    const NAMED: usize = 8;
    let row = |due: &Due, past| {
        let what = match (due.kind, past) {
            (DueKind::Account, false) => "account expires",
            (DueKind::Account, true) => "account expired",
            (DueKind::Password, false) => "password must be renewed",
            (DueKind::Password, true) => "password should have been renewed",
            (DueKind::Acceptance, false) => "finding is accepted until then",
            (DueKind::Acceptance, true) => "finding was accepted until then",
        };
        DueRow {
            day: due.day,
            past,
            what,
            count: grouped(due.names.len()),
            names: visible(&first_of(&due.names, NAMED)),
        }
    };
    let past = reported.dues.past.iter().map(|due| row(due, true));
    past.chain(reported.dues.coming.iter().map(|due| row(due, false))).collect()
}

fn setting_rows(reported: &Reported<'_>) -> Vec<SettingRow> {
    let policy = reported.policy;
    let row = |key: &'static PolicyKey| SettingRow {
        key: key.name,
        value: visible((key.get)(policy).as_bytes()),
        source: source_of(policy, key),
        meaning: key.meaning,
        own: !matches!(policy.source(key.name), SettingSource::BuiltIn),
    };
    KEYS.iter().map(row).collect()
}
