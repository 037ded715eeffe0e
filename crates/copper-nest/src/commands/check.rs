//! `check`.

use clap::ValueEnum;
use nest_core::check::{Rule, Selection, Severity, check};

use super::show_rule::find;
use crate::cli::Global;
use crate::failure::Failure;
use crate::session::Session;
use crate::view::{self, findings};

/// Check the account files for duplicates, orphans and broken memberships.
///
/// Into a pipe one finding a line. The exit status is 1 when something was found
/// at the level of --fail-on, or when a rule could not run.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Check {
    /// Only these rules.
    #[arg(long, value_name = "RULE,…", value_delimiter = ',')]
    only: Vec<String>,
    /// Not these rules.
    #[arg(long, value_name = "RULE,…", value_delimiter = ',')]
    skip: Vec<String>,
    /// From which severity on findings make the status 1.
    #[arg(long, value_enum, default_value = "error")]
    fail_on: Level,
    /// Look at the account files only, not at homes.
    #[arg(long)]
    files_only: bool,
    /// Rules that could not run don't make the status 1.
    #[arg(long)]
    allow_skipped: bool,
}

const EXAMPLES: &str = "Examples:
  copper-nest check
  copper-nest --tree /srv/image check --files-only --fail-on warning
  copper-nest check --only duplicate-uid,duplicate-gid --format json";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Level {
    Error,
    Warning,
    Note,
}

impl Check {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result<u8, Failure> {
        let rules = |names: &[String]| -> Result<Vec<&'static Rule>, Failure> {
            names.iter().map(|name| find(name)).collect()
        };
        let selection = Selection {
            only: rules(&self.only)?,
            skip: rules(&self.skip)?,
            files_only: self.files_only,
        };
        let session = Session::open(global)?;
        let loaded = session.load()?;
        let world = session.world_to_look_at()?;
        let report = check(session.ground(&loaded, &world), &selection);
        if global.json() {
            view::print_json(&findings::to_json(&report));
        } else if !global.quiet {
            findings::print(&report, loaded.originals.len());
        }
        let least = match self.fail_on {
            Level::Error => Severity::Error,
            Level::Warning => Severity::Warning,
            Level::Note => Severity::Note,
        };
        let found = report.findings.iter().any(|finding| finding.rule.severity >= least);
        let skipped = !report.skipped.is_empty() && !self.allow_skipped;
        Ok(u8::from(found || skipped))
    }
}
