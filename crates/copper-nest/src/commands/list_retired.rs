//! `list retired`.

use serde_json::json;

use super::{Failure, Global, REFUSED, Result, Session};
use crate::view::columns::Rows;
use crate::view::{self, retired};

/// List deleted users and groups that are kept: until when, and where their homes
/// are.
///
/// On a terminal a table; into a pipe one a line, fields separated by tabs: user or
/// group, name, id, day, by whom, change, what became of the home, where it is, its
/// bytes, day until which it is kept.
#[derive(Debug, clap::Args)]
#[command(name = "retired", after_help = EXAMPLES)]
pub struct ListRetired {
    #[command(flatten)]
    rows: Rows,
}

const EXAMPLES: &str = "Examples:
  copper-nest list retired
  copper-nest list retired --format json";

impl ListRetired {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        self.rows.require(global, &retired::COLUMNS)?;
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        if session.state.shown().is_none() {
            let message = "with --state none no deleted account is kept";
            return Err(Failure::new(REFUSED, "no-state", message));
        }
        let kept = session.kept()?;
        let days = session.policy.retired_keep_days;
        if global.json() {
            let all = kept.iter().map(|account| retired::to_json(account, days));
            view::print_json("retired", &json!({"retired": all.collect::<Vec<_>>()}));
            return Ok(0);
        }
        retired::print(global, &self.rows, &kept, days, session.today);
        Ok(0)
    }
}
