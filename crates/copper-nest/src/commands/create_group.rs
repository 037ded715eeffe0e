//! `create group`.

use std::ffi::OsString;

use nest_core::plan::groups::create_group;
use nest_core::request::CreateGroup;

use super::{Asks, Global, Result, Session, bytes, listed, read_gid};

/// Create a group.
///
/// The gid comes from the people's span, or with --service from the services'.
#[derive(Debug, clap::Args)]
#[command(name = "group", after_help = EXAMPLES)]
pub struct CreateGroupArgs {
    /// Its name.
    #[arg(value_name = "NAME")]
    name: OsString,
    /// A gid of your own choice.
    #[arg(long, value_name = "N")]
    gid: Option<String>,
    /// Let the gid be another group's too.
    #[arg(long, requires = "gid")]
    share_id: bool,
    /// Let the gid be one that was somebody else's and is retired.
    #[arg(long, requires = "gid")]
    reuse_id: bool,
    /// A group of a service: a gid of the services' span.
    #[arg(long)]
    service: bool,
    /// Who is in it.
    #[arg(long, value_name = "USER,…", value_delimiter = ',')]
    member: Vec<OsString>,
    /// Who administers it, and may alter its list of members.
    #[arg(long, value_name = "USER,…", value_delimiter = ',')]
    group_admin: Vec<OsString>,
    /// Whose primary group it becomes: new files get it. The old one stays an ordinary
    /// membership, unless it is root's.
    #[arg(long, value_name = "USER,…", value_delimiter = ',')]
    primary_of: Vec<OsString>,
    /// Take names that only a directory knows, as on a tree that is not running.
    #[arg(long)]
    unlisted: bool,
}

const EXAMPLES: &str = "Examples:
  copper-nest create group harbourmasters --member maren,tavish --group-admin maren
  copper-nest create group sonar --service --dry-run";

impl CreateGroupArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let request = CreateGroup {
            no_members: false,
            no_admins: false,
            password: None,
            name: bytes(&self.name),
            gid: self.gid.as_deref().map(read_gid).transpose()?,
            share_id: self.share_id,
            reuse_id: self.reuse_id,
            service: self.service,
            members: listed(&self.member),
            admins: listed(&self.group_admin),
            primary_of: listed(&self.primary_of),
            unlisted: self.unlisted,
        };
        session.carry_out(&request, Asks::Nothing, |context| create_group(context, &request))
    }
}
