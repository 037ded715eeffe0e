//! `export`.

use std::collections::HashSet;
use std::ffi::OsString;
use std::path::{Path, PathBuf};

use bstr::BString;
use nest_core::account::{AccountIndex, AccountKind, kind_of_user};
use nest_core::book::Book;
use nest_core::group_account::{GroupAccount, GroupIndex, GroupKind, private_groups};
use nest_core::ldif::{
    Directory, Scope, containers, entries_text, group_entries, user_entries, users_text,
};
use nest_core::policy::Policy;
use nest_core::roster::{
    Form, GroupWriting, PasswordHashes, UserWriting, WrittenRoster, made_with_users,
    written_groups, written_users,
};
use nest_core::sign_in::keys_in_files;
use nest_core::surroundings::Surroundings;
use nest_core::table::Passwd;
use nest_core::words::counted;

use super::export_ldif::{LdifArgs, Part};
use super::new_file::write_new;
use super::require_shadow;
use super::tables::FormArg;
use super::{FOUND, Failure, Format, Global, REFUSED, Result, Session, USAGE, bytes};

/// Write users as a table that intake takes back.
///
/// Everything is in it that the account files and their records say of them; password hashes
/// and keys when they are asked for. What a table can't hold is left out and told, and the status
/// is 1 then. Private groups are made again with their users; other groups come from export
/// groups.
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
    /// Public keys for signing in too.
    #[arg(long)]
    with_keys: bool,
    #[command(flatten)]
    into: Into,
    #[command(flatten)]
    ldif: LdifArgs,
}

/// Write groups as a table that intake takes back.
///
/// Private groups of users are left out: they are made again with their users. The groups of
/// people are those with their numbers, and those that people are in.
#[derive(Debug, clap::Args)]
#[command(name = "groups", after_help = GROUPS)]
pub struct ExportGroups {
    /// Only these.
    #[arg(value_name = "NAME")]
    names: Vec<OsString>,
    /// Which of them.
    #[arg(long, value_enum, value_name = "people|services|all", default_value = "people")]
    kind: Kind,
    /// Without members and administrators: for a tree that lacks those users.
    #[arg(long)]
    without_members: bool,
    /// Password hashes of groups too; needs --to.
    #[arg(long, requires = "to")]
    with_hashes: bool,
    #[command(flatten)]
    into: Into,
    #[command(flatten)]
    ldif: LdifArgs,
}

const USERS: &str = "Examples:
  copper-nest export users --to crew.csv
  copper-nest export users sunniva tavish --as toml
  copper-nest export users --as ldif --base dc=gullhaven,dc=example --to crew.ldif";

const GROUPS: &str = "Examples:
  copper-nest export groups --to groups.csv
  copper-nest --tree /srv/image export groups --without-members --as json
  copper-nest export groups --as ldif --base dc=gullhaven,dc=example --changes-from dump.ldif";

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Kind {
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
    #[arg(long = "as", value_enum, value_name = "csv|json|toml|ldif")]
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
        let directory = self.ldif.directory(form)?;
        let names: Vec<BString> = self.names.iter().map(bytes).collect();
        if let Some(name) = names.iter().find(|name| book.user(name).is_none()) {
            return Err(Failure::new(REFUSED, "no-user", format!("there is no user {name}"))
                .or("see them all", "list users --kind all"));
        }
        if let Some(directory) = &directory {
            return self.to_directory(global, book, policy, (directory, &names));
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
        let context = session.context(&loaded, &world);
        let keys = |user: Passwd<'_>| keys_in_files(context, user);
        let writing = UserWriting {
            form,
            hashes: hashes(self.with_hashes),
            own: &own,
            policy,
            windows: world.windows(),
            suspended: world.suspended(),
            has_shadow: book.shadow.is_some(),
            keys: self.with_keys.then_some(&keys),
        };
        let written = written_users(wanted, &writing);
        self.into.put(global, &written, self.with_hashes)
    }

    /// Writes users for a directory, each with the group of its own: one that knows somebody
    /// knows the group that is theirs alone.
    fn to_directory(
        &self,
        global: &Global,
        book: &Book,
        policy: &Policy,
        (directory, names): (&Directory, &[BString]),
    ) -> Result {
        let names: HashSet<&[u8]> = names.iter().map(|name| name.as_slice()).collect();
        let shadow_of = |name: &[u8]| book.shadow(name).map(|(_, shadow)| shadow);
        let is_wanted = |user: &Passwd<'_>| match names.is_empty() {
            false => names.contains(user.name),
            true => {
                let kind = kind_of_user(policy, user, || shadow_of(user.name)).0;
                match self.kind {
                    Kind::All => true,
                    Kind::People => kind == AccountKind::Person,
                    Kind::Services => kind == AccountKind::Service,
                }
            }
        };
        let users = book.users.records().map(|(_, user)| user).filter(is_wanted);
        let users: Vec<Passwd<'_>> = users.collect();
        let own = private_groups(book);
        let to = self.into.to.as_deref();
        if !self.ldif.asks_for_changes() {
            let mut text = entries_text(&containers(directory));
            let owns = |user: &Passwd<'_>| own.contains(user.name);
            let (of_users, count, left_out) =
                users_text(&users, directory, self.with_hashes, &shadow_of, &owns);
            text.extend_from_slice(&of_users);
            let written = (text, count, left_out);
            return self.ldif.write(global, to, written, self.with_hashes);
        }
        let with_shadow = users.iter().map(|user| (*user, shadow_of(user.name)));
        let entries = user_entries(with_shadow, directory, self.with_hashes);
        let written: HashSet<&[u8]> = entries.all.iter().map(|user| &user.name[..]).collect();
        let groups = GroupIndex::new(book, policy);
        let theirs = groups
            .groups()
            .filter(|group| own.contains(group.group.name) && written.contains(group.group.name));
        let groups = group_entries(theirs, directory, |name| written.contains(name));
        drop(written);
        let (people, place) = (directory.people.as_str(), directory.groups.as_str());
        let is_user = |name: &[u8]| book.user(name).is_some();
        let is_group = |name: &[u8]| book.group(name).is_some();
        let parts = vec![
            Part::containers(directory),
            Part { entries, scope: Scope::Users, place: people, is_here: &is_user },
            Part { entries: groups, scope: Scope::OwnGroups, place, is_here: &is_group },
        ];
        self.ldif.put(global, to, parts, self.with_hashes)
    }
}

impl ExportGroups {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let form = self.into.form(global)?;
        let loaded = session.load()?;
        let (book, policy) = (&loaded.book, &session.policy);
        let directory = self.ldif.directory(form)?;
        let names: Vec<BString> = self.names.iter().map(bytes).collect();
        if let Some(name) = names.iter().find(|name| book.group(name).is_none()) {
            return Err(Failure::new(REFUSED, "no-group", format!("there is no group {name}"))
                .or("see them all", "list groups"));
        }
        let own = made_with_users(book, policy);
        let groups = GroupIndex::new(book, policy);
        let people = people_of(book, policy);
        let is_of_people = |group: &GroupAccount<'_>| {
            let mut all = group.listed.iter().chain(&group.primary);
            group.kind != GroupKind::Services || all.any(|name| people.contains(name))
        };
        let wanted = groups.groups().filter(|group| {
            let kind = match self.kind {
                Kind::All => true,
                Kind::People => is_of_people(group),
                Kind::Services => group.kind == GroupKind::Services,
            };
            match names.is_empty() {
                true => kind && !own.contains(group.group.name),
                false => names.iter().any(|name| name == group.group.name),
            }
        });
        if let Some(directory) = &directory {
            if self.with_hashes {
                let message = "a directory keeps no passwords of groups: leave --with-hashes out";
                return Err(Failure::new(USAGE, "usage", message));
            }
            let known = |name: &[u8]| !self.without_members && book.user(name).is_some();
            // Somebody's own group comes with the users.
            let wanted = wanted.filter(|group| group.kind != GroupKind::Private);
            let entries = group_entries(wanted, directory, known);
            let is_here = |name: &[u8]| book.group(name).is_some();
            let (scope, place) = (Scope::Groups, directory.groups.as_str());
            let groups = Part { entries, scope, place, is_here: &is_here };
            let parts = vec![Part::containers(directory), groups];
            return self.ldif.put(global, self.into.to.as_deref(), parts, false);
        }
        let (hashes, with_members) = (hashes(self.with_hashes), !self.without_members);
        let writing = GroupWriting { form, hashes, with_members, book };
        let written = written_groups(wanted, &writing);
        self.into.put(global, &written, self.with_hashes)
    }
}

fn hashes(wanted: bool) -> PasswordHashes {
    if wanted { PasswordHashes::Included } else { PasswordHashes::LeftOut }
}

/// The names of people.
fn people_of<'b>(book: &'b Book, policy: &Policy) -> HashSet<&'b [u8]> {
    let users = book.users.records().map(|(_, user)| user);
    let is_person = |user: &Passwd<'_>| {
        let shadow = || book.shadow(user.name).map(|(_, shadow)| shadow);
        kind_of_user(policy, user, shadow).0 == AccountKind::Person
    };
    users.filter(is_person).map(|user| user.name).collect()
}

impl Into {
    fn form(&self, global: &Global) -> Result<Form> {
        let ending = self.to.as_deref().and_then(Path::extension).and_then(|end| end.to_str());
        let by_ending = ending.and_then(|end| end.to_ascii_lowercase().parse().ok());
        match (self.form.map(Form::from), by_ending) {
            (Some(form), _) => Ok(form),
            (None, Some(form)) => Ok(form),
            (None, None) if global.format == Format::Ldif => Ok(Form::Ldif),
            (None, None) if global.json() => Ok(Form::Json),
            (None, None) if self.to.is_none() => Ok(Form::Csv),
            (None, None) => {
                let message =
                    "the file ends in none of .csv, .json, .toml and .ldif; say --as csv, for one";
                Err(Failure::new(USAGE, "usage", message))
            }
        }
    }

    fn put(&self, global: &Global, written: &WrittenRoster, secret: bool) -> Result {
        for what in &written.left_out {
            errln!("left out: {what}");
        }
        let status = if written.left_out.is_empty() { 0 } else { FOUND };
        let Some(path) = &self.to else {
            outln!("{}", written.text.trim_end_matches('\n'));
            return Ok(status);
        };
        let shown = path.display();
        let mode = if secret { 0o600 } else { 0o644 };
        write_new(path, written.text.as_bytes(), mode)?;
        if !global.quiet && !global.json() {
            let rows = counted(written.rows, "row", "rows");
            let whose = if secret { ", readable for root alone: it holds hashes" } else { "" };
            outln!("{shown}: {rows}{whose}");
            outln!("next: copper-nest --tree DIR intake {shown} --dry-run");
        }
        Ok(status)
    }
}
