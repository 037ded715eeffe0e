//! `regroup`.

use std::ffi::OsString;

use nest_core::plan::users::{Regroup, regroup};

use super::even::{LAST_ADMIN, ME, SERVICE};
use super::{Asks, Even, Failure, Global, Names, Result, Session, USAGE, bytes, listed};

/// Change who is in which group: join, leave, or another primary group.
///
/// Joining adds and never removes; leaving removes and never adds. There is no way
/// to replace all memberships at once, so that none is lost by mistake. Several
/// people are regrouped as one change.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct RegroupArgs {
    #[command(flatten)]
    names: Names,
    /// Groups to join besides those they are in.
    #[arg(long, value_name = "GROUP,…", value_delimiter = ',')]
    join: Vec<OsString>,
    /// Groups to leave.
    #[arg(long, value_name = "GROUP,…", value_delimiter = ',')]
    leave: Vec<OsString>,
    /// Another primary group: new files get it. The old one stays an ordinary
    /// membership, unless --leave names it.
    #[arg(long, value_name = "GROUP")]
    primary: Option<OsString>,
    /// With --primary: files in the home that carry the old gid get the new one.
    #[arg(long, requires = "primary")]
    regroup_home: bool,
    /// Join the administrators of the machine.
    #[arg(long, conflicts_with = "no_admin")]
    admin: bool,
    /// Leave the administrators of the machine.
    #[arg(long)]
    no_admin: bool,
    /// Take names that only a directory knows, as on a tree that is not running.
    #[arg(long)]
    unlisted: bool,
    #[command(flatten)]
    even: Even<{ ME | LAST_ADMIN | SERVICE }>,
}

const EXAMPLES: &str = "Examples:
  copper-nest regroup maren perrin --join pilots --leave deckhands
  copper-nest regroup maren --primary pilots --regroup-home --dry-run";

impl RegroupArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let asked = !self.join.is_empty() || !self.leave.is_empty() || self.primary.is_some();
        if !asked && !self.admin && !self.no_admin {
            let message = "nothing to change was named: --join, --leave, --primary, --admin";
            return Err(Failure::new(USAGE, "usage", message).or("see how", "regroup --help"));
        }
        let session = Session::open(global)?;
        let request = Regroup {
            names: self.names.read()?,
            join: listed(&self.join),
            leave: listed(&self.leave),
            primary: self.primary.as_ref().map(bytes),
            admin: match (self.admin, self.no_admin) {
                (true, _) => Some(true),
                (_, true) => Some(false),
                _ => None,
            },
            regroup_home: self.regroup_home,
            unlisted: self.unlisted,
            overrides: self.even.read(),
        };
        session.carry_out(&request, Asks::Nothing, |context| regroup(context, &request))
    }
}
