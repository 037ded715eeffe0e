//! What whoever gives the command is asked before it is carried out.

use std::io::ErrorKind;

use nest_core::change::Plan;
use nest_core::record::Told;
use nest_core::refusal::{Way, WayIs};

use super::Session;
use crate::failure::{Failure, REFUSED, Result, spell_out};
use crate::prompt;
use crate::view::{receipt, visible};

/// Whether a change is asked about before it is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asks {
    /// It only adds, or is easily taken back.
    Nothing,
    /// It takes something away.
    First,
    /// Whoever is at a terminal is asked; a script is not.
    AtTerminal,
    /// It erases what nothing brings back: the names have to be typed.
    Names,
}

impl Session<'_> {
    /// Shows a plan that takes something away, and asks; without a terminal,
    /// `--yes` has to be said. Returns whether it was shown.
    pub(super) fn ask(&self, asks: Asks, plan: &Plan) -> Result<bool> {
        if asks == Asks::Nothing || self.global.yes {
            return Ok(false);
        }
        let terminal = prompt::somebody_is_there();
        if !terminal && asks == Asks::AtTerminal {
            return Ok(false);
        }
        if !terminal {
            let message = format!(
                "{} was not done: it takes something away, and there is no terminal to ask at",
                plan.summary
            );
            let mut failure = Failure::new(REFUSED, "needs-yes", message);
            // As it was typed: no option of it may get lost.
            for (label, option) in
                [("see what it would do", "--dry-run"), ("or do it without asking", "--yes")]
            {
                failure.ways.push(Way {
                    label: label.into(),
                    text: option.into(),
                    is: WayIs::Option,
                });
            }
            spell_out(&mut failure.ways, plan.undoes);
            return Err(failure);
        }
        let told = Told::of(plan);
        receipt::show(self.global, &told, receipt::Stage::Asked, &self.beside);
        crate::output::flush();
        if asks == Asks::Names {
            for subject in &plan.subjects {
                let name = visible(&subject.name);
                let question =
                    format!("Type {name} to erase these files for good (^C: nothing is erased):");
                let typed = prompt::line(&question);
                if !matches!(&typed, Ok(Some(typed)) if *typed == name) {
                    return Err(declined(&typed));
                }
            }
        } else {
            confirm("Do this?")?;
        }
        Ok(!self.global.json())
    }

    /// Asks whether to go on with what was shown; without a terminal, `--yes` has to be
    /// said with the command.
    pub fn confirm(&self, refused: &str, command: &str) -> Result<()> {
        if self.global.yes {
            return Ok(());
        }
        if prompt::somebody_is_there() {
            crate::output::flush();
            return confirm("Do this?");
        }
        let message =
            format!("{refused}: somebody has to look at it, and there is no terminal to ask at");
        Err(Failure::new(REFUSED, "needs-yes", message)
            .or("see what it would do", format!("{command} --dry-run"))
            .or("or do it without asking", format!("{command} --yes")))
    }
}

/// Asks a question that is no unless somebody says yes.
pub(super) fn confirm(question: &str) -> Result<()> {
    match prompt::agrees(question, false) {
        Ok(true) => Ok(()),
        answer => Err(declined(&answer)),
    }
}

/// An answer that is no yes.
fn declined<T>(answer: &std::io::Result<T>) -> Failure {
    let message = match answer {
        Ok(_) => "nothing was changed".to_owned(),
        Err(error) if error.kind() == ErrorKind::Interrupted => {
            errln!("");
            "interrupted; nothing was changed".to_owned()
        }
        Err(error) => format!("no answer ({error}); nothing was changed"),
    };
    Failure::new(REFUSED, "declined", message)
}
