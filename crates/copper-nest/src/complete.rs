//! What the shell offers while a command is being typed: the commands and options
//! by themselves, and names from the tree that the command is about.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use clap::{Arg, Command, CommandFactory};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use nest_core::check::RULES;
use nest_core::value::UserOrGroup;
use nest_host::state::State;
use nest_host::tree::Tree;
use nest_host::untrusted::{self, LastLink};
use nest_host::{changes, kept};

use crate::cli::Cli;

/// The variable by which a shell asks for completions.
pub const VARIABLE: &str = "COPPER_NEST_COMPLETE";

/// More than this nobody reads.
/// More of an account file than this is not read for it, in bytes.
const ACCOUNTS: u64 = 64_000_000;

const MOST: usize = 500;

/// Answers the shell, if it is the shell that asks; does not return then.
pub fn answer() {
    clap_complete::CompleteEnv::with_factory(command).var(VARIABLE).complete();
}

/// The commands, with what completes each value.
fn command() -> Command {
    with_names(Cli::command(), &[])
}

/// What a value names.
#[derive(Clone, Copy)]
enum Completes {
    Users,
    Groups,
    Rules,
    Changes,
    Retired(UserOrGroup),
}

/// Puts completers on a command and those below it; `path` is how it is called.
fn with_names(command: Command, path: &[String]) -> Command {
    let below: Vec<String> =
        command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    let command = below.into_iter().fold(command, |command, name| {
        let path = [path, std::slice::from_ref(&name)].concat();
        command.mut_subcommand(name, |sub| with_names(sub, &path))
    });
    let path: Vec<&str> = path.iter().map(String::as_str).collect();
    command.mut_args(|arg| match what_it_names(&path, &arg) {
        Some(names) => {
            let complete = move |current: &OsStr| candidates(names, current);
            arg.add(ArgValueCompleter::new(complete))
        }
        None => arg,
    })
}

/// What the value of an argument names, if it is something the tree knows.
fn what_it_names(path: &[&str], arg: &Arg) -> Option<Completes> {
    let folder_of = |thing: &str| match thing {
        "user" | "users" => Some(Completes::Users),
        "group" | "groups" => Some(Completes::Groups),
        "rule" => Some(Completes::Rules),
        "change" => Some(Completes::Changes),
        _ => None,
    };
    match (path, arg.get_id().as_str()) {
        (_, "join" | "leave" | "primary" | "among") | (["list", "users"], "group") => {
            Some(Completes::Groups)
        }
        (["list", "changes"], "about") => Some(Completes::Users),
        (
            _,
            "member" | "add_member" | "drop_member" | "group_admin" | "add_group_admin"
            | "drop_group_admin" | "of" | "like",
        ) => Some(Completes::Users),
        (["check" | "repair"], "only" | "skip") => Some(Completes::Rules),
        // New names are nobody's yet.
        (["create", ..], _) => None,
        (["regroup"], "names") => Some(Completes::Users),
        (["restore" | "purge", thing], "name" | "names") => {
            Some(Completes::Retired(if *thing == "group" {
                UserOrGroup::Group
            } else {
                UserOrGroup::User
            }))
        }
        (["undo"], "number") => Some(Completes::Changes),
        (["reassign", "group"], "from" | "to") => Some(Completes::Groups),
        (["reassign", _], "from" | "to") => Some(Completes::Users),
        (["rename", thing], "old") => folder_of(thing),
        ([_, thing], "name" | "names" | "number" | "rule") => folder_of(thing),
        _ => None,
    }
}

fn candidates(names: Completes, current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(place) = Place::of_the_line() else { return Vec::new() };
    let all: Vec<(Vec<u8>, String)> = match names {
        Completes::Users => place.fields("etc/passwd", 4),
        Completes::Groups => place.fields("etc/group", usize::MAX),
        Completes::Rules => RULES
            .iter()
            .map(|rule| (rule.name.as_bytes().to_vec(), rule.finds.to_owned()))
            .collect(),
        Completes::Changes => place.changes(),
        Completes::Retired(thing) => place.retired(thing),
    };
    let fitting = all.into_iter().filter(|(name, _)| name.starts_with(current.as_bytes()));
    let candidate = |(name, help): (Vec<u8>, String)| {
        let candidate = CompletionCandidate::new(OsString::from_vec(name));
        candidate.help((!help.is_empty()).then(|| help.into()))
    };
    fitting.take(MOST).map(candidate).collect()
}

/// The tree and the state that the line being typed is about.
struct Place {
    tree: Tree,
    state: State,
}

impl Place {
    fn of_the_line() -> Option<Self> {
        let words: Vec<OsString> = std::env::args_os().collect();
        let option = |name: &str| -> Option<PathBuf> {
            let with_value = format!("{name}=");
            let at = words.iter().position(|word| {
                word == name || word.as_bytes().starts_with(with_value.as_bytes())
            })?;
            match words[at].as_bytes().strip_prefix(with_value.as_bytes()) {
                Some(value) => Some(PathBuf::from(OsStr::from_bytes(value))),
                None => words.get(at + 1).map(PathBuf::from),
            }
        };
        let tree = Tree::open(&option("--tree").unwrap_or_else(|| "/".into())).ok()?;
        let state = match option("--state") {
            None => State::InTree,
            Some(path) if path == Path::new("none") => State::Nowhere,
            Some(path) => State::At(path),
        };
        Some(Place { tree, state })
    }

    /// The first field of each line, and one that explains it.
    fn fields(&self, file: &str, help: usize) -> Vec<(Vec<u8>, String)> {
        let text =
            untrusted::read(&self.tree, file, LastLink::Followed, ACCOUNTS).unwrap_or_default();
        let line = |line: &[u8]| {
            let mut fields = line.split(|byte| *byte == b':');
            let name = fields.next().unwrap_or_default().to_vec();
            let help = fields.nth(help.saturating_sub(1)).unwrap_or_default();
            let help = help.split(|byte| *byte == b',').next().unwrap_or_default();
            (name, crate::view::visible(help))
        };
        let lines = text.split(|byte| *byte == b'\n');
        let named = lines.filter(|line| !line.is_empty() && !matches!(line[0], b'#' | b'+' | b'-'));
        named.map(line).collect()
    }

    fn changes(&self) -> Vec<(Vec<u8>, String)> {
        let Ok(Some(folder)) = self.state.open(&self.tree) else { return Vec::new() };
        let records = changes::read_records(&folder).unwrap_or_default().all;
        let record = |record: &nest_core::record::ChangeRecord| {
            (record.number.to_string().into_bytes(), record.told.summary.clone())
        };
        records.iter().rev().map(record).collect()
    }

    fn retired(&self, thing: UserOrGroup) -> Vec<(Vec<u8>, String)> {
        let kept = kept::read(&self.tree, &self.state).unwrap_or_default().accounts;
        let folder_of = kept.into_iter().filter(|one| one.kept.thing == thing);
        folder_of.map(|one| (one.kept.name.to_vec(), format!("was {}", one.kept.id))).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_name_of_something_there_completes() {
        fn look(command: &Command, path: &[String], open: &mut Vec<String>) {
            for arg in command.get_arguments() {
                let named = arg.get_value_names().is_some_and(|names| {
                    names.iter().any(|name| {
                        matches!(
                            name.as_str(),
                            "NAME" | "G,…" | "U,…" | "GROUP" | "RULE,…" | "OLD" | "N"
                        )
                    })
                });
                if named && arg.get::<ArgValueCompleter>().is_none() {
                    open.push(format!("{} {}", path.join(" "), arg.get_id()));
                }
            }
            for sub in command.get_subcommands() {
                look(sub, &[path, &[sub.get_name().to_owned()]].concat(), open);
            }
        }
        let mut open = Vec::new();
        look(&command(), &[], &mut open);
        // Names and numbers that are yet to be given.
        let new = [" uid", " gid", " as_name"];
        open.retain(|arg| !arg.starts_with("create ") && !new.iter().any(|end| arg.ends_with(end)));
        assert_eq!(open, Vec::<String>::new());
    }
}
