//! `rename user`.

use std::ffi::OsString;

use nest_core::plan::users::{RenameUser, rename_user};

use super::even::{BUSY, ME, ROOT, SERVICE};
use super::{Asks, Even, Global, Result, Session, bytes};

/// Rename a user, in every place that bears the name.
///
/// All account files, memberships and administrations, subordinate ranges, the
/// private group, the home that is named after the user, the mail spool and the
/// crontab change together. Places that only mention the name are listed.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = EXAMPLES)]
pub struct RenameUserArgs {
    /// The name it has.
    #[arg(value_name = "OLD")]
    old: OsString,
    /// The name it gets.
    #[arg(value_name = "NEW")]
    new: OsString,
    /// Leave the home where it is.
    #[arg(long)]
    keep_home: bool,
    /// Leave the private group its name.
    #[arg(long)]
    keep_group: bool,
    #[command(flatten)]
    even: Even<{ ROOT | ME | SERVICE | BUSY }>,
}

const EXAMPLES: &str = "Examples:
  copper-nest rename user maren marlo
  copper-nest rename user maren marlo --keep-home --dry-run";

impl RenameUserArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let request = RenameUser {
            old: bytes(&self.old),
            new: bytes(&self.new),
            keep_home: self.keep_home,
            keep_group: self.keep_group,
            overrides: self.even.read(),
        };
        session.carry_out(&request, Asks::Nothing, |context| rename_user(context, &request))
    }
}
