//! Moving the home of an account, recording another one, or making one.

use bstr::BString;

use crate::account::means_no_home;
use crate::change::Label;
use crate::drafting::{
    Instead, in_others, move_home, plan_home, record_home, shared_home, tell_home_moved,
};
use crate::ownership::Owner;
use crate::plan::users::change_user::UserChange;
use crate::refusal::{HomeTrouble, Reason, Result};
use crate::request::CreateUser;
use crate::table::{File, PasswdField};
use crate::value::path_fault;

impl UserChange<'_, '_> {
    /// Makes the home of an account that has none.
    fn make_home(&mut self) -> Result<()> {
        let (context, user, name) = (self.context, self.found.user, self.name());
        let recorded = BString::from(user.home);
        let is_there = matches!(context.world.facts(recorded.as_ref()), Ok(Some(_)));
        if !means_no_home(user.home) && is_there {
            let Some(home) = self.request.home.as_ref().filter(|home| **home != recorded) else {
                self.subject.decide_unchanged(Label::HOME, recorded);
                return Ok(());
            };
            let refusal = self.refuse(HomeTrouble::HasHome { home: recorded }.into());
            return Err(refusal.or("move it there", format!("change user {name} --home {home}")));
        }
        let home = match &self.request.home {
            Some(home) => home.clone(),
            None if means_no_home(user.home) => context.policy.home_of(name).into(),
            None => recorded.clone(),
        };
        let uid = self.request.uid.unwrap_or(self.found.uid);
        let owner = Owner { uid, gid: self.found.gid };
        let record = format!("change user {name} --home {home} --record-only");
        let request = CreateUser { home: Some(home), ..CreateUser::default() };
        let made = plan_home(context, &request, name, owner, self.subject);
        let made = made.map_err(|mut refusal| {
            refusal.what.clone_from(&self.what);
            // They are about an account that is made.
            refusal.ways.clear();
            match refusal.reason {
                Reason::Home(HomeTrouble::HomeExists { .. }) => {
                    refusal.or("only record the path", record)
                }
                _ => refusal,
            }
        })?;
        if made.field[..] != recorded[..] {
            let field = [(PasswdField::Home, &made.field[..])];
            self.builder.set_fields(File::Passwd, self.found.line, &field);
        }
        made.steps.into_iter().for_each(|step| self.builder.step(step));
        self.builder.plan.cautions.extend(made.cautions);
        Ok(())
    }

    pub(crate) fn home(&mut self) -> Result<()> {
        if self.request.make_home {
            return self.make_home();
        }
        let Some(home) = &self.request.home else { return Ok(()) };
        let mut home = home.clone();
        if let Some(fault) = path_fault(&home) {
            return Err(self.refuse(Reason::BadPath { what: "home", path: home, fault }));
        }
        while home.len() > 1 && home.ends_with(b"/") {
            home.pop();
        }
        let old = BString::from(self.found.user.home);
        if !self.set(PasswdField::Home, "home", &old, &home) {
            return Ok(());
        }
        if self.request.record_only {
            self.builder.plan.cautions.extend(record_home(self.context, self.name(), &home));
            let shared = shared_home(self.context, self.name(), &home);
            self.builder.plan.cautions.extend(shared);
            self.subject.decide(
                Label::HOME,
                home,
                format!("was {old}; only the record, no file is moved"),
            );
            return Ok(());
        }
        let step =
            move_home(self.context, &self.found, &old, &home, &self.what, Instead::RecordOnly)?;
        let uid = self.request.uid.unwrap_or(self.found.uid);
        self.builder.plan.cautions.extend(in_others(self.context, &home, uid));
        self.subject.decide(Label::HOME, home, format!("moved from {old}"));
        self.builder.step(step);
        tell_home_moved(self.builder, self.found.user.name.into(), &old);
        Ok(())
    }
}
