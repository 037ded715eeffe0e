//! `change group`.

use std::ffi::OsString;

use nest_core::plan::groups::{ChangeGroup, change_group};

use super::even::{BUSY, LAST_ADMIN, ME, SERVICE};
use super::{Asks, Even, Failure, Global, Result, Session, USAGE, bytes, listed, read_gid};

/// Change a group: its gid, its members, its administrators.
///
/// A new gid goes to the users who have the group as their primary one, and to the
/// files in their homes that carry the old number. Other files that carry it are
/// counted, and the command that finds them is named.
#[derive(Debug, clap::Args)]
#[command(name = "group", after_help = EXAMPLES)]
pub struct ChangeGroupArgs {
    /// The group, by name or gid.
    #[arg(value_name = "NAME|GID")]
    name: OsString,
    /// Another gid.
    #[arg(long, value_name = "N")]
    gid: Option<String>,
    /// Let the gid be another group's too.
    #[arg(long, requires = "gid")]
    share_id: bool,
    /// Let the gid be one that was somebody else's and is retired.
    #[arg(long, requires = "gid")]
    reuse_id: bool,
    /// Users to be listed as members.
    #[arg(long, value_name = "USER,…", value_delimiter = ',')]
    add_member: Vec<OsString>,
    /// Users to be listed no longer.
    #[arg(long, value_name = "USER,…", value_delimiter = ',')]
    drop_member: Vec<OsString>,
    /// Users to administer the group.
    #[arg(long, value_name = "USER,…", value_delimiter = ',')]
    add_group_admin: Vec<OsString>,
    /// Users to administer the group no longer.
    #[arg(long, value_name = "USER,…", value_delimiter = ',')]
    drop_group_admin: Vec<OsString>,
    /// Take names that only a directory knows, as on a tree that is not running.
    #[arg(long)]
    unlisted: bool,
    #[command(flatten)]
    even: Even<{ ME | LAST_ADMIN | SERVICE | BUSY }>,
}

const EXAMPLES: &str = "Examples:
  copper-nest change group pilots --add-member maren --add-group-admin tavish
  copper-nest change group slipway --gid 1100 --dry-run";

impl ChangeGroupArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let lists =
            [&self.add_member, &self.drop_member, &self.add_group_admin, &self.drop_group_admin];
        if self.gid.is_none() && lists.iter().all(|names| names.is_empty()) {
            let message = "nothing to change was named: --gid, --add-member, --drop-member, \
                           --add-group-admin, --drop-group-admin";
            return Err(Failure::new(USAGE, "usage", message).or("see how", "change group --help"));
        }
        let session = Session::open(global)?;
        let names = |names: &[OsString]| listed(names);
        let request = ChangeGroup {
            name: bytes(&self.name),
            gid: self.gid.as_deref().map(read_gid).transpose()?,
            share_id: self.share_id,
            reuse_id: self.reuse_id,
            add_members: names(&self.add_member),
            drop_members: names(&self.drop_member),
            add_admins: names(&self.add_group_admin),
            drop_admins: names(&self.drop_group_admin),
            unlisted: self.unlisted,
            overrides: self.even.read(),
        };
        session.carry_out(&request, Asks::Nothing, |context| change_group(context, &request))
    }
}
