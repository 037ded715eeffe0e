//! `completions`.

use clap_complete::env::{Bash, EnvCompleter, Fish, Zsh};

use super::{Failure, Global, Result, UNTOUCHED};
use crate::complete::VARIABLE;

/// Print what lets a shell complete commands, options and names.
///
/// Names of users, groups, rules, changes and deleted accounts come from the tree
/// that the line is about, at the moment at which they are asked for.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Completions {
    /// The shell.
    #[arg(value_enum, value_name = "bash|zsh|fish")]
    shell: Shell,
}

const EXAMPLES: &str = "Examples:
  copper-nest completions bash > /etc/bash_completion.d/copper-nest
  copper-nest completions zsh > /usr/local/share/zsh/site-functions/_copper-nest
  copper-nest completions fish > ~/.config/fish/completions/copper-nest.fish";

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Shell {
    Bash,
    Zsh,
    Fish,
}

impl Completions {
    /// Runs the command.
    pub fn run(&self, _: &Global) -> Result {
        let shell: &dyn EnvCompleter = match self.shell {
            Shell::Bash => &Bash,
            Shell::Zsh => &Zsh,
            Shell::Fish => &Fish,
        };
        let mut script = Vec::new();
        let name = "copper-nest";
        shell.write_registration(VARIABLE, name, name, name, &mut script).map_err(|error| {
            Failure::new(UNTOUCHED, "output", format!("the script can't be made: {error}"))
        })?;
        outln!("{}", String::from_utf8_lossy(&script).trim_end());
        Ok(0)
    }
}
