//! `show rule`.

use nest_core::check::{Besides, Example, RULES, Rule, rule};
use nest_core::value::nearest;
use serde_json::json;

use super::{Failure, Global, REFUSED, Result};
use crate::view::{self, style};

/// Show one rule of check: what it finds, why it matters, what to do.
#[derive(Debug, clap::Args)]
#[command(name = "rule", after_help = EXAMPLES)]
pub struct ShowRule {
    /// The rule.
    #[arg(value_name = "NAME")]
    name: String,
}

const EXAMPLES: &str = "Examples:
  copper-nest show rule ghost-member
  copper-nest show rule home-owner --format json";

impl ShowRule {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let rule = find(&self.name)?;
        if global.json() {
            view::print_json("rule", &to_json(rule));
            return Ok(0);
        }
        let (heading, color) = (style::HEADING, style::of(rule.severity));
        outln!(
            "{heading}{}{heading:#}   {color}{}{color:#}, of the family {}",
            rule.name,
            rule.severity,
            rule.family
        );
        outln!();
        for (label, text) in [("finds", rule.finds), ("why", rule.why), ("to do", rule.remedy)] {
            view::print_wrapped(label, text);
        }
        if rule.is_mended() {
            let command = global.command(&format!("repair --only {}", rule.name));
            view::print_wrapped(
                "mended",
                &format!("where there is one right answer, by {command}"),
            );
        }
        example("found", &rule.bad);
        example("sound", &rule.good);
        Ok(0)
    }
}

/// A rule by name.
pub fn find(name: &str) -> Result<&'static Rule> {
    rule(name).ok_or_else(|| {
        let near = nearest(name.as_bytes(), RULES.iter().map(|rule| rule.name.as_bytes()));
        let near = near.map(|near| format!("; the nearest is {near}")).unwrap_or_default();
        Failure::new(REFUSED, "no-rule", format!("there is no rule {name}{near}"))
            .or("see them all", "list rules")
    })
}

/// A rule for machines.
pub fn to_json(rule: &Rule) -> serde_json::Value {
    json!({
        "name": rule.name,
        "severity": rule.severity.to_string(),
        "family": rule.family.to_string(),
        "finds": rule.finds,
        "why": rule.why,
        "remedy": rule.remedy,
        "repaired": rule.is_mended(),
    })
}

fn example(label: &str, example: &Example) {
    let (heading, quiet) = (style::HEADING, style::QUIET);
    outln!();
    let besides = match example.besides {
        Besides::Nothing => String::new(),
        besides => format!(", where {besides}"),
    };
    outln!("  {heading}{label}{heading:#}{besides}");
    for (file, text) in example.files() {
        for line in text.lines() {
            outln!("    {quiet}{:12}{quiet:#} {line}", file.path());
        }
    }
}
