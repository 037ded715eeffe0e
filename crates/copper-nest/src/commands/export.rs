//! `export`.

use std::ffi::OsString;
use std::fs::OpenOptions;
use std::io::{ErrorKind, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use bstr::BString;
use nest_core::account::{AccountIndex, AccountKind};
use nest_core::group_account::{GroupIndex, GroupKind};
use nest_core::roster::{
    Form, PasswordHashes, WrittenRoster, made_with_users, written_groups, written_users,
};
use nest_core::surroundings::Surroundings;
use nest_core::words::counted;

use super::require_shadow;
use super::tables::FormArg;
use super::{Failure, Global, REFUSED, Result, Session, UNTOUCHED, USAGE, bytes};

/// Write users as a table that intake takes back.
///
/// Passwords, their aging, and what is in homes are not in it. Private groups are
/// made again with their users; other groups come from export groups.
#[derive(Debug, clap::Args)]
#[command(name = "users", after_help = USERS)]
pub struct ExportUsers {
    /// Only these.
    #[arg(value_name = "NAME")]
    names: Vec<OsString>,
    /// Which of them.
    #[arg(long, value_enum, value_name = "people|services|all", default_value = "people")]
    kind: Kind,
    /// Password hashes too; needs --to.
    #[arg(long, requires = "to")]
    with_hashes: bool,
    #[command(flatten)]
    into: Into,
}

/// Write groups as a table that intake takes back.
///
/// Private groups of users are left out: they are made again with their users.
#[derive(Debug, clap::Args)]
#[command(name = "groups", after_help = GROUPS)]
pub struct ExportGroups {
    /// Only these.
    #[arg(value_name = "NAME")]
    names: Vec<OsString>,
    /// Which of them.
    #[arg(long, value_enum, value_name = "people|services|all", default_value = "all")]
    kind: Kind,
    /// Without members and administrators: for a tree that lacks those users.
    #[arg(long)]
    without_members: bool,
    #[command(flatten)]
    into: Into,
}

const USERS: &str = "Examples:
  copper-nest export users --to crew.csv
  copper-nest export users sunniva tavish --as toml";

const GROUPS: &str = "Examples:
  copper-nest export groups --to groups.csv
  copper-nest --tree /srv/image export groups --without-members --as json";

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Kind {
    People,
    Services,
    All,
}

/// Where a table goes.
#[derive(Debug, clap::Args)]
#[group(skip)]
struct Into {
    /// A file that is to be made; its ending says how it is written.
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// How it is written; csv unless --to or --format says otherwise.
    #[arg(long = "as", value_enum, value_name = "csv|json|toml")]
    form: Option<FormArg>,
}

impl ExportUsers {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let form = self.into.form(global)?;
        let loaded = session.load()?;
        let (book, policy) = (&loaded.book, &session.policy);
        require_shadow(book, "nothing was exported")?;
        if self.with_hashes && book.shadow.is_none() {
            let message =
                "this tree has no etc/shadow, and without it there are no hashes to export";
            return Err(Failure::new(REFUSED, "no-shadow", message));
        }
        let names: Vec<BString> = self.names.iter().map(bytes).collect();
        if let Some(name) = names.iter().find(|name| book.user(name).is_none()) {
            return Err(Failure::new(REFUSED, "no-user", format!("there is no user {name}"))
                .or("see them all", "list users --kind all"));
        }
        let own = made_with_users(book, policy);
        let world = session.world_to_look_at()?;
        let accounts = AccountIndex::new(book, policy);
        let wanted = accounts.accounts().filter(|account| {
            let kind = match self.kind {
                Kind::All => true,
                Kind::People => account.kind == AccountKind::Person,
                Kind::Services => account.kind == AccountKind::Service,
            };
            match names.is_empty() {
                true => kind,
                false => names.iter().any(|name| name == account.user.name),
            }
        });
        let hashes =
            if self.with_hashes { PasswordHashes::Included } else { PasswordHashes::LeftOut };
        let written = written_users(wanted, form, hashes, &own, world.windows());
        self.into.put(global, &written, self.with_hashes)
    }
}

impl ExportGroups {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let form = self.into.form(global)?;
        let loaded = session.load()?;
        let (book, policy) = (&loaded.book, &session.policy);
        let names: Vec<BString> = self.names.iter().map(bytes).collect();
        if let Some(name) = names.iter().find(|name| book.group(name).is_none()) {
            return Err(Failure::new(REFUSED, "no-group", format!("there is no group {name}"))
                .or("see them all", "list groups"));
        }
        let own = made_with_users(book, policy);
        let groups = GroupIndex::new(book, policy);
        let wanted = groups.groups().filter(|group| {
            let kind = match self.kind {
                Kind::All => true,
                Kind::People => group.kind != GroupKind::Services,
                Kind::Services => group.kind == GroupKind::Services,
            };
            match names.is_empty() {
                true => kind && !own.contains(group.group.name),
                false => names.iter().any(|name| name == group.group.name),
            }
        });
        let written = written_groups(wanted, form, !self.without_members);
        self.into.put(global, &written, false)
    }
}

impl Into {
    fn form(&self, global: &Global) -> Result<Form> {
        let ending = self.to.as_deref().and_then(Path::extension).and_then(|end| end.to_str());
        let by_ending = ending.and_then(|end| end.to_ascii_lowercase().parse().ok());
        match (self.form.map(Form::from), by_ending) {
            (Some(form), _) => Ok(form),
            (None, Some(form)) => Ok(form),
            (None, None) if global.json() => Ok(Form::Json),
            (None, None) if self.to.is_none() => Ok(Form::Csv),
            (None, None) => {
                let message =
                    "the file ends in none of .csv, .json and .toml; say --as csv, for one";
                Err(Failure::new(USAGE, "usage", message))
            }
        }
    }

    fn put(&self, global: &Global, written: &WrittenRoster, secret: bool) -> Result {
        for what in &written.left_out {
            errln!("left out: {what}");
        }
        let Some(path) = &self.to else {
            outln!("{}", written.text.trim_end_matches('\n'));
            return Ok(0);
        };
        let shown = path.display();
        let mode = if secret { 0o600 } else { 0o644 };
        let file = OpenOptions::new().write(true).create_new(true).mode(mode).open(path);
        let mut file = file.map_err(|error| match error.kind() {
            ErrorKind::AlreadyExists => Failure::new(
                REFUSED,
                "exists",
                format!("{shown} exists already, and is not overwritten"),
            ),
            _ => Failure::new(UNTOUCHED, "output", format!("{shown} can't be made: {error}")),
        })?;
        file.write_all(written.text.as_bytes()).and_then(|()| file.sync_all()).map_err(
            |error| {
                let removed = std::fs::remove_file(path);
                let left = if removed.is_err() { ", and is incomplete" } else { "" };
                Failure::new(
                    UNTOUCHED,
                    "output",
                    format!("{shown} can't be written: {error}{left}"),
                )
            },
        )?;
        if !global.quiet && !global.json() {
            let rows = counted(written.rows, "row", "rows");
            let whose = if secret { ", readable for root alone: it holds hashes" } else { "" };
            outln!("{shown}: {rows}{whose}");
            outln!("next: copper-nest --tree DIR intake {shown} --dry-run");
        }
        Ok(0)
    }
}
