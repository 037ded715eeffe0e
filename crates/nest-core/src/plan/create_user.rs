//! Making users.

use std::collections::HashSet;

use bstr::{BStr, BString, ByteSlice};
use rayon::prelude::*;

use super::home::plan_home;
use super::{Caution, Draft, Ground, NewFile, Owner, Plan, Reason, Refusal, Step, Subject, join};
use crate::account::admin_group;
use crate::allot::{Holder, IdMap, holder_of_gid, holder_of_uid};
use crate::policy::Days;
use crate::surroundings::{Program, Site};
use crate::table::{File, Group, Gshadow, Passwd, Record};
use crate::value::{Expiry, IdSpan, check_keys, check_name, is_reserved, nearest, with_member};

/// One or more users to be made. What is `None` is left to the policy.
#[derive(Debug, Clone, Default)]
pub struct CreateUser {
    /// The login names.
    pub names: Vec<BString>,
    /// The full name.
    pub full_name: Option<BString>,
    /// A uid of the administrator's choice.
    pub uid: Option<u32>,
    /// The uid may be somebody else's too.
    pub share_id: bool,
    /// The primary group, by name or gid, in place of a private group.
    pub primary: Option<BString>,
    /// Groups to join.
    pub join: Vec<BString>,
    /// Joins the administrators' group.
    pub admin: bool,
    /// The path of the home.
    pub home: Option<BString>,
    /// No home is made.
    pub no_home: bool,
    /// The home exists and is taken over.
    pub adopt_home: bool,
    /// What the home is a copy of; `none` for nothing.
    pub skeleton: Option<BString>,
    /// The login shell.
    pub shell: Option<BString>,
    /// A service: an id of that span, no login shell, no home unless named.
    pub service: bool,
    /// When the account stops working: a date, `+90d` or `never`.
    pub expires: Option<String>,
    /// How many subordinate ids; 0 for none.
    pub ranges: Option<u32>,
    /// Public keys for signing in.
    pub keys: Option<KeyFile>,
}

/// A file of public keys, already read.
#[derive(Debug, Clone)]
pub struct KeyFile {
    /// Its path, for messages.
    pub path: String,
    /// What it holds.
    pub text: Vec<u8>,
}

/// Plans the making of users: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn create_user(ground: Ground<'_>, request: &CreateUser) -> Result<Plan, Box<Refusal>> {
    let names = request.names.iter().map(|name| name.to_string()).collect::<Vec<_>>().join(", ");
    let what = match request.names.len() {
        1 => format!("{names} was not created"),
        _ => "nobody was created".to_owned(),
    };
    check_request(ground, request).map_err(|reason| Refusal::new(&what, reason))?;
    let mut planner = Planner {
        ground,
        request,
        ids: IdMap::new(ground.book, ground.policy, ground.world),
        draft: Draft::new(ground.book),
        plan: Plan { summary: format!("create user {names}"), ..Plan::default() },
    };
    planner.note_missing_files();
    let mut seen = HashSet::new();
    for name in &request.names {
        let several = request.names.len() > 1;
        let twice = (!seen.insert(name)).then(|| planner.refuse(name, Reason::NameTwice));
        twice.map_or_else(|| planner.one(name.as_ref()), Err).map_err(|mut refusal| {
            if several {
                refusal.what = format!("nobody was created, because of {name}");
            }
            refusal
        })?;
    }
    let mut plan = planner.plan;
    plan.edits = planner.draft.finish();
    Ok(plan)
}

/// What can be judged without looking at any account.
fn check_request(ground: Ground<'_>, request: &CreateUser) -> Result<(), Reason> {
    if request.names.len() > 1 {
        let single = [
            ("--uid", request.uid.is_some()),
            ("--home", request.home.is_some()),
            ("--full-name", request.full_name.is_some()),
        ];
        if let Some((option, _)) = single.into_iter().find(|(_, given)| *given) {
            return Err(Reason::OneOnly(option));
        }
    }
    let pairs = [
        ("--no-home", request.no_home, "--adopt-home", request.adopt_home),
        ("--no-home", request.no_home, "--skeleton", request.skeleton.is_some()),
        ("--adopt-home", request.adopt_home, "--skeleton", request.skeleton.is_some()),
    ];
    if let Some((one, _, other, _)) = pairs.into_iter().find(|(_, a, _, b)| *a && *b) {
        return Err(Reason::Contradiction(one, other));
    }
    for file in [File::Passwd, File::Group, File::Shadow] {
        if ground.book.lines(file).is_some_and(|lines| lines.is_empty()) {
            return Err(Reason::Empty(file));
        }
    }
    if let Some(text) = &request.expires
        && let Expiry::On(day) = Expiry::parse(text, ground.today)?
    {
        if day <= ground.today {
            return Err(Reason::ExpiryPast(day));
        }
        if ground.book.shadow.is_none() {
            return Err(Reason::NoShadowForExpiry);
        }
    }
    if let Some(full_name) = &request.full_name {
        let fault = full_name.chars().find_map(|c| match c {
            ':' => Some("a colon"),
            ',' => Some("a comma"),
            '\n' | '\r' => Some("a line end"),
            c if c.is_control() => Some("a control character"),
            _ => None,
        });
        if let Some(fault) = fault {
            return Err(Reason::BadFullName(fault));
        }
    }
    if let Some(keys) = &request.keys {
        check_keys(&keys.text)
            .map_err(|fault| Reason::BadKeys { path: keys.path.clone(), fault })?;
    }
    Ok(())
}

struct Planner<'a> {
    ground: Ground<'a>,
    request: &'a CreateUser,
    ids: IdMap<'a>,
    draft: Draft<'a>,
    plan: Plan,
}

/// The primary group of the account being planned.
struct Primary {
    gid: u32,
    /// Made for this account.
    private: bool,
}

impl<'a> Planner<'a> {
    fn refuse(&self, name: &BString, reason: Reason) -> Box<Refusal> {
        Refusal::new(format!("{name} was not created"), reason)
    }

    fn note_missing_files(&mut self) {
        if self.ground.book.shadow.is_none() {
            self.plan.cautions.push(Caution::NoShadow);
        }
        if self.ground.book.gshadow.is_none() {
            self.plan.cautions.push(Caution::NoGshadow);
        }
    }

    fn one(&mut self, name: &'a BStr) -> Result<(), Box<Refusal>> {
        let (policy, request) = (self.ground.policy, self.request);
        self.check_name(name)?;
        let mut subject = Subject { name: name.to_owned(), decisions: Vec::new() };
        let uid = self.choose_uid(name, &mut subject)?;
        let primary = self.choose_primary(name, uid, &mut subject)?;
        let owner = Owner { uid, gid: primary.gid };
        let joined = self.join_groups(name, primary.gid)?;
        if !joined.is_empty() {
            subject.decide("member of", bstr::join(", ", &joined), "");
        }
        let keys = request.keys.as_ref().map(|keys| keys.text.as_slice());
        let home = plan_home(self.ground, request, name, owner, &mut subject)?;
        self.plan.steps.extend(home.steps);
        self.plan.cautions.extend(home.cautions);
        let shell = self.choose_shell(name, &mut subject)?;
        self.give_ranges(name, &mut subject)?;
        self.add_shadow(name, &mut subject);
        let full_name: &[u8] = request.full_name.as_ref().map_or(b"", |name| name);
        let password: &[u8] = if self.ground.book.shadow.is_some() { b"x" } else { b"!" };
        let (uid_text, gid_text) = (uid.to_string(), primary.gid.to_string());
        let fields: [&[u8]; 7] = [
            name,
            password,
            uid_text.as_bytes(),
            gid_text.as_bytes(),
            full_name,
            &home.field,
            &shell,
        ];
        self.draft.add(File::Passwd, fields.join(&b':'));
        if primary.private {
            let password: &[u8] = if self.ground.book.gshadow.is_some() { b"x" } else { b"!" };
            self.draft.add(File::Group, [name, password, gid_text.as_bytes(), b""].join(&b':'));
            if self.ground.book.gshadow.is_some() {
                self.draft.add(File::Gshadow, [name, b"!".as_slice(), b"", b""].join(&b':'));
            }
        }
        if policy.mail_create && !request.service {
            self.make_mail(name, owner);
        }
        let sign_in = match keys.map(crate::value::count_keys) {
            Some(1) => "by key; not by password: none is set",
            Some(_) => "by any of the keys; not by password: none is set",
            None => "not yet: no password is set",
        };
        subject.decide("sign-in", sign_in, "");
        self.plan.next.push(format!("show user {name}"));
        self.plan.subjects.push(subject);
        Ok(())
    }

    /// The name must be new in every file, and well-formed.
    fn check_name(&mut self, name: &'a BStr) -> Result<(), Box<Refusal>> {
        let Ground { book, policy, world, .. } = self.ground;
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        check_name(policy.names_style, name).map_err(|fault| refuse(Reason::BadName(fault)))?;
        let private = self.makes_private_group();
        let number = |file: File, start| book.lines(file).map_or(0, |lines| lines.number(start));
        // Large files are searched side by side.
        let (holders, listing) = rayon::join(
            || {
                let found = File::ALL.par_iter().map(|file| (*file, book.named(*file, name)));
                let found = found
                    .filter(|(file, _)| private || !matches!(file, File::Group | File::Gshadow));
                found.collect::<Vec<_>>()
            },
            || book.groups_listing(name),
        );
        // The plainest reason first: a user of that name, then a group, then
        // what is left over of either.
        let order =
            [File::Passwd, File::Group, File::Shadow, File::Gshadow, File::Subuid, File::Subgid];
        for file in order {
            let found = holders.iter().find(|(holder, _)| *holder == file);
            let Some(line) = found.and_then(|(_, lines)| lines.first()) else { continue };
            let at = number(file, line.start);
            return Err(match file {
                File::Passwd => match Passwd::read(line.record()) {
                    Some(user) => refuse(Reason::UserExists { line: at, uid: user.uid.into() })
                        .or("look at it", format!("show user {name}")),
                    None => refuse(damaged(file, at)),
                },
                File::Group => match Group::read(line.record()) {
                    Some(group) => refuse(Reason::GroupExists { line: at, gid: group.gid.into() })
                        .or("use that group", format!("create user {name} --primary {name}")),
                    None => refuse(damaged(file, at)),
                },
                _ => refuse(Reason::Leftover { file, line: at })
                    .or("see what is left over", "check --files-only"),
            });
        }
        let failed = |why| refuse(Reason::ServiceFailed(why));
        if world.service_knows_user(name).map_err(failed)? {
            return Err(refuse(Reason::ServiceKnows { what: "user" }));
        }
        if private && world.service_knows_group(name).map_err(failed)? {
            return Err(refuse(Reason::ServiceKnows { what: "group" }));
        }
        let earlier = world.retired().users.iter().find(|retired| retired.name == name);
        self.plan.cautions.extend(
            earlier.map(|retired| Caution::EarlierHolder {
                name: name.into(),
                id: retired.span.first,
            }),
        );
        let places = world.mentions(name);
        if !places.is_empty() {
            self.plan.cautions.push(Caution::Mentioned { name: name.into(), places });
        }
        for (line, group) in listing {
            self.plan.cautions.push(Caution::ListedAlready {
                name: name.into(),
                group: group.name.into(),
                line: number(File::Group, line.start),
            });
        }
        Ok(())
    }

    fn makes_private_group(&self) -> bool {
        let policy = self.ground.policy;
        self.request.primary.is_none() && (self.request.service || policy.people_private_group)
    }

    /// The span that new accounts of this kind come from, with its setting.
    fn span(&self) -> (IdSpan, &'static str, &'static str) {
        let policy = self.ground.policy;
        if self.request.service {
            (policy.services_ids, "services.ids", "services")
        } else {
            (policy.people_ids, "people.ids", "people")
        }
    }

    fn choose_uid(&mut self, name: &'a BStr, subject: &mut Subject) -> Result<u32, Box<Refusal>> {
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        let (span, setting, kind) = self.span();
        let uid = match self.request.uid {
            Some(uid) => {
                self.check_wanted_uid(name, uid)?;
                if !span.contains(uid) {
                    let name = name.into();
                    self.plan.cautions.push(Caution::OutsideSpan { name, uid, kind, span });
                }
                subject.decide("uid", uid.to_string(), "as asked");
                uid
            }
            None => {
                let found = self.free_id().map_err(|why| refuse(Reason::ServiceFailed(why)))?;
                let Some(uid) = found else {
                    let setting = self.ground.policy.origin(setting);
                    return Err(refuse(Reason::SpanFull { span, setting })
                        .or("choose one outside it", format!("create user {name} --uid N"))
                        .or_else(
                            "or widen the span",
                            format!("{} in etc/copper-nest/policy.toml", setting_key(kind)),
                        ));
                };
                let why = match kind {
                    "people" => format!("first never-used id in {span}"),
                    _ => format!("highest never-used id in {span}, the services'"),
                };
                subject.decide("uid", uid.to_string(), why);
                uid
            }
        };
        self.ids.take(uid);
        Ok(uid)
    }

    fn free_id(&self) -> Result<Option<u32>, String> {
        let (span, ..) = self.span();
        if self.request.service { self.ids.highest(span) } else { self.ids.lowest(span) }
    }

    fn check_wanted_uid(&mut self, name: &BStr, uid: u32) -> Result<(), Box<Refusal>> {
        let Ground { book, world, .. } = self.ground;
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        if is_reserved(uid) {
            return Err(refuse(Reason::IdReserved { what: "uid", id: uid, why: reserved(uid) }));
        }
        match holder_of_uid(book, world, uid) {
            Some(Holder::User(other)) if self.request.share_id => {
                self.plan.cautions.push(Caution::SharedUid { uid, other });
                if uid == 0 {
                    self.plan.cautions.push(Caution::SecondRoot { name: name.into() });
                }
            }
            Some(holder @ Holder::User(_)) => {
                return Err(refuse(Reason::IdTaken { what: "uid", id: uid, holder })
                    .or("let the policy choose one", format!("create user {name}"))
                    .or(
                        "or share it all the same",
                        format!("create user {name} --uid {uid} --share-id"),
                    ));
            }
            Some(holder) => {
                return Err(refuse(Reason::IdTaken { what: "uid", id: uid, holder })
                    .or("let the policy choose one", format!("create user {name}")));
            }
            None => {
                let held = world.service_user_by_uid(uid);
                let held = held.map_err(|why| refuse(Reason::ServiceFailed(why)))?;
                if let Some(holder) = held {
                    return Err(refuse(Reason::IdInService { what: "uid", id: uid, holder }));
                }
                self.plan.cautions.extend(self.ids.avoided(uid).map(|avoid| Caution::Avoided {
                    what: "uid",
                    id: uid,
                    span: avoid.span,
                    why: avoid.why.clone(),
                }));
            }
        }
        Ok(())
    }

    fn choose_primary(
        &mut self,
        name: &'a BStr,
        uid: u32,
        subject: &mut Subject,
    ) -> Result<Primary, Box<Refusal>> {
        let policy = self.ground.policy;
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        if !self.makes_private_group() {
            let (wanted, why) = match &self.request.primary {
                Some(wanted) => (wanted.clone(), "as asked".to_owned()),
                None => (policy.people_primary.as_str().into(), policy.origin("people.primary")),
            };
            let group = self.find_group(name, wanted.as_ref())?;
            let Some(gid) = group.gid() else {
                let line = self.group_line(group.name);
                return Err(refuse(Reason::Damaged {
                    file: File::Group,
                    line,
                    fault: "has no readable gid".into(),
                }));
            };
            subject.decide("primary", format!("{} {gid}", group.name.as_bstr()), why);
            return Ok(Primary { gid, private: false });
        }
        let failed = |why| refuse(Reason::ServiceFailed(why));
        let Ground { book, world, .. } = self.ground;
        // A uid that the policy chose is free as a gid too; one that was asked
        // for may not be.
        let same = self.request.uid.is_none()
            || holder_of_gid(book, world, uid).is_none()
                && world.service_group_by_gid(uid).map_err(failed)?.is_none();
        let gid = if same { Some(uid) } else { self.free_id().map_err(failed)? };
        let Some(gid) = gid else {
            let (span, setting, _) = self.span();
            let setting = policy.origin(setting);
            return Err(refuse(Reason::SpanFull { span, setting })
                .or("use a group there is", format!("create user {name} --primary GROUP")));
        };
        self.ids.take(gid);
        let why = match same {
            true => "a new group of its own".to_owned(),
            false => format!("a new group of its own; gid {uid} is taken"),
        };
        subject.decide("primary", format!("{name} {gid}"), why);
        Ok(Primary { gid, private: true })
    }

    fn group_line(&self, name: &[u8]) -> usize {
        let book = self.ground.book;
        book.group(name).map_or(0, |(line, _)| book.groups.lines().number(line.start))
    }

    /// A group by name, or by gid.
    fn find_group(&self, name: &BStr, wanted: &BStr) -> Result<Group<'a>, Box<Refusal>> {
        let book = self.ground.book;
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        let by_name = book.named(File::Group, wanted);
        if by_name.len() > 1 {
            let lines = book.groups.lines();
            return Err(refuse(Reason::Damaged {
                file: File::Group,
                line: lines.number(by_name[1].start),
                fault: format!(
                    "says {wanted} again, after line {}",
                    lines.number(by_name[0].start)
                ),
            }));
        }
        let found = match by_name.first() {
            Some(line) => Group::read(line.record()).ok_or_else(|| {
                refuse(damaged(File::Group, book.groups.lines().number(line.start)))
            })?,
            None => {
                let gid = crate::value::read_plain_id(wanted);
                let by_gid = gid.and_then(|gid| book.group_by_gid(gid));
                by_gid.map(|(_, group)| group).ok_or_else(|| {
                    let names = book.groups.records().map(|(_, group)| group.name);
                    let near = nearest(wanted, names).map(ToOwned::to_owned);
                    refuse(Reason::NoGroup { name: wanted.to_owned(), near })
                })?
            }
        };
        Ok(found)
    }

    /// Puts the user into the lists of the groups it joins; returns their names.
    fn join_groups(&mut self, name: &'a BStr, primary: u32) -> Result<Vec<BString>, Box<Refusal>> {
        let Ground { book, policy, .. } = self.ground;
        let mut wanted: Vec<BString> = self.request.join.clone();
        if !self.request.service {
            wanted.extend(policy.people_groups.iter().map(|group| group.as_str().into()));
        }
        if self.request.admin {
            let Some(group) = admin_group(book, policy) else {
                let refusal = Refusal::new(
                    format!("{name} was not created"),
                    Reason::NoAdminGroup {
                        groups: policy.admins_groups.join(", "),
                        setting: policy.origin("admins.groups"),
                    },
                );
                return Err(refusal.or_else(
                    "name the one there is",
                    "admins.groups in etc/copper-nest/policy.toml",
                ));
            };
            wanted.push(group.name.into());
        }
        let mut joined: Vec<BString> = Vec::new();
        for wanted in wanted {
            let group = self.find_group(name, wanted.as_ref())?;
            if joined.iter().any(|joined| joined == group.name) || group.gid() == Some(primary) {
                continue;
            }
            joined.push(group.name.into());
            self.list_member(group, name);
        }
        Ok(joined)
    }

    /// Adds the user to a group's list in group, and in gshadow where the group
    /// has a line.
    fn list_member(&mut self, group: Group<'a>, name: &BStr) {
        let book = self.ground.book;
        if let Some((line, _)) = book.group(group.name) {
            let current = self.draft.current(File::Group, line);
            if let Some(now) = Group::read(current.trim_ascii_start())
                && let Some((list, tidied)) = with_member(now.members, name)
            {
                let after = [now.name, now.password, now.gid, &list].join(&b':');
                self.draft.alter(File::Group, line, after);
                self.note_tidied(tidied, group.name);
            }
        }
        if let Some((line, _)) = book.gshadow(group.name) {
            let current = self.draft.current(File::Gshadow, line);
            if let Some(now) = Gshadow::read(current.trim_ascii_start())
                && let Some((list, tidied)) = with_member(now.members, name)
            {
                let after = [now.name, now.password, now.admins, &list].join(&b':');
                self.draft.alter(File::Gshadow, line, after);
                self.note_tidied(tidied, group.name);
            }
        }
    }

    fn note_tidied(&mut self, tidied: bool, group: &[u8]) {
        let caution = Caution::ListTidied { group: group.into() };
        if tidied && !self.plan.cautions.contains(&caution) {
            self.plan.cautions.push(caution);
        }
    }

    fn choose_shell(
        &mut self,
        name: &BStr,
        subject: &mut Subject,
    ) -> Result<BString, Box<Refusal>> {
        let Ground { policy, world, .. } = self.ground;
        let setting = if self.request.service { "services.shell" } else { "people.shell" };
        let (shell, why): (BString, _) = match &self.request.shell {
            Some(shell) => (shell.clone(), "as asked".to_owned()),
            None if self.request.service => {
                (policy.services_shell.as_str().into(), policy.origin(setting))
            }
            None => (policy.people_shell.as_str().into(), policy.origin(setting)),
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
                let unlisted = !listed && !self.request.service;
                unlisted.then(|| Caution::ShellUnlisted { name, shell: shell.clone() })
            }
        };
        self.plan.cautions.extend(caution);
        subject.decide("shell", shell.clone(), why);
        Ok(shell)
    }

    fn give_ranges(&mut self, name: &BStr, subject: &mut Subject) -> Result<(), Box<Refusal>> {
        let Ground { book, policy, .. } = self.ground;
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        let asked = self.request.ranges;
        let count = match asked {
            Some(count) => count,
            None if self.request.service => 0,
            None => policy.people_ranges,
        };
        let files = [File::Subuid, File::Subgid];
        if count == 0 {
            if asked.is_some() {
                subject.decide("ranges", "none", "as asked");
            }
            return Ok(());
        }
        if asked.is_none() && files.iter().any(|file| book.lines(*file).is_none()) {
            subject.decide("ranges", "none", "this tree has no etc/subuid and etc/subgid");
            return Ok(());
        }
        let found = self.ids.range(count).map_err(|why| refuse(Reason::ServiceFailed(why)))?;
        let Some(span) = found else {
            let setting = policy.origin("ranges.span");
            return Err(refuse(Reason::RangesFull { count, span: policy.ranges_span, setting })
                .or("give none", format!("create user {name} --ranges none")));
        };
        for file in files {
            self.draft.add(file, format!("{name}:{}:{count}", span.first).into_bytes());
        }
        self.ids.take_range(span);
        subject.decide("ranges", format!("uids and gids {span}"), "");
        Ok(())
    }

    fn add_shadow(&mut self, name: &BStr, subject: &mut Subject) {
        let Ground { book, policy, today, .. } = self.ground;
        let expiry = self.request.expires.as_ref().and_then(|text| Expiry::parse(text, today).ok());
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
            return;
        }
        let aging = if self.request.service {
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
        self.draft
            .add(File::Shadow, format!("{name}:!:{}:{aging}:{expires}:", today.0).into_bytes());
    }

    /// The mail spool file: of the group `mail` where there is one, so that the
    /// delivering program can write it.
    fn make_mail(&mut self, name: &BStr, owner: Owner) {
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
                        contents: Vec::new(),
                        mode: if mail.is_some() { 0o660 } else { 0o600 },
                    },
                    owner: Owner { uid: owner.uid, gid: mail.unwrap_or(owner.gid) },
                });
            }
            Site::Taken(_) => self.plan.cautions.push(Caution::MailExists { path }),
            site => {
                let why = super::home::obstacle(&path, &site);
                self.plan.cautions.push(Caution::MailNotMade { why });
            }
        }
    }
}

/// The steps that put public keys where the SSH server looks for them.
pub(super) fn key_file(keys: &KeyFile) -> NewFile {
    let mut contents = keys.text.clone();
    if !contents.ends_with(b"\n") {
        contents.push(b'\n');
    }
    NewFile { path: join(b".ssh", b"authorized_keys"), contents, mode: 0o600 }
}

/// Why a path can't stand in an account file, in words that follow it.
pub(super) fn path_fault(path: &[u8]) -> Option<&'static str> {
    if !path.starts_with(b"/") {
        return Some("is not absolute; it has to begin with /");
    }
    if path.contains(&b':') {
        return Some("holds a colon, which separates fields in account files");
    }
    if path.chars().any(char::is_control) {
        return Some("holds a line end or another control character");
    }
    let parts = path.split_str("/");
    let dots = parts.into_iter().any(|part| part == b"." || part == b"..");
    dots.then_some("goes through . or ..; give the path they lead to")
}

fn damaged(file: File, line: usize) -> Reason {
    let fault =
        format!("names it too, but is malformed (a line there has {} fields)", file.fields());
    Reason::Damaged { file, line, fault }
}

fn setting_key(kind: &str) -> &'static str {
    if kind == "people" { "people.ids" } else { "services.ids" }
}

fn reserved(id: u32) -> &'static str {
    match id {
        65534 => "the kernel shows it for ids it can't show",
        65535 => "it meant \"no id\" when ids had 16 bits, and some programs still read it so",
        _ => "it means \"no id\" to the kernel",
    }
}
