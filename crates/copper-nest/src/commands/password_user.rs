//! `password user`.

use nest_core::plan::{SetPassword, check_password_holders, set_password};
use nest_host::store::Focus;

use super::passwords::{self, Source};
use super::{EvenArgs, Names};
use crate::cli::Global;
use crate::failure::Failure;
use crate::session::{Asks, Session};

/// Set passwords, or take them away.
///
/// On a terminal the password is asked for twice and not shown. It is never an
/// argument: those can be seen by everybody on the machine.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = EXAMPLES)]
pub struct PasswordUser {
    #[command(flatten)]
    names: Names,
    /// Read the password from standard input, one line.
    #[arg(long, group = "source")]
    from_stdin: bool,
    /// Make a strong one up, and print it once.
    #[arg(long, group = "source")]
    generate: bool,
    /// Standard input holds a hash that was made elsewhere.
    #[arg(long, group = "source")]
    hashed: bool,
    /// Take the password away: nobody can sign in with one.
    #[arg(long, group = "source")]
    none: bool,
    /// It must be changed at the next sign-in.
    #[arg(long)]
    must_change: bool,
    /// Use it even if it is easily guessed.
    #[arg(long)]
    accept_weak: bool,
    #[command(flatten)]
    even: EvenArgs,
}

const EXAMPLES: &str = "Examples:
  copper-nest password user maren
  copper-nest password user maren perrin --generate --must-change";

impl PasswordUser {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result<u8, Failure> {
        let session = Session::open(global)?;
        session.require_rights()?;
        let names = self.names.read()?;
        let full_name = session.before_asking(|ground| {
            check_password_holders(ground, &names)?;
            let user = ground.book.user(&names[0]).map(|(_, user)| user.full_name().to_vec());
            Ok(String::from_utf8_lossy(&user.unwrap_or_default()).into_owned())
        })?;
        let again = format!("password user {} --from-stdin", names[0]);
        let (hashes, generated) = passwords::gather(
            &session,
            self.source(),
            &names,
            &full_name,
            self.accept_weak,
            &again,
        )?;
        let must_change = self.must_change && !self.none;
        let request = SetPassword { names, hashes, must_change, even: self.even.read() };
        let status = session
            .carry_out(&Focus::new(), Asks::Nothing, |ground| set_password(ground, &request))?;
        if !global.dry_run {
            passwords::tell(&generated);
        }
        Ok(status)
    }

    fn source(&self) -> Source {
        match (self.from_stdin, self.generate, self.hashed, self.none) {
            (true, ..) => Source::Stdin,
            (_, true, ..) => Source::Generate,
            (_, _, true, _) => Source::Hashed,
            (.., true) => Source::None,
            _ => Source::Ask,
        }
    }
}
