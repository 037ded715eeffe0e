//! `handover`.

use std::ffi::OsString;
use std::path::PathBuf;

use bstr::{BString, ByteSlice};
use nest_core::handover::{Handover, handover};
use nest_core::ldif::DirectoryAccounts;
use nest_core::plan::users::{DeleteUser, FilesDisposition, delete_user};
use nest_core::refusal::{Reason, Refusal};
use nest_core::words::counted;

use super::even::ALL;
use super::export_ldif::not_a_dump;
use super::tables::quoted;
use super::{Asks, Even, FOUND, Failure, Global, REFUSED, Result, Session, bytes, read_input};
use crate::view;
use crate::view::handover as shown;

/// Look whether a directory can take the people of this machine over, and let go of those whom
/// it can.
///
/// Held against a dump of the directory: that everybody is in it with the same uid, the same
/// primary group and the same groups; which groups of this machine hide those of the directory;
/// what somebody would lose. With --delete those who are ready go from the account files as one
/// change, their files stay where they are, and undo brings them back. The exit status is 1 where
/// somebody is not ready.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct HandoverArgs {
    /// The dump, LDIF as slapcat and ldapsearch write it.
    #[arg(value_name = "DUMP")]
    dump: PathBuf,
    /// Only these.
    #[arg(value_name = "NAME")]
    names: Vec<OsString>,
    /// Delete those who are ready; their files stay where they are.
    #[arg(long)]
    delete: bool,
    /// Although this machine asks no directory yet: until it does they can't sign in.
    #[arg(long)]
    even_unasked: bool,
    #[command(flatten)]
    even: Even<ALL>,
}

const EXAMPLES: &str = "Examples:
  copper-nest handover dump.ldif
  copper-nest handover dump.ldif maren perrin --delete --dry-run";

impl HandoverArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session =
            if self.delete { Session::open(global)? } else { Session::open_anyway(global)? };
        let text = read_input(&self.dump)?;
        let (directory, faults) = DirectoryAccounts::read(&text);
        if !faults.is_empty() {
            return Err(not_a_dump(&self.dump, &text, faults));
        }
        let names: Vec<BString> = self.names.iter().map(bytes).collect();
        let loaded = session.load()?;
        if let Some(name) = names.iter().find(|name| loaded.book.user(name).is_none()) {
            return Err(Failure::new(REFUSED, "no-user", format!("there is no user {name}"))
                .or("see them all", "list users"));
        }
        let world = session.world_to_look_at()?;
        let found = handover(session.context(&loaded, &world), &directory, &names);
        if self.delete {
            return self.let_go(&session, &directory, &names);
        }
        match global.json() {
            true => view::print_json("handover", &shown::to_json(&found)),
            false => shown::print(global, &found, &quoted(&self.dump)),
        }
        Ok(if found.ready() == found.people.len() { 0 } else { FOUND })
    }

    /// Deletes those who are ready: of those who were named all have to be.
    fn let_go(
        &self,
        session: &Session<'_>,
        directory: &DirectoryAccounts,
        names: &[BString],
    ) -> Result {
        let base = DeleteUser {
            names: Vec::new(),
            files: FilesDisposition::Keep,
            overrides: self.even.read(),
        };
        session.carry_out(&base, Asks::First, |context| {
            let found = handover(context, directory, names);
            let refuse = |message: String| {
                Refusal::new("nobody was handed over", Reason::NotHandedOver { why: message })
            };
            if found.asks.is_none() && !self.even_unasked {
                let message = "etc/nsswitch.conf names no directory for users, and without that nobody \
                               of them could sign in";
                return Err(refuse(message.to_owned()).or_again("do it all the same", "--even-unasked"));
            }
            let not_ready = || found.people.iter().find(|person| !person.is_ready());
            if let Some(person) = not_ready().filter(|_| !names.is_empty()) {
                return Err(refuse(format!("{} {}", person.name, person.faults[0])));
            }
            let ready = found.people.iter().filter(|person| person.is_ready());
            let names: Vec<_> = ready.map(|person| person.name.clone().into()).collect();
            if names.is_empty() {
                return Err(refuse(nobody(&found)));
            }
            let count = counted(names.len(), "person", "people");
            let mut plan = delete_user(context, &DeleteUser { names, ..base.clone() })?;
            plan.summary = format!("handover of {count} to {}", self.dump.display());
            Ok(plan)
        })
    }
}

/// Why nobody is ready.
fn nobody(found: &Handover) -> String {
    match found.people.first() {
        None => "there are no people in these account files".to_owned(),
        Some(first) => {
            format!("nobody is ready; {} {}, for one", first.name.as_bstr(), first.faults[0])
        }
    }
}
