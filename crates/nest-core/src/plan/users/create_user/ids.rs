//! Choosing the uid, the private group's gid and the subordinate ids.

use bstr::BStr;

use crate::allot::{IdUse, NotAllotted, Taker, Wanted};
use crate::change::{Caution, Label, Subject};
use crate::context::PlanContext;
use crate::drafting::{NewNumber, why_chosen};
use crate::plan::users::create_user::AccountBatch;
use crate::plan::users::create_user::batch::{Primary, Ranges, makes_private_group};
use crate::refusal::{Refusal, Result};
use crate::request::CreateUser;
use crate::table::File;
use crate::value::{Gid, Uid};

impl AccountBatch<'_> {
    pub(super) fn choose_uid(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        subject: &mut Subject,
        cautions: &mut Vec<Caution>,
    ) -> Result<u32> {
        let policy = self.builder.context.policy;
        let kind = request.kind();
        let by = Taker { name, reuse: request.reuse_id };
        let wanted = request.uid.map(|id| Wanted { id: id.0, share: request.share_id, by });
        let new = NewNumber { of: IdUse::Uid, kind, wanted, name };
        let uid = new.choose(policy, &mut self.builder.allotter, cautions).map_err(|fault| {
            let what = format!("{name} was not created");
            new.refusal(fault, &what, &format!("create user {name}"))
        })?;
        subject.decide_with(Label::UID, || match wanted {
            Some(_) => (uid.to_string(), "as asked".to_owned()),
            None => (uid.to_string(), why_chosen(policy, kind)),
        });
        Ok(uid)
    }

    pub(super) fn choose_primary(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        uid: Uid,
        subject: &mut Subject,
    ) -> Result<Primary> {
        let policy = self.builder.context.policy;
        if !makes_private_group(self.builder.context, request) {
            let (wanted, why) = match &request.primary {
                Some(wanted) => (wanted.clone(), "as asked".to_owned()),
                None => (policy.people_primary.as_str().into(), policy.origin("people.primary")),
            };
            let group = self.find_group(wanted.as_ref(), &format!("{name} was not created"))?;
            subject.decide(Label::PRIMARY, format!("{} {}", group.name, group.gid), why);
            return Ok(Primary { gid: group.gid, private: false });
        }
        // A uid that the policy chose is free as a gid too; one that was asked
        // for may not be.
        let chosen = request.uid.is_none();
        let gid = self.builder.allotter.choose_gid_like(
            uid.0,
            chosen,
            request.kind(),
            Taker { name, reuse: request.reuse_id },
        );
        let gid = gid.map_err(|fault| {
            let refusal =
                Refusal::new(format!("{name} was not created"), fault.reason(IdUse::Gid, uid.0));
            match fault {
                NotAllotted::SpanFull { .. } => refusal
                    .or("use a group there is", format!("create user {name} --primary GROUP")),
                _ => refusal,
            }
        })?;
        subject.decide_with(Label::PRIMARY, || match gid == uid.0 {
            true => (format!("{name} {gid}"), "a new group of its own".to_owned()),
            false => {
                (format!("{name} {gid}"), format!("a new group of its own; gid {uid} is taken"))
            }
        });
        Ok(Primary { gid: Gid(gid), private: true })
    }

    /// Chooses the subordinate ids.
    pub(crate) fn choose_ranges(&mut self, request: &CreateUser, name: &BStr) -> Result<Ranges> {
        let PlanContext { book, policy, .. } = self.builder.context;
        let asked = request.ranges;
        let count = match asked {
            Some(count) => count,
            None if request.service => 0,
            None => policy.people_ranges,
        };
        if !request.spans.is_empty() {
            request.spans.iter().for_each(|span| self.given.range(*span));
            return Ok(Ranges::AsAsked);
        }
        if count == 0 {
            return Ok(Ranges::None);
        }
        let files = [File::Subuid, File::Subgid];
        if asked.is_none() && files.iter().any(|file| book.lines(*file).is_none()) {
            return Ok(Ranges::NoFiles);
        }
        let span = self.builder.allotter.choose_range(count).map_err(|fault| {
            let what = format!("{name} was not created");
            let refusal = Refusal::new(what, fault.reason(IdUse::Uid, 0));
            match fault {
                NotAllotted::RangesFull { .. } => {
                    refusal.or("give none", format!("create user {name} --ranges none"))
                }
                _ => refusal,
            }
        })?;
        self.given.range(span);
        Ok(Ranges::Given(span))
    }
}
