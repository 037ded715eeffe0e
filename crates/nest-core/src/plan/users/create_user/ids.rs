//! Choosing the uid, the private group's gid and the subordinate ids.

use bstr::BStr;

use crate::allot::holder_of_gid;
use crate::change::{Caution, Subject};
use crate::context::PlanContext;
use crate::drafting::wanted_id::check_wanted_uid;
use crate::plan::users::create_user::AccountBatch;
use crate::plan::users::create_user::batch::{Primary, Ranges, makes_private_group};
use crate::refusal::{Reason, Refusal};
use crate::request::CreateUser;
use crate::table::File;
use crate::value::IdSpan;

impl AccountBatch<'_> {
    /// The span that new accounts of this kind come from, with its setting.
    pub(crate) fn span(&self, request: &CreateUser) -> (IdSpan, &'static str, &'static str) {
        let policy = self.context.policy;
        if request.service {
            (policy.services_ids, "services.ids", "services")
        } else {
            (policy.people_ids, "people.ids", "people")
        }
    }

    pub(crate) fn choose_uid(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        subject: &mut Subject,
        cautions: &mut Vec<Caution>,
    ) -> Result<u32, Box<Refusal>> {
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        let (span, setting, kind) = self.span(request);
        let uid = match request.uid {
            Some(uid) => {
                let what = format!("{name} was not created");
                let again = format!("create user {name}");
                let share = request.share_id;
                let told = check_wanted_uid(self.context, name, uid, share, &what, &again)?;
                cautions.extend(told);
                if !span.contains(uid) {
                    let name = name.into();
                    let (what, id) = ("uid", uid);
                    cautions.push(Caution::OutsideSpan { what, name, id, kind, span });
                }
                subject.decide("uid", uid.to_string(), "as asked");
                uid
            }
            None => {
                let found =
                    self.free_id(request).map_err(|why| refuse(Reason::ServiceFailed(why)))?;
                let Some(uid) = found else {
                    let setting = self.context.policy.origin(setting);
                    return Err(refuse(Reason::SpanFull { span, setting })
                        .or("choose one outside it", format!("create user {name} --uid N"))
                        .or_else(
                            "or widen the span",
                            format!("{} in etc/copper-nest/policy.toml", setting_key(kind)),
                        ));
                };
                subject.decide_with("uid", || match kind {
                    "people" => (uid.to_string(), format!("first never-used id in {span}")),
                    _ => {
                        (uid.to_string(), format!("highest never-used id in {span}, the services'"))
                    }
                });
                uid
            }
        };
        self.ids.take(uid);
        Ok(uid)
    }

    pub(crate) fn free_id(&self, request: &CreateUser) -> Result<Option<u32>, String> {
        let (span, ..) = self.span(request);
        if request.service { self.ids.highest(span) } else { self.ids.lowest(span) }
    }

    pub(crate) fn choose_primary(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        uid: u32,
        subject: &mut Subject,
    ) -> Result<Primary, Box<Refusal>> {
        let policy = self.context.policy;
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        if !makes_private_group(self.context, request) {
            let (wanted, why) = match &request.primary {
                Some(wanted) => (wanted.clone(), "as asked".to_owned()),
                None => (policy.people_primary.as_str().into(), policy.origin("people.primary")),
            };
            let group = self.find_group(wanted.as_ref(), &format!("{name} was not created"))?;
            subject.decide("primary", format!("{} {}", group.name, group.gid), why);
            return Ok(Primary { gid: group.gid, private: false });
        }
        let failed = |why| refuse(Reason::ServiceFailed(why));
        let PlanContext { book, world, .. } = self.context;
        // A uid that the policy chose is free as a gid too; one that was asked
        // for may not be.
        let same = request.uid.is_none()
            || !self.made_gids.contains(uid)
                && holder_of_gid(book, world, uid).is_none()
                && world.service_group_by_gid(uid).map_err(failed)?.is_none();
        let gid = if same { Some(uid) } else { self.free_id(request).map_err(failed)? };
        let Some(gid) = gid else {
            let (span, setting, _) = self.span(request);
            let setting = policy.origin(setting);
            return Err(refuse(Reason::SpanFull { span, setting })
                .or("use a group there is", format!("create user {name} --primary GROUP")));
        };
        self.ids.take(gid);
        subject.decide_with("primary", || match same {
            true => (format!("{name} {gid}"), "a new group of its own".to_owned()),
            false => {
                (format!("{name} {gid}"), format!("a new group of its own; gid {uid} is taken"))
            }
        });
        Ok(Primary { gid, private: true })
    }

    /// Chooses the subordinate ids.
    pub(crate) fn choose_ranges(
        &mut self,
        request: &CreateUser,
        name: &BStr,
    ) -> Result<Ranges, Box<Refusal>> {
        let PlanContext { book, policy, .. } = self.context;
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
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
        let found = self.ids.range(count).map_err(|why| refuse(Reason::ServiceFailed(why)))?;
        let Some(span) = found else {
            let setting = policy.origin("ranges.span");
            return Err(refuse(Reason::RangesFull { count, span: policy.ranges_span, setting })
                .or("give none", format!("create user {name} --ranges none")));
        };
        self.ids.take_range(span);
        self.given.range(span);
        Ok(Ranges::Given(span))
    }
}

pub(crate) fn setting_key(kind: &str) -> &'static str {
    if kind == "people" { "people.ids" } else { "services.ids" }
}
