//! `show change`.

use nest_core::record::undone;
use nest_host::changes;

use super::{Failure, Global, REFUSED, Result, Session};
use crate::cli::whole;
use crate::view::{changes as view, print_json};

/// Show one change: who made it, when, and the receipt as it was.
#[derive(Debug, clap::Args)]
#[command(name = "change", after_help = EXAMPLES)]
pub struct ShowChange {
    /// Its number.
    #[arg(value_name = "N", value_parser = whole::<u64>)]
    number: u64,
}

const EXAMPLES: &str = "Examples:
  copper-nest show change 14
  copper-nest show change 14 --format json";

impl ShowChange {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let folder = session
            .changes_folder()?
            .ok_or_else(|| Failure::new(REFUSED, "no-change", "no change was made here yet"))?;
        let record = changes::read(&folder, self.number)?;
        let undone = undone(&session.records(&folder)?);
        if global.json() {
            print_json("change", &view::one_to_json(global, &record, &undone));
        } else {
            view::print_one(global, &record, &undone);
        }
        Ok(0)
    }
}
