//! Changing a group: its gid, its members, its administrators.

use bstr::BStr;

use crate::account::kind_of;
use crate::allot::{IdUse, Taker, Wanted};
use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{
    NewNumber, PlanBuilder, find_group, gather_next_sign_ins, gid_of, tell_elsewhere, tell_sessions,
};
use crate::ownership::IdMapping;
use crate::plan::groups::create_group::members;
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::table::{File, Group, GroupField, Gshadow, PasswdField, Record};
use crate::value::{Gid, GroupName, TreePath, Uid, UserName, members as listed};
use crate::words::list;

/// What is to be changed about a group.
#[derive(Debug, Clone, Default)]
pub struct ChangeGroup {
    /// Which, by name or gid.
    pub name: GroupName,
    /// Another gid.
    pub gid: Option<Gid>,
    /// The gid may be another group's too.
    pub share_id: bool,
    /// The gid may be one that was another group's and is retired.
    pub reuse_id: bool,
    /// Users to be listed.
    pub add_members: Vec<UserName>,
    /// Users to be listed no longer.
    pub drop_members: Vec<UserName>,
    /// Users to become administrators of the group.
    pub add_admins: Vec<UserName>,
    /// Users to be administrators of the group no longer.
    pub drop_admins: Vec<UserName>,
    /// Names that the files do not know may be a directory's.
    pub unlisted: bool,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for ChangeGroup {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.add_members).names(&self.drop_members)
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the change of a group.
///
/// # Errors
/// The first [`Refusal`].
pub fn change_group(context: PlanContext<'_>, request: &ChangeGroup) -> Result<Plan> {
    let what = format!("the group {} was not changed", request.name);
    let group = find_group(context, request.name.as_ref(), &what)?;
    let name = BStr::new(group.name);
    let mut planner = GroupChange {
        context,
        request,
        group,
        what,
        builder: PlanBuilder::new(context, format!("change group {name}")),
        subject: Subject::new(name.to_owned()),
    };
    planner.gid()?;
    planner.members()?;
    planner.admins()?;
    let GroupChange { mut builder, subject, .. } = planner;
    gather_next_sign_ins(&mut builder.plan.cautions);
    Ok(builder.finish_with(subject, format!("show group {name}")))
}

struct GroupChange<'a> {
    context: PlanContext<'a>,
    request: &'a ChangeGroup,
    group: Group<'a>,
    what: String,
    builder: PlanBuilder<'a>,
    subject: Subject,
}

impl<'a> GroupChange<'a> {
    fn name(&self) -> &'a BStr {
        BStr::new(self.group.name)
    }

    fn refuse(&self, reason: Reason) -> Box<Refusal> {
        Refusal::new(self.what.as_str(), reason)
    }

    /// A new number goes to the users who have it as primary group, and to the
    /// files in their homes.
    fn gid(&mut self) -> Result<()> {
        let Some(gid) = self.request.gid else { return Ok(()) };
        let (context, name) = (self.context, self.name());
        let old = gid_of(context, &self.group, &self.what)?;
        if gid == Gid(old.0) {
            self.subject.decide_unchanged(Label::GID, gid.to_string());
            return Ok(());
        }
        let policy = context.policy;
        let by = Taker { name, reuse: self.request.reuse_id };
        let wanted = Some(Wanted { id: gid.0, share: self.request.share_id, by });
        let new =
            NewNumber { of: IdUse::Gid, kind: kind_of(policy, Some(Uid(old.0))), wanted, name };
        let PlanBuilder { allotter, plan, .. } = &mut self.builder;
        new.choose(policy, allotter, &mut plan.cautions)
            .map_err(|fault| new.refusal(fault, &self.what, &format!("change group {name}")))?;
        let Some((line, _)) = context.book.group(name) else { return Ok(()) };
        let text = gid.to_string();
        self.builder.set_fields(File::Group, line, &[(GroupField::Gid, text.as_bytes())]);
        self.subject.decide(Label::GID, text.clone(), format!("was {old}"));
        let others = context.book.groups_by_gid(Gid(old.0));
        let other = others.iter().find(|(_, other)| other.name != name);
        if let Some((_, other)) = other {
            let other = other.name.into();
            self.builder.caution(Caution::GidStays { gid: Gid(old.0), other });
            return Ok(());
        }
        let mut homes: Vec<TreePath> = Vec::new();
        let mut users: Vec<&[u8]> = Vec::new();
        for (line, user) in context.book.users_by_gid(Gid(old.0)) {
            self.builder.set_fields(File::Passwd, line, &[(PasswdField::Gid, text.as_bytes())]);
            users.push(user.name);
            // The home of a service may be the whole system.
            homes.extend(TreePath::new(user.home).filter(|home| *home != TreePath::root()));
            self.builder.caution(Caution::NextSignIn { name: user.name.into() });
        }
        if !users.is_empty() {
            let users = list(&users);
            self.subject.decide("primary of", users, format!("gets gid {gid} in etc/passwd too"));
        }
        // Files in the homes of the others who are in it may be the group's too.
        for member in self.group.members() {
            let home = context.book.user(member).and_then(|(_, user)| TreePath::new(user.home));
            homes.extend(home.filter(|home| *home != TreePath::root()));
            self.builder.caution(Caution::NextSignIn { name: member.into() });
        }
        homes.sort();
        homes.dedup();
        self.files(old, Gid(gid.0), homes);
        Ok(())
    }

    fn files(&mut self, from: Gid, to: Gid, homes: Vec<TreePath>) {
        tell_elsewhere(&mut self.builder, &mut self.subject, "gid", from.0, &homes);
        if !homes.is_empty() {
            let shown: Vec<String> = homes.iter().map(ToString::to_string).collect();
            let why = format!("what carries gid {from} there gets {to}");
            self.subject.decide("files", shown.join(", "), why);
            let gids = IdMapping::single(from.0, to.0);
            self.builder.step(Step::follow(homes, IdMapping::default(), gids));
        }
    }

    fn both_ways(
        &self,
        add: (&'static str, &[UserName]),
        drop: (&'static str, &[UserName]),
    ) -> Result<()> {
        match add.1.iter().find(|name| drop.1.contains(name)) {
            Some(name) => {
                let (one, other, name) = (add.0, drop.0, name.clone().into());
                Err(self.refuse(Reason::BothWays { one, other, name }))
            }
            None => Ok(()),
        }
    }

    fn members(&mut self) -> Result<()> {
        let request = self.request;
        let (context, group) = (self.context, self.group);
        self.both_ways(
            ("--add-member", &request.add_members),
            ("--drop-member", &request.drop_members),
        )?;
        let unlisted = request.unlisted;
        let cautions = &mut self.builder.plan.cautions;
        let adding = members(context, &request.add_members, unlisted, &self.what, cautions)?;
        let (mut added, mut already, mut dropped, mut never) =
            (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for name in adding {
            let user = context.book.user(name).map(|(_, user)| user);
            if user.is_some_and(|user| user.gid().is_some() && user.gid() == group.gid()) {
                self.subject.decide("in already", name, "it is the primary group");
                continue;
            }
            let new = self.builder.lists().join(group.name, name);
            if new { added.push(name) } else { already.push(name) }
        }
        for name in request.drop_members.iter().map(AsRef::<BStr>::as_ref) {
            let is_listed = group.members().any(|member| member == name);
            self.may_be_dropped(name, is_listed)?;
            let gone = self.builder.lists().leave(group.name, name);
            if gone { dropped.push(name) } else { never.push(name) }
        }
        for name in added.iter().chain(&dropped).copied() {
            // A ghost that is taken out has no next sign-in.
            let Some((_, user)) = context.book.user(name) else { continue };
            let mut sessions = Subject::new(name.to_owned());
            let cautions = &mut self.builder.plan.cautions;
            tell_sessions(context, name, user.uid(), &mut sessions, cautions);
        }
        self.tell("adds", &added, "as members");
        self.tell("in already", &already, "stays so");
        self.tell("drops", &dropped, "from the members");
        self.tell("not in", &never, "and was not: nothing to drop");
        Ok(())
    }

    fn may_be_dropped(&mut self, name: &BStr, is_listed: bool) -> Result<()> {
        let (context, group) = (self.context, self.group);
        let Some((_, user)) = context.book.user(name) else { return Ok(()) };
        if user.gid().is_some() && user.gid() == group.gid() && !is_listed {
            let (group, user) = (self.name().into(), name.into());
            let way = format!("regroup {name} --primary GROUP --leave {group}");
            let reason = Reason::PrimaryOf { group, user };
            return Err(self.refuse(reason).or("give another one first", way));
        }
        Ok(())
    }

    fn admins(&mut self) -> Result<()> {
        let request = self.request;
        let (context, group) = (self.context, self.group);
        self.both_ways(
            ("--add-group-admin", &request.add_admins),
            ("--drop-group-admin", &request.drop_admins),
        )?;
        let unlisted = request.unlisted;
        let cautions = &mut self.builder.plan.cautions;
        let adding = members(context, &request.add_admins, unlisted, &self.what, cautions)?;
        let (mut added, mut already, mut dropped, mut never) =
            (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let now = context.book.gshadow(group.name).map(|(_, gshadow)| gshadow.admins);
        let is = |name: &BStr| listed(now.unwrap_or_default()).any(|admin| admin == name);
        for name in adding {
            if is(name) {
                already.push(name);
                continue;
            }
            self.builder.lists().add_admin(group.name, name);
            added.push(name);
        }
        for name in request.drop_admins.iter().map(AsRef::<BStr>::as_ref) {
            let gone = self.builder.lists().drop_admin(group.name, name);
            if gone { dropped.push(name) } else { never.push(name) }
        }
        self.tell("admins", &added, "may alter the list of members from now on");
        self.tell("admin already", &already, "stays so");
        self.tell("drops admin", &dropped, "no longer administers the group");
        self.tell("no admin", &never, "and was not: nothing to drop");
        Ok(())
    }

    fn tell(&mut self, label: &'static str, names: &[&BStr], why: &str) {
        if !names.is_empty() {
            self.subject.decide(label, list(names), why);
        }
    }
}

/// The administrators of a group, as gshadow lists them.
pub(crate) fn admins_of<'a>(context: PlanContext<'a>, group: &[u8]) -> Vec<&'a [u8]> {
    let line = context.book.gshadow(group).map(|(line, _)| line);
    let gshadow = line.and_then(|line| Gshadow::read(line.record()));
    gshadow.map(|gshadow| listed(gshadow.admins).collect()).unwrap_or_default()
}
