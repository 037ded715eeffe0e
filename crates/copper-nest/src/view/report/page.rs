//! The page of one tree.

use askama::Template;
use nest_core::account::AccountKind;
use nest_core::check::{Finding, Severity};
use nest_core::last_seen::LastSeen;
use nest_core::policy::{KEYS, PolicyKey, SettingSource};
use nest_core::powers::Way;
use nest_core::report::{AgeBar, Due, DueKind};
use nest_core::sign_in::SignIn;
use nest_core::value::Day;
use nest_core::words::{counted, first_of, grouped};
use serde_json::json;

use super::drawings::{Bars, Calendar, MapDrawn, TimeLine, bars, calendar, maps, time_line};
use super::receipts::{ChangeShown, receipts};
use super::shell::{Card, Shell};
use super::tree::Reported;
use crate::cli::Global;
use crate::clock::for_people;
use crate::commands::show_policy::source_of;
use crate::view::user::ShownUser;
use crate::view::{admins, findings, ids, remedy, retired, visible};

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

struct UserRow {
    is: String,
    name: String,
    full_name: String,
    uid: String,
    kind: String,
    tone: &'static str,
    sign_in: String,
    root: &'static str,
    seen: String,
    changed: String,
    expires: String,
    primary: String,
    groups: String,
}

struct AdminRow {
    name: String,
    by: String,
    runs: String,
    asks: String,
    sign_in: String,
    change: Option<u64>,
    since: String,
    whole: bool,
}

struct DueRow {
    day: Day,
    past: bool,
    what: &'static str,
    count: String,
    names: String,
}

struct RuleRow {
    name: &'static str,
    about: &'static str,
    severity: String,
    tone: &'static str,
    count: usize,
    open: bool,
    found: Vec<FoundRow>,
    more: usize,
}

struct FoundRow {
    message: String,
    place: String,
    /// When each way to mend it is the right one, and the command.
    ways: Vec<(String, String)>,
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

fn user_row(user: &ShownUser<'_>) -> UserRow {
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

fn admin_rows(reported: &Reported<'_>, linked: &[u64]) -> Vec<AdminRow> {
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

/// The findings by rule, the worst first.
fn rule_rows(global: &Global, all: &[Finding]) -> Vec<RuleRow> {
    /// So many of each rule are told.
    const MOST: usize = 60;
    let mut rows: Vec<(Severity, RuleRow)> = Vec::new();
    for finding in all {
        let found = |finding: &Finding| {
            let line = if finding.line == 0 { String::new() } else { format!(":{}", finding.line) };
            let ways = finding.remedies.iter().map(|way| {
                let command = remedy::pasteable(global, way).unwrap_or_default();
                (visible(way.when.as_bytes()), command)
            });
            FoundRow {
                message: visible(finding.message.as_bytes()),
                place: format!("{}{line}", findings::place_of(finding)),
                ways: ways.collect(),
            }
        };
        let known = rows
            .iter_mut()
            .find(|(severity, row)| *severity == finding.severity && row.name == finding.rule.name);
        match known {
            Some((_, row)) => {
                row.count += 1;
                match row.found.len() < MOST {
                    true => row.found.push(found(finding)),
                    false => row.more += 1,
                }
            }
            None => rows.push((
                finding.severity,
                RuleRow {
                    name: finding.rule.name,
                    about: finding.rule.finds,
                    severity: finding.severity.to_string(),
                    tone: match finding.severity {
                        Severity::Error => "bad",
                        Severity::Warning => "warn",
                        Severity::Note => "quiet",
                    },
                    count: 1,
                    open: finding.severity == Severity::Error,
                    found: vec![found(finding)],
                    more: 0,
                },
            )),
        }
    }
    rows.sort_by_key(|(severity, _)| std::cmp::Reverse(*severity));
    rows.into_iter().map(|(_, row)| row).collect()
}

fn accepted_rows(reported: &Reported<'_>) -> Vec<[String; 5]> {
    let rows = reported.check.accepted.iter().map(|one| {
        let text = |text: &str| visible(text.as_bytes());
        [
            one.finding.rule.name.to_owned(),
            text(&one.finding.message),
            text(&one.by.reason),
            text(one.by.by.as_deref().unwrap_or_default()),
            one.by.until.map_or_else(|| "always".to_owned(), |day| day.to_string()),
        ]
    });
    rows.collect()
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
