//! Copper Nest looks after the local accounts of Unix-like machines: the command line.
//!
//! `cli` has the global options and the tree of commands, `commands` a file for each;
//! `session` is one run on one tree, and the one way in which a change is carried out;
//! `view` makes what is shown. What is decided is decided in `nest-core`, and what is
//! done is done in `nest-host`.
//!
//! # Example
//!
//! An account is made on a tree that is laid out for trying, looked at, and taken back:
//!
//! ```sh
//! copper-nest demo --layout-only /tmp/harbour
//! copper-nest --tree /tmp/harbour create user maren --full-name 'Maren Solvik'
//! copper-nest --tree /tmp/harbour show user maren
//! copper-nest --tree /tmp/harbour undo --yes
//! ```

#[macro_use]
mod output;

mod author;
mod cli;
mod clock;
mod commands;
mod complete;
mod failure;
mod for_all;
mod policy_file;
mod prompt;
mod session;
mod sides;
mod stdin;
mod trees;
mod version;
mod view;

use std::process::ExitCode;

use clap::error::ContextKind;
use clap::{CommandFactory, FromArgMatches};

/// Lets as many files be open as the system allows: a walk down a tree has several.
fn raise_limits() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let Rlimit { maximum, .. } = getrlimit(Resource::Nofile);
    // Where that is not allowed it has to go with what there is.
    let _ = setrlimit(Resource::Nofile, Rlimit { current: maximum, maximum });
}

/// Starts no more threads than are of use, whatever the environment asks for.
fn limit_threads() {
    const MOST: usize = 256;
    let asked = std::env::var("RAYON_NUM_THREADS").ok().and_then(|count| count.parse().ok());
    if asked.is_some_and(|count: usize| count > MOST) {
        // It was started already where this fails.
        let _ = rayon::ThreadPoolBuilder::new().num_threads(MOST).build_global();
    }
}

pub use for_all::is_taken;
pub use view::columns::{Column, List, lists};

/// All the commands, with their options and their help.
pub fn commands() -> clap::Command {
    for_all::only_where_taken(cli::Cli::command(), &|_| true)
}

/// The commands as these words need them: each has a dozen options, and nobody waits for those of
/// fifty others.
fn commands_for(words: &[std::ffi::OsString]) -> clap::Command {
    let is_wanted = |name: &str| words.iter().any(|word| word == name);
    for_all::only_where_taken(cli::Cli::command(), &is_wanted)
}

/// An error without the tip that `--` makes a value of an option that is not there: names of
/// damaged lines begin with one dash, not with two.
fn without_idle_tip(mut error: clap::Error) -> clap::Error {
    if error.get(ContextKind::InvalidArg).is_some_and(|word| word.to_string().starts_with("--")) {
        error.remove(ContextKind::Suggested);
    }
    error
}

/// Runs the program on the words of its command line; the exit status comes back.
pub fn run() -> ExitCode {
    raise_limits();
    limit_threads();
    complete::answer();
    let words: Vec<std::ffi::OsString> = std::env::args_os().skip(1).collect();
    if let Some(version) = version::answer(&words) {
        outln!("{version}");
        output::flush();
        return ExitCode::SUCCESS;
    }
    // Help is printed before options are read.
    let mut command = commands_for(&words).color(cli::color_of_help(&words));
    let given = command
        .try_get_matches_from_mut(std::env::args_os())
        .unwrap_or_else(|error| without_idle_tip(error).exit());
    let mut cli = cli::Cli::from_arg_matches(&given).unwrap_or_else(|error| error.exit());
    cli.global.prepare();
    let asked = for_all::refuse_idle(&given).and_then(|()| cli::refuse_empty(&command, &given));
    match asked.and_then(|()| cli.run(&given, &words)) {
        Ok(status) => match output::was_lost() && status == 0 {
            true => ExitCode::from(failure::UNTOUCHED),
            false => ExitCode::from(status),
        },
        Err(failure) => {
            failure.tell(&cli.global);
            ExitCode::from(failure.status)
        }
    }
}
