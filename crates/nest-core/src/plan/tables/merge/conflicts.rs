//! What stands in the way of accounts of another tree, and what is proposed.

use std::collections::{HashMap, HashSet};

use bstr::{BStr, BString, ByteSlice};

use super::decisions::{Action, Conflict, Decided, quoted, quoted_spans};
use super::merging::Merging;
use crate::account::{Account, AccountKind, kind_of_user, means_no_home};
use crate::allot::{Allotter, IdUse};
use crate::group_account::{GroupAccount, GroupKind};
use crate::refusal::{Reason, Refusal, Result};
use crate::table::{File, Line, Passwd};
use crate::value::{MAX_BYTES, Uid, UserOrGroup, check_name, is_reserved};

/// What is found out about what comes, one after the other: what one is proposed to get is
/// proposed to no other.
pub(super) struct Finding<'f, 'a> {
    pub merging: &'f Merging<'a>,
    pub allotter: Allotter<'a>,
    /// Names that others of those who come have, or are proposed to get.
    names: HashSet<BString>,
    /// Numbers that others get.
    uids: HashMap<u32, BString>,
    gids: HashMap<u32, BString>,
    pub conflicts: Vec<Conflict>,
    /// What became of numbers that several have there, of the first who has each: the number
    /// here, where that one is made.
    shared: HashMap<u32, u32>,
    /// People here by their full names; nothing where several have one.
    people: HashMap<&'a [u8], Option<&'a [u8]>>,
}

/// A conflict in the making.
#[derive(Default)]
struct Found {
    problems: Vec<(String, String)>,
    proposal: Decided,
}

impl Found {
    fn add(&mut self, problem: String, part: impl Into<String>) {
        self.problems.push((problem, part.into()));
    }
}

/// The full name in words, or that there is none.
fn called(user: &Passwd<'_>) -> String {
    match user.full_name() {
        b"" => "nobody's full name".to_owned(),
        name => BStr::new(name).to_string(),
    }
}

impl<'f, 'a> Finding<'f, 'a> {
    pub fn new(merging: &'f Merging<'a>) -> Self {
        let context = merging.context;
        let mut people: HashMap<&[u8], Option<&[u8]>> = HashMap::new();
        for (_, user) in context.book.users.records() {
            let shadow = || context.book.shadow(user.name).map(|(_, shadow)| shadow);
            let is_person = kind_of_user(context.policy, &user, shadow).0 == AccountKind::Person;
            if is_person && !user.full_name().is_empty() {
                let known = people.entry(user.full_name()).or_insert(Some(user.name));
                *known = known.filter(|known| *known == user.name);
            }
        }
        let mut allotter = Allotter::new(context.book, context.policy, context.world);
        // What comes along is proposed to nobody else.
        let uids = merging.users.iter().filter_map(|account| account.user.uid());
        let gids = merging.groups.iter().filter_map(|group| group.group.gid());
        uids.map(|uid| uid.0).chain(gids.map(|gid| gid.0)).for_each(|id| allotter.set_aside(id));
        let names = merging.users.iter().map(|account| account.user.name);
        let names = names.chain(merging.groups.iter().map(|group| group.group.name));
        Finding {
            merging,
            allotter,
            names: names.map(BString::from).collect(),
            uids: HashMap::new(),
            gids: HashMap::new(),
            conflicts: Vec::new(),
            shared: HashMap::new(),
            people,
        }
    }

    /// Looks at everything that comes.
    ///
    /// # Errors
    /// The [`Refusal`]: no number is left.
    pub fn find(&mut self) -> Result<()> {
        let merging = self.merging;
        for group in &merging.groups {
            self.group(group)?;
        }
        for account in &merging.users {
            self.user(account)?;
        }
        Ok(())
    }

    /// A name that nobody has here, and nobody who comes.
    fn free_name(&mut self, name: &BStr) -> BString {
        let book = self.merging.context.book;
        let style = self.merging.context.policy.names_style;
        let is_free = |wanted: &BString| {
            !self.names.contains(wanted)
                && book.user(wanted).is_none()
                && book.group(wanted).is_none()
                && check_name(style, wanted.as_bstr()).is_ok()
        };
        let numbered = |number: u32| {
            let number = number.to_string();
            let room = name.len().min(MAX_BYTES - number.len());
            BString::from([&name[..room], number.as_bytes()].concat())
        };
        let found = (2..100_000).map(numbered).find(is_free).unwrap_or_else(|| name.to_owned());
        self.names.insert(found.clone());
        found
    }

    /// Notes a conflict, if there is one.
    fn note(&mut self, thing: UserOrGroup, name: &BStr, line: Option<Line<'_>>, found: Found) {
        let Found { problems, proposal } = found;
        if !problems.is_empty() {
            let (name, offset) = (name.to_owned(), line.map_or(0, |line| line.start));
            self.conflicts.push(Conflict { thing, name, offset, problems, proposal });
        }
    }

    fn user(&mut self, account: &Account<'a>) -> Result<()> {
        let merging = self.merging;
        let name = BStr::new(account.user.name);
        let decided = merging.decisions.of(UserOrGroup::User, name);
        let mut found = Found { proposal: merging.expected(account), ..Found::default() };
        if let Some(decided) = decided {
            found.proposal = decided.clone();
        } else {
            self.user_name(account, &mut found);
            self.rights(account, &mut found);
        }
        if found.proposal.action == Action::Create && decided.is_none() {
            self.uid(account, &mut found)?;
            self.ranges(account, &mut found)?;
            self.home(account, &mut found);
        }
        if found.proposal.action == Action::Create {
            let uid = found.proposal.id.or(account.user.uid().map(|uid| uid.0));
            let called = found.proposal.name_of(name).to_owned();
            if let (Some(there), Some(here)) = (account.user.uid(), uid) {
                self.shared.entry(there.0).or_insert(here);
            }
            self.uids.extend(uid.map(|uid| (uid, called.clone())));
            if merging.has_own_group(account) {
                self.gids.extend(uid.map(|uid| (uid, called)));
            }
        }
        let line = merging.there.user(account.user.name).map(|(line, _)| line);
        self.note(UserOrGroup::User, name, line, found);
        Ok(())
    }

    /// Whether its name is somebody's here, or it is somebody under another name.
    fn user_name(&mut self, account: &Account<'a>, found: &mut Found) {
        let (context, user) = (self.merging.context, &account.user);
        let name = BStr::new(user.name);
        if let Some((line, here)) = context.book.user(name) {
            let same = here.full_name() == user.full_name();
            if account.kind == AccountKind::Service || same && here.uid() == user.uid() {
                return;
            }
            let (is, was) = (called(&here), called(user));
            let at = context.book.users.lines().number(line.start);
            match same && !user.full_name().is_empty() {
                true => {
                    found.proposal.action = Action::Same;
                    let (old, new) = (BStr::new(user.uid), BStr::new(here.uid));
                    let problem = format!("{name}, {was}, has uid {old} there and {new} here");
                    found.add(problem, "action = \"same\"");
                }
                false => {
                    let free = self.free_name(name);
                    found.proposal.action = Action::Create;
                    let part = format!("as = {}", quoted(&free));
                    found.proposal.name = Some(free);
                    let problem = format!(
                        "{name} is {was} there, and {is} here ({}:{at})",
                        File::Passwd.path()
                    );
                    found.add(problem, part);
                }
            }
            return;
        }
        let known = self.people.get(user.full_name()).copied().flatten();
        if let Some(known) = known.filter(|_| account.kind == AccountKind::Person) {
            let known = BStr::new(known);
            found.proposal.action = Action::Same;
            found.proposal.name = Some(known.to_owned());
            let problem = format!("{name} is {}, who is called {known} here", called(user));
            return found.add(problem, format!("action = \"same\", as = {}", quoted(known)));
        }
        if let Some((line, _)) = context.book.group(name) {
            let at = context.book.groups.lines().number(line.start);
            let free = self.free_name(name);
            let part = format!("as = {}", quoted(&free));
            found.proposal.name = Some(free);
            let problem = format!("{name} is a group here ({}:{at})", File::Group.path());
            found.add(problem, part);
        }
    }

    /// Whether it administers the other tree.
    fn rights(&self, account: &Account<'a>, found: &mut Found) {
        let merging = self.merging;
        if found.proposal.action == Action::Skip || !merging.administers(account) {
            return;
        }
        let here = match found.proposal.action {
            Action::Same => found.proposal.name_of(BStr::new(account.user.name)),
            Action::Create | Action::Skip => BStr::new(""),
        };
        if merging.context.book.user(here).is_some_and(|(_, user)| merging.is_admin_here(&user)) {
            return;
        }
        let groups = merging.admin_groups_of(account);
        let (name, groups) = (BStr::new(account.user.name), crate::words::list(&groups));
        found.add(format!("{name} is administrator there, by {groups}"), "admin = false");
    }

    /// Why a number can't be had here.
    fn taken(&self, of: IdUse, id: u32, name: &BStr) -> Option<String> {
        if is_reserved(id) {
            return Some("is reserved".to_owned());
        }
        let given = if of == IdUse::Uid { &self.uids } else { &self.gids };
        if let Some(other) = given.get(&id).filter(|other| *other != name) {
            return Some(format!("goes to {other}, who comes too"));
        }
        let holder = self.allotter.holder(of, id)?;
        match &holder {
            // Its own number, from before.
            crate::allot::Holder::Retired(earlier) if earlier == name => None,
            _ => Some(holder.to_string()),
        }
    }

    fn uid(&mut self, account: &Account<'a>, found: &mut Found) -> Result<()> {
        let merging = self.merging;
        let there = BStr::new(account.user.name);
        let Some(uid) = account.user.uid().map(|uid| uid.0) else { return Ok(()) };
        // Who shares a number there goes on to share it with whom it was shared.
        if let Some(here) = self.shared.get(&uid).copied().filter(|_| merging.shares(account)) {
            if here != uid {
                found.proposal.id = Some(here);
                let problem = format!("{there} shares uid {uid} there, which becomes {here}");
                found.add(problem, format!("uid = {here}"));
            }
            return Ok(());
        }
        let name = found.proposal.name_of(there).to_owned();
        let mut why = self.taken(IdUse::Uid, uid, name.as_ref()).map(|why| ("uid", why));
        if why.is_none() && merging.has_own_group(account) {
            why = self.taken(IdUse::Gid, uid, name.as_ref()).map(|why| ("gid", why));
        }
        if let Some((what, why)) = why {
            let free = self.choose(IdUse::Uid, account.kind)?;
            found.proposal.id = Some(free);
            found.add(format!("{there}'s {what} {uid} {why} here"), format!("uid = {free}"));
        }
        Ok(())
    }

    fn choose(&mut self, of: IdUse, kind: AccountKind) -> Result<u32> {
        let chosen = self.allotter.choose(of, kind, None);
        let chosen = chosen.map_err(|fault| Refusal::new(super::WHAT, fault.reason(of, 0)))?;
        Ok(chosen.id)
    }

    fn ranges(&mut self, account: &Account<'a>, found: &mut Found) -> Result<()> {
        let failed = |why| Refusal::new(super::WHAT, Reason::ServiceFailed(why));
        let (mut moved, mut all) = (Vec::new(), Vec::new());
        for span in &account.uid_ranges {
            if self.allotter.take_range(*span).map_err(failed)? {
                all.push(*span);
                continue;
            }
            let count = u32::try_from(span.count()).unwrap_or(u32::MAX);
            let chosen = self.allotter.choose_range(count);
            let chosen =
                chosen.map_err(|fault| Refusal::new(super::WHAT, fault.reason(IdUse::Uid, 0)))?;
            moved.push(span.to_string());
            all.push(chosen);
        }
        if !moved.is_empty() {
            let name = BStr::new(account.user.name);
            let part = format!("ranges = {}", quoted_spans(&all));
            found.proposal.ranges = Some(all);
            let moved = moved.join(", ");
            found.add(format!("{name}'s range {moved} is not free here"), part);
        }
        Ok(())
    }

    fn home(&self, account: &Account<'a>, found: &mut Found) {
        let context = self.merging.context;
        let there = BStr::new(account.user.name);
        if account.kind == AccountKind::Service || means_no_home(account.user.home) {
            return;
        }
        let Some(other) = context.book.user_at_home(account.user.home) else { return };
        let home = BString::from(context.policy.home_of(found.proposal.name_of(there)));
        let problem = format!(
            "{there}'s home {} is {}'s here",
            BStr::new(account.user.home),
            BStr::new(other)
        );
        let part = format!("home = {}", quoted(&home));
        found.proposal.home = Some(home);
        found.add(problem, part);
    }

    fn group(&mut self, group: &GroupAccount<'a>) -> Result<()> {
        let merging = self.merging;
        let (context, name) = (merging.context, BStr::new(group.group.name));
        let Some(gid) = group.group.gid().map(|gid| gid.0) else { return Ok(()) };
        let decided = merging.decisions.of(UserOrGroup::Group, name);
        let mut found = Found::default();
        if let Some(decided) = decided {
            found.proposal = decided.clone();
        } else if let Some((_, here)) = context.book.group(name) {
            let is_own = context.book.user(name).is_some_and(|(_, user)| user.gid() == here.gid());
            found.proposal.action = Action::Same;
            if is_own {
                found.proposal.action = Action::Create;
                let free = self.free_name(name);
                let part = format!("as = {}", quoted(&free));
                found.proposal.name = Some(free);
                found.add(format!("{name} is the own group of a user here"), part);
            } else if here.gid().map(|gid| gid.0) != Some(gid) && group.kind != GroupKind::Services
            {
                let problem =
                    format!("{name} has gid {gid} there and {} here", BStr::new(here.gid));
                found.add(problem, "action = \"same\"");
            }
        }
        if found.proposal.action == Action::Create {
            let called = found.proposal.name_of(name).to_owned();
            let why = self.taken(IdUse::Gid, gid, called.as_ref());
            if let Some(why) = why.filter(|_| decided.is_none()) {
                let kind = match group.kind {
                    GroupKind::Services => AccountKind::Service,
                    GroupKind::Private | GroupKind::People => AccountKind::Person,
                };
                let free = self.choose(IdUse::Gid, kind)?;
                found.proposal.id = Some(free);
                found.add(format!("{name}'s gid {gid} {why} here"), format!("gid = {free}"));
            }
            self.gids.insert(found.proposal.id.unwrap_or(gid), called);
        }
        let line = merging.there.group(group.group.name).map(|(line, _)| line);
        self.note(UserOrGroup::Group, name, line, found);
        Ok(())
    }
}

/// Whether a number is root's.
pub(super) fn is_root(user: &Passwd<'_>) -> bool {
    user.uid() == Some(Uid::ROOT)
}
