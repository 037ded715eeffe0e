//! What a request will do.

use super::{AccessChange, Caution, Decision, NumberChange, Step, Subject, TextEdit};
use crate::table::{Edit, moves_ids};

/// Everything a change will do, and why.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Plan {
    /// The change in a few words: `create user maren`.
    pub summary: String,
    /// What it comes to, where it is about many accounts.
    pub totals: Vec<Decision>,
    /// Numbers of users and groups that become others, where that is what is asked for.
    pub numbers: Vec<NumberChange>,
    /// What was decided, account by account.
    pub subjects: Vec<Subject>,
    /// The lines that come, go or alter.
    pub edits: Vec<Edit>,
    /// What happens on the tree besides.
    pub steps: Vec<Step>,
    /// Who gains and who loses access by it, account by account.
    pub access: Vec<AccessChange>,
    /// What the administrator should know.
    pub cautions: Vec<Caution>,
    /// Likely next commands, without the program's name and global options.
    pub next: Vec<String>,
    /// The change that this one takes back.
    pub undoes: Option<u64>,
    /// No number is chosen: whoever comes back gets those that were its own.
    pub returning: bool,
    /// It mends the account files: lines that it takes out are at odds with others.
    pub mends: bool,
    /// Everything is as was asked already: there is nothing to do.
    pub nothing: bool,
}

impl Plan {
    /// Whether it chooses a number or retires one, so that it has to be known which are
    /// retired.
    pub fn needs_numbers(&self) -> bool {
        let of_numbers = |step: &Step| matches!(step, Step::RetireIds(_) | Step::ReviveIds(_));
        self.steps.iter().any(of_numbers) || (!self.returning && moves_ids(&self.edits))
    }

    /// The lines of files beside the account files that come, go or alter.
    pub fn text_edits(&self) -> impl Iterator<Item = &TextEdit> {
        self.steps
            .iter()
            .filter_map(|step| if let Step::EditText(edit) = step { Some(edit) } else { None })
    }

    /// Whether it alters what is noted of suspended accounts.
    pub fn needs_suspended(&self) -> bool {
        let of_notes =
            |step: &Step| matches!(step, Step::NoteSuspended(_) | Step::ForgetSuspended(_));
        self.steps.iter().any(of_notes)
    }
}
