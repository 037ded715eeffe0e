//! `rename group`.

use std::ffi::OsString;

use nest_core::plan::groups::{RenameGroup, rename_group};

use super::even::{LAST_ADMIN, ME, SERVICE};
use super::{Asks, Even, Global, Result, Session, bytes};

/// Rename a group, in both files.
///
/// The gid stays, and with it the files. Places that only mention the name are
/// listed: sudoers, the SSH server's configuration, services, device rules.
#[derive(Debug, clap::Args)]
#[command(name = "group", after_help = EXAMPLES)]
pub struct RenameGroupArgs {
    /// The name it has.
    #[arg(value_name = "OLD")]
    old: OsString,
    /// The name it gets.
    #[arg(value_name = "NEW")]
    new: OsString,
    #[command(flatten)]
    even: Even<{ ME | LAST_ADMIN | SERVICE }>,
}

const EXAMPLES: &str = "Examples:
  copper-nest rename group deckhands crew
  copper-nest rename group deckhands crew --dry-run";

impl RenameGroupArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let (old, new, overrides) = (bytes(&self.old), bytes(&self.new), self.even.read());
        let request = RenameGroup { old, new, overrides };
        session.carry_out(&request, Asks::Nothing, |context| rename_group(context, &request))
    }
}
