//! Taking a roster in: every row is looked at, and all are made as one change, or
//! none.

mod existing;
mod faults;
mod groups;
mod names;
mod others;
mod rows;
mod totals;
mod write;

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;

use bstr::{BStr, BString};
use hashbrown::HashSet;

use self::others::OthersFound;
pub use self::others::{Among, Others, OthersBecome};
use self::rows::Rows;
use crate::book::Lookups;
use crate::change::{Caution, Decision, Label, Plan, Subject};
use crate::context::PlanContext;
use crate::drafting::FoundUser;
use crate::order;
use crate::plan::users::create_user::{AccountBatch, check_values, empty_file};
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{CreateUser, GuardOverrides, Request};
use crate::roster::{Column, Fault, Roster, RosterRow, RowBuffer, RowRequest, Wrong};
use crate::value::{GroupName, UserName};

/// A roster to be taken in.
#[derive(Debug, Default)]
pub struct Intake {
    /// The rows.
    pub roster: Roster,
    /// What becomes of rows that exist already.
    pub existing: Existing,
    /// Members that no row asks for leave.
    pub exact_groups: bool,
    /// Groups that are missing are made.
    pub groups_too: bool,
    /// No homes are made; paths are only recorded.
    pub no_home: bool,
    /// Homes exist and are taken over.
    pub adopt_home: bool,
    /// What the homes are copies of; `none` for nothing.
    pub skeleton: Option<BString>,
    /// What becomes of accounts that no row names; nothing where the table does not speak of
    /// them.
    pub others: Option<Others>,
    /// Each new account has to have a first password, and must change it.
    pub first_passwords: bool,
    /// The command in a few words, where it is another one.
    pub summary: Option<String>,
    /// The command as it was given, for the ways round.
    pub again: String,
    /// Each decision about each row is wanted; else only the totals.
    pub detailed: bool,
    /// The hashes of those passwords, by name; none while they are not made yet.
    pub hashes: std::collections::HashMap<BString, BString>,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

/// What becomes of rows whose name exists.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Existing {
    /// They are faults.
    #[default]
    Refuse,
    /// They are passed over.
    Keep,
    /// The account is brought to its row.
    Update,
}

/// What taking a roster in will do.
#[derive(Debug)]
pub struct TakenIn {
    /// The plan.
    pub plan: Plan,
    /// The new accounts that no row gives a password.
    pub newcomers: Vec<BString>,
}

impl Request for Intake {
    /// What rows name is looked up when they are planned: names are made, and homes come from
    /// the policy.
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the taking in of a roster: all of it, or nothing.
///
/// # Errors
/// A [`Refusal`] with every fault of every row.
pub fn intake(context: PlanContext<'_>, request: &Intake) -> Result<TakenIn> {
    let shown: Vec<&str> =
        request.roster.sources.iter().map(|source| source.shown.as_str()).collect();
    let what = "nothing was taken in";
    if let Some(reason) = empty_file(context) {
        return Err(Refusal::new(what, reason));
    }
    let summary = request.summary.clone();
    let summary = summary.unwrap_or_else(|| format!("intake {}", shown.join(" ")));
    let mut planner = IntakePlanner {
        context,
        request,
        faults: request.roster.faults.clone(),
        names: Arc::default(),
        rows: Rows::default(),
        doubles: HashSet::new(),
        at: None,
        batch: AccountBatch::new(context, summary),
        counts: Counts::default(),
        newcomers: Vec::new(),
        span_full: 0,
        leaving: BTreeMap::new(),
        others: OthersFound::default(),
        others_refused: None,
        coming_back: Vec::new(),
    };
    planner.batch.expect(request.roster.rows.len());
    planner.plan_rows();
    if planner.faults.is_empty() {
        planner.others()?;
        planner.restore_others()?;
    }
    let IntakePlanner { mut batch, mut faults, newcomers, counts, span_full, others, .. } = planner;
    if !faults.is_empty() {
        order::sort(&mut faults);
        faults.dedup();
        return Err(faults::with_ways(
            request,
            Refusal::new(what, Reason::Roster { faults, span_full }),
        ));
    }
    let given = std::mem::take(&mut batch.given);
    let mut plan = batch.finish();
    totals::tell(request, &counts, &given, &others, &mut plan);
    Ok(TakenIn { plan, newcomers })
}

/// How many rows came to what.
#[derive(Debug, Default)]
struct Counts {
    made: usize,
    updated: usize,
    kept: usize,
    groups: Vec<GroupName>,
    groups_kept: usize,
    groups_changed: usize,
}

/// The name of each row, as far as it has one.
type RowNames<'r> = Vec<Option<Cow<'r, BStr>>>;

struct IntakePlanner<'a, 'r> {
    context: PlanContext<'a>,
    request: &'r Intake,
    faults: Vec<Fault>,
    /// Made where none was given.
    names: Arc<RowNames<'r>>,
    /// The first row of each name of a user.
    rows: Rows,
    /// The rows whose name stands in one above.
    doubles: HashSet<usize>,
    /// The row of a user that is being looked at.
    at: Option<usize>,
    batch: AccountBatch<'a>,
    counts: Counts,
    newcomers: Vec<BString>,
    /// Rows for which no number was left, after the first.
    span_full: usize,
    /// Who leaves which group.
    leaving: BTreeMap<GroupName, Vec<UserName>>,
    /// What becomes of those whom no row names.
    others: OthersFound,
    /// Why one of them can't be had back.
    others_refused: Option<Box<Refusal>>,
    /// Who comes back, by the folders they are kept in.
    coming_back: Vec<UserName>,
}

impl<'a, 'r> IntakePlanner<'a, 'r> {
    fn fault(&mut self, row: &RosterRow, column: Column, wrong: Wrong) {
        self.faults.push(self.request.roster.fault(row, column, wrong));
    }

    fn plan_rows(&mut self) {
        self.batch.note_missing_files();
        self.name_rows();
        self.look_up_batch();
        self.find_doubles();
        self.find_shared_homes();
        self.set_numbers_aside();
        let rows = &self.request.roster.rows;
        for row in rows {
            if let RowRequest::Group(group) = &row.what {
                self.group(row, group);
            }
        }
        if self.request.groups_too {
            self.missing_groups();
        }
        for row in rows {
            if let RowRequest::Group(group) = &row.what {
                self.lists_of(row, group);
            }
        }
        match self.request.detailed {
            true => self.one_by_one(),
            false => self.many(),
        }
        self.look_at_doubles();
        self.leave();
    }

    /// The rows of users, but for those whose name stands in one above.
    fn users(&self) -> Vec<usize> {
        let is_user =
            |at: &usize| matches!(self.request.roster.rows[*at].what, RowRequest::User(_));
        let is_named = |at: &usize| self.names[*at].is_some() && !self.doubles.contains(at);
        (0..self.names.len()).filter(|at| is_user(at) && is_named(at)).collect()
    }

    fn one_by_one(&mut self) {
        let names = Arc::clone(&self.names);
        for at in self.users() {
            let row = &self.request.roster.rows[at];
            if let (Some(name), Some(user)) = (&names[at], self.request.user(row)) {
                self.at = Some(at);
                if !self.is_there(row, &user, name) {
                    self.make(row, &user, name);
                }
            }
        }
    }

    /// The row further down that makes a private group of this name.
    fn later(&self, name: &BStr) -> Option<usize> {
        let found = self.rows.get(&self.names, name);
        let at = found.filter(|at| self.at.is_none_or(|now| *at > now))?;
        let user = self.request.user(&self.request.roster.rows[at])?;
        let made =
            user.primary.is_none() && (user.service || self.context.policy.people_private_group);
        let own = user.primary.as_ref().is_some_and(|primary| primary == name);
        (made || own).then_some(at)
    }

    /// The request of a row, with what goes for all of them.
    fn complete<'u>(&self, user: &'u CreateUser, name: &BStr) -> Cow<'u, CreateUser> {
        let request = self.request;
        let has_home = !user.no_home && (!user.service || user.home.is_some());
        if self.is_complete(user) {
            return Cow::Borrowed(user);
        }
        let mut user = CreateUser {
            adopt_home: request.adopt_home && has_home,
            skeleton: request.skeleton.clone().filter(|_| has_home),
            ..user.clone()
        };
        // Named as its own, and not there: a private group.
        let own = user.primary.as_ref().is_some_and(|primary| primary == name);
        if own && request.groups_too && self.batch.find_group(name, "").is_err() {
            user.primary = None;
        }
        if let Some(hash) = self.request.hashes.get(name).filter(|_| user.hashes.is_empty()) {
            user.hashes = vec![Some(hash.clone())];
            user.must_change = true;
        }
        Cow::Owned(user)
    }

    /// Whether what goes for all rows says nothing about this one.
    fn is_complete(&self, user: &CreateUser) -> bool {
        let request = self.request;
        let homes = request.adopt_home || request.skeleton.is_some();
        let groups = request.groups_too && user.primary.is_some();
        !homes && !groups && request.hashes.is_empty()
    }

    /// Whether a row is about somebody who is there already; then it is dealt with.
    fn is_there(&mut self, row: &'r RosterRow, user: &CreateUser, name: &BStr) -> bool {
        let known = !self.context.book.is_nowhere(name);
        let Some((line, _)) = known.then(|| self.context.book.user(name)).flatten() else {
            return self.comes_back(user, name);
        };
        self.is_resumed(name);
        match self.request.existing {
            Existing::Refuse => {
                let lines = self.context.book.users.lines();
                // Counted once, not line by line for each of many faults.
                lines.len();
                let number = lines.number(line.start);
                let wrong = faults::exists("user", name, number);
                self.fault(row, Column::Name, wrong);
            }
            Existing::Keep => {
                self.counts.kept += 1;
                self.differs(user, name);
            }
            Existing::Update => self.update(row, user, name),
        }
        true
    }

    /// Plans a new account, in every detail.
    fn make(&mut self, row: &'r RosterRow, user: &CreateUser, name: &BStr) {
        let complete = self.complete(user, name);
        let (values, caution) = check_row(self.context, &complete, name);
        self.batch.builder.plan.cautions.extend(caution);
        let found_wrong = !values.is_empty();
        for reason in values {
            self.refused(row, &Refusal::new("", reason));
        }
        let told = self.batch.builder.plan.subjects.len();
        let hash = complete.hashes.first().and_then(Option::as_ref);
        match self.batch.plan_account(&complete, name, hash) {
            Err(refusals) => refusals.iter().for_each(|refusal| self.refused(row, refusal)),
            Ok(()) if found_wrong => {}
            Ok(()) => {
                self.counts.made += 1;
                if self.request.wants_password(user) {
                    self.newcomers.push(name.to_owned());
                }
                if let Some(subject) = self.batch.builder.plan.subjects.get_mut(told) {
                    self.request.first_decision(row, subject, "new");
                }
            }
        }
    }

    /// Notes why a row can't be had.
    fn refused(&mut self, row: &RosterRow, refusal: &Refusal) {
        if matches!(refusal.reason, Reason::SpanFull { .. } | Reason::RangesFull { .. }) {
            // Every further row would say the same.
            self.span_full += 1;
            if self.span_full > 1 {
                return;
            }
        }
        let column = faults::column_of(&refusal.reason);
        let column = match &refusal.reason {
            Reason::NoGroup { name, .. } => faults::column_of_group(self.request, row, name),
            _ => column,
        };
        let mut wrong = faults::wrong(self.request, &refusal.reason, row);
        if let Reason::NoGroup { name, .. } = &refusal.reason
            && let Some(later) = self.later(name.as_ref())
        {
            let line = self.request.roster.line(&self.request.roster.rows[later]);
            wrong = Wrong::new(
                format!("the group {name} is made further down, by line {line}"),
                "that row above this one",
            );
        }
        self.fault(row, column, wrong);
    }

    /// A user of the files whose lines can be edited.
    fn found(&mut self, row: &RosterRow, name: &BStr) -> Option<FoundUser<'a>> {
        match crate::drafting::find_user(self.context, name, "") {
            Ok(found) => Some(found),
            Err(refusal) => {
                self.refused(row, &refusal);
                None
            }
        }
    }
}

/// What can be judged of a row without looking at any account. One that makes an account whose
/// time is over is meant so, and told.
fn check_row(
    context: PlanContext<'_>,
    user: &CreateUser,
    name: &BStr,
) -> (Vec<Reason>, Option<Caution>) {
    let mut values = check_values(context, user);
    let mut caution = None;
    values.retain(|reason| match reason {
        Reason::ExpiryPast(day) => {
            caution = Some(Caution::MadeExpired { name: name.to_owned(), day: *day });
            false
        }
        _ => true,
    });
    (values, caution)
}

impl Intake {
    /// The user that a row asks for, if it asks for one, with what goes for all homes.
    pub(crate) fn user<'r>(&'r self, row: &'r RosterRow) -> Option<Cow<'r, CreateUser>> {
        let mut user = self.roster.user(row)?;
        if self.no_home && !user.no_home {
            self.settle_home(user.to_mut());
        }
        Some(user)
    }

    /// The same, read into a buffer.
    pub(crate) fn user_on<'s>(
        &self,
        row: &RosterRow,
        buffer: &'s mut RowBuffer,
    ) -> Option<&'s CreateUser> {
        if !self.roster.user_onto(row, buffer) {
            return None;
        }
        self.settle_home(&mut buffer.user);
        Some(&buffer.user)
    }

    fn settle_home(&self, user: &mut CreateUser) {
        if self.no_home && !user.no_home {
            user.record_home = !user.service || user.home.is_some();
            user.no_home = true;
        }
    }

    /// Whether a new account is to have a first password: one that its row does not give, and
    /// that no service needs.
    fn wants_password(&self, user: &CreateUser) -> bool {
        self.first_passwords && !user.service && user.hashes.is_empty()
    }

    /// What the table, or the tables, are called.
    pub(crate) fn table(&self) -> String {
        let name = |shown: &str| shown.rsplit('/').next().unwrap_or(shown).to_owned();
        let shown: Vec<String> =
            self.roster.sources.iter().map(|source| name(&source.shown)).collect();
        shown.join(" ")
    }

    /// Puts where a row stands before what was decided about it.
    fn first_decision(&self, row: &RosterRow, subject: &mut Subject, what: &'static str) {
        let file = &self.roster.sources[row.source].shown;
        let why = format!("of {file}, {what}");
        let decision = Decision::new(Label::ROW, row.number.to_string(), why);
        subject.decisions.insert(0, decision);
        subject.row = what;
        subject.place = format!("row {} of {file}", row.number);
    }
}

#[cfg(test)]
mod tests;
