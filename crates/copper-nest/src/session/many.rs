//! The same change on many trees: planned on all of them, shown with what is the same told once,
//! asked about once, and made on one after the other.

use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use nest_core::record::Told;
use serde_json::{Value, json};

use super::Asks;
use crate::cli::Global;
use crate::failure::{Failure, REFUSED, Result};
use crate::prompt;
use crate::view::many as view;

/// What comes of a run that is one of several on as many trees.
#[derive(Debug, Default)]
pub struct OneOfMany {
    /// Whether the change is made, or only planned.
    makes: AtomicBool,
    planned: Mutex<Option<Planned>>,
    made: Mutex<Option<Made>>,
}

/// A plan, as it is shown.
#[derive(Debug)]
pub struct Planned {
    /// What it comes to.
    pub told: Told,
    /// Whether it is asked about.
    pub asks: Asks,
    /// Whether everything is so already.
    pub nothing: bool,
}

/// A change that was made.
#[derive(Debug, Default)]
pub struct Made {
    /// Its number.
    pub number: Option<u64>,
    /// The receipt for machines.
    pub receipt: Value,
}

impl OneOfMany {
    /// Whether this run only plans.
    pub fn only_plans(&self) -> bool {
        !self.makes.load(Ordering::Relaxed)
    }

    /// Keeps a plan.
    pub fn plan(&self, told: Told, asks: Asks, nothing: bool) {
        *self.planned.lock().unwrap_or_else(PoisonError::into_inner) =
            Some(Planned { told, asks, nothing });
    }

    /// Keeps the receipt of a change.
    pub fn keep(&self, number: Option<u64>, receipt: Value) {
        *self.made.lock().unwrap_or_else(PoisonError::into_inner) = Some(Made { number, receipt });
    }
}

/// A tree, and how far it came.
pub struct TreeOutcome {
    /// The tree.
    pub tree: PathBuf,
    /// What came of it.
    pub is: Outcome,
}

/// What came of one tree.
pub enum Outcome {
    /// It was planned.
    Planned(Planned),
    /// It can't be done there.
    Refused(Failure),
    /// It was done.
    Done(Made),
    /// It was planned, and could not be done.
    Failed(Failure),
}

/// Makes a change on all trees; `run` makes it on one.
///
/// # Errors
/// Nobody agreed to it. What is refused or fails on a tree is told, and makes the status.
pub fn on_all(global: &Global, run: impl Fn(&Global) -> Result) -> Result {
    let once = |tree: &PathBuf, many: &std::sync::Arc<OneOfMany>| {
        let makes = !many.only_plans();
        let global = Global {
            tree: tree.clone(),
            trees: vec![tree.clone()],
            many: Some(many.clone()),
            // What is told is told of all together; it was agreed to.
            quiet: makes || global.quiet,
            yes: makes || global.yes,
            ..global.clone()
        };
        run(&global)
    };
    let mut all: Vec<TreeOutcome> = Vec::new();
    for tree in &global.trees {
        let many = std::sync::Arc::new(OneOfMany::default());
        let is = match once(tree, &many) {
            Err(failure) => Outcome::Refused(failure),
            Ok(_) => {
                let planned = many.planned.lock().unwrap_or_else(PoisonError::into_inner).take();
                match planned {
                    Some(planned) => Outcome::Planned(planned),
                    None => Outcome::Refused(Failure::new(
                        REFUSED,
                        "no-plan",
                        "this can't be done on several trees at once: name one",
                    )),
                }
            }
        };
        all.push(TreeOutcome { tree: tree.clone(), is });
    }
    let to_do = |all: &[TreeOutcome]| {
        all.iter().filter(|one| matches!(&one.is, Outcome::Planned(plan) if !plan.nothing)).count()
    };
    let count = to_do(&all);
    let asks = count > 0 && !global.dry_run;
    if !global.json() && (!global.quiet || asks && !global.yes) {
        view::print_plans(global, &all);
    }
    if asks {
        confirm(global, &all, count)?;
        for one in &mut all {
            let Outcome::Planned(plan) = &one.is else { continue };
            if plan.nothing {
                continue;
            }
            let many = std::sync::Arc::new(OneOfMany::default());
            many.makes.store(true, Ordering::Relaxed);
            one.is = match once(&one.tree, &many) {
                Err(failure) => Outcome::Failed(failure),
                Ok(_) => {
                    let made = many.made.lock().unwrap_or_else(PoisonError::into_inner).take();
                    let made = made.expect("BUG: a change that was made left no receipt");
                    Outcome::Done(made)
                }
            };
        }
    }
    let status = all.iter().map(|one| match &one.is {
        Outcome::Planned(_) | Outcome::Done(_) => 0,
        Outcome::Refused(failure) | Outcome::Failed(failure) => failure.status,
    });
    let status = status.max().unwrap_or(0);
    match global.json() {
        true => view::print_json(global, &all),
        false => view::print_outcomes(global, &all),
    }
    Ok(status)
}

/// Asks once for all trees; without a terminal `--yes` has to be said where it would for one.
fn confirm(global: &Global, all: &[TreeOutcome], count: usize) -> Result<()> {
    let asks = |wanted: Asks| {
        all.iter().any(|one| matches!(&one.is, Outcome::Planned(plan) if plan.asks == wanted))
    };
    let takes = asks(Asks::First) || asks(Asks::Names);
    if global.yes {
        return Ok(());
    }
    if asks(Asks::Names) {
        let message = "what is erased on several trees at once is not asked about by name; say \
                       --yes where all of it is to go";
        return Err(Failure::new(REFUSED, "needs-yes", message));
    }
    match prompt::somebody_is_there() {
        true => {
            crate::output::flush();
            super::consent::confirm(&format!(
                "Do this on {}?",
                nest_core::words::counted(count, "tree", "trees")
            ))
        }
        false if takes => {
            let message = "nothing was done: it takes something away, and there is no terminal to ask \
                           at. See what it would do with --dry-run, or say --yes";
            Err(Failure::new(REFUSED, "needs-yes", message))
        }
        false => Ok(()),
    }
}

/// What machines read of a tree on which it was not done.
pub fn error_of(failure: &Failure) -> Value {
    json!({"kind": failure.kind, "message": failure.message()})
}
