//! `password user`.

use nest_core::plan::users::{SetPassword, check_password_holders, set_password};
use nest_core::value::UserName;

use super::even::{LAST_ADMIN, ME, ROOT, SERVICE};
use super::passwords::{self, PasswordSource, PasswordSourceArgs};
use super::{Asks, Even, Global, Names, Result, Session};

/// Set passwords, or take them away.
///
/// On a terminal the password is asked for twice and not shown. It is never an
/// argument: those can be seen by everybody on the machine.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = EXAMPLES)]
pub struct PasswordUser {
    #[command(flatten)]
    names: Names,
    #[command(flatten)]
    source: PasswordSourceArgs,
    /// It must be changed at the next sign-in.
    #[arg(long)]
    must_change: bool,
    #[command(flatten)]
    even: Even<{ ROOT | ME | LAST_ADMIN | SERVICE }>,
}

const EXAMPLES: &str = "Examples:
  copper-nest password user maren
  copper-nest password user maren perrin --generate --must-change";

impl PasswordUser {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        session.require_rights()?;
        let names: Vec<UserName> = self.names.read_all()?;
        let full_name = session.before_asking(&names, |context| {
            check_password_holders(context, &names)?;
            let user = context.book.user(&names[0]).map(|(_, user)| user.full_name().to_vec());
            Ok(String::from_utf8_lossy(&user.unwrap_or_default()).into_owned())
        })?;
        let again = format!("password user {} --from-stdin", names[0]);
        let source = self.source.read();
        let (hashes, generated) = passwords::gather(
            &session,
            source,
            &names,
            &full_name,
            self.source.accept_weak,
            &again,
        )?;
        let must_change = self.must_change && source != PasswordSource::None;
        let request = SetPassword { names, hashes, must_change, overrides: self.even.read() };
        let status = session
            .carry_out(&request, Asks::Nothing, |context| set_password(context, &request))?;
        if !global.dry_run {
            passwords::tell(&generated, "password user")?;
        }
        Ok(status)
    }
}
