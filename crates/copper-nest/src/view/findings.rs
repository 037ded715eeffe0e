//! What a check found.

use std::io::IsTerminal;

use nest_core::check::{Finding, Report, Severity};
use serde_json::json;

use super::{counted, style, visible, width};

/// Prints a report: grouped by file on a terminal, one finding a line elsewhere.
/// `files` is how many account files were read.
pub fn print(report: &Report, files: usize) {
    if std::io::stdout().is_terminal()
        || anstream::ColorChoice::global() == anstream::ColorChoice::AlwaysAnsi
    {
        grouped(report);
    } else {
        for finding in &report.findings {
            outln!("{}", one_line(finding));
        }
    }
    summary(report, files);
}

fn one_line(finding: &Finding) -> String {
    let place = match (&finding.place, finding.line) {
        (Some(place), _) => visible(place),
        (None, 0) => finding.file.path().to_owned(),
        (None, line) => format!("{}:{line}", finding.file.path()),
    };
    let message = visible(finding.message.as_bytes());
    format!("{place}: {} {}: {message}", finding.rule.severity, finding.rule.name)
}

fn grouped(report: &Report) {
    let mut last: Option<String> = None;
    let column = report.findings.iter().map(|finding| finding.line.to_string().len()).max();
    let column = column.unwrap_or(0).max(2);
    for finding in &report.findings {
        let place = finding.place.as_ref();
        let place = place.map_or_else(|| finding.file.path().to_owned(), |place| visible(place));
        if last.as_ref() != Some(&place) {
            let heading = style::HEADING;
            outln!("{heading}{place}{heading:#}");
            last = Some(place);
        }
        print_one(finding, column);
        outln!();
    }
}

fn print_one(finding: &Finding, column: usize) {
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
    outln!("{margin}{good}to do{good:#}  {}.", visible(finding.remedy.as_bytes()));
}

/// More of a line than this is not shown: it may be a megabyte.
const MOST: usize = 160;

fn cut(text: &str) -> String {
    match text.char_indices().nth(MOST) {
        Some((end, _)) => format!("{}… ({} characters)", &text[..end], text.chars().count()),
        None => text.to_owned(),
    }
}

fn summary(report: &Report, files: usize) {
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
            " {} left out, as the policy accepts them.",
            counted(count, "finding is", "findings are")
        ),
    };
    // In a pipe only findings are records: the counts go beside them.
    let text = format!("{found} in {files}.{accepted}");
    let skipped =
        report.skipped.iter().map(|skipped| format!("{} ({})", skipped.rule, skipped.why));
    let skipped: Vec<String> = skipped.collect();
    let not_judged = match skipped.is_empty() {
        true => String::new(),
        false => format!(" Not judged: {}.", visible(skipped.join(", ").as_bytes())),
    };
    if std::io::stdout().is_terminal()
        || anstream::ColorChoice::global() == anstream::ColorChoice::AlwaysAnsi
    {
        outln!("{text}{not_judged}");
    } else {
        errln!("{text}{not_judged}");
    }
}

/// A report for machines.
pub fn to_json(report: &Report) -> serde_json::Value {
    let findings: Vec<_> = report
        .findings
        .iter()
        .map(|finding| {
            json!({
                "rule": finding.rule.name,
                "severity": finding.rule.severity.to_string(),
                "file": finding.place.as_ref().map_or(finding.file.path().into(), |place| visible(place)),
                "line": finding.line,
                "subject": finding.subject.to_string(),
                "message": finding.message,
                "remedy": finding.remedy,
            })
        })
        .collect();
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
