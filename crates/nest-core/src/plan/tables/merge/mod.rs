//! Another tree's accounts, taken into this one: by decisions where they can't come as they are,
//! as one change.
//!
//! - `decisions`: what is decided, as a file
//! - `conflicts`: what has to be, and what is proposed
//! - `merging`: what both trees hold of what comes
//! - `rows`: that as rows of a table
//! - `numbers`: which number became which, for the files that are copied

mod conflicts;
mod decisions;
mod merging;
mod numbers;
mod rows;
#[cfg(test)]
mod tests;

pub use self::decisions::{Action, Conflict, Decided, Decisions, state_of, written_decisions};
pub use self::numbers::{NewNumberOf, written_numbers};

use bstr::BString;

use self::conflicts::Finding;
use self::merging::Merging;
use crate::account::AccountKind;
use crate::book::{Book, Lookups};
use crate::change::{Caution, Decision, Plan};
use crate::context::PlanContext;
use crate::order;
use crate::plan::tables::intake::{Existing, Intake, intake};
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::roster::{Fault, Form, Roster, RosterSource, Wrong};
use crate::suspended::Suspended;
use crate::table::File;
use crate::value::UserOrGroup;
use crate::windows::Windows;
use crate::words::{counted, first_of};

/// Accounts of another tree to be taken in.
pub struct Merge<'m> {
    /// The account files of the other tree.
    pub other: &'m Book,
    /// How that tree is named in messages.
    pub shown: String,
    /// What is noted there of suspended accounts.
    pub suspended: &'m [Suspended],
    /// When and from where accounts may sign in there.
    pub windows: &'m Windows,
    /// Which accounts are taken in: people, services, or both.
    pub kinds: Vec<AccountKind>,
    /// What is decided.
    pub decisions: Decisions,
    /// The numbers that are others here are written to a file.
    pub numbers_are_written: bool,
    /// Each decision about each account is wanted.
    pub detailed: bool,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for Merge<'_> {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// What merging does, and which number becomes which.
#[derive(Debug)]
pub struct Merged {
    /// The plan.
    pub plan: Plan,
    /// The numbers that are others here than there.
    pub numbers: Vec<NewNumberOf>,
}

const WHAT: &str = "nothing was merged";

/// How many names are told of those that something is true of.
const MOST: usize = 8;

/// What has to be decided about the accounts of another tree, and the state of both.
///
/// # Errors
/// A [`Refusal`]: no number is left to be proposed.
pub fn conflicts(context: PlanContext<'_>, request: &Merge<'_>) -> Result<Vec<Conflict>> {
    let merging = Merging::of(context, request);
    let mut finding = Finding::new(&merging);
    finding.find()?;
    Ok(finding.conflicts)
}

/// Plans the taking in of another tree's accounts: all of them, or nothing.
///
/// # Errors
/// A [`Refusal`] with everything that is to be decided, or that stands in the way.
pub fn merge(context: PlanContext<'_>, request: &Merge<'_>) -> Result<Merged> {
    let state = state_of(context.book, request.other);
    let is_given = !request.decisions.state.is_empty();
    if is_given && request.decisions.state != state {
        return Err(Refusal::new(WHAT, Reason::OtherState { tree: request.shown.clone() }));
    }
    let merging = Merging::of(context, request);
    let strangers = merging.strangers();
    if !strangers.is_empty() {
        return Err(Refusal::new(WHAT, Reason::NobodyToDecide { names: strangers }));
    }
    let mut finding = Finding::new(&merging);
    finding.find()?;
    let sources = sources(request.other, &request.shown);
    if !finding.conflicts.is_empty() {
        let faults = undecided_in(&sources, &finding.conflicts);
        return Err(Refusal::new(WHAT, Reason::Undecided { faults }));
    }
    let (rows, coming) = merging.rows(request);
    let faults = merging.nobodies(&sources, &coming);
    if !faults.is_empty() {
        return Err(Refusal::new(WHAT, Reason::Roster { faults, span_full: 0 }));
    }
    let roster = Roster::of_lines(sources, rows);
    let table = Intake {
        roster,
        existing: Existing::Update,
        no_home: true,
        detailed: request.detailed,
        summary: Some(format!("merge {}", request.shown)),
        overrides: request.overrides,
        ..Intake::default()
    };
    let taken_in = intake(context, &table);
    let mut plan = taken_in.map_err(|mut refusal| {
        refusal.what = WHAT.to_owned();
        refusal.ways.clear();
        refusal
    })?;
    let numbers = numbers::found(&merging, &coming, &plan.plan);
    merging.tell(&coming, &numbers, &mut plan.plan);
    Ok(Merged { plan: plan.plan, numbers })
}

/// Conflicts as what is wrong with lines of the other tree.
pub fn undecided(request: &Merge<'_>, conflicts: &[Conflict]) -> Vec<Fault> {
    undecided_in(&sources(request.other, &request.shown), conflicts)
}

fn undecided_in(sources: &[RosterSource], conflicts: &[Conflict]) -> Vec<Fault> {
    let mut faults = Vec::new();
    for conflict in conflicts {
        let source = &sources[usize::from(conflict.thing == UserOrGroup::Group)];
        for (problem, part) in &conflict.problems {
            let wrong = Wrong::new(problem.clone(), part.clone());
            faults.push(source.fault_at(conflict.offset, wrong));
        }
    }
    order::sort_by(&mut faults, |one, other| (&one.file, one.line).cmp(&(&other.file, other.line)));
    faults
}

/// Who comes as whom: a user or group there, and what it is called here.
struct Coming {
    thing: UserOrGroup,
    there: BString,
    here: BString,
    action: Action,
}

/// The files of the other tree in which those who come stand.
fn sources(there: &Book, shown: &str) -> Vec<RosterSource> {
    let source = |file: File| {
        let text = there.lines(file).map_or(Vec::new(), |lines| lines.text().to_vec());
        let shown = format!("{}/{}", shown.trim_end_matches('/'), file.path());
        RosterSource::new(shown, Form::Toml, text)
    };
    vec![source(File::Passwd), source(File::Group)]
}

impl Merging<'_> {
    /// Tells what is not in the receipt of a table.
    fn tell(&self, coming: &[Coming], numbers: &[NewNumberOf], plan: &mut Plan) {
        let of = |action| -> Vec<&BString> {
            let all = coming.iter().filter(move |one| one.action == action);
            all.filter(|one| one.thing == UserOrGroup::User).map(|one| &one.there).collect()
        };
        let (same, skipped) = (of(Action::Same), of(Action::Skip));
        let mut say = |label: &'static str, value: String, why: &'static str| {
            plan.totals.push(Decision::new(label, value, why));
        };
        if !same.is_empty() {
            let value = format!("{}: {}", same.len(), first_of(&same, MOST));
            say("the same", value, "they are here already, and stay as they are");
        }
        if !skipped.is_empty() {
            let value = format!("{}: {}", skipped.len(), first_of(&skipped, MOST));
            say("left there", value, "as decided");
        }
        match numbers.len() {
            0 => say("numbers", "as they were there".to_owned(), ""),
            count => {
                let value = format!("{} from those there", counted(count, "differs", "differ"));
                let why = "--numbers-to FILE writes them, for files that are copied";
                say("numbers", value, if self.numbers_are_written { "" } else { why });
            }
        }
        let no_admin = self.users.iter().filter(|account| {
            let decided = self.decided(account);
            self.administers(account) && !decided.admin && decided.action == Action::Create
        });
        let no_admin: Vec<BString> = no_admin.map(|account| account.user.name.into()).collect();
        if !no_admin.is_empty() {
            plan.cautions.push(Caution::NoAdminHere { names: no_admin });
        }
        let left_out = self.left_out.iter().cloned();
        plan.cautions.extend(left_out.map(Caution::Noted));
        plan.next = vec!["list users".into()];
    }
}
