//! `undo`.

use nest_core::plan::history::{Undo, undo};
use nest_core::record::{comes_to, newest_to_undo, undone};
use nest_host::changes;

use super::even::ALL;
use super::{Asks, Even, Failure, Global, REFUSED, Result, Session};
use crate::cli::whole;

/// Take a change back.
///
/// It goes by field and by member: what has been changed in a line besides stays, and
/// where it is the same field that has changed, it stops and shows both. A home that was made and
/// has been used since is set aside, not removed. Without a number it is the
/// newest change that is neither undone nor itself an undo, so that saying it
/// again goes further back. Undoing an undo does the change again.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct UndoArgs {
    /// The number of the change.
    #[arg(value_name = "N", value_parser = whole::<u64>)]
    number: Option<u64>,
    /// Take back the lines of the account files only, not what was done to homes.
    #[arg(long)]
    lines_only: bool,
    #[command(flatten)]
    even: Even<ALL>,
}

const EXAMPLES: &str = "Examples:
  copper-nest undo
  copper-nest undo 14 --dry-run";

impl UndoArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        session.require_rights()?;
        let nothing = || Failure::new(REFUSED, "no-change", "there is no change to take back");
        let folder = session.changes_folder()?.ok_or_else(nothing)?;
        // One that is named is told as it is; only what is not is passed over.
        let named = self.number.map(|number| changes::read(&folder, number)).transpose()?;
        let records = session.records(&folder)?;
        let number = match self.number {
            Some(number) => number,
            None => newest_to_undo(&records).ok_or_else(nothing)?,
        };
        let record = named.map_or_else(|| changes::read(&folder, number), Ok)?;
        let undone_by = undone(&records).get(&number).copied();
        let (lines_only, overrides) = (self.lines_only, self.even.read());
        let comes_to = comes_to(&records, number);
        let comes_to = comes_to.as_deref();
        let request = Undo { record: &record, undone_by, comes_to, lines_only, overrides };
        session.carry_out(&request, Asks::First, |context| undo(context, request))
    }
}
