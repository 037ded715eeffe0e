//! `list rules`.

use std::io::IsTerminal;

use nest_core::check::RULES;
use serde_json::json;

use super::{Global, Result};
use crate::view::{self, style};

/// List the rules of check.
#[derive(Debug, clap::Args)]
#[command(name = "rules", after_help = EXAMPLES)]
pub struct ListRules {}

const EXAMPLES: &str = "Examples:
  copper-nest list rules
  copper-nest show rule ghost-member";

impl ListRules {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        if global.json() {
            let rules: Vec<_> = RULES.iter().copied().map(super::show_rule::to_json).collect();
            view::print_json(&json!(rules));
            return Ok(0);
        }
        if !std::io::stdout().is_terminal() {
            for rule in RULES.iter() {
                outln!("{}\t{}\t{}\t{}", rule.name, rule.severity, rule.family, rule.finds);
            }
            return Ok(0);
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
        Ok(0)
    }
}
