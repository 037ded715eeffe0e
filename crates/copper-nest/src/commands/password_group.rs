//! `password group`.

use std::ffi::OsString;

use nest_core::plan::groups::{GroupPassword, check_group_password, group_password};
use nest_core::value::GroupName;

use super::passwords::{self, PasswordSource, PasswordSourceArgs};
use super::{Asks, Global, Result, Session, bytes};

/// Set a group's password, or take it away.
///
/// Whoever knows the password of a group can act as a member for a session,
/// without being listed. That is rarely what is wanted: a password is told on, and
/// nobody can see who knows it. To list members is nearly always better:
/// copper-nest regroup NAME --join GROUP.
#[derive(Debug, clap::Args)]
#[command(name = "group", after_help = EXAMPLES)]
pub struct PasswordGroup {
    /// The group.
    #[arg(value_name = "NAME")]
    name: OsString,
    #[command(flatten)]
    source: PasswordSourceArgs,
}

const EXAMPLES: &str = "Examples:
  copper-nest password group slipway --none
  copper-nest password group slipway --generate";

impl PasswordGroup {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        session.require_rights()?;
        let name: GroupName = bytes(&self.name);
        session.before_asking(&[], |context| check_group_password(context, name.as_ref()))?;
        let again = format!("password group {name} --from-stdin");
        let (source, accept_weak) = (self.source.read(), self.source.accept_weak);
        let names = [name];
        let (mut hashes, generated) =
            passwords::gather(&session, source, &names, "", accept_weak, &again)?;
        let [name] = names;
        let hash = hashes.pop().flatten().filter(|_| source != PasswordSource::None);
        let request = GroupPassword { name, hash };
        let status = session
            .carry_out(&request, Asks::Nothing, |context| group_password(context, &request))?;
        if !global.dry_run {
            passwords::tell(&generated, "password group")?;
        }
        Ok(status)
    }
}
