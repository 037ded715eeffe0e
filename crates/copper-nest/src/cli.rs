//! The command line: the tree of commands.
//!
//! - `global`: the options for all of them

mod global;

use std::ffi::OsString;

use clap::{ArgMatches, Command, Parser, Subcommand};

use crate::commands::{
    change_group, change_user, check, compare, completions, create_group, create_user,
    delete_group, delete_user, demo, export, export_snapshot, handover, intake, list_admins,
    list_changes, list_groups, list_ids, list_keys, list_retired, list_rules, list_users, merge,
    password_group, password_user, purge, reassign, recover, regroup, rename_group, rename_user,
    renumber, repair, report, show_change, show_group, show_id, show_policy, show_rule, show_user,
    suspend_user, trace, undo,
};
use crate::failure::{Failure, Result, USAGE};
use crate::session::many;
use crate::{for_all, stdin, trees};

pub use self::global::{Color, Format, Global};

/// Looks after the local accounts of Unix-like machines: creates, changes and deletes users and
/// groups, tells who can get in and how, and checks the account files for faults.
#[derive(Debug, Parser)]
#[command(name = "copper-nest", version, max_term_width = 100, after_help = EXAMPLES)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    verb: Verb,
}

const EXAMPLES: &str = "Examples:
  copper-nest demo                    a walk through it on a made-up server
  copper-nest create user maren --dry-run
  copper-nest --tree /srv/image check
  copper-nest --version --verbose     which build this is

Exit status:
  0 done, or nothing found   1 check found something   2 the command line is wrong
  3 refused, nothing changed   4 locked by someone else   5 a line is too damaged to edit
  6 reading or writing failed, all is as it was   7 failed, and could not be put back";

/// Reads a whole number that is written on the command line.
///
/// # Errors
/// What to write.
pub fn whole<N: std::str::FromStr>(text: &str) -> Result<N, String> {
    text.parse().map_err(|_| "write a whole number, 0 or more".to_owned())
}

/// The colour of help, as the words of the command line ask for it.
pub fn color_of_help(words: &[OsString]) -> clap::ColorChoice {
    let value = |at: usize| match words[at].to_str()?.strip_prefix("--color")? {
        "" => words.get(at + 1)?.to_str(),
        rest => rest.strip_prefix('='),
    };
    match (0..words.len()).rev().find_map(value) {
        Some("always") => clap::ColorChoice::Always,
        Some("never") => clap::ColorChoice::Never,
        _ => clap::ColorChoice::Auto,
    }
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// List users, groups, numbers, keys, administrators, deleted accounts, changes, or rules.
    #[command(subcommand)]
    List(List),
    /// Show one user, group, number, change or rule, or the policy.
    #[command(subcommand)]
    Show(Show),
    /// Create users, or a group.
    #[command(subcommand)]
    Create(Create),
    /// Change an account, or a group.
    #[command(subcommand)]
    Change(Change),
    /// Rename a user, or a group.
    #[command(subcommand)]
    Rename(Rename),
    /// Set passwords.
    #[command(subcommand)]
    Password(Password),
    /// Keep accounts out for a while.
    #[command(subcommand)]
    Suspend(Suspend),
    /// Let suspended accounts back in.
    #[command(subcommand)]
    Resume(Resume),
    /// Delete users or groups; what they were is kept.
    #[command(subcommand)]
    Delete(Delete),
    /// Bring deleted users or groups back.
    #[command(subcommand)]
    Restore(Restore),
    Purge(purge::PurgeArgs),
    Trace(trace::TraceArgs),
    Reassign(reassign::ReassignArgs),
    Regroup(regroup::RegroupArgs),
    Renumber(renumber::RenumberArgs),
    Intake(intake::IntakeArgs),
    Merge(merge::MergeArgs),
    /// Write users or groups as a table that intake takes back, or a snapshot for compare.
    #[command(subcommand)]
    Export(Export),
    Compare(compare::Compare),
    Handover(handover::HandoverArgs),
    Report(report::ReportArgs),
    Check(check::Check),
    Repair(repair::RepairArgs),
    Undo(undo::UndoArgs),
    Recover(recover::Recover),
    Demo(demo::Demo),
    Completions(completions::Completions),
}

#[derive(Debug, Subcommand)]
enum List {
    #[command(alias = "user")]
    Users(list_users::ListUsers),
    #[command(alias = "group")]
    Groups(list_groups::ListGroups),
    #[command(alias = "id")]
    Ids(list_ids::ListIds),
    #[command(alias = "range")]
    Ranges(list_ids::ListRanges),
    #[command(alias = "key")]
    Keys(list_keys::ListKeys),
    #[command(alias = "admin")]
    Admins(list_admins::ListAdmins),
    Retired(list_retired::ListRetired),
    #[command(alias = "change")]
    Changes(list_changes::ListChanges),
    #[command(alias = "rule")]
    Rules(list_rules::ListRules),
}

#[derive(Debug, Subcommand)]
enum Show {
    #[command(alias = "users")]
    User(show_user::ShowUser),
    #[command(alias = "groups")]
    Group(show_group::ShowGroup),
    #[command(alias = "ids")]
    Id(show_id::ShowId),
    #[command(alias = "changes")]
    Change(show_change::ShowChange),
    Policy(show_policy::ShowPolicy),
    #[command(alias = "rules")]
    Rule(show_rule::ShowRule),
}

#[derive(Debug, Subcommand)]
enum Create {
    #[command(alias = "users")]
    User(Box<create_user::CreateUserArgs>),
    #[command(alias = "groups")]
    Group(create_group::CreateGroupArgs),
}

#[derive(Debug, Subcommand)]
enum Change {
    #[command(alias = "users")]
    User(Box<change_user::ChangeUserArgs>),
    #[command(alias = "groups")]
    Group(change_group::ChangeGroupArgs),
}

#[derive(Debug, Subcommand)]
enum Rename {
    #[command(alias = "users")]
    User(rename_user::RenameUserArgs),
    #[command(alias = "groups")]
    Group(rename_group::RenameGroupArgs),
}

#[derive(Debug, Subcommand)]
enum Password {
    #[command(alias = "users")]
    User(password_user::PasswordUser),
    #[command(alias = "groups")]
    Group(password_group::PasswordGroup),
}

#[derive(Debug, Subcommand)]
enum Delete {
    #[command(alias = "users")]
    User(delete_user::DeleteUserArgs),
    #[command(alias = "groups")]
    Group(delete_group::DeleteGroupArgs),
}

#[derive(Debug, Subcommand)]
enum Restore {
    #[command(alias = "users")]
    User(delete_user::RestoreUserArgs),
    #[command(alias = "groups")]
    Group(delete_group::RestoreGroupArgs),
}

#[derive(Debug, Subcommand)]
enum Export {
    #[command(alias = "user")]
    Users(export::ExportUsers),
    #[command(alias = "group")]
    Groups(export::ExportGroups),
    #[command(alias = "snapshots")]
    Snapshot(export_snapshot::ExportSnapshot),
}

#[derive(Debug, Subcommand)]
enum Suspend {
    #[command(alias = "users")]
    User(suspend_user::SuspendUser),
}

#[derive(Debug, Subcommand)]
enum Resume {
    #[command(alias = "users")]
    User(suspend_user::ResumeUser),
}

impl Cli {
    /// Runs the command; returns the exit status.
    pub fn run(&mut self, given: &ArgMatches, words: &[OsString]) -> Result {
        self.global.trees = trees::named(words).unwrap_or(std::mem::take(&mut self.global.trees));
        self.global.settle()?;
        let global = &self.global;
        let several = global.trees.len() > 1;
        let checks = matches!(self.verb, Verb::Check(_));
        let exports = matches!(self.verb, Verb::Export(Export::Users(_) | Export::Groups(_)));
        let shows_policy = matches!(self.verb, Verb::Show(Show::Policy(_)));
        for (asked, can, message) in [
            (
                several,
                checks || for_all::makes_a_change(given),
                "this command is about one tree: name one --tree",
            ),
            (global.format == Format::Sarif, checks, "only check writes --format sarif"),
            (global.format == Format::Toml, shows_policy, "only show policy writes --format toml"),
            (global.format == Format::Ldif, exports, "only export writes --format ldif"),
        ] {
            if asked && !can {
                return Err(Failure::new(USAGE, "usage", message));
            }
        }
        if let Some(note) = &global.note {
            refuse_unfit(note)?;
        }
        if several && !checks {
            for_all::refuse_with_several(given)?;
            stdin::read_again();
            return many::on_all(global, |global| self.run_on(global));
        }
        self.run_on(global)
    }

    fn run_on(&self, global: &Global) -> Result {
        match &self.verb {
            Verb::List(List::Users(args)) => args.run(global),
            Verb::List(List::Groups(args)) => args.run(global),
            Verb::List(List::Ids(args)) => args.run(global),
            Verb::List(List::Ranges(args)) => args.run(global),
            Verb::List(List::Keys(args)) => args.run(global),
            Verb::List(List::Admins(args)) => args.run(global),
            Verb::List(List::Retired(args)) => args.run(global),
            Verb::List(List::Changes(args)) => args.run(global),
            Verb::List(List::Rules(args)) => args.run(global),
            Verb::Show(Show::User(args)) => args.run(global),
            Verb::Show(Show::Group(args)) => args.run(global),
            Verb::Show(Show::Id(args)) => args.run(global),
            Verb::Show(Show::Change(args)) => args.run(global),
            Verb::Show(Show::Policy(args)) => args.run(global),
            Verb::Show(Show::Rule(args)) => args.run(global),
            Verb::Create(Create::User(args)) => args.run(global),
            Verb::Create(Create::Group(args)) => args.run(global),
            Verb::Change(Change::User(args)) => args.run(global),
            Verb::Change(Change::Group(args)) => args.run(global),
            Verb::Rename(Rename::User(args)) => args.run(global),
            Verb::Rename(Rename::Group(args)) => args.run(global),
            Verb::Password(Password::User(args)) => args.run(global),
            Verb::Password(Password::Group(args)) => args.run(global),
            Verb::Suspend(Suspend::User(args)) => args.run(global),
            Verb::Resume(Resume::User(args)) => args.run(global),
            Verb::Delete(Delete::User(args)) => args.run(global),
            Verb::Delete(Delete::Group(args)) => args.run(global),
            Verb::Restore(Restore::User(args)) => args.run(global),
            Verb::Restore(Restore::Group(args)) => args.run(global),
            Verb::Purge(args) => args.run(global),
            Verb::Trace(args) => args.run(global),
            Verb::Reassign(args) => args.run(global),
            Verb::Regroup(args) => args.run(global),
            Verb::Renumber(args) => args.run(global),
            Verb::Intake(args) => args.run(global),
            Verb::Merge(args) => args.run(global),
            Verb::Export(Export::Users(args)) => args.run(global),
            Verb::Export(Export::Groups(args)) => args.run(global),
            Verb::Export(Export::Snapshot(args)) => args.run(global),
            Verb::Compare(args) => args.run(global),
            Verb::Handover(args) => args.run(global),
            Verb::Report(args) => args.run(global),
            Verb::Check(args) => args.run(global),
            Verb::Repair(args) => args.run(global),
            Verb::Undo(args) => args.run(global),
            Verb::Recover(args) => args.run(global),
            Verb::Demo(args) => args.run(global),
            Verb::Completions(args) => args.run(global),
        }
    }
}

/// Refuses a note that is none.
fn refuse_unfit(note: &str) -> Result<()> {
    /// In bytes; it is a word, not a letter.
    const LONGEST: usize = 500;
    if note.trim().is_empty() || note.len() > LONGEST || note.chars().any(char::is_control) {
        let message = "a note is one line of at most 500 bytes, and not empty";
        return Err(Failure::new(USAGE, "usage", message));
    }
    Ok(())
}

/// An option that takes an empty value: a full name can be taken away.
const MAY_BE_EMPTY: [&str; 1] = ["full_name"];

/// Refuses an empty argument: in a script it comes of a variable that is not set, and an
/// empty path would be the root of the tree.
pub fn refuse_empty(command: &Command, given: &ArgMatches) -> Result<()> {
    for arg in command.get_arguments() {
        let id = arg.get_id().as_str();
        let mut values = given.try_get_raw(id).ok().flatten().into_iter().flatten();
        if values.any(|value| value.is_empty()) && !MAY_BE_EMPTY.contains(&id) {
            let which = match arg.get_long() {
                Some(long) => format!("the value of --{long}"),
                None => arg
                    .get_value_names()
                    .and_then(|names| names.first())
                    .map_or(id, |name| name)
                    .to_owned(),
            };
            let message = format!("{which} is empty; was it a variable that is not set?");
            return Err(Failure::new(USAGE, "usage", message));
        }
    }
    match given.subcommand() {
        Some((name, inner)) => {
            command.find_subcommand(name).map_or(Ok(()), |command| refuse_empty(command, inner))
        }
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_tree_is_sound() {
        use clap::CommandFactory;
        Cli::command().debug_assert();
    }

    #[test]
    fn every_command_shows_two_examples() {
        use clap::CommandFactory;
        fn look(command: &clap::Command, without: &mut Vec<String>) {
            if command.has_subcommands() {
                command.get_subcommands().for_each(|sub| look(sub, without));
                return;
            }
            let help = command.get_after_help().map(ToString::to_string).unwrap_or_default();
            let examples = help.lines().filter(|line| line.starts_with("  copper-nest "));
            if examples.count() < 2 {
                without.push(command.get_name().to_owned());
            }
        }
        let mut without = Vec::new();
        look(&Cli::command(), &mut without);
        assert_eq!(without, Vec::<String>::new());
    }

    #[test]
    fn only_the_agreed_single_letters_exist() {
        use clap::CommandFactory;
        fn letters(command: &clap::Command, found: &mut std::collections::BTreeSet<char>) {
            found.extend(command.get_arguments().filter_map(clap::Arg::get_short));
            command.get_subcommands().for_each(|sub| letters(sub, found));
        }
        let mut command = Cli::command();
        command.build();
        let mut found = std::collections::BTreeSet::new();
        letters(&command, &mut found);
        assert_eq!(found.into_iter().collect::<String>(), "Vhnqvy");
    }
}
