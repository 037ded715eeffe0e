//! Changing what an account is: its name in full, its number, its place, how long
//! it lasts and how its password ages.

mod home;
mod keys;
mod lasting;
mod ranges;

use bstr::{BStr, BString};

use crate::account::kind_of;
use crate::allot::{IdUse, Taker, Wanted};
use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{
    FoundUser, NewNumber, NewPrimary, PlanBuilder, change_primary, find_group, find_user, gid_of,
    private_group, require_file_name, set_window, tell_elsewhere, tell_sessions,
};
use crate::ownership::IdMapping;
use crate::plan::users::create_user::{check_full_name, gecos_faults};
use crate::plan::users::suspend::carry_note;
use crate::policy::{Days, Policy};
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, KeyFile, RangesAsked, Request, WindowRequest};
use crate::sign_in::gids_of;
use crate::surroundings::Program;
use crate::table::{File, GroupField, PasswdField, SubIdField};
use crate::value::{GecosParts, Gid, GroupName, IdSpan, TreePath, Uid, UserName, path_fault};
use crate::windows::Who;
use crate::words::list;

/// What is to be changed; `None` stays as it is.
#[derive(Debug, Clone, Default)]
pub struct ChangeUser {
    /// Whose.
    pub name: UserName,
    /// The full name.
    pub full_name: Option<BString>,
    /// What follows it in the GECOS field.
    pub gecos: GecosParts,
    /// The uid.
    pub uid: Option<Uid>,
    /// The uid may be somebody else's too.
    pub share_id: bool,
    /// The uid may be one that was somebody else's and is retired.
    pub reuse_id: bool,
    /// The group of its own keeps its gid where the uid becomes another.
    pub keep_gid: bool,
    /// The primary group, by name or gid.
    pub primary: Option<GroupName>,
    /// Where the home is to be.
    pub home: Option<BString>,
    /// Only the path of the home, not the files.
    pub record_only: bool,
    /// A home is made, of the skeleton, where there is none.
    pub make_home: bool,
    /// The login shell.
    pub shell: Option<BString>,
    /// When the account stops working: a date, `+90d` or `never`.
    pub expires: Option<String>,
    /// How many subordinate ids; 0 for none.
    pub ranges: Option<RangesAsked>,
    /// A range that gives way to another one as large.
    pub move_range: Option<IdSpan>,
    /// How the password ages.
    pub aging: AgingRequest,
    /// Public keys for signing in, to be added to those that there are.
    pub add_keys: Vec<KeyFile>,
    /// Keys that go, by fingerprint, the beginning of it, or comment.
    pub drop_keys: Vec<String>,
    /// When and from where it may sign in.
    pub window: WindowRequest,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

/// How a password is to age; `None` stays as it is.
#[derive(Debug, Clone, Copy, Default)]
pub struct AgingRequest {
    /// Days after which it must be changed.
    pub renew: Option<Days>,
    /// Days for which it can't be changed again.
    pub hold: Option<u32>,
    /// Days of reminder before it must be.
    pub remind: Option<u32>,
    /// Days of grace after.
    pub late: Option<Days>,
    /// It must be changed at the next sign-in.
    pub must_change: bool,
}

impl AgingRequest {
    fn asks(&self) -> bool {
        self.renew.is_some() || self.hold.is_some() || self.remind.is_some() || self.late.is_some()
    }
}

impl Request for ChangeUser {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(std::slice::from_ref(&self.name))
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// The same change of several accounts, as one.
#[derive(Debug, Clone, Default)]
pub struct ChangeUsers {
    /// Whose.
    pub names: Vec<UserName>,
    /// What is to be changed, whoever's name it bears.
    pub change: ChangeUser,
}

impl Request for ChangeUsers {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names)
    }

    fn overrides(&self) -> GuardOverrides {
        self.change.overrides
    }
}

/// Plans the change of accounts: of all of them, or of none.
///
/// # Errors
/// The first [`Refusal`].
pub fn change_users(context: PlanContext<'_>, request: &ChangeUsers) -> Result<Plan> {
    let mut builder = PlanBuilder::new(context, format!("change user {}", list(&request.names)));
    let mut refusals: Vec<(BString, Refusal)> = Vec::new();
    for name in &request.names {
        let found = match find_user(context, name.as_ref(), &format!("{name} was not changed")) {
            Ok(found) => found,
            Err(refusal) => {
                refusals.push((name.clone().into(), *refusal));
                continue;
            }
        };
        let mut subject = Subject::new(name.clone());
        let change = ChangeUser { name: name.clone(), ..request.change.clone() };
        let refused = change_into(&mut builder, &change, &found, &mut subject);
        refusals.extend(refused.into_iter().map(|refusal| (name.clone().into(), refusal)));
        builder.tell(subject);
    }
    // Of one account the plainest is told, of several everything.
    match (request.names.len(), refusals.len()) {
        (_, 0) => {}
        (1, _) | (_, 1) => {
            let (name, refusal) = refusals.swap_remove(0);
            let what = match request.names.len() {
                1 => refusal.what,
                _ => format!("nobody was changed, because of {name}"),
            };
            return Err(Box::new(Refusal { what, ..refusal }));
        }
        _ => {
            let all =
                refusals.into_iter().map(|(name, refusal)| (name, refusal.reason.to_string()));
            let reason = Reason::EachRefused { all: all.collect() };
            return Err(Refusal::new("nobody was changed", reason)
                .or("see who there is", "list users --kind all"));
        }
    }
    let next = match request.names.as_slice() {
        [name] => format!("show user {name}"),
        _ => "list users".to_owned(),
    };
    Ok(builder.finish(next))
}

/// Plans the change of an account.
///
/// # Errors
/// The first [`Refusal`].
pub fn change_user(context: PlanContext<'_>, request: &ChangeUser) -> Result<Plan> {
    let names = vec![request.name.clone()];
    change_users(context, &ChangeUsers { names, change: request.clone() })
}

/// Adds the change of an account to a plan. Returns everything that stands in its way.
pub(crate) fn change_into<'a>(
    builder: &mut PlanBuilder<'a>,
    request: &ChangeUser,
    found: &FoundUser<'a>,
    subject: &mut Subject,
) -> Vec<Refusal> {
    let what = format!("{} was not changed", BStr::new(found.user.name));
    let (context, found) = (builder.context, *found);
    UserChange { context, request, found, what, builder, subject }.change()
}

struct UserChange<'p, 'a> {
    context: PlanContext<'a>,
    request: &'p ChangeUser,
    found: FoundUser<'a>,
    what: String,
    builder: &'p mut PlanBuilder<'a>,
    subject: &'p mut Subject,
}

impl<'a> UserChange<'_, 'a> {
    fn name(&self) -> &'a BStr {
        BStr::new(self.found.user.name)
    }

    fn refuse(&self, reason: Reason) -> Box<Refusal> {
        Refusal::new(self.what.as_str(), reason)
    }

    fn change(mut self) -> Vec<Refusal> {
        let parts = [
            self.gecos(),
            self.shell(),
            self.primary(),
            self.uid(),
            self.home(),
            self.shadow(),
            self.ranges(),
            self.moved_range(),
            self.keys(),
            self.window(),
        ];
        parts.into_iter().filter_map(Result::err).map(|refusal| *refusal).collect()
    }

    /// Puts a value into a field of the passwd line; a value that is there
    /// already is said, and no change.
    fn set(&mut self, at: PasswdField, label: &'static str, old: &[u8], new: &[u8]) -> bool {
        if old == new {
            self.subject.decide_unchanged(label, new);
            return false;
        }
        self.builder.set_fields(File::Passwd, self.found.line, &[(at, new)]);
        true
    }

    fn window(&mut self) -> Result<()> {
        let user = self.found.user;
        let gids = || gids_of(self.context, &user, user.name);
        let groups = || gids().into_iter().map(|(_, name)| name.into()).collect();
        let who = Who { name: user.name, uid: user.uid(), groups: &groups };
        let set = set_window(self.builder, &self.request.window, &who, self.subject);
        set.map_err(|trouble| self.refuse(trouble.into()))
    }

    /// The full name and what follows it, each as far as it is asked for.
    fn gecos(&mut self) -> Result<()> {
        let parts = &self.request.gecos;
        let full_name = self.request.full_name.as_ref();
        if full_name.is_none() && !parts.asks() {
            return Ok(());
        }
        if let Some(full_name) = full_name {
            check_full_name(full_name).map_err(|reason| self.refuse(reason))?;
        }
        gecos_faults(parts).next().map_or(Ok(()), |reason| Err(self.refuse(reason)))?;
        let old = self.found.user.gecos;
        let new = parts.over(full_name.map(|name| &name[..]), old);
        let was = BStr::new(self.found.user.full_name());
        if old == new {
            if let Some(full_name) = full_name {
                self.subject.decide_unchanged("full name", full_name.clone());
            }
            return Ok(());
        }
        self.builder.set_fields(File::Passwd, self.found.line, &[(PasswdField::Gecos, &new)]);
        if let Some(full_name) = full_name.filter(|full_name| *full_name != was) {
            self.subject.decide("full name", full_name.clone(), format!("was {was}"));
        }
        for (part, value) in parts.named() {
            let value = if value.is_empty() { "none".into() } else { value.clone() };
            self.subject.decide(part, value, "");
        }
        Ok(())
    }

    fn shell(&mut self) -> Result<()> {
        let Some(shell) = &self.request.shell else { return Ok(()) };
        if let Some(fault) = path_fault(shell) {
            let reason = Reason::BadPath { what: "shell", path: shell.clone(), fault };
            return Err(self.refuse(reason));
        }
        let name: BString = self.name().into();
        let world = self.context.world;
        let caution = match world.program(shell.as_ref()) {
            Program::Missing => Some(Caution::ShellMissing { name, shell: shell.clone() }),
            Program::NotExecutable => {
                Some(Caution::ShellNotExecutable { name, shell: shell.clone() })
            }
            _ => {
                let listed = world.shells().is_none_or(|shells| shells.contains(shell));
                (!listed).then(|| Caution::ShellUnlisted { name, shell: shell.clone() })
            }
        };
        self.builder.plan.cautions.extend(caution);
        if self.set(PasswdField::Shell, "shell", self.found.user.shell, shell) {
            let was = BStr::new(self.found.user.effective_shell()).to_string();
            self.subject.decide("shell", shell.clone(), format!("was {was}"));
        }
        Ok(())
    }

    fn primary(&mut self) -> Result<()> {
        let Some(wanted) = &self.request.primary else { return Ok(()) };
        let group = find_group(self.context, wanted.as_ref(), &self.what)?;
        let gid = gid_of(self.context, &group, &self.what)?;
        let new = NewPrimary {
            name: group.name.into(),
            gid: Gid(gid.0),
            leaves: &[],
            regroup_home: None,
        };
        if change_primary(self.builder, &self.found, new, self.subject) {
            let (name, uid) = (self.name(), Some(self.found.uid));
            let cautions = &mut self.builder.plan.cautions;
            tell_sessions(self.context, name, uid, self.subject, cautions);
        }
        Ok(())
    }

    /// A new number goes with the files that carry the old one.
    fn uid(&mut self) -> Result<()> {
        let Some(uid) = self.request.uid else { return Ok(()) };
        let (name, old) = (self.name(), self.found.uid);
        if uid == old {
            self.subject.decide_unchanged(Label::UID, uid.to_string());
            return Ok(());
        }
        let policy = self.context.policy;
        let by = Taker { name, reuse: self.request.reuse_id };
        let wanted = Some(Wanted { id: uid.0, share: self.request.share_id, by });
        let kind = kind_of(policy, Some(old));
        let new = NewNumber { of: IdUse::Uid, kind, wanted, name };
        let PlanBuilder { allotter, plan, .. } = &mut *self.builder;
        new.choose(policy, allotter, &mut plan.cautions).map_err(|fault| {
            let free = allotter.choose(IdUse::Uid, kind, None);
            let again = match free {
                Ok(free) => format!("change user {name} --uid {}", free.id),
                Err(_) => "list ids".to_owned(),
            };
            new.refusal(fault, &self.what, &again)
        })?;
        carry_note(self.context, &self.found, &mut self.builder.plan, name, uid);
        let text = uid.to_string();
        self.set(PasswdField::Uid, "uid", self.found.user.uid, text.as_bytes());
        self.subject.decide(Label::UID, text.clone(), format!("was {old}"));
        // Ranges that name their owner by number go with it.
        for file in [File::Subuid, File::Subgid] {
            let by_number = old.to_string();
            for line in self.context.book.named(file, by_number.as_bytes()) {
                self.builder.set_fields(file, line, &[(SubIdField::Owner, text.as_bytes())]);
            }
        }
        let users = self.context.book.users_by_uid(old).into_iter();
        if let Some((_, other)) = users.into_iter().find(|(_, user)| user.name != name) {
            let other = other.name.into();
            self.builder.caution(Caution::FilesShared { uid: old, other });
            return Ok(());
        }
        require_file_name((self.context, File::Passwd), name, &self.what)?;
        let mail: BString = self.context.policy.spool_of(name).into();
        // An account's line may name anything as its home.
        let mut paths: Vec<TreePath> =
            [self.found.user.home, &mail].into_iter().filter_map(TreePath::new).collect();
        paths.retain(|path| *path != TreePath::root());
        let gids = self.own_group(uid)?;
        let uids = IdMapping::single(old.0, uid.0);
        let home = BStr::new(self.found.user.home);
        let both = match gids.pairs() {
            [(from, to)] => {
                format!("what carries uid {old} or gid {from} there gets {uid} and {to}")
            }
            _ => format!("what carries uid {old} there gets {uid}"),
        };
        self.subject.decide("files", format!("{home} and the mail spool"), both);
        tell_elsewhere(self.builder, self.subject, "uid", old.0, &paths);
        if let [(from, _)] = gids.pairs() {
            tell_elsewhere(self.builder, self.subject, "gid", *from, &paths);
        }
        self.builder.step(Step::follow(paths, uids, gids));
        Ok(())
    }

    /// The group that is the account's alone gets its new number too. Returns which gid becomes
    /// which.
    fn own_group(&mut self, uid: Uid) -> Result<IdMapping> {
        let (context, name) = (self.context, self.name());
        let Some((line, _)) = context.book.group(name) else { return Ok(IdMapping::default()) };
        let Ok(Some(group)) = private_group(context, &self.found) else {
            return Ok(IdMapping::default());
        };
        let Some(old) = group.gid().filter(|gid| *gid == self.found.gid && gid.0 != uid.0) else {
            return Ok(IdMapping::default());
        };
        if self.request.primary.is_some() {
            return Ok(IdMapping::default());
        }
        let group = format!("{name} {old}");
        if self.request.keep_gid {
            self.subject.decide(Label::GID, group, "the group of its own keeps its number");
            return Ok(IdMapping::default());
        }
        let policy = context.policy;
        let kind = kind_of(policy, Some(Uid(old.0)));
        let by = Taker { name, reuse: self.request.reuse_id };
        let wanted = Some(Wanted { id: uid.0, share: false, by });
        let new = NewNumber { of: IdUse::Gid, kind, wanted, name };
        let PlanBuilder { allotter, plan, .. } = &mut *self.builder;
        if let Err(fault) = new.choose(policy, allotter, &mut plan.cautions) {
            // Only numbers that were the same are expected to stay so.
            if old.0 != self.found.uid.0 {
                let why = format!("the group of its own keeps its number: gid {uid} is not free");
                self.subject.decide(Label::GID, group, why);
                return Ok(IdMapping::default());
            }
            let reason = fault.reason(IdUse::Gid, uid.0);
            return Err(self
                .refuse(reason)
                .or_again("leave the group of its own as it is", "--keep-gid"));
        }
        let text = uid.to_string();
        self.builder.set_fields(File::Group, line, &[(GroupField::Gid, text.as_bytes())]);
        self.set(PasswdField::Gid, "gid", self.found.user.gid, text.as_bytes());
        self.subject.decide(
            Label::GID,
            text,
            format!("was {old}: the group of its own goes along"),
        );
        Ok(IdMapping::single(old.0, uid.0))
    }
}
