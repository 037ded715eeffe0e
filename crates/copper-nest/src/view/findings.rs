//! What a check found.

use std::collections::HashMap;
use std::fmt::Write;

use bstr::ByteSlice;
use nest_core::check::{Accepted, BriefFinding, BriefFindings, CheckReport, Finding, Severity};
use nest_core::policy::Accept;
use nest_core::words::{agree, counted};
use rayon::prelude::*;
use serde::Serialize;
use serde_json::{Value, json};

use super::remedy::{pasteable, plainest};
use super::{
    Listed, beside, columns, for_a_person, is_narrow, made_visible, style, visible, width,
};
use crate::cli::Global;

/// So many findings of a rule are shown on a terminal, unless all are asked for.
const MOST_OF_A_RULE: usize = 20;

/// Prints a report: grouped by file on a terminal, one finding a line elsewhere.
/// `files` is how many account files were read.
pub fn print(global: &Global, report: &CheckReport, files: usize, all: bool) {
    print_findings(global, report, all);
    let summary = summary(report, files);
    // In a pipe only findings are records: the counts go beside them.
    if for_a_person(global) {
        outln!("{summary}");
    } else {
        errln!("{summary}");
    }
}

/// The findings alone.
pub fn print_findings(global: &Global, report: &CheckReport, all: bool) {
    if for_a_person(global) {
        grouped(global, &report.findings, most(all));
    } else {
        print_brief(&report.brief);
        let lines = |findings: &[Finding]| {
            let mut lines = String::with_capacity(128 * findings.len());
            for finding in findings {
                push_line(&mut lines, finding);
                lines.push('\n');
            }
            lines
        };
        let chunks: Vec<String> = report.findings.par_chunks(1024).map(lines).collect();
        chunks.iter().for_each(|lines| crate::output::print_lines(lines));
    }
}

/// Findings in brief, one a line: some at a time, so that they need little room.
fn print_brief(brief: &BriefFindings) {
    const STRETCH: usize = 1 << 13;
    let lines = |from: usize| {
        let mut lines = String::with_capacity(128 * STRETCH);
        for at in from..(from + STRETCH).min(brief.len()) {
            let BriefFinding { rule, severity, file, line, message } = brief.get(at);
            push_parts(&mut lines, file.path(), line, severity, rule.name, &message);
            lines.push('\n');
        }
        lines
    };
    let starts: Vec<usize> = (0..brief.len()).step_by(STRETCH).collect();
    for some in starts.chunks(4) {
        let stretches: Vec<String> = some.par_iter().map(|from| lines(*from)).collect();
        stretches.iter().for_each(|lines| crate::output::print_lines(lines));
    }
}

/// What the policy accepts: under the files on a terminal, one a line elsewhere.
pub fn print_accepted(global: &Global, accepted: &[Accepted]) {
    let why = |by: &Accept| {
        let who = by.by.as_ref().map(|who| format!(", says {who}")).unwrap_or_default();
        let until = by.until.map(|day| format!(", until {day}")).unwrap_or_default();
        visible(format!("{}{who}{until}", by.reason).as_bytes())
    };
    if !for_a_person(global) {
        for Accepted { finding, by } in accepted {
            outln!("{} [accepted: {}]", one_line(finding), why(by));
        }
    } else {
        let mut last = String::new();
        for Accepted { finding, by } in accepted {
            let place = place_of(finding);
            if place != last {
                super::heading(&place);
                last = place;
            }
            let line = match finding.line {
                0 => String::new(),
                line => line.to_string(),
            };
            let (color, good) = (style::of(finding.severity), style::GOOD);
            let subject = visible(&finding.subject);
            let name = finding.rule.name;
            outln!("  {line:>4}  {color}{name}, {}{color:#}  {subject}", finding.severity);
            outln!("        {}", visible(finding.message.as_bytes()));
            outln!("        {good}accepted{good:#}: {}", why(by));
            outln!();
        }
    }
    let all = counted(accepted.len(), "finding is", "findings are");
    let told = match accepted.is_empty() {
        true => "the policy accepts no finding.".to_owned(),
        false => format!("{all} accepted."),
    };
    if for_a_person(global) {
        outln!("{told}");
    } else {
        errln!("{told}");
    }
}

/// How many findings of a rule are shown on a terminal.
pub fn most(all: bool) -> usize {
    if all { usize::MAX } else { MOST_OF_A_RULE }
}

/// A finding in a line.
pub fn one_line(finding: &Finding) -> String {
    let mut line = String::new();
    push_line(&mut line, finding);
    line
}

/// Adds it to others, of which there may be very many.
fn push_line(lines: &mut String, finding: &Finding) {
    let place = finding.place.as_ref().map(|place| made_visible(in_tree(place)));
    let (place, line) = match &place {
        Some(place) => (place.as_ref(), 0),
        None => (finding.file.path(), finding.line),
    };
    push_parts(lines, place, line, finding.severity, finding.rule.name, &[&finding.message]);
}

fn push_parts(
    lines: &mut String,
    place: &str,
    line: usize,
    severity: Severity,
    rule: &str,
    message: &[&str],
) {
    *lines += place;
    if line > 0 {
        // Writing to a string can't fail.
        let _ = write!(lines, ":{line}");
    }
    let severity: &str = severity.into();
    for word in [": ", severity, " ", rule, ": "] {
        *lines += word;
    }
    for part in message {
        *lines += &made_visible(part.as_bytes());
    }
}

/// Findings under the files they are about, of each rule at most so many.
pub fn grouped(global: &Global, findings: &[Finding], most: usize) {
    let (mut of_rule, mut left_out) = (HashMap::new(), Vec::new());
    let shown = findings.iter().filter(|finding| {
        let count = of_rule.entry(finding.rule.name).or_insert(0usize);
        *count += 1;
        if *count == most.saturating_add(1) {
            left_out.push(finding.rule.name);
        }
        *count <= most
    });
    let shown: Vec<&Finding> = shown.collect();
    let mut last: Option<String> = None;
    let column = shown.iter().map(|finding| finding.line.to_string().len()).max();
    let column = column.unwrap_or(0).max(2);
    for finding in shown {
        let place = place_of(finding);
        if last.as_ref() != Some(&place) {
            super::heading(&place);
            last = Some(place);
        }
        print_one(global, finding, column);
        outln!();
    }
    for rule in left_out {
        let more = of_rule[rule] - most;
        let command = global.command(&format!("check --only {rule} --all"));
        outln!("and {more} more of {rule}: {command}");
        outln!();
    }
}

fn print_one(global: &Global, finding: &Finding, column: usize) {
    let (color, quiet) = (style::of(finding.severity), style::QUIET);
    let name = format!("{}, {}", finding.rule.name, finding.severity);
    let margin = " ".repeat(column + 4);
    if finding.line == 0 {
        outln!("{margin}{color}{name}{color:#}");
    } else {
        print_marked(finding, column, &name);
    }
    for line in beside(margin.len(), &visible(finding.message.as_bytes())) {
        outln!("{margin}{line}");
    }
    for related in &finding.related {
        let place = match related.file == finding.file {
            true => format!("line {}", related.line),
            false => format!("{}:{}", related.file.path(), related.line),
        };
        let room = room(margin.len() + place.len() + 2);
        outln!("{margin}{quiet}{place}  {}{quiet:#}", cut(&visible(&related.text), room));
    }
    let good = style::GOOD;
    for remedy in &finding.remedies {
        let when = visible(remedy.when.as_bytes());
        match (pasteable(global, remedy), when.as_str()) {
            (None, _) => {
                for line in beside(margin.len(), &format!("by hand: {when}.")) {
                    outln!("{margin}{line}");
                }
            }
            (Some(command), "") => outln!("{margin}{good}{command}{good:#}"),
            (Some(command), when) => {
                outln!("{margin}{when}:");
                outln!("{margin}{good}{command}{good:#}");
            }
        }
    }
    if global.verbose > 0 {
        outln!("{margin}{quiet}to accept it, in [check] accept: {}{quiet:#}", entry(finding));
    }
}

/// What has to be written into the policy so that a finding is accepted.
fn entry(finding: &Finding) -> String {
    let entry = format!("{}:{}  REASON", finding.rule.name, visible(&finding.subject));
    toml_text(&entry)
}

/// A text as TOML has it.
fn toml_text(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// More of a line than this is not shown: it may be a megabyte.
const MOST: usize = 160;

/// Of a line that is longer than this it is said how long it is.
const LONG: usize = 1200;

/// How much of a line there is room for after so many columns.
fn room(before: usize) -> usize {
    columns().map_or(MOST, |columns| columns.saturating_sub(before).clamp(24, MOST))
}

/// A line of a file, and below it a stroke under what is at fault. Where there is little room
/// each field has a line of its own.
fn print_marked(finding: &Finding, column: usize, name: &str) {
    let color = style::of(finding.severity);
    let margin = " ".repeat(column + 4);
    let text = visible(&finding.text);
    let marked = finding.marked();
    if is_narrow() && width(&text) > room(margin.len()) {
        let mut start = 0;
        for (at, field) in finding.text.split_str(":").enumerate() {
            let end = start + field.len();
            let number = if at == 0 { finding.line.to_string() } else { String::new() };
            let is_marked = start <= marked.start && marked.end <= end;
            let shown = cut(&visible(field), room(margin.len()));
            match is_marked {
                true => outln!("  {number:>column$}  {color}{shown}{color:#}"),
                false => outln!("  {number:>column$}  {shown}"),
            }
            start = end + 1;
        }
        outln!("{margin}{color}{name}{color:#}");
        return;
    }
    let before = visible(&finding.text[..marked.start]);
    let faulty = visible(&finding.text[marked]);
    let room = room(margin.len());
    // What is at fault is shown, whatever has to be left out.
    let (shown, at) = window(&text, before.len(), faulty.len(), room);
    outln!("  {:>column$}  {shown}", finding.line);
    let length = width(&faulty).clamp(1, room.saturating_sub(at).max(1));
    // An empty field has nothing to underline: point at its place.
    let mark = "─".repeat(length);
    outln!("{margin}{}{color}{mark}  {name}{color:#}", " ".repeat(at));
}

/// As much of a text as there is room for, with what is at fault in it, and the column where
/// that begins.
fn window(text: &str, start: usize, length: usize, room: usize) -> (String, usize) {
    let at = width(&text[..start]);
    if width(text) <= room || at + width(&text[start..start + length]) < room {
        return (cut(text, room), at);
    }
    // A third of the room for what comes before it.
    let mut from = start;
    for (place, _) in text[..start].char_indices().rev() {
        if width(&text[place..start]) + 1 > room / 3 {
            break;
        }
        from = place;
    }
    (format!("…{}", cut(&text[from..], room - 1)), 1 + width(&text[from..start]))
}

/// As much of a text as there is room for.
fn cut(text: &str, room: usize) -> String {
    if width(text) <= room {
        return text.to_owned();
    }
    let mut taken = 0;
    let end = text.char_indices().find(|(_, c)| {
        taken += width(c.encode_utf8(&mut [0; 4]));
        taken >= room
    });
    let end = end.map_or(text.len(), |(at, _)| at);
    match text.len() > LONG {
        true => format!("{}… ({} characters)", &text[..end], text.chars().count()),
        false => format!("{}…", &text[..end]),
    }
}

/// The counts, and what was not judged.
pub fn summary(report: &CheckReport, files: usize) -> String {
    let counts = [
        (report.count(Severity::Error), "error", "errors", style::BAD),
        (report.count(Severity::Warning), "warning", "warnings", style::WARN),
        (report.count(Severity::Note), "note", "notes", style::QUIET),
    ];
    let counts: Vec<String> = counts
        .into_iter()
        .filter(|(count, ..)| *count > 0)
        .map(|(count, one, many, color)| format!("{color}{}{color:#}", counted(count, one, many)))
        .collect();
    let found = match counts.is_empty() {
        true => "nothing found".to_owned(),
        false => counts.join(", "),
    };
    let files = counted(files, "file", "files");
    let accepted = match report.accepted.len() {
        0 => String::new(),
        count => format!(
            " {} left out, as the policy accepts {}.",
            counted(count, "finding is", "findings are"),
            agree(&count, "it", "them")
        ),
    };
    format!("{found} in {files}.{accepted}{}", not_judged(report))
}

/// The rules that could not run, or not wholly, in a sentence.
pub fn not_judged(report: &CheckReport) -> String {
    // A file that can't be read keeps many rules from being judged: it is told once.
    let mut skipped: Vec<(&str, Vec<&str>)> = Vec::new();
    for one in &report.skipped {
        match skipped.iter_mut().find(|(why, _)| *why == one.why) {
            Some((_, rules)) => rules.push(one.rule),
            None => skipped.push((&one.why, vec![one.rule])),
        }
    }
    let skipped: Vec<String> =
        skipped.iter().map(|(why, rules)| format!("{} ({why})", rules.join(", "))).collect();
    match skipped.is_empty() {
        true => String::new(),
        false => format!(" Not judged: {}.", visible(skipped.join("; ").as_bytes())),
    }
}

/// A finding for machines.
pub fn finding_json(global: &Global, finding: &Finding) -> Value {
    let ways = finding.remedies.iter().map(|remedy| {
        json!({"when": visible(remedy.when.as_bytes()), "command": pasteable(global, remedy)})
    });
    json!({
        "rule": finding.rule.name,
        "severity": finding.severity.to_string(),
        "file": place_of(finding),
        "line": finding.line,
        "subject": finding.subject.to_string(),
        "message": finding.message,
        "remedy": plainest(global, &finding.remedies),
        "remedies": ways.collect::<Vec<_>>(),
    })
}

/// The file, or the path in the tree, that a finding is about.
pub fn place_of(finding: &Finding) -> String {
    let place = finding.place.as_ref();
    place.map_or_else(|| finding.file.path().to_owned(), |place| visible(in_tree(place)))
}

/// A path as it is shown: files of configuration as the account files are, whatever the tree.
fn in_tree(place: &[u8]) -> &[u8] {
    place.strip_prefix(b"/").filter(|rest| rest.starts_with(b"etc/")).unwrap_or(place)
}

/// Where, when and by what was checked.
pub struct CheckRun {
    /// What the machine is called; empty where nothing says so.
    pub host: String,
    /// When, as RFC 3339 writes it.
    pub time: String,
    /// A digest of the settings.
    pub policy: String,
}

/// A report for machines, which is made while it is printed: the findings may be millions.
pub fn to_json(global: &Global, report: &CheckReport, run: &CheckRun) -> impl Serialize {
    #[derive(Serialize)]
    struct Document<'a, F, A> {
        host: &'a str,
        tree: String,
        time: &'a str,
        program: &'static str,
        policy: &'a str,
        rules: Vec<&'static str>,
        findings: F,
        counts: Value,
        accepted: A,
        skipped: Vec<Value>,
    }
    let count = |severity| report.count(severity);
    let findings = || report.findings.iter().map(|finding| finding_json(global, finding));
    let skipped = report.skipped.iter();
    Document {
        host: &run.host,
        tree: visible(global.tree.as_os_str().as_encoded_bytes()),
        time: &run.time,
        program: env!("CARGO_PKG_VERSION"),
        policy: &run.policy,
        rules: report.ran.iter().map(|rule| rule.name).collect(),
        findings: Listed(findings),
        counts: by_severity(count),
        accepted: Listed(|| report.accepted.iter().map(|one| accepted_json(global, one))),
        skipped: skipped.map(|one| json!({"rule": one.rule, "why": one.why})).collect(),
    }
}

/// A number for each severity.
pub fn by_severity(count: impl Fn(Severity) -> usize) -> Value {
    json!({
        "error": count(Severity::Error),
        "warning": count(Severity::Warning),
        "note": count(Severity::Note),
    })
}

fn accepted_json(global: &Global, Accepted { finding, by }: &Accepted) -> Value {
    let mut finding = finding_json(global, finding);
    finding["reason"] = json!(by.reason);
    finding["by"] = json!(by.by);
    finding["until"] = json!(by.until.map(|day| day.to_string()));
    finding
}
