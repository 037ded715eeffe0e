//! `delete user`, `restore user`.

use std::ffi::OsString;

use bstr::BString;
use nest_core::plan::users::{
    DeleteUser, FilesDisposition, RestoreUser, delete_user, restore_user,
};

use super::even::ALL;
use super::{Asks, Even, Failure, Global, Names, Result, Session, USAGE, bytes};

/// Delete users. What they were is kept, and restore brings them back.
///
/// Every line, membership and range goes, and the private group when nobody else is
/// in it. The home, the mail spool file and the crontab are set aside: moved behind
/// a directory that only root may enter, whole. The numbers are not given to
/// anybody else, since files may carry them.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = DELETE)]
pub struct DeleteUserArgs {
    #[command(flatten)]
    names: Names,
    /// What becomes of home, mail and crontab: set-aside; keep, where they are;
    /// archive, packed into the state folder; erase, for good; give:USER, moved below
    /// that user's home.
    #[arg(long, value_name = "FATE", default_value = "set-aside")]
    files: OsString,
    #[command(flatten)]
    even: Even<ALL>,
}

const DELETE: &str = "Examples:
  copper-nest delete user perrin
  copper-nest delete user perrin --files give:odalys --dry-run";

impl DeleteUserArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let files = read_disposition(&self.files)?;
        let asks = if files == FilesDisposition::Erase { Asks::Names } else { Asks::First };
        let request = DeleteUser { names: self.names.read()?, files, overrides: self.even.read() };
        session.carry_out(&request, asks, |context| delete_user(context, &request))
    }
}

fn read_disposition(text: &OsString) -> Result<FilesDisposition> {
    let bytes: BString = bytes(text);
    match bytes.as_slice() {
        b"set-aside" => Ok(FilesDisposition::SetAside),
        b"keep" => Ok(FilesDisposition::Keep),
        b"archive" => Ok(FilesDisposition::Archive),
        b"erase" => Ok(FilesDisposition::Erase),
        other => match other.strip_prefix(b"give:") {
            Some(user) if !user.is_empty() => Ok(FilesDisposition::Give(user.into())),
            _ => {
                let message = format!(
                    "--files {bytes} is none of set-aside, keep, archive, erase, give:USER"
                );
                Err(Failure::new(USAGE, "usage", message))
            }
        },
    }
}

/// Bring deleted users back, just as they were.
///
/// The same numbers, groups, administrations and ranges, the password and how it
/// ages, home and mail in their places with their owners. What can't come back is
/// told, with the reason, before anything is done.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = RESTORE)]
pub struct RestoreUserArgs {
    #[command(flatten)]
    names: Names,
    /// Under another name.
    #[arg(long = "as", value_name = "NAME")]
    as_name: Option<OsString>,
    /// With another number, where the old one is taken by now.
    #[arg(long)]
    new_id: bool,
    /// Without the password it had.
    #[arg(long)]
    without_password: bool,
}

const RESTORE: &str = "Examples:
  copper-nest restore user perrin
  copper-nest restore user perrin --as perrin2 --without-password";

impl RestoreUserArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let request = RestoreUser {
            resumed_of: None,
            names: self.names.read()?,
            as_name: self.as_name.as_ref().map(bytes),
            new_id: self.new_id,
            without_password: self.without_password,
        };
        session.carry_out(&request, Asks::AtTerminal, |context| restore_user(context, &request))
    }
}
