//! Keeping accounts out for a while, and letting them back in just as they were.

use std::collections::HashSet;

use bstr::BStr;

use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{FoundUser, PlanBuilder, find_user};
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::sign_in::sign_in;
use crate::suspended::Suspended;
use crate::table::{File, Line, Record, Shadow, ShadowField};
use crate::value::{Day, PasswordField, Uid, UserName};
use crate::words::list;

/// Accounts to be suspended, as one change.
#[derive(Debug, Clone, Default)]
pub struct Suspend {
    /// The users.
    pub names: Vec<UserName>,
    /// Why, for whoever looks later.
    pub reason: Option<String>,
    /// What runs under them is ended once they are kept out.
    pub end_processes: bool,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

/// The expiry of suspended accounts: day 1, as some programs read 0 as "never".
pub(crate) const LONG_AGO: Day = Day(1);

/// More processes than this are only counted.
const MOST_LISTED: usize = 12;

/// Whether a shadow line keeps its account out by any way.
pub(crate) fn is_out(shadow: &Shadow<'_>) -> bool {
    let field = shadow.field();
    let closed = !matches!(field, PasswordField::Set(_) | PasswordField::Open);
    closed && shadow.aging().expires == Some(LONG_AGO)
}

/// A password field that lets nobody in, in place of another.
pub(crate) fn suspended_field(field: &[u8]) -> Vec<u8> {
    match PasswordField::read(field) {
        PasswordField::Set(_) => [b"!", field].concat(),
        PasswordField::Open => b"!".to_vec(),
        _ => field.to_vec(),
    }
}

/// What an account is like before it is suspended.
pub(crate) struct Before<'n> {
    pub name: &'n BStr,
    pub uid: Uid,
    pub field: PasswordField,
    pub expires: Option<Day>,
}

/// The note of it; nothing where the tree keeps none.
pub(crate) fn note_of_suspension(
    context: PlanContext<'_>,
    before: Before<'_>,
    reason: &str,
) -> Option<Suspended> {
    context.change?;
    Some(Suspended {
        name: before.name.to_owned().into(),
        uid: before.uid,
        expires: before.expires,
        was_locked: matches!(before.field, PasswordField::Locked(_)),
        was_open: before.field == PasswordField::Open,
        reason: reason.to_owned(),
        since: context.today,
    })
}

impl Request for Suspend {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names)
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the suspending of accounts: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn suspend(context: PlanContext<'_>, request: &Suspend) -> Result<Plan> {
    each(context, "suspend", &request.names, &mut |builder, name, subject| {
        suspend_into(builder, name, request.reason.as_deref(), request.end_processes, subject)?;
        builder.plan.next = vec![format!("resume user {name}")];
        Ok(())
    })
}

/// Adds the suspending of an account to a plan. Returns whether it was not suspended yet.
///
/// # Errors
/// The [`Refusal`].
pub(crate) fn suspend_into(
    builder: &mut PlanBuilder<'_>,
    name: &UserName,
    reason: Option<&str>,
    end_processes: bool,
    subject: &mut Subject,
) -> Result<bool> {
    let context = builder.context;
    let what = format!("{name} was not suspended");
    let (found, line, shadow) = with_shadow(context, name, &what)?;
    if is_out(&shadow) {
        let note = note_of(context, &found);
        let since = note.map(|note| format!("since {}", note.since));
        subject.decide("suspended", "already", since.unwrap_or_default());
        // Another reason takes the place of the first.
        if let (Some(note), Some(reason)) = (note, reason)
            && note.reason != reason
        {
            let was = match &*note.reason {
                "" => "there was none".to_owned(),
                reason => format!("was {reason}"),
            };
            subject.decide("reason", reason, was);
            builder.step(Step::ForgetSuspended(note.clone()));
            builder
                .step(Step::NoteSuspended(Suspended { reason: reason.to_owned(), ..note.clone() }));
        }
        tell_processes(builder, &found, end_processes, subject);
        return Ok(false);
    }
    let field = suspended_field(shadow.password);
    builder.set_fields(
        File::Shadow,
        line,
        &[(ShadowField::Password, &field[..]), (ShadowField::Expires, b"1")],
    );
    subject.decide("sign-in", "by no way", "the password is locked and the account expired");
    if let Some(reason) = reason {
        subject.decide("reason", reason, "");
    }
    subject.decide("all else", "stays", "home, groups, ids, keys");
    let before = Before {
        name: name.as_ref(),
        uid: found.uid,
        field: shadow.field(),
        expires: shadow.aging().expires,
    };
    match note_of_suspension(context, before, reason.unwrap_or_default()) {
        Some(note) => builder.step(Step::NoteSuspended(note)),
        None => builder.caution(Caution::SuspendedUnnoted { name: name.clone().into() }),
    }
    tell_processes(builder, &found, end_processes, subject);
    for what in context.world.left_running(name.as_ref(), found.uid) {
        builder.caution(Caution::GoesOn { name: name.clone().into(), what });
    }
    Ok(true)
}

/// What runs under an account that is kept out, be it since now or before: it goes on, or is
/// ended.
fn tell_processes(
    builder: &mut PlanBuilder<'_>,
    found: &FoundUser<'_>,
    end: bool,
    subject: &mut Subject,
) {
    let processes = builder.context.world.processes(found.uid);
    let label = if end { Label::ENDS } else { Label::RUNS };
    for process in processes.iter().take(MOST_LISTED) {
        let value = format!("{} {}", process.pid, process.command);
        subject.decide(label.clone(), value, format!("since {}", process.since));
    }
    if processes.len() > MOST_LISTED {
        subject.decide(label, format!("{} more", processes.len() - MOST_LISTED), "");
    }
    if !processes.is_empty() && !end {
        builder.caution(Caution::StillRunning { name: found.user.name.into(), processes });
    }
}

/// Accounts to be resumed, as one change.
#[derive(Debug, Clone, Default)]
pub struct Resume {
    /// The users.
    pub names: Vec<UserName>,
}

impl Request for Resume {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names)
    }
}

/// Plans the resuming of accounts: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn resume(context: PlanContext<'_>, request: &Resume) -> Result<Plan> {
    each(context, "resume", &request.names, &mut |builder, name, subject| {
        resume_into(builder, name, subject)?;
        builder.plan.next = vec![format!("show user {name}")];
        Ok(())
    })
}

/// Adds the resuming of an account to a plan.
///
/// # Errors
/// The [`Refusal`].
pub(crate) fn resume_into(
    builder: &mut PlanBuilder<'_>,
    name: &UserName,
    subject: &mut Subject,
) -> Result<()> {
    let context = builder.context;
    let what = format!("{name} was not resumed");
    let (found, line, shadow) = with_shadow(context, name, &what)?;
    let note = note_of(context, &found);
    let locked_before = note.is_some_and(|note| note.was_locked);
    let locked = matches!(shadow.field(), PasswordField::Locked(_)) && !locked_before;
    let ended = shadow.aging().expires == Some(LONG_AGO);
    // Other hands may have taken half of it back.
    if !is_out(&shadow) && (note.is_none() || !locked && !ended) {
        let why = match shadow.field() {
            PasswordField::Locked(_) => "the password was locked by hand, and stays so",
            _ => "it was never suspended, or is resumed already",
        };
        subject.decide("suspended", "no", why);
        if let Some(note) = note {
            builder.step(Step::ForgetSuspended(note.clone()));
        }
        return Ok(());
    }
    let field = match shadow.password.strip_prefix(b"!").filter(|hash| !hash.is_empty()) {
        Some(hash) if locked => hash,
        _ => shadow.password,
    };
    let day = if ended { note.and_then(|note| note.expires) } else { shadow.aging().expires };
    let expires = day.map(|day| day.0.to_string()).unwrap_or_default();
    let fields: [(ShadowField, &[u8]); 2] =
        [(ShadowField::Password, field), (ShadowField::Expires, expires.as_bytes())];
    builder.set_fields(File::Shadow, line, &fields);
    let until = day.map_or("does not expire".to_owned(), |day| format!("expires on {day}"));
    let meanwhile = "as other hands have set it meanwhile";
    subject.decide("account", until, if ended { "as before it was suspended" } else { meanwhile });
    let password = match (shadow.field(), field) {
        (PasswordField::Set(_), _) => ("set", meanwhile),
        (_, b"!") => ("none is set", ""),
        (_, b"*") => ("never", "as it was before"),
        _ if locked_before => ("locked", "as it was before"),
        _ => ("set", "as it was before"),
    };
    subject.decide("password", password.0, password.1);
    match note {
        Some(note) => {
            if note.was_open {
                builder.caution(Caution::WasOpen { name: name.clone().into() });
            }
            builder.step(Step::ForgetSuspended(note.clone()));
        }
        None => builder.caution(Caution::EarlierStateUnknown { name: name.clone().into() }),
    }
    match day.is_some_and(|day| day <= context.today) {
        true => builder.caution(Caution::ExpiredMeanwhile { name: name.clone().into() }),
        false => still_out(builder, &found, line),
    }
    Ok(())
}

/// Says what keeps a resumed account out all the same.
fn still_out(builder: &mut PlanBuilder<'_>, found: &FoundUser<'_>, line: Line<'_>) {
    let now = builder.edits.current(File::Shadow, line);
    let shadow = Shadow::read(now.trim_ascii_start());
    let sign_in = sign_in(builder.context, found.user, shadow);
    let obstacles = sign_in.both.iter().chain(&sign_in.password);
    if let Some(why) = obstacles.map(ToString::to_string).next()
        && !sign_in.is_possible()
    {
        builder.caution(Caution::StillOut { name: found.user.name.into(), why });
    }
}

type PlanOne<'a, 'f> =
    dyn FnMut(&mut PlanBuilder<'a>, &'f UserName, &mut Subject) -> Result<()> + 'f;

fn each<'a, 'f>(
    context: PlanContext<'a>,
    verb: &str,
    names: &'f [UserName],
    plan_one: &mut PlanOne<'a, 'f>,
) -> Result<Plan> {
    let mut builder = PlanBuilder::new(context, format!("{verb} user {}", list(names)));
    let mut seen = HashSet::new();
    for name in names.iter().filter(|name| seen.insert(*name)) {
        let mut subject = Subject::new(name.clone());
        plan_one(&mut builder, name, &mut subject)?;
        builder.tell(subject);
    }
    let own = builder.plan.next.pop().filter(|_| names.len() == 1);
    builder.plan.next.clear();
    Ok(builder.finish(own.unwrap_or_else(|| "list users --suspended".into())))
}

fn with_shadow<'a>(
    context: PlanContext<'a>,
    name: &UserName,
    what: &str,
) -> Result<(FoundUser<'a>, Line<'a>, Shadow<'a>)> {
    let found = find_user(context, name.as_ref(), what)?;
    match (found.shadow, &context.book.shadow) {
        (Some((line, shadow)), _) => Ok((found, line, shadow)),
        (None, None) => Err(Refusal::new(what, Reason::NoShadowForExpiry)),
        (None, Some(_)) => {
            Err(Refusal::new(what, Reason::NoShadowLine { name: name.clone().into() }))
        }
    }
}

/// Keeps the note of a suspended account under the name and number it gets.
pub(crate) fn carry_note(
    context: PlanContext<'_>,
    found: &FoundUser<'_>,
    plan: &mut Plan,
    name: &[u8],
    uid: Uid,
) {
    if let Some(note) = note_of(context, found) {
        plan.steps.push(Step::ForgetSuspended(note.clone()));
        let note = Suspended { name: name.into(), uid, ..note.clone() };
        plan.steps.push(Step::NoteSuspended(note));
    }
}

/// What was noted when the account was suspended.
pub(crate) fn note_of<'a>(
    context: PlanContext<'a>,
    found: &FoundUser<'_>,
) -> Option<&'a Suspended> {
    let mut notes = context.world.suspended().iter();
    notes.find(|note| note.is_of(found.user.name, Some(found.uid)))
}
