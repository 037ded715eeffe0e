//! `reassign`.

use std::ffi::OsString;

use nest_core::plan::numbers::{Reassign, reassign};

use super::{Asks, Global, Result, Session, bytes};

/// Give the files of one owner to another.
///
/// Looks through every local file system of the tree, or below the paths given, and
/// follows no link. Files with more than one name are counted and left, and the
/// kernel takes set-id bits off. Undo gives back those that have not changed hands
/// since.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct ReassignArgs {
    /// Whose they are: a user, one that was deleted, or a number.
    #[arg(value_name = "FROM")]
    from: OsString,
    /// Whose they become: a user, or a number.
    #[arg(value_name = "TO")]
    to: OsString,
    /// Where to look, as paths in the tree; everywhere without one.
    #[arg(value_name = "PATH")]
    paths: Vec<OsString>,
    /// Give files with more than one name too.
    #[arg(long)]
    hard_links: bool,
    /// Even if they are root's.
    #[arg(long)]
    even_root: bool,
}

const EXAMPLES: &str = "Examples:
  copper-nest reassign 1005 maren /srv --dry-run
  copper-nest reassign perrin root";

impl ReassignArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let request = Reassign {
            from: bytes(&self.from),
            to: bytes(&self.to),
            paths: self.paths.iter().map(bytes).collect(),
            hard_links: self.hard_links,
            even_root: self.even_root,
        };
        session.carry_out(&request, Asks::First, |context| reassign(context, &request))
    }
}
