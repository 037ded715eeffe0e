//! The findings on a page.

use nest_core::check::{Finding, Severity};

use super::tree::Reported;
use crate::cli::Global;
use crate::view::{findings, remedy, visible};

/// A rule, and what it found.
pub struct RuleRow {
    pub name: &'static str,
    pub about: &'static str,
    pub severity: String,
    pub tone: &'static str,
    pub count: usize,
    pub open: bool,
    pub found: Vec<FoundRow>,
    pub more: usize,
}

/// One thing that it found.
pub struct FoundRow {
    pub message: String,
    pub place: String,
    /// When each way to mend it is the right one, and the command.
    pub ways: Vec<(String, String)>,
}

/// The findings by rule, the worst first.
pub fn rule_rows(global: &Global, all: &[Finding]) -> Vec<RuleRow> {
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

/// The findings that the policy accepts: the rule, the finding, why, who says so, until when.
pub fn accepted_rows(reported: &Reported<'_>) -> Vec<[String; 5]> {
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
