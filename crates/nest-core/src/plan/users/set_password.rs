//! Setting and taking away passwords.

use bstr::BString;

use crate::change::{Caution, Subject};
use crate::context::PlanContext;
use crate::drafting::Draft;
use crate::drafting::find::{FoundUser, find_user};
use crate::drafting::guard::{GuardedAction, guard};
use crate::plan::Plan;
use crate::refusal::{Reason, Refusal};
use crate::request::GuardOverrides;
use crate::table::{File, with_fields};
use crate::value::{PasswordField, Scheme};
use crate::words::list;

/// Passwords to be set, as one change.
#[derive(Debug, Clone, Default)]
pub struct SetPassword {
    /// The users.
    pub names: Vec<BString>,
    /// The hash for each; nothing takes the password away.
    pub hashes: Vec<Option<BString>>,
    /// It must be changed at the next sign-in.
    pub must_change: bool,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

/// Looks whether passwords can be set for these users at all, before anybody is
/// asked for one.
///
/// # Errors
/// The first [`Refusal`].
pub fn check_password_holders(
    context: PlanContext<'_>,
    names: &[BString],
) -> Result<(), Box<Refusal>> {
    names.iter().try_for_each(|name| holder(context, name).map(drop))
}

fn holder<'a>(context: PlanContext<'a>, name: &BString) -> Result<FoundUser<'a>, Box<Refusal>> {
    let what = format!("the password of {name} was not changed");
    let found = find_user(context, name.as_ref(), &what)?;
    match context.book.shadow {
        Some(_) => Ok(found),
        None => Err(Refusal::new(what, Reason::NoShadowForPassword)),
    }
}

/// Plans the setting of passwords: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn set_password(context: PlanContext<'_>, request: &SetPassword) -> Result<Plan, Box<Refusal>> {
    let names = list(&request.names);
    let mut plan = Plan { summary: format!("password user {names}"), ..Plan::default() };
    let mut draft = Draft::new(context.book);
    for (at, name) in request.names.iter().enumerate() {
        if request.names[..at].contains(name) {
            return Err(Refusal::new("no password was changed", Reason::NameTwice));
        }
        let hash = request.hashes.get(at).cloned().flatten();
        one(context, request, name, hash, &mut draft, &mut plan)?;
    }
    plan.edits = draft.finish();
    plan.nothing = plan.edits.is_empty();
    plan.next.push(format!("show user {}", request.names[0]));
    Ok(plan)
}

fn one<'a>(
    context: PlanContext<'a>,
    request: &SetPassword,
    name: &BString,
    hash: Option<BString>,
    draft: &mut Draft<'a>,
    plan: &mut Plan,
) -> Result<(), Box<Refusal>> {
    let found = holder(context, name)?;
    let mut subject = Subject::new(name.clone());
    let old = found.shadow.map(|(_, shadow)| shadow.field());
    let field: Vec<u8> = match &hash {
        None => {
            let what = format!("the password of {name} was not changed");
            let again = format!("password user {name} --none");
            let together = &request.names;
            let action = GuardedAction { what: &what, again: &again, busy: false, together };
            guard(context, &found, request.overrides, action)?;
            subject.decide("password", "none", "nobody can sign in with one");
            b"!".to_vec()
        }
        Some(hash) => {
            let scheme = Scheme::of(hash).map_or("unknown", Scheme::name);
            subject.decide("password", scheme, "only the hash is kept");
            let suspended = matches!(old, Some(PasswordField::Locked(_) | PasswordField::None))
                && found.shadow.is_some_and(|(_, shadow)| {
                    shadow.aging().expires == Some(crate::value::Day(1))
                });
            match suspended {
                true => {
                    subject.decide(
                        "suspended",
                        "still",
                        "the new password stays locked until it is resumed",
                    );
                    [b"!", hash.as_slice()].concat()
                }
                false => {
                    if matches!(old, Some(PasswordField::Locked(_))) {
                        subject.decide(
                            "lock",
                            "undone",
                            "the old password was locked; the new one is not",
                        );
                    }
                    hash.to_vec()
                }
            }
        }
    };
    let changed = if request.must_change { "0".to_owned() } else { context.today.0.to_string() };
    if request.must_change {
        subject.decide("must change", "yes", "at the next sign-in");
    }
    match found.shadow {
        Some((line, _)) => {
            let new = with_fields(line.bytes, &[(1, &field), (2, changed.as_bytes())]);
            if new != line.bytes {
                draft.alter(File::Shadow, line, new);
            }
        }
        None => {
            plan.cautions.push(Caution::ShadowLineMade { name: name.clone() });
            let fields: [&[u8]; 9] =
                [name, &field, changed.as_bytes(), b"", b"", b"", b"", b"", b""];
            draft.add(File::Shadow, fields.join(&b':'));
        }
    }
    // What stands in passwd itself would be read in place of the shadow line.
    if !found.user.is_shadowed() {
        let new = with_fields(found.line.bytes, &[(1, b"x")]);
        draft.alter(File::Passwd, found.line, new);
        subject.decide("etc/passwd", "x", "its own password field is no longer used");
    }
    plan.subjects.push(subject);
    Ok(())
}
