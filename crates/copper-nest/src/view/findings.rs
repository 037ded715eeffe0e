//! What a check found.

use std::collections::HashMap;
use std::fmt::Write;

use nest_core::check::{CheckReport, Finding, Severity};
use nest_core::words::{agree, counted};
use rayon::prelude::*;
use serde_json::{Value, json};

use super::remedy::{pasteable, plainest};
use super::{for_a_person, made_visible, style, visible, width};
use crate::cli::Global;

/// So many findings of a rule are shown on a terminal, unless all are asked for.
const MOST_OF_A_RULE: usize = 20;

/// Prints a report: grouped by file on a terminal, one finding a line elsewhere.
/// `files` is how many account files were read.
pub fn print(global: &Global, report: &CheckReport, files: usize, all: bool) {
    if for_a_person(global) {
        grouped(global, &report.findings, most(all));
    } else {
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
    let summary = summary(report, files);
    // In a pipe only findings are records: the counts go beside them.
    if for_a_person(global) {
        outln!("{summary}");
    } else {
        errln!("{summary}");
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
    match &finding.place {
        Some(place) => *lines += &made_visible(place),
        None => *lines += finding.file.path(),
    }
    if finding.place.is_none() && finding.line > 0 {
        // Writing to a string can't fail.
        let _ = write!(lines, ":{}", finding.line);
    }
    let message = made_visible(finding.message.as_bytes());
    let severity: &str = finding.rule.severity.into();
    for word in [": ", severity, " ", finding.rule.name, ": ", &message] {
        *lines += word;
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
        let place = finding.place.as_ref();
        let place = place.map_or_else(|| finding.file.path().to_owned(), |place| visible(place));
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
    let (color, quiet) = (style::of(finding.rule.severity), style::QUIET);
    let name = format!("{}, {}", finding.rule.name, finding.rule.severity);
    let margin = " ".repeat(column + 4);
    let text = cut(&visible(&finding.text));
    if finding.line == 0 {
        outln!("{margin}{color}{name}{color:#}");
    } else {
        outln!("  {:>column$}  {text}", finding.line);
        let marked = finding.marked();
        let before = width(&visible(&finding.text[..marked.start])).min(MOST);
        let length = width(&visible(&finding.text[marked])).clamp(1, MOST + 1 - before);
        // An empty field has nothing to underline: point at its place.
        let mark = "─".repeat(length);
        outln!("{margin}{}{color}{mark}  {name}{color:#}", " ".repeat(before));
    }
    outln!("{margin}{}", visible(finding.message.as_bytes()));
    for related in &finding.related {
        let place = match related.file == finding.file {
            true => format!("line {}", related.line),
            false => format!("{}:{}", related.file.path(), related.line),
        };
        outln!("{margin}{quiet}{place}  {}{quiet:#}", cut(&visible(&related.text)));
    }
    let good = style::GOOD;
    for (at, remedy) in finding.remedies.iter().enumerate() {
        let when = visible(remedy.when.as_bytes());
        match (pasteable(global, remedy), at, when.as_str()) {
            (None, ..) => outln!("{margin}by hand: {when}."),
            (Some(command), 0, _) => outln!("{margin}{good}{command}{good:#}"),
            (Some(command), _, when) => {
                outln!("{margin}{when}:");
                outln!("{margin}{good}{command}{good:#}");
            }
        }
    }
}

/// More of a line than this is not shown: it may be a megabyte.
const MOST: usize = 160;

fn cut(text: &str) -> String {
    match text.char_indices().nth(MOST) {
        Some((end, _)) => format!("{}… ({} characters)", &text[..end], text.chars().count()),
        None => text.to_owned(),
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
    let accepted = match report.accepted {
        0 => String::new(),
        count => format!(
            " {} left out, as the policy accepts {}.",
            counted(count, "finding is", "findings are"),
            agree(&count, "it", "them")
        ),
    };
    let text = format!("{found} in {files}.{accepted}");
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
    let not_judged = match skipped.is_empty() {
        true => String::new(),
        false => format!(" Not judged: {}.", visible(skipped.join("; ").as_bytes())),
    };
    format!("{text}{not_judged}")
}

/// A finding for machines.
pub fn finding_json(global: &Global, finding: &Finding) -> Value {
    let ways = finding.remedies.iter().map(|remedy| {
        json!({"when": visible(remedy.when.as_bytes()), "command": pasteable(global, remedy)})
    });
    json!({
        "rule": finding.rule.name,
        "severity": finding.rule.severity.to_string(),
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
    finding.place.as_ref().map_or_else(|| finding.file.path().to_owned(), |place| visible(place))
}

/// A report for machines.
pub fn to_json(global: &Global, report: &CheckReport) -> Value {
    let findings: Vec<_> =
        report.findings.iter().map(|finding| finding_json(global, finding)).collect();
    let skipped: Vec<_> = report
        .skipped
        .iter()
        .map(|skipped| json!({"rule": skipped.rule, "why": skipped.why}))
        .collect();
    json!({
        "findings": findings,
        "counts": {
            "error": report.count(Severity::Error),
            "warning": report.count(Severity::Warning),
            "note": report.count(Severity::Note),
        },
        "accepted": report.accepted,
        "skipped": skipped,
    })
}
