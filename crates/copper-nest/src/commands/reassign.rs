//! `reassign`.

use std::ffi::OsString;

use nest_core::plan::numbers::{GivenBy, Reassign, reassign};

use super::{Asks, Global, Result, Session, bytes};

/// Give the files of one owner, or of one group, to another.
///
/// Looks through every local file system of the tree, or below the paths given, and
/// follows no link. Files with more than one name are counted and left, and the
/// kernel takes set-id bits off. Undo gives back those that have not changed hands
/// since. Where an account is to have another number, change user, change group and
/// renumber take its files along.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct ReassignArgs {
    #[command(subcommand)]
    by: By,
}

const EXAMPLES: &str = "Examples:
  copper-nest reassign user 1005 maren /srv --dry-run
  copper-nest reassign account perrin brannoc";

const USER: &str = "Examples:
  copper-nest reassign user 1005 maren /srv --dry-run
  copper-nest reassign user perrin root";

const GROUP: &str = "Examples:
  copper-nest reassign group 1005 pilots /srv --dry-run
  copper-nest reassign group divers slipway";

const ACCOUNT: &str = "Examples:
  copper-nest reassign account perrin brannoc --dry-run
  copper-nest reassign account 1044 maren /srv";

#[derive(Debug, clap::Subcommand)]
enum By {
    /// What a user owns.
    #[command(after_help = USER)]
    User(Owners),
    /// What belongs to a group.
    #[command(after_help = GROUP)]
    Group(Owners),
    /// What a user owns, and what belongs to the user's own group.
    #[command(after_help = ACCOUNT)]
    Account(Owners),
}

/// Whose files, and where.
#[derive(Debug, clap::Args)]
#[group(skip)]
struct Owners {
    /// Whose they are: a name, one that was deleted, or a number.
    #[arg(value_name = "FROM")]
    from: OsString,
    /// Whose they become: a name, or a number.
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

impl ReassignArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let (by, owners) = match &self.by {
            By::User(owners) => (GivenBy::User, owners),
            By::Group(owners) => (GivenBy::Group, owners),
            By::Account(owners) => (GivenBy::Account, owners),
        };
        let request = Reassign {
            by,
            from: bytes(&owners.from),
            to: bytes(&owners.to),
            paths: owners.paths.iter().map(bytes).collect(),
            hard_links: owners.hard_links,
            even_root: owners.even_root,
        };
        session.carry_out(&request, Asks::First, |context| reassign(context, &request))
    }
}
