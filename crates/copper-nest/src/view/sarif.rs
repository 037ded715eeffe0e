//! Findings as the Static Analysis Results Interchange Format, version 2.1.0, an
//! OASIS standard, in which code-review systems take them.

use nest_core::check::{Accepted, CheckReport, Finding, RULES, Related, Rule, Severity};
use serde::Serialize;
use serde_json::{Value, json};

use super::findings::place_of;
use super::remedy::plainest;
use super::{Listed, visible};
use crate::cli::Global;

/// Where a log says what it follows.
const SCHEMA: &str = "https://json.schemastore.org/sarif-2.1.0.json";

/// Reports of trees as one log with one run each. Paths are given below the root of
/// the tree, which the run names.
pub fn to_sarif(reports: &[(&Global, &CheckReport)]) -> impl Serialize {
    #[derive(Serialize)]
    struct Log<R> {
        #[serde(rename = "$schema")]
        schema: &'static str,
        version: &'static str,
        runs: Vec<R>,
    }
    let runs = reports.iter().map(|(global, report)| sarif_run(global, report)).collect();
    Log { schema: SCHEMA, version: "2.1.0", runs }
}

fn sarif_run(global: &Global, report: &CheckReport) -> impl Serialize {
    #[derive(Serialize)]
    #[serde(rename_all = "camelCase")]
    struct Run<R> {
        tool: Value,
        original_uri_base_ids: Value,
        invocations: Value,
        column_kind: &'static str,
        results: R,
    }
    let skipped = report.skipped.iter().map(|skipped| {
        json!({
            "level": "warning",
            "message": {"text": format!("{} could not be judged: {}", skipped.rule, skipped.why)},
            "associatedRule": {"id": skipped.rule},
        })
    });
    let rules: Vec<Value> = RULES.iter().copied().map(rule).collect();
    Run {
        tool: json!({"driver": {
            "name": "copper-nest",
            "semanticVersion": env!("CARGO_PKG_VERSION"),
            "rules": rules,
        }}),
        original_uri_base_ids: json!({"TREE": {"uri": tree_uri(global)}}),
        invocations: json!([{
            "executionSuccessful": true,
            "toolExecutionNotifications": skipped.collect::<Vec<_>>(),
        }]),
        column_kind: "utf16CodeUnits",
        results: Listed(|| {
            let found = report.findings.iter().map(|finding| result(global, finding));
            found.chain(report.accepted.iter().map(|accepted| suppressed(global, accepted)))
        }),
    }
}

/// A finding that the policy accepts.
fn suppressed(global: &Global, Accepted { finding, by }: &Accepted) -> Value {
    let mut result = result(global, finding);
    let who = by.by.as_ref().map(|who| format!(" ({who})")).unwrap_or_default();
    let until = by.until.map(|day| format!(", until {day}")).unwrap_or_default();
    result["suppressions"] = json!([{
        "kind": "external",
        "status": "accepted",
        "justification": format!("{}{who}{until}", by.reason),
    }]);
    result
}

fn rule(rule: &Rule) -> Value {
    json!({
        "id": rule.name,
        "shortDescription": {"text": sentence(rule.finds)},
        "fullDescription": {"text": rule.why},
        "help": {"text": format!("{} {}", rule.why, rule.remedy)},
        "defaultConfiguration": {"level": level(rule.severity)},
        "properties": {"tags": [rule.family.to_string()]},
    })
}

fn sentence(words: &str) -> String {
    let mut letters = words.chars();
    let first = letters.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", letters.as_str())
}

fn level(severity: Severity) -> &'static str {
    match severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Note => "note",
    }
}

fn result(global: &Global, finding: &Finding) -> Value {
    let mut text = visible(finding.message.as_bytes());
    let remedy = plainest(global, &finding.remedies);
    if !remedy.is_empty() {
        text += &format!(" To mend it: {}", visible(remedy.as_bytes()));
    }
    json!({
        "ruleId": finding.rule.name,
        "ruleIndex": RULES.iter().position(|rule| rule.name == finding.rule.name),
        "level": level(finding.severity),
        "message": {"text": text},
        "locations": [{"physicalLocation": location(finding)}],
        "relatedLocations": finding.related.iter().map(related).collect::<Vec<_>>(),
        "partialFingerprints": {"finding/v1": finding.key()},
    })
}

/// Another line that a finding has to do with.
fn related(related: &Related) -> Value {
    json!({
        "physicalLocation": {
            "artifactLocation": {"uri": uri(related.file.path().as_bytes()), "uriBaseId": "TREE"},
            "region": {"startLine": related.line},
        },
        "message": {"text": visible(&related.text)},
    })
}

fn location(finding: &Finding) -> Value {
    let path = match &finding.place {
        Some(place) => uri(place.strip_prefix(b"/").unwrap_or(place)),
        None => uri(place_of(finding).as_bytes()),
    };
    let mut location = json!({"artifactLocation": {"uri": path, "uriBaseId": "TREE"}});
    if finding.line > 0 {
        // Columns count as the log says, from 1; the end is the one after.
        let marked = finding.marked();
        let units = |text: &[u8]| visible(text).encode_utf16().count() + 1;
        location["region"] = json!({
            "startLine": finding.line,
            "startColumn": units(&finding.text[..marked.start]),
            "endColumn": units(&finding.text[..marked.end]),
        });
    }
    location
}

fn tree_uri(global: &Global) -> String {
    use std::os::unix::ffi::OsStrExt;
    let whole = std::path::absolute(&global.tree).unwrap_or_else(|_| global.tree.clone());
    let path = uri(whole.as_os_str().as_bytes());
    format!("file://{}/", path.trim_end_matches('/'))
}

/// A path as a URI may hold it (RFC 3986).
fn uri(path: &[u8]) -> String {
    path.iter()
        .map(|byte| match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'.' | b'_' | b'~' => {
                char::from(*byte).to_string()
            }
            byte => format!("%{byte:02X}"),
        })
        .collect()
}
