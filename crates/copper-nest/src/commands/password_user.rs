//! `password user`.

use std::path::{Path, PathBuf};

use bstr::BString;
use nest_core::account::{AccountKind, kind_of_user};
use nest_core::context::PlanContext;
use nest_core::plan::users::{SetPassword, check_password_holders, set_password};
use nest_core::value::UserName;
use nest_core::words::list;

use super::even::{LAST_ADMIN, ME, ROOT, SERVICE};
use super::first_passwords::FirstPasswords;
use super::passwords::{self, PasswordSource, PasswordSourceArgs};
use super::{Asks, Even, Failure, Global, Names, REFUSED, Result, Session};
use crate::view::visible;

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
    /// Make strong ones up, that must be changed at the next sign-in, and write them to FILE,
    /// which is made for it, readable for root alone.
    #[arg(long, value_name = "FILE", group = "source")]
    passwords_to: Option<PathBuf>,
    /// It must be changed at the next sign-in.
    #[arg(long)]
    must_change: bool,
    #[command(flatten)]
    even: Even<{ ROOT | ME | LAST_ADMIN | SERVICE }>,
}

const EXAMPLES: &str = "Examples:
  copper-nest password user maren
  copper-nest password user maren perrin --generate --must-change
  copper-nest password user --names-from crew.txt --passwords-to /root/first-passwords.csv";

impl PasswordUser {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        session.require_rights()?;
        let names: Vec<UserName> = self.names.read_all()?;
        if let Some(path) = &self.passwords_to {
            return self.many(&session, path, names);
        }
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

    /// Passwords for many, into a file. A service that only a file names gets none.
    fn many(&self, session: &Session<'_>, path: &Path, names: Vec<UserName>) -> Result {
        let global = session.global;
        let is_passed_over = |context: PlanContext<'_>, name: &UserName| {
            let found = context.book.user(name);
            let is_service = found.is_some_and(|(_, user)| {
                let shadow = || context.book.shadow(user.name).map(|(_, shadow)| shadow);
                kind_of_user(context.policy, &user, shadow).0 == AccountKind::Service
            });
            is_service && !self.names.is_named(name)
        };
        let (services, names) = session.before_asking(&names, |context| {
            check_password_holders(context, &names)?;
            let services = names.iter().filter(|name| is_passed_over(context, name)).cloned();
            let services: Vec<UserName> = services.collect();
            let names: Vec<UserName> =
                names.iter().filter(|name| !services.contains(name)).cloned().collect();
            Ok((services, names))
        })?;
        if !services.is_empty() && !global.quiet {
            let services = list(&services).to_string();
            errln!(
                "no password for services that only the file names: {}",
                visible(services.as_bytes())
            );
        }
        if names.is_empty() {
            let message = "nobody is left who would get a password; nothing was changed";
            return Err(Failure::new(REFUSED, "nobody-left", message));
        }
        let file = FirstPasswords::prepare(path, global.dry_run, "password user NAME")?;
        let plain: Vec<BString> = names.iter().cloned().map(BString::from).collect();
        let made = match global.dry_run {
            true => plain.iter().map(|name| (name.clone(), "!".into())).collect(),
            false => file.fill(session, &plain)?,
        };
        let hashes = plain.iter().map(|name| made.get(name).cloned()).collect();
        let request = SetPassword { names, hashes, must_change: true, overrides: self.even.read() };
        let status = session
            .carry_out(&request, Asks::Nothing, |context| set_password(context, &request))?;
        file.keep(global, made.len());
        Ok(status)
    }
}
