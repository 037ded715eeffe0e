//! Setting and taking away passwords.

use std::collections::HashSet;

use bstr::BString;

use crate::account::{NewShadow, kind_of_user};
use crate::book::Lookups;
use crate::change::{Caution, Plan, Subject};
use crate::context::PlanContext;
use crate::drafting::{FoundUser, PlanBuilder, find_user, password_cautions};
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::table::{File, PasswdField, ShadowField};
use crate::value::{PasswordField, Scheme, UserName};
use crate::words::list;

/// Passwords to be set, as one change.
#[derive(Debug, Clone, Default)]
pub struct SetPassword {
    /// The users.
    pub names: Vec<UserName>,
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
pub fn check_password_holders(context: PlanContext<'_>, names: &[UserName]) -> Result<()> {
    names.iter().try_for_each(|name| holder(context, name).map(drop))
}

fn holder<'a>(context: PlanContext<'a>, name: &UserName) -> Result<FoundUser<'a>> {
    let what = format!("the password of {name} was not changed");
    let found = find_user(context, name.as_ref(), &what)?;
    match context.book.shadow {
        Some(_) => Ok(found),
        None => Err(Refusal::new(what, Reason::NoShadowForPassword)),
    }
}

impl Request for SetPassword {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names)
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the setting of passwords: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn set_password(context: PlanContext<'_>, request: &SetPassword) -> Result<Plan> {
    let mut builder = PlanBuilder::new(context, format!("password user {}", list(&request.names)));
    let mut seen = HashSet::new();
    for (at, name) in request.names.iter().enumerate() {
        if !seen.insert(name) {
            return Err(Refusal::new("no password was changed", Reason::NameTwice));
        }
        let hash = request.hashes.get(at).cloned().flatten();
        set_for_user(&mut builder, request, name, hash)?;
    }
    Ok(builder.finish(format!("show user {}", request.names[0])))
}

fn set_for_user(
    builder: &mut PlanBuilder<'_>,
    request: &SetPassword,
    name: &UserName,
    hash: Option<BString>,
) -> Result<()> {
    let context = builder.context;
    let found = holder(context, name)?;
    let mut subject = Subject::new(name.clone());
    let old = found.shadow.map(|(_, shadow)| shadow.field());
    let field: Vec<u8> = match &hash {
        None => {
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
    let kind = kind_of_user(context.policy, &found.user, || found.shadow.map(|(_, it)| it)).0;
    builder.plan.cautions.extend(password_cautions(name.as_ref(), kind, &field));
    let changed = if request.must_change { "0".to_owned() } else { context.today.0.to_string() };
    if request.must_change {
        subject.decide("must change", "yes", "at the next sign-in");
    }
    match found.shadow {
        Some((line, _)) => {
            builder.set_fields(
                File::Shadow,
                line,
                &[(ShadowField::Password, &field[..]), (ShadowField::Changed, changed.as_bytes())],
            );
        }
        None => {
            builder.caution(Caution::ShadowLineMade { name: name.clone().into() });
            let new = NewShadow::new(context.policy, context.today);
            let (policy, uid) = (context.policy, Some(found.uid));
            let line = new.line(policy, uid, name, &field, request.must_change);
            builder.edits.add(File::Shadow, line);
        }
    }
    // What stands in passwd itself would be read in place of the shadow line.
    if !found.user.is_shadowed() {
        builder.set_fields(File::Passwd, found.line, &[(PasswdField::Password, b"x")]);
        subject.decide("etc/passwd", "x", "its own password field is no longer used");
    }
    builder.tell(subject);
    Ok(())
}
