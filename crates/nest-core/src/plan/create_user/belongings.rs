//! What else belongs to an account: its shell, how its password ages, its mail.

use bstr::{BStr, BString, ByteSlice};

use super::{CreateUser, Making, path_fault};
use crate::plan::home::obstacle;
use crate::plan::{Caution, Ground, NewFile, Owner, Reason, Refusal, Step, Subject};
use crate::policy::Days;
use crate::surroundings::{Program, Site};
use crate::table::File;
use crate::value::{Expiry, Scheme};

impl Making<'_> {
    pub(super) fn choose_shell(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        subject: &mut Subject,
    ) -> Result<BString, Box<Refusal>> {
        let Ground { policy, world, .. } = self.ground;
        let setting = if request.service { "services.shell" } else { "people.shell" };
        let shell: BString = match &request.shell {
            Some(shell) => shell.clone(),
            None if request.service => policy.services_shell.as_str().into(),
            None => policy.people_shell.as_str().into(),
        };
        if let Some(fault) = path_fault(&shell) {
            let reason = Reason::BadPath { what: "shell", path: shell, fault };
            return Err(Refusal::new(format!("{name} was not created"), reason));
        }
        let name: BString = name.into();
        let caution = match world.program(shell.as_ref()) {
            Program::Missing => Some(Caution::ShellMissing { name, shell: shell.clone() }),
            Program::NotExecutable => {
                Some(Caution::ShellNotExecutable { name, shell: shell.clone() })
            }
            _ => {
                let listed = world.shells().is_none_or(|shells| shells.contains(&shell));
                let unlisted = !listed && !request.service;
                unlisted.then(|| Caution::ShellUnlisted { name, shell: shell.clone() })
            }
        };
        self.plan.cautions.extend(caution);
        subject.decide_with("shell", || match &request.shell {
            Some(_) => (shell.clone(), "as asked".to_owned()),
            None => (shell.clone(), policy.origin(setting)),
        });
        Ok(shell)
    }

    pub(super) fn add_shadow(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        hash: Option<&BString>,
        subject: &mut Subject,
    ) -> Result<(), Box<Refusal>> {
        let Ground { book, policy, today, .. } = self.ground;
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
            let scheme = Scheme::of(hash).map_or("unknown", Scheme::name);
            subject.decide("password", scheme, "only the hash is kept");
        }
        let aging = if request.service {
            // Nobody changes a service's password: it does not age.
            ":::".to_owned()
        } else {
            let days = |days| match days {
                Days::After(days) => days.to_string(),
                Days::Never => String::new(),
            };
            format!(
                "{}:{}:{}:{}",
                policy.passwords_hold_days,
                days(policy.passwords_renew_days),
                policy.passwords_remind_days,
                days(policy.passwords_late_days)
            )
        };
        let field = hash.map_or(&b"!"[..], |hash| hash);
        let changed = match hash.is_some() && request.must_change {
            true => "0".to_owned(),
            false => today.0.to_string(),
        };
        let line = [name, field, changed.as_bytes(), aging.as_bytes(), expires.as_bytes(), b""];
        self.draft.add(File::Shadow, line.join(&b':'));
        Ok(())
    }

    /// The mail spool file: of the group `mail` where there is one, so that the
    /// delivering program can write it.
    pub(super) fn make_mail(&mut self, name: &BStr, owner: Owner) {
        let Ground { book, policy, world, .. } = self.ground;
        let path: BString = policy.spool_of(name).into();
        match world.site(path.as_ref()) {
            Site::Free => {
                let mail = book.group(b"mail").and_then(|(_, group)| group.gid());
                let (below, file) = path.rsplit_once_str("/").unwrap_or((b"", &path));
                self.plan.steps.push(Step::MakeFile {
                    below: if below.is_empty() { "/".into() } else { below.into() },
                    file: NewFile {
                        path: file.into(),
                        contents: BString::default(),
                        mode: if mail.is_some() { 0o660 } else { 0o600 },
                    },
                    owner: Owner { uid: owner.uid, gid: mail.unwrap_or(owner.gid) },
                });
            }
            Site::Taken(_) => self.plan.cautions.push(Caution::MailExists { path }),
            site => {
                let why = obstacle(&path, &site);
                self.plan.cautions.push(Caution::MailNotMade { why });
            }
        }
    }
}
