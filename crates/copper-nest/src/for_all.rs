//! Which of the options for all commands do something with which command.

use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::parser::ValueSource;
use clap::{Arg, ArgMatches, Command, ValueEnum};

use crate::cli::Format;
use crate::failure::{Failure, Result, USAGE};

// The options for all commands, by the names of their fields.
const TREE: &str = "trees";
const TREES_FROM: &str = "trees_from";
const POLICY: &str = "policy";
const STATE: &str = "state";
const FORMAT: &str = "format";
const DRY_RUN: &str = "dry_run";
const YES: &str = "yes";
const NOTE: &str = "note";
const WAIT: &str = "wait";
const QUIET: &str = "quiet";
const VERBOSE: &str = "verbose";
const COLOR: &str = "color";

/// What does something with a command that only looks.
const LOOKS: &[&str] = &[TREE, POLICY, STATE, FORMAT, VERBOSE, COLOR];
/// With one that makes a change.
const CHANGES: &[&str] =
    &[TREE, TREES_FROM, POLICY, STATE, FORMAT, DRY_RUN, YES, NOTE, WAIT, QUIET, VERBOSE, COLOR];

/// What is passed over where it does nothing: it may stand in an alias for one tree.
const PASSED_OVER: &[&str] = &[TREE, POLICY, STATE, YES, VERBOSE, COLOR];

/// The options for all commands that do something with the command of these words.
fn taken(path: &[&str]) -> &'static [&'static str] {
    match path {
        ["list", "changes"] => &[TREE, POLICY, STATE, FORMAT, NOTE, VERBOSE, COLOR],
        // With --write it makes a change, and with --delete.
        ["show", "policy"] => {
            &[TREE, POLICY, STATE, FORMAT, DRY_RUN, YES, NOTE, WAIT, QUIET, VERBOSE, COLOR]
        }
        ["handover"] => CHANGES,
        ["list" | "show", "rules" | "rule"] => &[FORMAT, COLOR],
        ["list" | "show" | "trace", _] => LOOKS,
        ["export", _] => &[TREE, POLICY, STATE, FORMAT, QUIET, VERBOSE, COLOR],
        ["report"] => &[TREE, POLICY, STATE, FORMAT, YES, QUIET, VERBOSE, COLOR],
        ["compare"] => &[TREE, POLICY, STATE, FORMAT, QUIET, VERBOSE, COLOR],
        ["check"] => &[TREE, TREES_FROM, POLICY, STATE, FORMAT, DRY_RUN, QUIET, VERBOSE, COLOR],
        ["recover"] => &[TREE, POLICY, STATE, FORMAT, DRY_RUN, YES, WAIT, QUIET, VERBOSE, COLOR],
        ["demo"] => &[DRY_RUN, COLOR],
        ["completions"] => &[],
        [
            "create" | "change" | "rename" | "password" | "suspend" | "resume" | "delete"
            | "restore" | "purge" | "reassign",
            _,
        ]
        | ["purge" | "regroup" | "renumber" | "intake" | "merge" | "repair" | "undo"] => CHANGES,
        other => unreachable!("BUG: nobody said which options {} takes", other.join(" ")),
    }
}

/// Whether an option for all commands, by its long name, does something with the command of
/// these words.
pub fn is_taken(path: &[&str], long: &str) -> bool {
    let id = if long == "tree" { TREE.to_owned() } else { long.replace('-', "_") };
    taken(path).contains(&id.as_str())
}

/// The commands with each of those options shown only where it does something, and described
/// as what it does there: of all that are wanted, by their names.
pub fn only_where_taken(command: Command, is_wanted: &dyn Fn(&str) -> bool) -> Command {
    let options: Vec<Arg> =
        command.get_arguments().filter(|arg| arg.is_global_set()).cloned().collect();
    command.mut_subcommands(|below| fitted(below, &[], &options, is_wanted))
}

fn fitted(
    command: Command,
    above: &[&str],
    options: &[Arg],
    is_wanted: &dyn Fn(&str) -> bool,
) -> Command {
    if !is_wanted(command.get_name()) && !command.get_all_aliases().any(is_wanted) {
        return command;
    }
    let name = command.get_name().to_owned();
    let path = [above, &[name.as_str()]].concat();
    let takes = paths_from(&command, &path);
    let command = command.args(options.iter().map(|option| {
        let id = option.get_id().as_str();
        let taken = takes.iter().any(|taken| taken.contains(&id));
        let option = option.clone().hide(!taken);
        let option = match id {
            FORMAT => option.value_parser(forms(&path)),
            _ => option,
        };
        match (path.as_slice(), id) {
            (["list", "changes"], NOTE) => option.help("Only those whose note holds this text"),
            (["check"], TREE) => option.help(
                "The root directory of a system; several are checked side by side [default: /]",
            ),
            (_, TREE) if takes.iter().all(|taken| taken.contains(&TREES_FROM)) => option.help(
                "The root directory of the system to administer; on several the same is done [default: /]",
            ),
            (["check"], FORMAT) => {
                option.help("How findings are printed; sarif is what code-scanning tools read")
            }
            (["show", "policy"], FORMAT) => {
                option.help("How the settings are printed; toml is a policy file that can be used")
            }
            (["check"], DRY_RUN) => option.help("With --remember: remember nothing"),
            (["demo"], DRY_RUN) => option.help("Tell what the demo would do, and lay nothing out"),
            (["recover"], DRY_RUN) => option.help("Show what stands unfinished, and do nothing"),
            _ => option,
        }
    }));
    command.mut_subcommands(|below| fitted(below, &path, options, is_wanted))
}

/// How a command can print its results.
fn forms(path: &[&str]) -> impl TypedValueParser<Value = Format> {
    let forms: &[&str] = match path {
        ["check"] => &["text", "json", "sarif"],
        ["show", "policy"] => &["text", "json", "toml"],
        ["export", "users" | "groups"] => &["text", "json", "ldif"],
        ["export"] => &["text", "json", "ldif"],
        // The policy is one of the things that are shown.
        ["show"] => &["text", "json", "toml"],
        _ => &["text", "json"],
    };
    let read = |form: String| Format::from_str(&form, false);
    PossibleValuesParser::new(forms).try_map(read)
}

/// What each command takes that begins with these words.
fn paths_from(command: &Command, path: &[&str]) -> Vec<&'static [&'static str]> {
    if !command.has_subcommands() {
        return vec![taken(path)];
    }
    let below = command.get_subcommands();
    below.flat_map(|below| paths_from(below, &[path, &[below.get_name()]].concat())).collect()
}

/// The words of the command that was asked for, and what was given with it.
fn asked(given: &ArgMatches) -> (Vec<&str>, &ArgMatches) {
    let (mut path, mut at) = (Vec::new(), given);
    while let Some((name, below)) = at.subcommand() {
        path.push(name);
        at = below;
    }
    (path, at)
}

/// Whether the command that was asked for makes a change, and so can be made on several trees.
pub fn makes_a_change(given: &ArgMatches) -> bool {
    let (path, _) = asked(given);
    taken(&path).contains(&NOTE) && taken(&path).contains(&TREES_FROM)
}

/// Refuses what would be another thing on each of several trees.
///
/// # Errors
/// The option that is about one tree.
pub fn refuse_with_several(given: &ArgMatches) -> Result<()> {
    let (_, at) = asked(given);
    let is_given = |id: &str| {
        at.try_contains_id(id).unwrap_or(false)
            && at.value_source(id) == Some(ValueSource::CommandLine)
    };
    match ["passwords_to", "generate"].into_iter().find(|id| is_given(id)) {
        Some(id) => {
            let option = id.replace('_', "-");
            let message = format!(
                "--{option} is about one tree: on each of several there would be other passwords"
            );
            Err(Failure::new(USAGE, "usage", message))
        }
        None => Ok(()),
    }
}

/// Refuses what does nothing with the command that was asked for: whoever wrote it expects
/// something of it.
///
/// # Errors
/// The option that does nothing.
pub fn refuse_idle(given: &ArgMatches) -> Result<()> {
    let (path, at) = asked(given);
    let command = path.join(" ");
    let refuse = |message: String| Err(Failure::new(USAGE, "usage", message));
    for id in CHANGES {
        if at.value_source(id) != Some(ValueSource::CommandLine) || taken(&path).contains(id) {
            continue;
        }
        let option = if *id == TREE { "tree".to_owned() } else { id.replace('_', "-") };
        if path == ["demo"] {
            return refuse(format!(
                "demo lays out a folder of its own and shows a day's work in it: --{option} means \
                 nothing there"
            ));
        }
        if *id == NOTE {
            return refuse("--note goes with a change, and this command makes none".to_owned());
        }
        if !PASSED_OVER.contains(id) {
            return refuse(format!("--{option} does nothing with {command}: leave it out"));
        }
    }
    Ok(())
}
