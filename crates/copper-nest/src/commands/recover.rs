//! `recover`.

use serde_json::json;

use crate::cli::Global;
use crate::failure::Failure;
use crate::session::{Session, recovered_in_words};
use crate::view::print_json;

/// Finish or roll back a change that a crash cut off.
///
/// The next change does so by itself; this is for doing it now, and at boot.
/// Before the moment a change happens a crash rolls it back, after it the rest
/// of it is done. Files that somebody has edited since are never overwritten.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Recover {}

const EXAMPLES: &str = "Examples:
  copper-nest recover
  copper-nest --tree /srv/image recover";

impl Recover {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result<u8, Failure> {
        let session = Session::open(global)?;
        session.require_rights()?;
        if global.dry_run {
            match session.unfinished() {
                Some(what) => {
                    outln!("{what} stands unfinished, and would be recovered.")
                }
                None => outln!("nothing stands unfinished."),
            }
            return Ok(0);
        }
        let lock = session.lock()?;
        let recovered = nest_host::recover::recover(&lock, &session.tree, &session.state)?;
        if global.json() {
            let recovered = recovered.map(|recovered| {
                json!({
                    "change": recovered.number,
                    "summary": recovered.summary,
                    "finished": recovered.finished,
                })
            });
            print_json(&json!({"recovered": recovered}));
        } else if !global.quiet {
            let text = recovered.as_ref().map(recovered_in_words);
            outln!("{}", text.unwrap_or("nothing stands unfinished".into()));
        }
        Ok(0)
    }
}
