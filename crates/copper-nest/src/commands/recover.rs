//! `recover`.

use nest_host::recover::{self, Foreign, Unfinished};
use serde_json::json;

use super::{Global, Result, Session, recovered_in_words};
use crate::view::{print_json, visible};

/// Finish or roll back a change that a crash cut off.
///
/// The next change does so by itself; this is for doing it now, and at boot.
/// Before the moment a change happens a crash rolls it back, after it the rest
/// of it is done. Files that somebody has edited since are never overwritten. Where the
/// journal came with a copy of another tree, what it would do is shown and asked about.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Recover {}

const EXAMPLES: &str = "Examples:
  copper-nest recover
  copper-nest recover --dry-run
  copper-nest --tree /srv/image recover";

impl Recover {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open_anyway(global)?;
        session.require_rights()?;
        let unfinished = recover::unfinished(&session.tree, &session.state)?;
        let unfinished = unfinished.filter(|_| !recover::is_being_changed(&session.tree));
        if global.dry_run {
            match unfinished {
                Some(unfinished) => tell(global, &unfinished),
                None if global.json() => print_json("recovery", &json!({"unfinished": null})),
                None => outln!("nothing stands unfinished."),
            }
            return Ok(0);
        }
        let foreign = match unfinished.filter(|unfinished| unfinished.foreign.is_some()) {
            None => Foreign::Refused,
            // What stands in a copy of a tree is looked at first.
            Some(unfinished) => {
                if !global.json() {
                    tell(global, &unfinished);
                }
                session.confirm(&format!("{} was not recovered", unfinished.what), "recover")?;
                Foreign::Wanted
            }
        };
        let lock = session.lock()?;
        let recovered = recover::recover(&lock, &session.tree, &session.state, foreign)?;
        if global.json() {
            let recovered = recovered.map(|recovered| {
                json!({
                    "change": recovered.number,
                    "summary": recovered.summary,
                    "finished": recovered.finished,
                    "notes": recovered.notes,
                })
            });
            print_json("recovery", &json!({"recovered": recovered}));
        } else if !global.quiet {
            let text = recovered.as_ref().map(recovered_in_words);
            outln!("{}", text.unwrap_or("nothing stands unfinished".into()));
        }
        Ok(0)
    }
}

/// What stands unfinished, and what recovering it would do.
fn tell(global: &Global, unfinished: &Unfinished) {
    if global.json() {
        print_json(
            "recovery",
            &json!({"unfinished": {
                "what": unfinished.what,
                "would_be": if unfinished.ready { "finished" } else { "rolled-back" },
                "other_tree": unfinished.foreign,
                "effects": unfinished.effects,
            }}),
        );
        return;
    }
    let what = visible(unfinished.what.as_bytes());
    let would = if unfinished.ready { "finished" } else { "rolled back" };
    outln!("{what} stands unfinished, and would be {would}.");
    if let Some(tree) = &unfinished.foreign {
        let tree = visible(tree.as_bytes());
        outln!("It is about another tree, {tree}, of which this one may be a copy.");
    }
    for effect in &unfinished.effects {
        outln!("  {}", visible(effect.as_bytes()));
    }
}
