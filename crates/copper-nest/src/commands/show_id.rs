//! `show id`.

use nest_core::holdings::holdings;

use super::{Failure, Global, Result, Session, UNTOUCHED, read_id};
use crate::view::{self, ids};

/// Show everything that holds or covers a number, as uid and as gid.
///
/// Accounts and groups, subordinate ranges and which number inside a container it
/// stands for, deleted accounts, spans that the policy avoids.
#[derive(Debug, clap::Args)]
#[command(name = "id", after_help = EXAMPLES)]
pub struct ShowId {
    /// The number.
    #[arg(value_name = "NUMBER")]
    number: String,
}

const EXAMPLES: &str = "Examples:
  copper-nest show id 1004
  copper-nest show id 2001010721 --format json";

impl ShowId {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let id = read_id("id", &self.number)?;
        let loaded = session.load()?;
        let world = session.world_to_look_at()?;
        let all = holdings(session.context(&loaded, &world), id).map_err(no_answer)?;
        if global.json() {
            view::print_json("id", &ids::holdings_to_json(id, &all));
        } else {
            ids::print_holdings(id, &all);
        }
        Ok(0)
    }
}

/// The name services gave no answer.
pub fn no_answer(why: String) -> Failure {
    let message = format!("the system's name services gave no answer, which is not a no: {why}");
    Failure::new(UNTOUCHED, "name-service", message)
}
