//! The options for all commands.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};

use super::whole;
use crate::failure::Result;
use crate::session::many::OneOfMany;
use crate::trees;

/// Over the options that every command has.
const FOR_ALL: &str = "Options for all commands";

#[derive(Debug, Clone, Args)]
pub struct Global {
    /// The root directory of the system to administer [default: /].
    #[arg(long = "tree", value_name = "DIR", global = true, help_heading = FOR_ALL)]
    pub trees: Vec<PathBuf>,
    /// A file that names more of them, one a line; - for standard input.
    #[arg(long, value_name = "FILE|-", global = true, help_heading = FOR_ALL)]
    pub trees_from: Option<PathBuf>,
    /// Where the command runs on one of several trees: what comes of that.
    #[arg(skip)]
    pub many: Option<std::sync::Arc<OneOfMany>>,
    /// The one of them that a command is about.
    #[arg(skip = PathBuf::from("/"))]
    pub tree: PathBuf,
    /// A policy file in place of etc/copper-nest/policy.toml in the tree.
    #[arg(long, value_name = "FILE", global = true, help_heading = FOR_ALL)]
    pub policy: Option<PathBuf>,
    /// Where changes and retired accounts are kept, in place of
    /// var/lib/copper-nest in the tree; none keeps nothing.
    #[arg(long, value_name = "DIR|none", global = true, help_heading = FOR_ALL)]
    pub state: Option<PathBuf>,
    /// How results are printed.
    #[arg(long, value_enum, value_name = "FORM", default_value = "text", global = true, help_heading = FOR_ALL)]
    pub format: Format,
    /// Show what would be done, and do nothing.
    #[arg(short = 'n', long, global = true, help_heading = FOR_ALL, overrides_with = "dry_run")]
    pub dry_run: bool,
    /// Answer every question with yes.
    #[arg(short, long, global = true, help_heading = FOR_ALL, overrides_with = "yes")]
    pub yes: bool,
    /// What a change is for, a ticket's number say: it is kept with it.
    #[arg(long, value_name = "TEXT", global = true, help_heading = FOR_ALL)]
    pub note: Option<String>,
    /// How long to wait for the account-file lock.
    #[arg(long, value_name = "SECONDS", default_value_t = 15, value_parser = whole::<u64>, global = true, help_heading = FOR_ALL)]
    pub wait: u64,
    /// Print nothing but trouble.
    #[arg(short, long, global = true, help_heading = FOR_ALL, overrides_with = "quiet")]
    pub quiet: bool,
    /// Tell more; twice, to follow every step.
    #[arg(short, long, action = clap::ArgAction::Count, global = true, help_heading = FOR_ALL)]
    pub verbose: u8,
    /// Whether to colour the output.
    #[arg(long, value_enum, value_name = "WHEN", default_value = "auto", global = true, help_heading = FOR_ALL)]
    pub color: Color,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    Text,
    Json,
    Sarif,
    Toml,
    Ldif,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    Auto,
    Always,
    Never,
}

impl Global {
    /// Sets up colour and tracing for the whole run.
    pub fn prepare(&self) {
        match self.color {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::AlwaysAnsi,
            Color::Never => anstream::ColorChoice::Never,
        }
        .write_global();
        let level = match self.verbose {
            0 => None,
            1 => Some(tracing::Level::INFO),
            _ => Some(tracing::Level::DEBUG),
        };
        let wanted = std::env::var("RUST_LOG").ok().and_then(|wanted| wanted.parse().ok());
        // Setting it up costs a millisecond; nobody pays for it unasked.
        if let Some(level) = wanted.or(level) {
            tracing_subscriber::fmt()
                .with_max_level(level)
                .with_writer(std::io::stderr)
                .without_time()
                .init();
        }
    }

    /// Takes the first tree for the one that a command is about.
    pub(super) fn settle(&mut self) -> Result<()> {
        if let Some(file) = &self.trees_from {
            self.trees.extend(trees::in_file(file)?);
        }
        trees::each_once(&mut self.trees);
        if let Some(tree) = self.trees.first() {
            self.tree.clone_from(tree);
        }
        Ok(())
    }

    /// Whether output is to be JSON.
    pub fn json(&self) -> bool {
        self.format == Format::Json
    }

    /// A command as it can be pasted: with the program's name and the options
    /// that say which tree it is about.
    pub fn command(&self, words: &str) -> String {
        self.command_in(self.state.as_ref(), words)
    }

    /// The same command with another state folder; that of the tree where the path is
    /// not absolute.
    pub fn command_in_state(&self, state: &Path, words: &str) -> String {
        let state = state.to_owned();
        self.command_in(Some(&state).filter(|state| state.is_absolute()), words)
    }

    fn command_in(&self, state: Option<&PathBuf>, words: &str) -> String {
        let mut command = "copper-nest".to_owned();
        let mut add = |option: &str, value: &PathBuf| {
            let value = value.to_string_lossy();
            command += &format!(" {option} {}", shell_words::quote(&value));
        };
        if self.tree.as_os_str() != "/" {
            add("--tree", &self.tree);
        }
        if let Some(policy) = &self.policy {
            add("--policy", policy);
        }
        if let Some(state) = state {
            add("--state", state);
        }
        format!("{command} {words}")
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use crate::cli::Cli;

    #[test]
    fn a_command_names_the_tree_it_is_about() {
        let mut cli = Cli::parse_from(["copper-nest", "--tree", "/srv/my image", "show", "policy"]);
        cli.global.settle().unwrap();
        assert_eq!(cli.global.command("check"), "copper-nest --tree '/srv/my image' check");
        let cli = Cli::parse_from(["copper-nest", "show", "policy"]);
        assert_eq!(cli.global.command("check"), "copper-nest check");
    }
}
