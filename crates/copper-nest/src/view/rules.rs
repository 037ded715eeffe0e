//! A list of the rules of check.

use nest_core::check::{RULES, Rule};

use super::columns::{Columns, Rows};
use super::style;
use crate::cli::Global;

/// The columns of a list of rules.
pub const COLUMNS: Columns<4> = columns! {
    "name": "name of the rule",
    "severity": "error, warning or note",
    "family": "what it belongs to",
    "finds": "what it finds",
};

/// Prints them: by family on a terminal, else rows.
pub fn print(global: &Global, rows: &Rows) {
    if rows.are_wanted(global) {
        let row = |rule: &&Rule| {
            [
                rule.name.to_owned(),
                rule.severity.to_string(),
                rule.family.to_string(),
                rule.finds.to_string(),
            ]
        };
        rows.print(global, &COLUMNS, RULES.iter().map(row));
        return;
    }
    let width = RULES.iter().map(|rule| rule.name.len()).max().unwrap_or(0);
    let mut family = None;
    for rule in RULES.iter() {
        if family != Some(rule.family) {
            if family.is_some() {
                outln!();
            }
            family = Some(rule.family);
            let heading = style::HEADING;
            outln!("{heading}{}{heading:#}", rule.family);
        }
        let color = style::of(rule.severity);
        let severity = rule.severity.to_string();
        outln!("  {:width$}   {color}{severity:7}{color:#}   {}", rule.name, rule.finds);
    }
}
