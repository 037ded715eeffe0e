//! `delete group`, `restore group`.

use std::ffi::OsString;

use nest_core::plan::groups::{DeleteGroup, RestoreGroup, delete_group, restore_group};

use super::even::{LAST_ADMIN, ME, SERVICE};
use super::{Asks, Even, Global, Names, Result, Session, bytes};

/// Delete groups. What they were is kept, and restore brings them back.
///
/// A group that is somebody's primary group stays, and so does an administrators'
/// group with members. The gid is not given to another group: files may carry it.
#[derive(Debug, clap::Args)]
#[command(name = "group", after_help = DELETE)]
pub struct DeleteGroupArgs {
    #[command(flatten)]
    names: Names,
    /// Tell how many files carry the gid.
    #[arg(long)]
    count_files: bool,
    #[command(flatten)]
    even: Even<{ ME | LAST_ADMIN | SERVICE }>,
}

const DELETE: &str = "Examples:
  copper-nest delete group deckhands
  copper-nest delete group deckhands slipway --count-files --dry-run";

impl DeleteGroupArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let names = self.names.read()?;
        let (count_files, overrides) = (self.count_files, self.even.read());
        let request = DeleteGroup { names, count_files, overrides };
        session.carry_out(&request, Asks::First, |context| delete_group(context, &request))
    }
}

/// Bring deleted groups back, with their gid, members and administrators.
#[derive(Debug, clap::Args)]
#[command(name = "group", after_help = RESTORE)]
pub struct RestoreGroupArgs {
    #[command(flatten)]
    names: Names,
    /// Under another name.
    #[arg(long = "as", value_name = "NAME")]
    as_name: Option<OsString>,
    /// With another gid, where the old one is taken by now.
    #[arg(long)]
    new_id: bool,
}

const RESTORE: &str = "Examples:
  copper-nest restore group deckhands
  copper-nest restore group deckhands --as crew";

impl RestoreGroupArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let names = self.names.read()?;
        let as_name = self.as_name.as_ref().map(bytes);
        let request = RestoreGroup { names, as_name, new_id: self.new_id };
        session.carry_out(&request, Asks::AtTerminal, |context| restore_group(context, &request))
    }
}
