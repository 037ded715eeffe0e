//! Accounts in the making.

use bstr::{BStr, BString, ByteSlice};

use crate::account::turns_away;
use crate::change::{Caution, Label, Plan, Subject};
use crate::context::PlanContext;
use crate::drafting::{PlanBuilder, set_window};
use crate::order;
use crate::plan::users::create_user::groups::Joins;
use crate::plan::users::create_user::made::Made;
use crate::plan::users::create_user::write::{AccountLines, Writer};
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{CreateUser, SuspensionAsked};
use crate::table::{File, lines_of};
use crate::value::{Gid, IdSpan, Uid};
use crate::windows::Who;
use crate::words::list;

/// Accounts in the making: everything that those of one plan share.
pub(crate) struct AccountBatch<'a> {
    pub builder: PlanBuilder<'a>,
    /// Groups that this plan makes.
    pub made: Made,
    pub(crate) joins: Joins,
    pub(crate) writer: Writer<'a>,
    /// What was given to the accounts.
    pub given: Given,
}

/// What was given to accounts, as far as it is told of many.
#[derive(Default)]
pub(crate) struct Given {
    /// The lowest and the highest uid of people.
    pub people: Option<(u32, u32)>,
    /// The same of services.
    pub services: Option<(u32, u32)>,
    /// How many subordinate ranges.
    pub ranges: usize,
    /// The lowest and the highest id in them.
    pub ranges_in: Option<(u32, u32)>,
    /// How many passwords.
    pub passwords: usize,
    /// How many were suspended.
    pub suspended: usize,
    /// How many of the others have a shell that lets nobody in.
    pub shut: usize,
}

impl Given {
    pub(crate) fn uid(&mut self, uid: Uid, of_service: bool) {
        widen(if of_service { &mut self.services } else { &mut self.people }, uid.0, uid.0);
    }

    pub(crate) fn range(&mut self, span: IdSpan) {
        self.ranges += 1;
        widen(&mut self.ranges_in, span.first(), span.last());
    }
}

fn widen(bounds: &mut Option<(u32, u32)>, first: u32, last: u32) {
    let (low, high) = bounds.unwrap_or((first, last));
    *bounds = Some((low.min(first), high.max(last)));
}

/// The numbers of an account that is being planned.
pub(crate) struct AccountIds {
    pub(crate) uid: Uid,
    pub(crate) primary: Primary,
    pub(crate) ranges: Ranges,
}

/// Its subordinate ranges.
#[derive(Default)]
pub(crate) enum Ranges {
    /// None: none were asked for, or none are given to accounts of this kind.
    #[default]
    None,
    /// None: nobody asked, and the files are not there.
    NoFiles,
    /// Those of the request's own choice.
    AsAsked,
    /// One that was free.
    Given(IdSpan),
}

/// Where no number could be chosen.
const NONE: u32 = u32::MAX;

/// Its primary group.
pub(crate) struct Primary {
    pub gid: Gid,
    /// Made for this account.
    pub private: bool,
}

/// Whether an account gets a group of its own.
pub(crate) fn makes_private_group(context: PlanContext<'_>, request: &CreateUser) -> bool {
    request.primary.is_none() && (request.service || context.policy.people_private_group)
}

/// Keeps what went wrong, and goes on without.
pub(crate) fn keep<T>(wrong: &mut Vec<Refusal>, result: Result<T>) -> Option<T> {
    result.map_err(|refusal| wrong.push(*refusal)).ok()
}

impl<'a> AccountBatch<'a> {
    /// Nothing made yet.
    pub fn new(context: PlanContext<'a>, summary: String) -> Self {
        AccountBatch {
            builder: PlanBuilder::new(context, summary),
            made: Made::default(),
            joins: Joins::default(),
            writer: Writer::new(context),
            given: Given::default(),
        }
    }

    /// Makes room for so many accounts.
    pub fn expect(&mut self, accounts: usize) {
        self.made.reserve(accounts);
    }

    /// Says which files the tree does without.
    pub fn note_missing_files(&mut self) {
        if self.builder.context.book.shadow.is_none() {
            self.builder.caution(Caution::NoShadow);
        }
        if self.builder.context.book.gshadow.is_none() {
            self.builder.caution(Caution::NoGshadow);
        }
    }

    /// The whole plan.
    pub fn finish(mut self) -> Plan {
        let mut lists = self.builder.lists();
        order::sort_by(&mut self.joins.groups, |one, other| one.group.cmp(&other.group));
        for joined in &self.joins.groups {
            lists.join_all(&joined.group, |list| joined.after(list));
        }
        lists.complete();
        let next = self.builder.plan.next.pop().unwrap_or_default();
        self.builder.finish(next)
    }

    /// Plans one account.
    ///
    /// # Errors
    /// Everything that stands in its way, the plainest first.
    pub fn plan_account(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        hash: Option<&bstr::BString>,
    ) -> Result<(), Vec<Refusal>> {
        let (mut subject, mut wrong) = (Subject::new(name), Vec::new());
        subject.decisions.extend(request.copied.iter().cloned());
        let mut written = AccountLines::default();
        self.writer.look_at_name(request, name, &mut written, &mut wrong);
        let numbers =
            self.number(request, name, hash, &mut subject, &mut written.cautions, &mut wrong);
        self.writer.write(request, name, hash, &numbers, &mut subject, &mut written, &mut wrong);
        if !wrong.is_empty() {
            return Err(wrong);
        }
        for (file, lines) in written.take_lines() {
            for line in lines_of(&lines) {
                match file {
                    File::Group | File::Gshadow => {
                        self.builder.edits.add_named(file, name, line.to_vec())
                    }
                    _ => _ = self.builder.edits.add(file, line.to_vec()),
                }
            }
        }
        self.add_cautions_and_steps(written);
        subject.ask_for_sign_in();
        let needs_one = hash.is_none() && !request.service && request.keys.is_empty();
        self.builder.plan.next.push(
            match needs_one && self.builder.context.book.shadow.is_some() {
                true => format!("password user {name}"),
                false => format!("show user {name}"),
            },
        );
        self.builder.tell(subject);
        Ok(())
    }

    /// Takes over what was written of many accounts, in their order.
    pub fn add_many(&mut self, mut written: AccountLines) {
        for (file, lines) in written.take_lines() {
            self.builder.edits.add_run(file, lines);
        }
        self.add_cautions_and_steps(written);
    }

    fn add_cautions_and_steps(&mut self, written: AccountLines) {
        self.builder.plan.steps.extend(written.steps);
        self.builder.plan.cautions.extend(written.cautions);
    }

    /// Chooses the numbers of an account and of its group, which has to be done for one
    /// account after the other. Where `wrong` says that a number can't be had, the largest
    /// id is in its place: the rest of the account can still be judged, and nothing is made.
    pub fn number(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        hash: Option<&bstr::BString>,
        subject: &mut Subject,
        cautions: &mut Vec<Caution>,
        wrong: &mut Vec<Refusal>,
    ) -> AccountIds {
        let private = makes_private_group(self.builder.context, request);
        if private
            && wrong.is_empty()
            && let Some(gid) = self.made.get(name)
        {
            let (what, gid) = (format!("{name} was not created"), gid.to_string().into());
            wrong.push(*Refusal::new(what, Reason::GroupInPlan { gid }));
        }
        let uid = self.choose_uid(request, name, subject, cautions);
        let uid = keep(wrong, uid);
        let primary = match uid {
            // What kept the user from a number would keep its group from one too.
            None if private => None,
            uid => {
                keep(wrong, self.choose_primary(request, name, Uid(uid.unwrap_or(NONE)), subject))
            }
        };
        let (uid, none) = (uid.unwrap_or(NONE), Primary { gid: Gid(NONE), private: false });
        let primary = primary.unwrap_or(none);
        let joined = self.join_groups(request, name, primary.gid.0, wrong);
        if !joined.is_empty() {
            let groups = joined.iter().map(|at| &self.joins.groups[*at].group);
            subject.decide_with(Label::MEMBER_OF, || (list(groups), ""));
        }
        let ranges = keep(wrong, self.choose_ranges(request, name)).unwrap_or_default();
        keep(wrong, self.window(request, name, uid, subject));
        self.given.uid(Uid(uid), self.builder.context.policy.services_ids.contains(uid));
        let details = request.details.as_ref();
        let asked = details.and_then(|details| details.suspended.as_ref());
        match matches!(asked, Some(SuspensionAsked::Yes(_))) {
            true => self.given.suspended += 1,
            false if turns_away(request.shell(self.builder.context.policy)) => {
                self.given.shut += 1;
            }
            false => {
                let has_password = hash.is_some_and(|hash| hash.starts_with(b"$"));
                self.given.passwords += usize::from(has_password);
            }
        }
        if primary.private {
            self.note_group(name, primary.gid);
        }
        AccountIds { uid: Uid(uid), primary, ranges }
    }

    fn window(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        uid: u32,
        subject: &mut Subject,
    ) -> Result<()> {
        // What can't be read is told with the other values.
        if !request.window.asks() || !request.window.faults().is_empty() {
            return Ok(());
        }
        let groups = || request.join.iter().map(|group| group.as_bstr().to_owned()).collect();
        let who = Who { name, uid: Some(Uid(uid)), groups: &groups };
        set_window(&mut self.builder, &request.window, &who, subject)
            .map_err(|trouble| Refusal::new(format!("{name} was not created"), trouble.into()))
    }

    /// Adds the lines of a group that nobody is in yet, so that they can be altered.
    pub fn make_group(&mut self, name: &BStr, gid: Gid, secret: Option<&BString>) {
        let mut written = AccountLines::default();
        self.writer.write_group(name, gid, secret, &mut written);
        for (file, lines) in written.take_lines() {
            self.builder.edits.add_named(file, name, lines);
        }
        self.note_group(name, gid);
    }

    fn note_group(&mut self, name: &BStr, gid: Gid) {
        self.made.insert(name, gid);
    }
}
