//! Bringing deleted users back, just as they were as far as that still can be.

mod belongings;
mod lasting;
mod memberships;

use std::collections::HashSet;

use bstr::{BStr, BString, ByteSlice};

use self::lasting::resumed_line;
use crate::account::kind_of;
use crate::allot::{Holder, IdUse};
use crate::book::Lookups;
use crate::change::{Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::PlanBuilder;
use crate::plan::groups::restore_group::{Back, Restored, lines_of_group, put_back};
use crate::plan::history::find_kept::find_restorable;
use crate::policy::Policy;
use crate::refusal::{NotKept, Reason, Refusal, Result};
use crate::request::Request;
use crate::retired::{Became, BelongingKind, Kept, KeptPlace, RetiredAccount};
use crate::surroundings::Site;
use crate::table::{
    Column, File, Passwd, PasswdField, Record, ShadowField, SubId, SubIdField, with_fields,
};
use crate::value::{Gid, Uid, UserName, UserOrGroup, check_name, read_id};
use crate::words::list;

/// Users to be brought back, as one change.
#[derive(Debug, Clone, Default)]
pub struct RestoreUser {
    /// The users: by name, or by uid where a name was deleted twice.
    pub names: Vec<UserName>,
    /// Another name for the one user.
    pub as_name: Option<UserName>,
    /// Another uid, where the old one is taken.
    pub new_id: bool,
    /// Without the password it had.
    pub without_password: bool,
    /// Those who were suspended for a reason that begins so come back resumed.
    pub resumed_of: Option<&'static str>,
}

impl Request for RestoreUser {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names).with_belongings()
    }
}

/// Plans the bringing back of users: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn restore_user(context: PlanContext<'_>, request: &RestoreUser) -> Result<Plan> {
    let all = list(&request.names);
    let summary = format!("restore user {all}");
    let mut builder = PlanBuilder::new(context, summary);
    builder.plan.returning = !request.new_id;
    if request.names.len() > 1 && request.as_name.is_some() {
        return Err(Refusal::new("nobody was restored", Reason::OneOnly("--as")));
    }
    restore_into(&mut builder, request)?;
    let next = match builder.plan.subjects.as_slice() {
        [one] => format!("show user {}", one.name),
        _ => "list users".into(),
    };
    Ok(builder.finish(next))
}

/// Adds the bringing back of users to a plan.
///
/// # Errors
/// The first [`Refusal`].
pub(crate) fn restore_into(builder: &mut PlanBuilder<'_>, request: &RestoreUser) -> Result<()> {
    let context = builder.context;
    let mut lines: Vec<Back> = Vec::new();
    let mut lists: Vec<ListBack> = Vec::new();
    let mut folders = Vec::new();
    for wanted in &request.names {
        let wanted = BStr::new(wanted);
        let what = format!("{wanted} was not restored");
        let found = find_restorable(context, UserOrGroup::User, wanted, &what)?;
        if folders.contains(&&found.folder) {
            continue;
        }
        folders.push(&found.folder);
        let name = request.as_name.clone().unwrap_or_else(|| found.kept.name.clone().into());
        let subject = Subject::new(name.clone());
        let command = format!("restore user {wanted}");
        let builder = &mut *builder;
        let (name, kept) = (&name, &found.kept);
        let restoring = Restoring {
            context,
            request,
            found,
            kept,
            name,
            what,
            command,
            builder,
            subject,
            not_back: HashSet::new(),
        };
        lines.extend(restoring.restore(&mut lists)?);
    }
    put_back(builder, lines);
    let mut group_lists = builder.lists();
    for (place, old, new) in &lists {
        group_lists.give_back(place, old.as_ref(), new.as_ref());
    }
    Ok(())
}

/// A list that an account comes back to, with the name that it had and the one it gets.
type ListBack = (KeptPlace, BString, UserName);

struct Restoring<'p, 'a> {
    context: PlanContext<'a>,
    request: &'p RestoreUser,
    found: &'a RetiredAccount,
    kept: &'a Kept,
    /// The name it gets.
    name: &'p UserName,
    what: String,
    command: String,
    builder: &'p mut PlanBuilder<'a>,
    subject: Subject,
    /// What does not come back, and why, as it was told.
    not_back: HashSet<(BString, String)>,
}

/// The numbers an account had and gets.
#[derive(Clone, Copy)]
struct RestoredIds {
    old_uid: Uid,
    uid: Uid,
    old_gid: Gid,
    gid: Gid,
}

impl<'a> Restoring<'_, 'a> {
    fn refuse(&self, reason: Reason) -> Box<Refusal> {
        Refusal::new(self.what.as_str(), reason)
    }

    fn not_back(&mut self, what: impl Into<BString>, why: impl Into<String>) {
        let (what, why) = (what.into(), why.into());
        if self.not_back.insert((what.clone(), why.clone())) {
            self.subject.decide("not back", what, why);
        }
    }

    fn restore(mut self, lists: &mut Vec<ListBack>) -> Result<Vec<Back>> {
        let day = self.found.time.split('T').next().unwrap_or_default();
        self.subject.decide("deleted", day, format!("by change {}", self.found.change));
        let passwd = self.kept.line_of(File::Passwd);
        let Some(passwd) = passwd.and_then(|line| Passwd::read(line.text.trim_ascii_start()))
        else {
            let fault = "its record holds no readable line of etc/passwd".to_owned();
            return Err(self.refuse(NotKept::KeptUnreadable(fault).into()));
        };
        let (home, old_gid) = (BString::from(passwd.home), passwd.gid().unwrap_or(Gid::ROOT));
        if self.is_there() {
            return self.only_belongings(&home);
        }
        self.name_is_free()?;
        let uid = self.choose_uid()?;
        let mut lines = self.own_group(Uid(uid))?;
        let gid = self.primary(&lines, old_gid.0)?;
        let numbers =
            RestoredIds { old_uid: Uid(self.kept.id), uid: Uid(uid), old_gid, gid: Gid(gid) };
        let new_home = self.home_under_new_name(&home);
        lines.extend(self.lines(numbers, &new_home));
        self.memberships(lists);
        self.belongings(numbers, &home, &new_home)?;
        self.window()?;
        self.suspension(Uid(uid));
        let (folder, kept) = (self.found.folder.clone(), Box::new(self.kept.clone()));
        self.builder.step(Step::Release { folder, kept, purged: false });
        self.builder.tell(self.subject);
        Ok(lines)
    }

    /// Whether the account is there again, and only what was set aside of it is not.
    pub(crate) fn is_there(&self) -> bool {
        let plainly = self.request.as_name.is_none() && !self.request.new_id;
        plainly && self.kept.is_live(self.context.book) && self.kept.can_come_back()
    }

    /// Brings back what was set aside of an account that is there.
    fn only_belongings(mut self, home: &BString) -> Result<Vec<Back>> {
        self.subject.decide("account", "is there", "only what was set aside comes back");
        let user = self.context.book.user(self.name).map(|(_, user)| user);
        let now = user.map_or_else(|| home.clone(), |user| user.home.into());
        let gid = user.and_then(|user| user.gid()).unwrap_or(Gid::ROOT);
        let uid = Uid(self.kept.id);
        let numbers = RestoredIds { old_uid: uid, uid, old_gid: gid, gid };
        self.belongings(numbers, home, &now)?;
        let (folder, kept) = (self.found.folder.clone(), Box::new(self.kept.clone()));
        self.builder.step(Step::Release { folder, kept, purged: false });
        self.builder.tell(self.subject);
        Ok(Vec::new())
    }

    fn name_is_free(&self) -> Result<()> {
        let (context, book, name) = (self.context, self.context.book, BStr::new(self.name));
        if self.request.as_name.is_some() {
            let style = context.policy.names_style;
            check_name(style, name).map_err(|fault| self.refuse(Reason::UnfitName(fault)))?;
        }
        for file in [File::Passwd, File::Shadow] {
            let Some(line) = book.named(file, name).into_iter().next() else { continue };
            let number = book.lines(file).map_or(0, |all| all.number(line.start));
            let uid = Column::from(PasswdField::Uid).of(line.bytes).into();
            let reason = match file {
                File::Passwd => Reason::UserExists { line: number, uid },
                _ => Reason::Leftover { file, line: number },
            };
            let way = format!("{} --as NAME", self.command);
            return Err(self.refuse(reason).or("under another name", way));
        }
        let known = context.world.service_knows_user(name);
        if known.map_err(|why| self.refuse(Reason::ServiceFailed(why)))? {
            let way = format!("{} --as NAME", self.command);
            let refusal = self.refuse(Reason::ServiceKnows { what: "user" });
            return Err(refusal.or("under another name", way));
        }
        Ok(())
    }

    fn choose_uid(&mut self) -> Result<u32> {
        let (context, old) = (self.context, self.kept.id);
        let user = context.book.user_by_uid(Uid(old)).map(|(_, user)| BString::from(user.name));
        let failed = |why| self.refuse(Reason::ServiceFailed(why));
        let known = context.world.service_user_by_uid(Uid(old)).map_err(failed)?;
        let shared = self.kept.shared_uid && !self.request.new_id;
        match user.or(known) {
            None => self.subject.decide(Label::UID, old.to_string(), "as before"),
            Some(other) if shared => {
                self.subject.decide(
                    Label::UID,
                    old.to_string(),
                    format!("as before, shared with {other}"),
                );
            }
            Some(other) if !self.request.new_id => {
                let holder = Holder::User(other);
                let way = format!("{} --new-id", self.command);
                return Err(self
                    .refuse(Reason::IdTaken { what: "uid", id: old, holder })
                    .or("with another number", way));
            }
            Some(_) => {
                let kind = kind_of(context.policy, Some(Uid(old)));
                let uid = self.builder.allotter.choose(IdUse::Uid, kind, None);
                let uid = uid.map_err(|fault| self.refuse(fault.reason(IdUse::Uid, old)))?.id;
                self.subject.decide(
                    Label::UID,
                    uid.to_string(),
                    format!("another: {old} is taken"),
                );
                return Ok(uid);
            }
        }
        Ok(old)
    }

    /// The user's own group, where it went too.
    fn own_group(&mut self, uid: Uid) -> Result<Vec<Back>> {
        if self.kept.line_of(File::Group).is_none() {
            return Ok(Vec::new());
        }
        let uid = (uid != Uid(self.kept.id)).then_some(uid);
        let new =
            Restored { as_name: self.request.as_name.as_deref(), new_id: self.request.new_id, uid };
        let of = (&self.what[..], &self.command[..]);
        let back =
            lines_of_group(self.builder, self.kept, new, of, &mut Subject::new(self.name.clone()))?;
        self.subject.decide("group", format!("{} {}", self.name, back.gid), back.why);
        Ok(back.lines)
    }

    /// The gid of the primary group: the one it had, or the new one of its own.
    fn primary(&self, own: &[Back], old: u32) -> Result<u32> {
        let gid_in = |text: &[u8]| text.split_str(":").nth(2).and_then(read_id);
        let line = self.kept.line_of(File::Group);
        let was_own = line.is_some_and(|line| gid_in(&line.text) == Some(old));
        let new = own.iter().find(|(file, ..)| *file == File::Group);
        if was_own && let Some(gid) = new.and_then(|(_, _, text)| gid_in(text)) {
            return Ok(gid);
        }
        if self.context.book.group_by_gid(Gid(old)).is_none() {
            // It comes back just as it was.
            if self.kept.no_primary {
                return Ok(old);
            }
            let refusal = self.refuse(Reason::PrimaryGone { gid: Gid(old) });
            let kept = self.context.world.kept().unwrap_or_default().iter();
            let mut kept =
                kept.filter(|kept| kept.kept.thing == UserOrGroup::Group && kept.kept.id == old);
            return Err(match kept.next() {
                Some(group) => {
                    refusal.or("bring it back first", format!("restore group {}", group.kept.name))
                }
                None => refusal
                    .or("make one of that number first", format!("create group NAME --gid {old}")),
            });
        }
        Ok(old)
    }

    /// A home that is named after the user follows a new name, where it is put back. One that
    /// is where it was stays there; one that was never there takes no place of another's.
    fn home_under_new_name(&self, home: &BString) -> BString {
        let new = self.named_after_it(home);
        let stays = match self.kept.belonging(BelongingKind::Home) {
            Some(belonging) => belonging.became == Became::Stays,
            None => self.context.world.site(new.as_ref()) != Site::Free,
        };
        if stays { home.clone() } else { new }
    }

    fn named_after_it(&self, home: &BString) -> BString {
        match (&self.request.as_name, home.rsplit_once_str("/")) {
            (Some(new), Some((parent, last))) if last == self.kept.name => {
                [parent, b"/", new].concat().into()
            }
            _ => home.clone(),
        }
    }

    fn lines(&mut self, numbers: RestoredIds, home: &BString) -> Vec<Back> {
        let (book, kept) = (self.context.book, self.kept);
        let mut lines = Vec::new();
        for line in &kept.lines {
            let (file, at) = (line.file, line.line);
            if matches!(file, File::Group | File::Gshadow) {
                continue;
            }
            if book.lines(file).is_none() && file == File::Shadow {
                self.not_back("password and aging", "this tree has no etc/shadow any more");
                continue;
            }
            let text = match file {
                File::Passwd => {
                    let (uid, gid) = (numbers.uid.to_string(), numbers.gid.to_string());
                    let mut text = line.text.to_vec();
                    if numbers.uid != numbers.old_uid {
                        text = with_fields(&text, &[(PasswdField::Uid, uid.as_bytes())]);
                    }
                    if numbers.gid != numbers.old_gid {
                        text = with_fields(&text, &[(PasswdField::Gid, gid.as_bytes())]);
                    }
                    self.renamed(&with_fields(&text, &[(PasswdField::Home, home)]), self.name)
                }
                File::Shadow => {
                    let mut text = line.text.to_vec();
                    if self.request.without_password {
                        text = with_fields(&text, &[(ShadowField::Password, b"!")]);
                        self.subject.decide("password", "none", "as asked");
                    }
                    if let Some(note) = self.resumed() {
                        text = resumed_line(&text, note);
                    }
                    self.renamed(&text, self.name)
                }
                _ => match self.range_back(line.file, &line.text, numbers) {
                    Some(text) => text,
                    None => continue,
                },
            };
            lines.push((file, at, text));
        }
        lines
    }

    fn renamed(&self, text: &[u8], name: &[u8]) -> Vec<u8> {
        if self.request.as_name.is_none() {
            return text.to_vec();
        }
        with_fields(text, &[(Column::NAME, name)])
    }

    /// A range comes back unless somebody else has some of it by now.
    fn range_back(&mut self, file: File, text: &[u8], numbers: RestoredIds) -> Option<Vec<u8>> {
        let span = SubId::read(text.trim_ascii_start()).and_then(|range| range.span());
        let table = self.context.book.sub_ids(file);
        let taken = span.and_then(|span| {
            // What overlapped already when it was deleted is as it was.
            let before = |owner: &[u8]| self.kept.overlapped.iter().any(|known| known.0 == owner);
            let mut others = table?.records();
            let other = others.find(|(_, other)| {
                let overlaps = other.span().is_some_and(|other| other.overlaps(span));
                overlaps && !before(other.owner)
            })?;
            Some((span, BString::from(other.1.owner)))
        });
        if let Some((span, other)) = taken {
            self.not_back(format!("range {span}"), format!("{other} has some of it now"));
            return None;
        }
        let owner = text.split_str(":").next().unwrap_or_default();
        match owner == self.kept.name {
            true => Some(self.renamed(text, self.name)),
            false => {
                let uid = numbers.uid.to_string();
                Some(with_fields(text, &[(SubIdField::Owner, uid.as_bytes())]))
            }
        }
    }
}
