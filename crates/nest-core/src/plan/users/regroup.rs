//! Who is in which group: joining, leaving, and the primary group.

use std::collections::HashSet;

use bstr::BStr;

use crate::book::Lookups;
use crate::change::{Label, Plan, Subject};
use crate::context::PlanContext;
use crate::drafting::{
    FoundUser, NewPrimary, PlanBuilder, change_primary, find_admin_group, find_group, find_member,
    find_user, gather_next_sign_ins, gid_of, tell_sessions,
};
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::table::Group;
use crate::value::{Gid, GroupName, UserName};
use crate::words::list;

/// Memberships to be changed, for one or more users alike.
#[derive(Debug, Clone, Default)]
pub struct Regroup {
    /// The users.
    pub names: Vec<UserName>,
    /// Groups to join, by name or gid.
    pub join: Vec<GroupName>,
    /// Groups to leave.
    pub leave: Vec<GroupName>,
    /// Another primary group.
    pub primary: Option<GroupName>,
    /// Joins or leaves the administrators.
    pub admin: Option<bool>,
    /// Files in the home that carry the old primary gid get the new one.
    pub regroup_home: bool,
    /// A name that the files do not know may be a directory's.
    pub unlisted: bool,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for Regroup {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names)
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the change of memberships: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn regroup(context: PlanContext<'_>, request: &Regroup) -> Result<Plan> {
    let all = list(&request.names);
    let what = match request.names.len() {
        1 => format!("the groups of {all} were not changed"),
        _ => "nobody's groups were changed".to_owned(),
    };
    let mut planner = Regrouping {
        context,
        request,
        what,
        joins: Vec::new(),
        leaves: Vec::new(),
        builder: PlanBuilder::new(context, format!("regroup {all}")),
    };
    planner.groups()?;
    let mut seen = HashSet::new();
    for name in request.names.iter().filter(|name| seen.insert(*name)) {
        planner.regroup_user(name.as_ref())?;
    }
    let mut builder = planner.builder;
    gather_next_sign_ins(&mut builder.plan.cautions);
    Ok(builder.finish(match (request.names.len(), request.join.first()) {
        (1, _) if context.book.user(&request.names[0]).is_some() => {
            format!("show user {}", request.names[0])
        }
        (_, Some(group)) => format!("show group {group}"),
        _ => "list groups".to_owned(),
    }))
}

struct Regrouping<'a> {
    context: PlanContext<'a>,
    request: &'a Regroup,
    what: String,
    joins: Vec<Group<'a>>,
    leaves: Vec<Group<'a>>,
    builder: PlanBuilder<'a>,
}

impl<'a> Regrouping<'a> {
    fn refuse(&self, reason: Reason) -> Box<Refusal> {
        Refusal::new(self.what.as_str(), reason)
    }

    /// Finds the groups, each once, and sees that none is to come and to go.
    fn groups(&mut self) -> Result<()> {
        let find = |wanted: &[GroupName]| -> Result<Vec<Group<'a>>> {
            let mut found: Vec<Group<'a>> = Vec::new();
            for wanted in wanted {
                let group = find_group(self.context, wanted.as_ref(), &self.what)?;
                if !found.iter().any(|known| known.name == group.name) {
                    found.push(group);
                }
            }
            Ok(found)
        };
        let (mut joins, mut leaves) = (find(&self.request.join)?, find(&self.request.leave)?);
        if let Some(admin) = self.request.admin {
            let group = find_admin_group(self.context, &self.what)?;
            let list = if admin { &mut joins } else { &mut leaves };
            if !list.iter().any(|known| known.name == group.name) {
                list.push(group);
            }
        }
        let join_word =
            if self.request.admin == Some(true) { "--join or --admin" } else { "--join" };
        let both = |one, group: &Group<'_>| {
            let (other, name) = ("--leave", group.name.into());
            Err(self.refuse(Reason::BothWays { one, other, name }))
        };
        let leaving = |group: &Group<'_>| leaves.iter().any(|left| left.name == group.name);
        if let Some(group) = joins.iter().find(|group| leaving(group)) {
            return both(join_word, group);
        }
        if let Some(wanted) = &self.request.primary {
            let group = find_group(self.context, wanted.as_ref(), &self.what)?;
            if leaving(&group) {
                return both("--primary", &group);
            }
        }
        (self.joins, self.leaves) = (joins, leaves);
        Ok(())
    }

    fn regroup_user(&mut self, name: &'a BStr) -> Result<()> {
        let PlanContext { book, .. } = self.context;
        let mut subject = Subject::new(name.to_owned());
        let mut refusal_what = self.what.clone();
        if self.request.names.len() > 1 {
            refusal_what += &format!(", because of {name}");
        }
        let outside = book.user(name).is_none() && self.request.primary.is_none();
        let found = match outside {
            true => {
                let unlisted = self.request.unlisted;
                let caution = find_member(self.context, name, unlisted, &refusal_what)?;
                self.builder.plan.cautions.extend(caution);
                None
            }
            false => Some(find_user(self.context, name, &refusal_what)?),
        };
        let mut changes = false;
        if let (Some(found), Some(wanted)) = (&found, &self.request.primary) {
            let leaves: Vec<&[u8]> = self.leaves.iter().map(|group| group.name).collect();
            let regroup_home = Some(self.request.regroup_home);
            let group = find_group(self.context, wanted.as_ref(), &refusal_what)?;
            let gid = gid_of(self.context, &group, &refusal_what)?;
            let new = NewPrimary {
                name: group.name.into(),
                gid: Gid(gid.0),
                leaves: &leaves,
                regroup_home,
            };
            changes |= change_primary(&mut self.builder, found, new, &mut subject);
        }
        let primary = self.primary_after(found.as_ref(), &refusal_what)?;
        changes |= self.join(name, primary, &mut subject);
        changes |= self.leave(name, found.as_ref(), primary, &refusal_what, &mut subject)?;
        if changes {
            let uid = found.as_ref().map(|found| found.uid);
            tell_sessions(self.context, name, uid, &mut subject, &mut self.builder.plan.cautions);
        }
        self.builder.tell(subject);
        Ok(())
    }

    /// The gid of the primary group that the user will have.
    fn primary_after(&self, found: Option<&FoundUser<'_>>, what: &str) -> Result<Option<u32>> {
        match &self.request.primary {
            Some(wanted) => {
                Ok(find_group(self.context, wanted.as_ref(), what)?.gid().map(|id| id.0))
            }
            None => Ok(found.map(|found| found.gid).map(|id| id.0)),
        }
    }

    fn join(&mut self, name: &BStr, primary: Option<u32>, subject: &mut Subject) -> bool {
        let (mut joined, mut already) = (Vec::new(), Vec::new());
        for group in &self.joins {
            if group.gid().is_some() && group.gid() == primary.map(Gid) {
                subject.decide("in already", group.name, "it is the primary group");
                continue;
            }
            let new = self.builder.lists().join(group.name, name);
            if new { joined.push(group.name) } else { already.push(group.name) }
        }
        if !joined.is_empty() {
            subject.decide(Label::JOINS, list(&joined), "");
        }
        if !already.is_empty() {
            subject.decide("in already", list(&already), "stays so");
        }
        !joined.is_empty()
    }

    fn leave(
        &mut self,
        name: &'a BStr,
        found: Option<&FoundUser<'a>>,
        primary: Option<u32>,
        what: &str,
        subject: &mut Subject,
    ) -> Result<bool> {
        let (mut left, mut never) = (Vec::new(), Vec::new());
        for group in self.leaves.clone() {
            let listed = group.members().any(|member| member == name);
            let gid = group.gid();
            if gid.is_some() && gid == primary.map(Gid) && !listed {
                let (group, user) = (group.name.into(), name.into());
                let way = format!("regroup {name} --primary GROUP --leave {group}");
                let reason = Reason::PrimaryOf { group, user };
                return Err(Refusal::new(what, reason).or("give another one first", way));
            }
            let was_primary = found.is_some_and(|found| gid == Some(found.gid));
            let gone = self.builder.lists().leave(group.name, name);
            if gone {
                left.push(group.name);
            } else if !(was_primary && gid != primary.map(Gid)) {
                never.push(group.name);
            }
        }
        if !left.is_empty() {
            subject.decide("leaves", list(&left), "");
        }
        if !never.is_empty() {
            subject.decide("not in", list(&never), "and was not: nothing to leave");
        }
        Ok(!left.is_empty())
    }
}
