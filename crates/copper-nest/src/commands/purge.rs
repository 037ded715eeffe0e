//! `purge`.

use nest_core::plan::history::{Purge, purge};
use nest_core::value::UserOrGroup;

use super::{Asks, Global, Names, Result, Session};

/// Let go of deleted accounts for good: those past their days, or the named ones.
///
/// What is kept of them goes, with the homes that were set aside or packed. Their
/// numbers stay retired unless the policy says otherwise. Nothing is ever purged
/// by itself.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES, args_conflicts_with_subcommands = true)]
pub struct PurgeArgs {
    #[command(subcommand)]
    which: Option<Which>,
}

#[derive(Debug, clap::Subcommand)]
enum Which {
    /// Deleted users, whatever their days.
    #[command(after_help = USERS)]
    User(Names),
    /// Deleted groups, whatever their days.
    #[command(after_help = GROUPS)]
    Group(Names),
}

const EXAMPLES: &str = "Examples:
  copper-nest purge --dry-run
  copper-nest purge user perrin";

const USERS: &str = "Examples:
  copper-nest purge user perrin --dry-run
  copper-nest purge user --names-from leavers.txt --yes";

const GROUPS: &str = "Examples:
  copper-nest purge group divers --dry-run
  copper-nest purge group divers --yes";

impl PurgeArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let request = match &self.which {
            None => Purge::Due,
            Some(Which::User(names)) => Purge::Named(UserOrGroup::User, names.read()?),
            Some(Which::Group(names)) => Purge::Named(UserOrGroup::Group, names.read()?),
        };
        session.carry_out(&request, Asks::First, |context| purge(context, &request))
    }
}
