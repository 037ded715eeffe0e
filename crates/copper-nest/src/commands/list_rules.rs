//! `list rules`.

use nest_core::check::RULES;
use serde_json::json;

use super::{Global, Result};
use crate::view::columns::Rows;
use crate::view::{self, rules};

/// List the rules of check.
#[derive(Debug, clap::Args)]
#[command(name = "rules", after_help = EXAMPLES)]
pub struct ListRules {
    #[command(flatten)]
    rows: Rows,
}

const EXAMPLES: &str = "Examples:
  copper-nest list rules
  copper-nest show rule ghost-member";

impl ListRules {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        self.rows.require(global, &rules::COLUMNS)?;
        if global.json() {
            let rules: Vec<_> = RULES.iter().copied().map(super::show_rule::to_json).collect();
            view::print_json("rules", &json!({"rules": rules}));
            return Ok(0);
        }
        rules::print(global, &self.rows);
        Ok(0)
    }
}
