//! `man-pages`, for those who make packages.

use std::path::PathBuf;

use clap::CommandFactory;
use nest_core::words::counted;

use super::{Cli, Failure, Global, Result, UNTOUCHED};

/// Write a manual page for each command into a folder.
#[derive(Debug, clap::Args)]
#[command(hide = true, after_help = EXAMPLES)]
pub struct ManPages {
    /// The folder; made where it is not there.
    #[arg(value_name = "DIR")]
    folder: PathBuf,
}

const EXAMPLES: &str = "Examples:
  copper-nest man-pages packaging/man
  copper-nest man-pages /usr/local/share/man/man1";

impl ManPages {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let failed = |error: std::io::Error| {
            let message = format!("{} can't be written: {error}", self.folder.display());
            Failure::new(UNTOUCHED, "output", message)
        };
        std::fs::create_dir_all(&self.folder).map_err(failed)?;
        let command = Cli::command().disable_help_subcommand(true);
        clap_mangen::generate_to(command, &self.folder).map_err(failed)?;
        let pages = std::fs::read_dir(&self.folder).map_err(failed)?.count();
        if !global.quiet {
            outln!("{}: {}", self.folder.display(), counted(pages, "page", "pages"));
        }
        Ok(0)
    }
}
