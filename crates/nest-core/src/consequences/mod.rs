//! What a plan does to access: who gains and who loses it, whichever request the plan comes
//! from. Only the accounts are judged that it touches, from the account files before and
//! after its edits, and from the tree before and after its steps.
//!
//! - `overlay`: the lines of some accounts as the edits leave them
//! - `homes`: which keys there will be
//! - `memberships`: who is in which group, before and after
//! - `guards`: what must not happen unasked
//! - `halves`: what is left by half
//! - `leftovers`: what a new holder of a name or a number takes over

mod guards;
mod halves;
mod homes;
mod leftovers;
mod memberships;
mod overlay;

#[cfg(test)]
mod tests;

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use bstr::{BStr, BString};
use hashbrown::HashSet;

use self::homes::Homes;
use self::memberships::{GroupChange, Groups, ListedGroup, group_changes};
use self::overlay::{Overlay, name_on};
use crate::account::admin_groups;
use crate::change::{AccessChange, AccessKind, Caution, Plan};
use crate::context::PlanContext;
use crate::refusal::Result;
use crate::request::GuardOverrides;
use crate::sign_in::{Obstacle, SignIn, sign_in, sign_in_with_keys};
use crate::surroundings::{Keys, Origin, list_mentions};
use crate::table::{File, Group, Passwd, Record, Shadow};
use crate::value::{Day, Gid, PasswordField, Uid};

/// Judges what a plan does to access, stands before what must not happen unasked, and tells
/// the rest in the plan.
///
/// # Errors
/// The [`Refusal`](crate::refusal::Refusal) of a guard, which names the way round.
pub fn judge(context: PlanContext<'_>, mut plan: Plan, overrides: GuardOverrides) -> Result<Plan> {
    if plan.nothing {
        return Ok(plan);
    }
    let consequences = Consequences::of(context, &plan);
    guards::stand_before(context, &plan, &consequences, overrides)?;
    let Consequences { access, halves, .. } = consequences;
    plan.access = access;
    plan.cautions.extend(halves);
    Ok(plan)
}

/// What a plan does to access.
pub(crate) struct Consequences<'a> {
    /// What is told of it.
    pub access: Vec<AccessChange>,
    /// The accounts whose lines change, or who are in other groups afterwards.
    accounts: Vec<Affected<'a>>,
    /// What becomes of the lines of groups.
    groups: Vec<GroupChange<'a>>,
    /// What is left by half.
    halves: Vec<Caution>,
}

/// One account, before and after.
struct Affected<'a> {
    before: Option<Person<'a>>,
    after: Option<Person<'a>>,
    /// Whether its own lines or its keys change, and not only the groups that it is in.
    itself: bool,
    /// Whether it administers the machine by a group, where that was asked.
    was_admin: bool,
    is_admin: bool,
}

/// An account at one moment.
#[derive(Clone)]
struct Person<'a> {
    context: PlanContext<'a>,
    user: Passwd<'a>,
    /// Nothing where only the groups of the account change.
    shadow: Option<Shadow<'a>>,
    /// Of an account of which only the groups change judged when it is asked for.
    sign_in: Rc<OnceCell<SignIn>>,
}

impl Person<'_> {
    /// Judges the sign-in, with the keys that there are.
    fn judge(&self, keys: Keys) {
        self.sign_in.get_or_init(|| self.judged(keys));
    }

    fn judged(&self, keys: Keys) -> SignIn {
        let PlanContext { book, today, world, .. } = self.context;
        let (shadow, file) = (self.shadow.as_ref(), book.shadow_file());
        sign_in_with_keys(&self.user, shadow, file, today, world, keys)
    }

    fn sign_in(&self) -> &SignIn {
        let PlanContext { book, today, world, .. } = self.context;
        self.sign_in.get_or_init(|| {
            let shadow = book.shadow(self.user.name).map(|(_, shadow)| shadow);
            sign_in(&self.user, shadow.as_ref(), book.shadow_file(), today, world)
        })
    }

    fn can_sign_in(&self) -> bool {
        self.sign_in().by_password() || self.sign_in().by_key()
    }

    /// The uid; one that nobody has where the field is unreadable.
    fn uid(&self) -> Uid {
        self.user.uid().unwrap_or(Uid(u32::MAX))
    }

    /// The first day on which it no longer works.
    fn ends(&self) -> Option<Day> {
        self.shadow.and_then(|shadow| shadow.aging().expires)
    }

    /// Why the account itself is over, not only its password or its shell: then nothing
    /// starts under it any more.
    fn over(&self) -> Option<&Obstacle> {
        self.sign_in().both.iter().find(|obstacle| matches!(obstacle, Obstacle::Expired(_)))
    }

    fn is_root(&self) -> bool {
        self.user.uid() == Some(Uid::ROOT)
    }
}

impl<'a> Affected<'a> {
    /// What it is called afterwards, or was.
    fn name(&self) -> &'a [u8] {
        self.after.as_ref().or(self.before.as_ref()).map_or(b"", |person| person.user.name)
    }
}

impl<'a> Consequences<'a> {
    /// What is gained and lost, but for passwords that nobody was asked for and that are
    /// locked.
    pub fn but_for_open_passwords(&self) -> impl Iterator<Item = &AccessChange> {
        let open = self
            .accounts
            .iter()
            .filter(|account| account.before.as_ref().is_some_and(|person| person.sign_in().open));
        let open: HashSet<&[u8]> = open.map(Affected::name).collect();
        let locks = move |change: &&AccessChange| {
            matches!(change.kind, AccessKind::SignIn | AccessKind::Password)
                && !change.gains
                && open.contains(change.name.as_slice())
        };
        self.access.iter().filter(move |change| !locks(change))
    }

    /// Judges a plan.
    pub fn of(context: PlanContext<'a>, plan: &'a Plan) -> Self {
        let homes = Homes::after(context, &plan.steps);
        let groups = group_changes(&plan.edits);
        let mut members = Members::new();
        listed_otherwise(&groups, &mut members);
        let touched = touched(context, plan, &homes, &groups, &members);
        let mut accounts = Judging::accounts(context, plan, &homes, touched);
        regrouped(&groups, &accounts, &mut members);
        let memberships = Memberships::new(context, plan, &groups, &members, &accounts);
        for account in &mut accounts {
            account.was_admin = memberships.before.is_admin(account.before.as_ref());
            account.is_admin = memberships.after.is_admin(account.after.as_ref());
        }
        let mut access = Vec::new();
        for account in &accounts {
            if account.itself {
                tell_sign_in(account, &mut access);
            }
            memberships.tell(context, account, &members, &mut access);
        }
        leftovers::tell(context, plan, &mut access);
        // Where accounts come from files alone, nobody else is anybody.
        if context.world.origin() != Origin::FilesAlone {
            memberships.tell_strangers(&accounts, &members, &mut access);
        }
        access.sort_by(|one, other| one.name.cmp(&other.name));
        let mut consequences = Consequences { access, accounts, groups, halves: Vec::new() };
        consequences.halves = halves::cautions(context, plan, &consequences, &memberships);
        consequences
    }
}

/// Who is in other groups afterwards, and which gids it is about.
type Members<'a> = BTreeMap<&'a [u8], BTreeSet<u32>>;

/// Whom a plan touches.
struct Touched<'a> {
    /// Whose lines or keys change, by the names before and after.
    lines: BTreeMap<&'a [u8], Option<&'a [u8]>>,
    /// Who comes.
    come: BTreeSet<&'a [u8]>,
    /// Of whom only the groups change.
    members: Vec<&'a [u8]>,
}

/// Whom a plan touches. Left out are new accounts of whom there is nothing to tell: without
/// a password or a key, and in no group but their own.
fn touched<'a>(
    context: PlanContext<'a>,
    plan: &'a Plan,
    homes: &Homes<'_>,
    groups: &[GroupChange<'a>],
    members: &Members<'a>,
) -> Touched<'a> {
    let made = groups.iter().filter(|change| change.before.is_none());
    let made: HashSet<(&[u8], Option<Gid>)> =
        made.filter_map(|change| change.after).map(|group| (group.name, group.gid())).collect();
    let has_password = |line: &[u8]| {
        let field = Shadow::read(line).map(|shadow| shadow.field());
        matches!(field, Some(PasswordField::Set(_) | PasswordField::Open))
    };
    let edits = || plan.edits.iter();
    let shadow = edits().filter(|edit| edit.file == File::Shadow);
    let with_password: HashSet<&[u8]> = shadow
        .flat_map(|edit| edit.lines_after().map(|(_, line)| line))
        .filter(|line| has_password(line))
        .map(name_on)
        .collect();
    let is_plain = |line: &[u8]| {
        Passwd::read(line).is_some_and(|user| {
            user.is_shadowed()
                && user.uid() != Some(Uid::ROOT)
                && made.contains(&(user.name, user.gid()))
                && homes.is_made_without_keys(user.home)
                && !with_password.contains(user.name)
                && !members.contains_key(user.name)
        })
    };
    let (mut lines, mut come) = (BTreeMap::new(), BTreeSet::new());
    for edit in edits().filter(|edit| edit.file == File::Passwd) {
        let before = edit.before.as_ref().map(|line| name_on(line));
        let mut after = edit.lines_after().map(|(_, line)| line);
        if let Some(before) = before {
            let after = after.next().map(name_on);
            let known = lines.entry(before).or_insert(None);
            *known = after.or(*known);
        }
        come.extend(after.filter(|line| !is_plain(line)).map(name_on));
    }
    for edit in edits().filter(|edit| edit.file == File::Shadow && edit.before.is_some()) {
        let name = edit.before.as_ref().map_or(&b""[..], |line| name_on(line));
        lines.entry(name).or_insert(Some(name));
    }
    // What comes without having been there is a line anew, of an account that stays.
    for (before, after) in &mut lines {
        if come.remove(before) {
            *after = after.or(Some(before));
        }
    }
    for name in homes.owners(context.book) {
        lines.entry(name).or_insert(Some(name));
    }
    let renamed: HashSet<&[u8]> = lines.values().flatten().copied().collect();
    let is_known = |name: &&&[u8]| {
        come.contains(**name) || lines.contains_key(**name) || renamed.contains(**name)
    };
    let members = members.keys().filter(|name| !is_known(name)).copied().collect();
    Touched { lines, come, members }
}

/// Adds those who have another primary group. One that comes or goes with its user is nobody
/// else's.
fn regrouped<'a>(groups: &[GroupChange<'a>], accounts: &[Affected<'a>], members: &mut Members<'a>) {
    let own = groups.iter().filter(|change| change.before.is_none() || change.after.is_none());
    let own: HashSet<(&[u8], Option<Gid>)> = own
        .filter_map(|change| change.before.or(change.after))
        .map(|group| (group.name, group.gid()))
        .collect();
    for account in accounts.iter().filter(|account| account.itself) {
        let [before, after] = [&account.before, &account.after]
            .map(|person| person.as_ref().map(|person| (person.user.name, person.user.gid())));
        if before.map(|(_, gid)| gid) != after.map(|(_, gid)| gid) {
            let gids = [before, after].into_iter().flatten().filter(|of| !own.contains(of));
            let gids: Vec<u32> = gids.filter_map(|(_, gid)| Some(gid?.0)).collect();
            if !gids.is_empty() {
                members.entry(account.name()).or_default().extend(gids);
            }
        }
    }
}

/// Who is listed otherwise afterwards, and in the groups of which gids.
fn listed_otherwise<'a>(groups: &[GroupChange<'a>], members: &mut Members<'a>) {
    for GroupChange { before, after } in groups {
        let gid = |group: &Option<Group<'_>>| group.and_then(|group| group.gid());
        let same = gid(before) == gid(after) && before.map(|of| of.name) == after.map(|of| of.name);
        let [was, is] = [before, after].map(|group| group.map(ListedGroup::of));
        for (ours, others) in [(&was, &is), (&is, &was)] {
            let Some(ours) = ours else { continue };
            let Some(Gid(gid)) = ours.group.gid() else { continue };
            let stays = |name: &[u8]| same && others.as_ref().is_some_and(|all| all.lists(name));
            for name in ours.group.members().filter(|name| !stays(name)) {
                members.entry(name).or_default().insert(gid);
            }
        }
    }
}

/// What it takes to judge one account.
struct Judging<'j, 'a> {
    context: PlanContext<'a>,
    homes: &'j Homes<'a>,
    overlay: &'j Overlay<'a>,
}

impl<'a> Judging<'_, 'a> {
    /// The accounts that a plan touches, before and after.
    fn accounts(
        context: PlanContext<'a>,
        plan: &'a Plan,
        homes: &Homes<'a>,
        touched: Touched<'a>,
    ) -> Vec<Affected<'a>> {
        let Touched { lines, come, members } = touched;
        let wanted: HashSet<&[u8]> = lines.values().flatten().chain(&come).copied().collect();
        let overlay = Overlay::new(context.book, &plan.edits, |name| wanted.contains(name));
        let judging = Judging { context, homes, overlay: &overlay };
        let of_lines = lines.iter().map(|(before, after)| judging.account(Some(before), *after));
        of_lines
            .chain(come.iter().map(|name| judging.account(None, Some(name))))
            .chain(members.into_iter().filter_map(|name| judging.member(name)))
            .filter(|account| account.before.is_some() || account.after.is_some())
            .collect()
    }

    /// One of whom only the groups change.
    fn member(&self, name: &'a [u8]) -> Option<Affected<'a>> {
        let (_, user) = self.context.book.user(name)?;
        let person = self.person(user, None);
        let (before, after) = (Some(person.clone()), Some(person));
        Some(Affected { before, after, itself: false, was_admin: false, is_admin: false })
    }

    fn account(&self, before: Option<&'a [u8]>, after: Option<&'a [u8]>) -> Affected<'a> {
        let book = self.context.book;
        let of_book = |name: &[u8]| book.shadow(name).map(|(_, shadow)| shadow);
        let before = before.and_then(|name| book.user(name));
        let before = before.map(|(_, user)| self.person(user, of_book(user.name)));
        let after = after.and_then(|name| self.overlay.user::<Passwd<'a>>(name));
        let after = after.map(|user| self.person(user, self.overlay.shadow(user.name)));
        self.judge(before.as_ref(), after.as_ref());
        Affected { before, after, itself: true, was_admin: false, is_admin: false }
    }

    /// Judges the sign-in before and after.
    fn judge(&self, before: Option<&Person<'a>>, after: Option<&Person<'a>>) {
        // Which keys there are does not matter where a password let in, and where nothing
        // lets in any more.
        let unseen = |person: &Person<'a>| person.judged(Keys::Unknown("not looked at".to_owned()));
        let (was, is) = (before.map(unseen), after.map(unseen));
        let could = was.as_ref().is_some_and(SignIn::by_password);
        if could && is.as_ref().is_none_or(|is| !is.both.is_empty()) {
            for (person, sign_in) in [(before, was), (after, is)] {
                if let (Some(person), Some(sign_in)) = (person, sign_in) {
                    person.sign_in.get_or_init(|| sign_in);
                }
            }
            return;
        }
        let PlanContext { world, today, .. } = self.context;
        let home = |person: &Person<'a>| person.user.home;
        let known = before.map(|person| world.keys(home(person).into(), person.uid(), today));
        if let Some(person) = after {
            let stays = before.is_some_and(|before| {
                home(before) == home(person) && !self.homes.change(home(person))
            });
            let owner = before.unwrap_or(person).uid();
            person.judge(match &known {
                Some(known) if stays => known.clone(),
                _ => self.homes.keys(home(person).into(), owner),
            });
        }
        if let (Some(person), Some(known)) = (before, known) {
            person.judge(known);
        }
    }

    fn person(&self, user: Passwd<'a>, shadow: Option<Shadow<'a>>) -> Person<'a> {
        Person { context: self.context, user, shadow, sign_in: Rc::default() }
    }
}

/// Who can no longer sign in, and who can again.
fn tell_sign_in(account: &Affected<'_>, access: &mut Vec<AccessChange>) {
    let mut tell = |kind, gains, why: String| {
        let (name, group) = (account.name().into(), BString::default());
        access.push(AccessChange { name, kind, gains, group, why });
    };
    let (before, after) = (account.before.as_ref(), account.after.as_ref());
    let could = before.is_some_and(Person::can_sign_in);
    match after {
        None if could => tell(AccessKind::SignIn, false, "the account goes".to_owned()),
        None => {}
        Some(after) => {
            let (was, is) = (before.map(Person::sign_in), after.sign_in());
            let first = |all: &[Obstacle]| all.first().map(ToString::to_string);
            let password = was.is_some_and(SignIn::by_password);
            let key = was.is_some_and(SignIn::by_key);
            match (could, after.can_sign_in()) {
                (true, false) => {
                    let only = if password { &is.password } else { &is.key };
                    let why = first(&is.both).or_else(|| first(only)).unwrap_or_default();
                    tell(AccessKind::SignIn, false, why);
                }
                (false, true) => {
                    let again = if before.is_some() { "again " } else { "" };
                    let by = match (is.by_password(), is.by_key()) {
                        (true, true) => "by password and by key",
                        (true, false) if is.open => "without a password",
                        (true, false) => "by password",
                        _ => "by key",
                    };
                    tell(AccessKind::SignIn, true, format!("{again}{by}"));
                }
                (true, true) => {
                    for (kind, had, has, obstacles) in [
                        (AccessKind::Password, password, is.by_password(), &is.password),
                        (AccessKind::Key, key, is.by_key(), &is.key),
                    ] {
                        match (had, has) {
                            (true, false) => {
                                tell(kind, false, first(obstacles).unwrap_or_default())
                            }
                            (false, true) => tell(kind, true, String::new()),
                            _ => {}
                        }
                    }
                }
                (false, false) => {}
            }
        }
    }
    match [before, after].map(|person| person.is_some_and(Person::is_root)) {
        [true, false] => tell(AccessKind::Root, false, String::new()),
        [false, true] => tell(AccessKind::Root, true, String::new()),
        _ => {}
    }
}

/// Of so many groups that go it is asked whether others have their gids.
const FEW_GROUPS: usize = 64;

/// The groups that are at stake, before and after.
struct Memberships<'a> {
    before: Groups<'a>,
    after: Groups<'a>,
}

impl<'a> Memberships<'a> {
    fn new(
        context: PlanContext<'a>,
        plan: &'a Plan,
        groups: &[GroupChange<'a>],
        members: &Members<'_>,
        accounts: &[Affected<'a>],
    ) -> Self {
        let mut gids: BTreeSet<u32> = members.values().flatten().copied().collect();
        // Another group may have the gid of one that goes.
        let names: HashSet<&[u8]> = accounts.iter().map(Affected::name).collect();
        let own = |group: &Group<'_>| names.contains(group.name);
        let gone = groups.iter().filter(|change| change.after.is_none());
        let gone = gone.filter_map(|change| change.before).take(FEW_GROUPS);
        gids.extend(gone.filter(|group| !own(group)).filter_map(|group| Some(group.gid()?.0)));
        let (mut before, mut after) = (Groups::default(), Groups::default());
        let mut add = |gids: &BTreeSet<u32>| {
            Groups::add_all(context, &plan.edits, groups, gids, (&mut before, &mut after));
            before.has_admins() || after.has_admins()
        };
        let at_stake = add(&gids);
        // Whether somebody administers the machine all the same is only asked where it
        // matters.
        let loses = |account: &Affected<'_>| {
            let can =
                |person: &Option<Person<'_>>| person.as_ref().is_some_and(Person::can_sign_in);
            account.itself
                && can(&account.before)
                && (!can(&account.after) || account.end_set().is_some())
        };
        if at_stake || accounts.iter().any(loses) {
            let of_admins = admin_groups(context.book, context.policy);
            let others = of_admins.iter().filter_map(Group::gid).map(u32::from);
            add(&others.filter(|gid| !gids.contains(gid)).collect());
        }
        Memberships { before, after }
    }

    /// Tells which groups an account is in afterwards, and which no longer.
    fn tell(
        &self,
        context: PlanContext<'_>,
        account: &Affected<'a>,
        members: &Members<'a>,
        access: &mut Vec<AccessChange>,
    ) {
        let policy = context.policy;
        let name = account.name();
        let (before, after) = (account.before.as_ref(), account.after.as_ref());
        if account.was_admin != account.is_admin {
            let groups = if account.is_admin { &self.after } else { &self.before };
            let person = if account.is_admin { after } else { before };
            let group = person.and_then(|person| groups.admin_group_of(context, person));
            let group = group.unwrap_or_default();
            let why = match account.is_admin {
                true => by_line(context, group.as_ref()),
                false => String::new(),
            };
            let (kind, gains) = (AccessKind::Administrator, account.is_admin);
            access.push(AccessChange { name: name.into(), kind, gains, group, why });
        }
        let names = before.map(|person| person.user.name).into_iter().chain([name]);
        let gids: BTreeSet<u32> =
            names.filter_map(|name| members.get(name)).flatten().copied().collect();
        let sides = [(&self.before, before), (&self.after, after)];
        let [was, is] = sides.map(|(groups, person)| {
            let given = gids.iter().filter(|gid| {
                person
                    .is_some_and(|person| groups.gives(**gid, person.user.name, person.user.gid()))
            });
            given.flat_map(|gid| groups.of(*gid)).collect::<Vec<&ListedGroup<'a>>>()
        });
        let is_told = |group: &Group<'_>| {
            account.was_admin != account.is_admin && policy.makes_admins(group.name)
        };
        let is_special =
            |group: &Group<'_>| policy.is_like_root(group.name) || policy.makes_admins(group.name);
        // A group that is called otherwise, or has another gid, is the same one; but for what
        // its name gives.
        let is_same = |one: &Group<'_>, other: &Group<'_>| match is_special(one) {
            true => other.name == one.name,
            false => other.is_same(one),
        };
        for (ours, others, gains) in [(&is, &was, true), (&was, &is, false)] {
            for listed in ours {
                let group = &listed.group;
                if is_told(group) || others.iter().any(|other| is_same(group, &other.group)) {
                    continue;
                }
                let by_what = |person: &Person<'_>| {
                    self.after.by_what(listed, person.user.name, person.user.gid())
                };
                let kind = match policy.is_like_root(group.name) {
                    true => AccessKind::LikeRoot,
                    false => AccessKind::Group,
                };
                let why = after.filter(|_| gains).map(by_what).unwrap_or_default();
                let (name, group) = (name.into(), group.name.into());
                access.push(AccessChange { name, kind, gains, group, why });
            }
        }
    }

    /// Tells of members that the account files do not know: a directory's users.
    fn tell_strangers(
        &self,
        accounts: &[Affected<'a>],
        members: &Members<'a>,
        access: &mut Vec<AccessChange>,
    ) {
        let people = accounts.iter().flat_map(|account| [&account.before, &account.after]);
        let known: HashSet<&[u8]> = people.flatten().map(|person| person.user.name).collect();
        for (name, gids) in members.iter().filter(|(name, _)| !known.contains(*name)) {
            for gid in gids {
                let [was, is] =
                    [&self.before, &self.after].map(|groups| groups.gives(*gid, name, None));
                let groups = if is { &self.after } else { &self.before };
                if was == is {
                    continue;
                }
                for listed in groups.of(*gid).iter().filter(|listed| listed.lists(name)) {
                    let (name, group) = ((*name).into(), listed.group.name.into());
                    let (kind, why) = (AccessKind::Group, String::new());
                    access.push(AccessChange { name, kind, gains: is, group, why });
                }
            }
        }
    }
}

impl Groups<'_> {
    /// The administrators' group that an account is in.
    fn admin_group_of(&self, context: PlanContext<'_>, person: &Person<'_>) -> Option<BString> {
        let gid = self.admin_gid(person.user.name, person.user.gid())?;
        let mut names = self.of(gid).iter().map(|listed| listed.group.name);
        names.find(|name| context.policy.makes_admins(name)).map(BString::from)
    }

    fn is_admin(&self, person: Option<&Person<'_>>) -> bool {
        person.is_some_and(|person| self.admin_gid(person.user.name, person.user.gid()).is_some())
    }
}

/// The lines that give a group's members the right to administer, in words.
fn by_line(context: PlanContext<'_>, group: &BStr) -> String {
    let mut places = context.world.mentions_of_group(group);
    places.retain(|place| place.file.starts_with("etc/sudoers"));
    match places.is_empty() {
        true => format!("by the group {group}"),
        false => format!("by {} %{group}", list_mentions(&places)),
    }
}
