//! `list users`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;

use bstr::BStr;
use clap::ValueEnum;
use nest_core::account::{AccountKind, Roll};
use nest_core::sign_in::sign_in;
use nest_core::table::File;
use nest_core::value::read_plain_id;

use crate::cli::Global;
use crate::failure::{Failure, REFUSED};
use crate::session::Session;
use crate::view::{self, user, users};

/// List users: people, unless told otherwise.
///
/// On a terminal a table; into a pipe one user a line, fields separated by tabs:
/// name, uid, kind, primary group, groups, home, shell, full name.
#[derive(Debug, clap::Args)]
#[command(name = "users", after_help = EXAMPLES)]
pub struct ListUsers {
    /// Which users; all with --admin or --in.
    #[arg(long, value_enum)]
    kind: Option<KindChoice>,
    /// Only administrators of the machine.
    #[arg(long)]
    admin: bool,
    /// Only members of a group, listed or by primary group.
    #[arg(long = "in", value_name = "GROUP")]
    group: Option<OsString>,
}

const EXAMPLES: &str = "Examples:
  copper-nest list users --in pilots
  copper-nest list users --kind services --format json";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum KindChoice {
    People,
    Services,
    All,
}

impl ListUsers {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result<u8, Failure> {
        let session = Session::open(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let (book, policy) = (&loaded.book, &session.policy);
        let wanted_gid = self.group.as_ref().map(|group| {
            let name = BStr::new(group.as_bytes());
            let found = book.group(name).or_else(|| book.group_by_gid(read_plain_id(name)?));
            found.map(|(_, group)| group).ok_or_else(|| {
                Failure::new(REFUSED, "no-group", format!("there is no group {name}"))
            })
        });
        let wanted = wanted_gid.transpose()?;
        let narrowed = self.admin || self.group.is_some();
        let kind = self.kind.unwrap_or(if narrowed { KindChoice::All } else { KindChoice::People });
        let roll = Roll::new(book, policy);
        let accounts = roll.accounts().filter(|account| {
            let kind_fits = match kind {
                KindChoice::All => true,
                KindChoice::People => account.kind == AccountKind::Person,
                KindChoice::Services => account.kind == AccountKind::Service,
            };
            let member = wanted.is_none_or(|wanted| {
                account.user.gid() == wanted.gid()
                    || account.groups.iter().any(|group| group.name == wanted.name)
            });
            kind_fits && member && (!self.admin || account.admin)
        });
        if global.json() {
            let world = session.world_to_look_at()?;
            let documents: Vec<_> = accounts
                .map(|account| {
                    let shadow = account.shadow.as_ref();
                    let has_file = account.has_shadow_file;
                    let sign_in = sign_in(&account.user, shadow, has_file, session.today, &world);
                    user::to_json(&user::Shown {
                        account: &account,
                        sign_in: &sign_in,
                        home: user::look_at_home(book, &world, &account),
                        shadow_unreadable: book.unreadable.get(&File::Shadow),
                        today: session.today,
                    })
                })
                .collect();
            view::print_json(&serde_json::Value::Array(documents));
            return Ok(0);
        }
        let accounts: Vec<_> = accounts.collect();
        users::print(global, &accounts, book.users.records().count());
        Ok(0)
    }
}
