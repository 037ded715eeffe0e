//! What a request will do, decided before anything is touched.

mod caution;
mod change_group;
mod change_user;
mod claim;
mod create_group;
mod create_user;
mod delete_group;
mod delete_user;
mod draft;
mod find;
mod find_kept;
mod group_password;
mod guard;
mod home;
mod home_trouble;
mod intake;
#[cfg(test)]
mod leaving_tests;
mod line_trouble;
mod lists;
mod new_name;
mod not_kept;
#[cfg(test)]
mod people_tests;
mod primary;
mod purge;
mod reason;
mod reassign;
mod refusal;
mod regroup;
mod rename_group;
mod rename_user;
mod restore_group;
mod restore_user;
mod retire;
mod set_password;
mod step;
mod suspend;
mod undo;
mod wanted_id;

pub use caution::Caution;
pub use change_group::{ChangeGroup, change_group};
pub use change_user::{AgingRequest, ChangeUser, change_user};
pub use create_group::{CreateGroup, create_group};
pub use create_user::{CreateUser, KeyFile, create_user};
pub use delete_group::{DeleteGroup, delete_group};
pub use delete_user::{DeleteUser, FilesDisposition, delete_user};
pub use draft::Draft;
pub use group_password::{GroupPassword, check_group_password, group_password};
pub use guard::GuardOverrides;
pub use home::NO_HOME;
pub use home_trouble::HomeTrouble;
pub use intake::{Existing, Intake, TakenIn, intake};
pub use line_trouble::LineTrouble;
pub use not_kept::NotKept;
pub use purge::{Purge, kept_until, purge};
pub use reason::Reason;
pub use reassign::{Reassign, reassign};
pub use refusal::{Refusal, Way};
pub use regroup::{Regroup, regroup};
pub use rename_group::{RenameGroup, rename_group};
pub use rename_user::{RenameUser, rename_user};
pub use restore_group::{RestoreGroup, restore_group};
pub use restore_user::{RestoreUser, restore_user};
pub use set_password::{SetPassword, check_password_holders, set_password};
pub use step::{Access, NewFile, Owner, Reown, Step};
pub use suspend::{Suspend, resume, suspend};
pub use undo::{Undo, undo};

use std::borrow::Cow;

use bstr::BString;
use serde::{Deserialize, Serialize};

use crate::book::Book;
use crate::policy::Policy;
use crate::surroundings::Surroundings;
use crate::table::Edit;
use crate::value::{Day, escaped};
pub(crate) use find::with_fields;
pub(crate) use home::plan_home;
pub(crate) use step::join;
pub(crate) use wanted_id::reserved;

/// What a planner goes by.
#[derive(Clone, Copy)]
pub struct PlanContext<'a> {
    /// The account files.
    pub book: &'a Book,
    /// The settings.
    pub policy: &'a Policy,
    /// The world around the files.
    pub world: &'a dyn Surroundings,
    /// Today.
    pub today: Day,
    /// The number this change will have; nothing where no changes are kept.
    pub change: Option<u64>,
}

/// Everything a change will do, and why.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Plan {
    /// The change in a few words: `create user maren`.
    pub summary: String,
    /// What it comes to, where it is about many accounts.
    pub totals: Vec<Decision>,
    /// What was decided, account by account.
    pub subjects: Vec<Subject>,
    /// The lines that come, go or alter.
    pub edits: Vec<Edit>,
    /// What happens on the tree besides.
    pub steps: Vec<Step>,
    /// What the administrator should know.
    pub cautions: Vec<Caution>,
    /// Likely next commands, without the program's name and global options.
    pub next: Vec<String>,
    /// The change that this one takes back.
    pub undoes: Option<u64>,
    /// No number is chosen: whoever comes back gets those that were its own.
    pub returning: bool,
    /// Everything is as was asked already: there is nothing to do.
    pub nothing: bool,
}

impl Plan {
    /// Whether it chooses a number or retires one, so that it has to be known which are
    /// retired.
    pub fn needs_numbers(&self) -> bool {
        let of_numbers = |step: &Step| matches!(step, Step::RetireIds(_) | Step::ReviveIds(_));
        self.steps.iter().any(of_numbers) || (!self.returning && retire::moves_numbers(&self.edits))
    }

    /// Whether it alters what is noted of suspended accounts.
    pub fn needs_suspended(&self) -> bool {
        let of_notes =
            |step: &Step| matches!(step, Step::NoteSuspended(_) | Step::ForgetSuspended(_));
        self.steps.iter().any(of_notes)
    }
}

/// The decisions about one account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subject {
    /// Its name.
    #[serde(with = "escaped::text")]
    pub name: BString,
    /// The decisions, in the order in which they are shown.
    pub decisions: Vec<Decision>,
    /// Nobody wants to know: nothing is noted.
    #[serde(skip)]
    silent: bool,
}

/// One decision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Decision {
    /// What it is about, in a word or two.
    pub label: Cow<'static, str>,
    /// What was decided.
    #[serde(with = "escaped::text")]
    pub value: BString,
    /// Why, or what it is made from. May be empty.
    pub why: String,
}

impl Subject {
    /// Nothing decided yet.
    pub(crate) fn new(name: impl Into<BString>) -> Self {
        Subject { name: name.into(), decisions: Vec::new(), silent: false }
    }

    /// One of which nobody wants to know what was decided.
    fn silent() -> Self {
        Subject { silent: true, ..Subject::new("") }
    }

    /// Notes a decision.
    pub(crate) fn decide(
        &mut self,
        label: &'static str,
        value: impl Into<BString>,
        why: impl Into<String>,
    ) {
        if !self.silent {
            let (value, why) = (value.into(), why.into());
            self.decisions.push(Decision { label: label.into(), value, why });
        }
    }

    /// The same, where the words take some making.
    fn decide_with<V: Into<BString>, W: Into<String>>(
        &mut self,
        label: &'static str,
        words: impl FnOnce() -> (V, W),
    ) {
        if !self.silent {
            let (value, why) = words();
            self.decide(label, value, why);
        }
    }
}
