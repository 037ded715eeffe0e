//! What else belongs to an account: its shell, how its password ages, its mail.

use std::borrow::Cow;

use bstr::{BStr, BString, ByteSlice};

use crate::account::{AccountKind, NewShadow};
use crate::change::{Caution, Label, NewFile, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{obstacle, password_cautions};
use crate::ownership::Owner;
use crate::plan::users::create_user::write::{AccountLines, Writer};
use crate::plan::users::suspend::{Before, LONG_AGO, note_of_suspension, suspended_field};
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{CreateUser, SuspensionAsked};
use crate::surroundings::{Program, Site, Surroundings};
use crate::table::File;
use crate::value::{Expiry, PasswordField, TreePath, Uid, path_fault};

impl<'a> Writer<'a> {
    pub(crate) fn choose_shell<'r>(
        &self,
        request: &'r CreateUser,
        name: &BStr,
        subject: &mut Subject,
        written: &mut AccountLines,
    ) -> Result<&'r [u8]>
    where
        'a: 'r,
    {
        let PlanContext { policy, world, .. } = self.context;
        let setting = if request.service { "services.shell" } else { "people.shell" };
        let shell = request.shell(policy);
        let known = written.shells.get(BStr::new(shell)).copied().unwrap_or_else(|| {
            let look = match path_fault(shell) {
                Some(fault) => Shell::Unfit(fault),
                None => Shell::inspect(world, shell.into()),
            };
            written.shells.insert(shell.into(), look);
            look
        });
        let caution: Option<fn(BString, BString) -> Caution> = match known {
            Shell::Unfit(fault) => {
                let reason = Reason::BadPath { what: "shell", path: shell.into(), fault };
                return Err(Refusal::new(format!("{name} was not created"), reason));
            }
            Shell::Missing => Some(|name, shell| Caution::ShellMissing { name, shell }),
            Shell::NotExecutable => Some(|name, shell| Caution::ShellNotExecutable { name, shell }),
            Shell::Unlisted if !request.service => {
                Some(|name, shell| Caution::ShellUnlisted { name, shell })
            }
            Shell::Unlisted | Shell::Fine => None,
        };
        written.cautions.extend(caution.map(|caution| caution(name.into(), shell.into())));
        subject.decide_with("shell", || match &request.shell {
            Some(_) => (shell, "as asked".to_owned()),
            None => (shell, policy.origin(setting)),
        });
        Ok(shell)
    }

    pub(crate) fn write_shadow(
        &self,
        request: &CreateUser,
        (name, uid): (&BStr, Uid),
        hash: Option<&BString>,
        subject: &mut Subject,
        written: &mut AccountLines,
    ) -> Result<()> {
        let PlanContext { book, today, .. } = self.context;
        let expiry = request.expires.as_ref().and_then(|text| Expiry::parse(text, today).ok());
        let expires = match expiry {
            Some(Expiry::On(day)) => {
                subject.decide(
                    "expires",
                    day.to_string(),
                    "the first day on which it no longer works",
                );
                day.0.to_string()
            }
            Some(Expiry::Never) => {
                subject.decide("expires", "never", "");
                String::new()
            }
            None => String::new(),
        };
        if book.shadow.is_none() {
            if hash.is_some() {
                let what = format!("{name} was not created");
                return Err(Refusal::new(what, Reason::NoShadowForPassword));
            }
            return Ok(());
        }
        if let Some(hash) = hash {
            let scheme = match PasswordField::read(hash) {
                PasswordField::Set(scheme) | PasswordField::Locked(scheme) => scheme.name(),
                _ => "none",
            };
            subject.decide("password", scheme, "only the hash is kept");
        }
        let mut field = Cow::Borrowed(hash.map_or(&b"!"[..], |hash| hash));
        let mut expires = expires;
        let details = request.details.as_deref();
        if let Some(SuspensionAsked::Yes(reason)) = details.and_then(|it| it.suspended.as_ref()) {
            let before = Before {
                name,
                uid,
                field: PasswordField::read(&field),
                expires: match expiry {
                    Some(Expiry::On(day)) => Some(day),
                    _ => None,
                },
            };
            match note_of_suspension(self.context, before, reason) {
                Some(note) => written.steps.push(Step::NoteSuspended(note)),
                None => {
                    written.cautions.push(Caution::SuspendedUnnoted { name: name.into() });
                }
            }
            subject.decide("suspended", "by no way", reason.clone());
            field = Cow::Owned(suspended_field(&field));
            expires = LONG_AGO.0.to_string();
        }
        let must_change = hash.is_some() && request.must_change;
        let kind = if request.service { AccountKind::Service } else { AccountKind::Person };
        written.cautions.extend(password_cautions(name, kind, &field));
        if request.must_change && hash.is_none() {
            written.cautions.push(Caution::NothingToChange { name: name.into() });
        }
        let mut line = self.shadow.fields(kind, name, &field, must_change, expires.as_bytes());
        let (aging, changed);
        if let Some(details) = details {
            aging = details.aging.over(line[NewShadow::AGING]);
            line[NewShadow::AGING] = &aging;
            if let Some(day) = details.changed.filter(|_| !must_change) {
                changed = day.map(|day| day.0.to_string()).unwrap_or_default();
                line[NewShadow::CHANGED] = changed.as_bytes();
            }
        }
        written.add(File::Shadow, &line);
        Ok(())
    }

    /// The mail spool file: of the group `mail` where there is one, so that the
    /// delivering program can write it.
    pub(crate) fn make_mail(
        &self,
        name: &BStr,
        owner: Owner,
        subject: &mut Subject,
        written: &mut AccountLines,
    ) {
        let PlanContext { book, policy, world, .. } = self.context;
        let path: BString = policy.spool_of(name).into();
        match world.site(path.as_ref()) {
            Site::Free => {
                let mail = book.group(b"mail").and_then(|(_, group)| group.gid());
                let (below, file) = path.rsplit_once_str("/").unwrap_or((b"", &path));
                let below = TreePath::judged(if below.is_empty() { b"/" } else { below });
                subject.decide_with(Label::MAIL, || (path.clone(), "an empty spool file is made"));
                written.steps.push(Step::MakeFile {
                    below,
                    file: NewFile {
                        path: file.into(),
                        contents: BString::default(),
                        mode: if mail.is_some() { 0o660 } else { 0o600 },
                    },
                    owner: Owner { uid: owner.uid, gid: mail.unwrap_or(owner.gid) },
                });
            }
            Site::Taken(_) => written.cautions.push(Caution::MailExists { path }),
            site => {
                let why = obstacle(&path, &site);
                written.cautions.push(Caution::MailNotMade { why });
            }
        }
    }
}

/// What there is to say about a shell.
#[derive(Clone, Copy)]
pub(crate) enum Shell {
    /// Its path can't stand in an account file, and why.
    Unfit(&'static str),
    Missing,
    NotExecutable,
    /// It is not among the login shells.
    Unlisted,
    Fine,
}

impl Shell {
    fn inspect(world: &dyn Surroundings, shell: &BStr) -> Self {
        match world.program(shell) {
            Program::Missing => Shell::Missing,
            Program::NotExecutable => Shell::NotExecutable,
            _ => match world.shells().is_none_or(|shells| shells.iter().any(|one| one == shell)) {
                true => Shell::Fine,
                false => Shell::Unlisted,
            },
        }
    }
}
