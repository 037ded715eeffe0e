//! What a plan does to access: who gains and who loses it, whichever request the plan comes
//! from. Only the accounts are judged that it touches, from the account files before and
//! after its edits, and from the tree before and after its steps.
//!
//! - [`overlay`]: the lines of some accounts as the edits leave them
//! - [`homes`]: which keys there will be
//! - [`memberships`]: who is in which group, before and after
//! - [`guards`]: what must not happen unasked

mod guards;
mod homes;
mod memberships;
mod overlay;

#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet};

use bstr::{BStr, BString};
use hashbrown::HashSet;

use self::homes::Homes;
use self::memberships::{GroupChange, Groups, group_changes};
use self::overlay::{Overlay, name_on};
use crate::account::admin_groups;
use crate::change::{AccessChange, AccessKind, Plan};
use crate::context::PlanContext;
use crate::refusal::Result;
use crate::request::GuardOverrides;
use crate::sign_in::{Obstacle, SignIn, sign_in_with_keys};
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
    plan.access = consequences.access;
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
}

/// One account, before and after.
struct Affected<'a> {
    before: Option<Person<'a>>,
    after: Option<Person<'a>>,
    /// Whether it administers the machine by a group, where that was asked.
    was_admin: bool,
    is_admin: bool,
}

/// An account at one moment.
struct Person<'a> {
    user: Passwd<'a>,
    sign_in: SignIn,
    /// The first day on which it no longer works.
    ends: Option<Day>,
}

impl Person<'_> {
    fn can_sign_in(&self) -> bool {
        self.sign_in.by_password() || self.sign_in.by_key()
    }

    /// Why the account itself is over, not only its password or its shell: then nothing
    /// starts under it any more.
    fn over(&self) -> Option<&Obstacle> {
        self.sign_in.both.iter().find(|obstacle| matches!(obstacle, Obstacle::Expired(_)))
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

/// Whose lines a plan changes, by the names before and after.
type Touched<'a> = BTreeMap<&'a [u8], Option<&'a [u8]>>;

impl<'a> Consequences<'a> {
    /// What is gained and lost, but for passwords that nobody was asked for and that are
    /// locked.
    pub fn but_for_open_passwords(&self) -> impl Iterator<Item = &AccessChange> {
        let open = self
            .accounts
            .iter()
            .filter(|account| account.before.as_ref().is_some_and(|person| person.sign_in.open));
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
        let (mut touched, came) = touched(plan, &homes, &groups);
        for name in homes.owners(context.book) {
            touched.entry(name).or_insert(Some(name));
        }
        let mut members: BTreeMap<&[u8], BTreeSet<u32>> = BTreeMap::new();
        listed_otherwise(&groups, &mut members);
        for name in members.keys() {
            if !came.contains(name) && !touched.values().any(|after| *after == Some(*name)) {
                touched.entry(name).or_insert(Some(name));
            }
        }
        let wanted: HashSet<&[u8]> =
            touched.values().flatten().chain(&came).chain(members.keys()).copied().collect();
        let overlay = Overlay::new(context.book, &plan.edits, |name| wanted.contains(name));
        let judging = Judging { context, homes: &homes, overlay: &overlay };
        let mut accounts: Vec<Affected<'a>> = touched
            .iter()
            .map(|(before, after)| judging.account(Some(before), *after))
            .chain(came.iter().map(|name| judging.account(None, Some(name))))
            .filter(|account| account.before.is_some() || account.after.is_some())
            .collect();
        // A primary group that comes or goes with its user is nobody else's.
        let own: HashSet<(&[u8], Option<Gid>)> = groups
            .iter()
            .filter(|change| change.before.is_none() || change.after.is_none())
            .filter_map(|change| change.before.or(change.after))
            .map(|group| (group.name, group.gid()))
            .collect();
        for account in &accounts {
            let [before, after] = [&account.before, &account.after]
                .map(|person| person.as_ref().map(|person| (person.user.name, person.user.gid())));
            if before.map(|(_, gid)| gid) != after.map(|(_, gid)| gid) {
                let gids = [before, after].into_iter().flatten().filter(|of| !own.contains(of));
                let gids: Vec<u32> = gids.filter_map(|(_, gid)| Some(gid?.0)).collect();
                members.entry(account.name()).or_default().extend(gids);
            }
        }
        let memberships = Memberships::new(context, plan, &groups, &members, &accounts);
        for account in &mut accounts {
            account.was_admin = memberships.before.is_admin(context, account.before.as_ref());
            account.is_admin = memberships.after.is_admin(context, account.after.as_ref());
        }
        let mut access = Vec::new();
        for account in &accounts {
            tell_sign_in(account, &mut access);
            memberships.tell(context, account, &members, &mut access);
        }
        // Where accounts come from files alone, nobody else is anybody.
        if context.world.origin() != Origin::FilesAlone {
            memberships.tell_strangers(&accounts, &members, &mut access);
        }
        access.sort_by(|one, other| one.name.cmp(&other.name));
        Consequences { access, accounts, groups }
    }
}

/// The accounts whose lines a plan changes, by their names before and after, and those that
/// come. Left out are new ones of whom there is nothing to tell: without a password or a
/// key, and in no group but their own.
fn touched<'a>(
    plan: &'a Plan,
    homes: &Homes<'_>,
    groups: &[GroupChange<'a>],
) -> (Touched<'a>, BTreeSet<&'a [u8]>) {
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
        })
    };
    let (mut touched, mut came) = (Touched::new(), BTreeSet::new());
    for edit in edits().filter(|edit| edit.file == File::Passwd) {
        let before = edit.before.as_ref().map(|line| name_on(line));
        let mut after = edit.lines_after().map(|(_, line)| line);
        if let Some(before) = before {
            let after = after.next().map(name_on);
            let known = touched.entry(before).or_insert(None);
            *known = after.or(*known);
        }
        came.extend(after.filter(|line| !is_plain(line)).map(name_on));
    }
    for edit in edits().filter(|edit| edit.file == File::Shadow && edit.before.is_some()) {
        let name = edit.before.as_ref().map_or(&b""[..], |line| name_on(line));
        touched.entry(name).or_insert(Some(name));
    }
    // What comes without having been there is a line anew, of an account that stays.
    for (before, after) in &mut touched {
        if came.remove(before) {
            *after = after.or(Some(before));
        }
    }
    (touched, came)
}

/// Who is listed otherwise afterwards, and in the groups of which gids.
fn listed_otherwise<'a>(
    groups: &[GroupChange<'a>],
    members: &mut BTreeMap<&'a [u8], BTreeSet<u32>>,
) {
    for GroupChange { before, after } in groups {
        let gid = |group: &Option<Group<'_>>| group.and_then(|group| group.gid());
        let names = |group: &Option<Group<'a>>| -> HashSet<&'a [u8]> {
            group.iter().flat_map(Group::members).collect()
        };
        let (was, is) = (names(before), names(after));
        let same = gid(before) == gid(after) && before.map(|of| of.name) == after.map(|of| of.name);
        for (all, others, gid) in [(&was, &is, gid(before)), (&is, &was, gid(after))] {
            let Some(Gid(gid)) = gid else { continue };
            for name in all.iter().filter(|name| !same || !others.contains(*name)) {
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
    fn account(&self, before: Option<&'a [u8]>, after: Option<&'a [u8]>) -> Affected<'a> {
        let PlanContext { book, world, .. } = self.context;
        let uid_of = |user: &Passwd<'_>| user.uid().unwrap_or(Uid(u32::MAX));
        let was = before.and_then(|name| book.user(name)).map(|(_, user)| {
            let keys = world.keys(user.home.into(), uid_of(&user));
            self.person(user, book.shadow(user.name).map(|(_, shadow)| shadow), keys)
        });
        let is = after.and_then(|name| self.overlay.user::<Passwd<'a>>(name)).map(|user| {
            let owner = was.as_ref().map_or(uid_of(&user), |person| uid_of(&person.user));
            let keys = self.homes.keys(user.home.into(), owner);
            self.person(user, self.overlay.shadow(user.name), keys)
        });
        Affected { before: was, after: is, was_admin: false, is_admin: false }
    }

    fn person(&self, user: Passwd<'a>, shadow: Option<Shadow<'a>>, keys: Keys) -> Person<'a> {
        let PlanContext { book, today, world, .. } = self.context;
        let has_shadow = book.shadow.is_some();
        let sign_in = sign_in_with_keys(&user, shadow.as_ref(), has_shadow, today, world, keys);
        let ends = shadow.and_then(|shadow| shadow.aging().expires);
        Person { user, sign_in, ends }
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
            let (was, is) = (before.map(|person| &person.sign_in), &after.sign_in);
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
        members: &BTreeMap<&[u8], BTreeSet<u32>>,
        accounts: &[Affected<'a>],
    ) -> Self {
        let mut gids: BTreeSet<u32> = members.values().flatten().copied().collect();
        let PlanContext { book, policy, .. } = context;
        let of = |gids: &BTreeSet<u32>| Groups::before_and_after(book, &plan.edits, groups, gids);
        let (mut before, mut after) = of(&gids);
        // Whether somebody administers the machine all the same is only asked where it
        // matters.
        let loses = |account: &Affected<'_>| {
            let can =
                |person: &Option<Person<'_>>| person.as_ref().is_some_and(Person::can_sign_in);
            can(&account.before) && (!can(&account.after) || account.end_set().is_some())
        };
        if accounts.iter().any(loses) || before.has_admins(context) || after.has_admins(context) {
            let known: Vec<u32> =
                admin_groups(book, policy).iter().filter_map(Group::gid).map(u32::from).collect();
            gids.extend(known);
            (before, after) = of(&gids);
        }
        Memberships { before, after }
    }

    /// Tells which groups an account is in afterwards, and which no longer.
    fn tell(
        &self,
        context: PlanContext<'_>,
        account: &Affected<'a>,
        members: &BTreeMap<&'a [u8], BTreeSet<u32>>,
        access: &mut Vec<AccessChange>,
    ) {
        let policy = context.policy;
        let name = account.name();
        let (before, after) = (account.before.as_ref(), account.after.as_ref());
        if account.was_admin != account.is_admin {
            let groups = if account.is_admin { &self.after } else { &self.before };
            let person = if account.is_admin { after } else { before };
            let group = groups.admin_group_of(context, person).unwrap_or_default();
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
            given.flat_map(|gid| groups.of(*gid)).copied().collect::<Vec<Group<'a>>>()
        });
        let is_told = |group: &Group<'_>| {
            account.was_admin != account.is_admin && policy.makes_admins(group.name)
        };
        for (ours, others, gains) in [(&is, &was, true), (&was, &is, false)] {
            let differs = |group: &&Group<'_>| {
                let same = |other: &Group<'_>| match policy.is_like_root(group.name)
                    || policy.makes_admins(group.name)
                {
                    true => other.name == group.name,
                    // A group that is called otherwise, or has another gid, is the same one.
                    false => other.is_same(group),
                };
                !others.iter().any(same)
            };
            for group in ours.iter().filter(differs).filter(|group| !is_told(group)) {
                let why = after
                    .filter(|_| gains)
                    .map(|person| self.after.by_what(group, person.user.name, person.user.gid()));
                let why = why.unwrap_or_default();
                access.push(AccessChange {
                    name: name.into(),
                    kind: match policy.is_like_root(group.name) {
                        true => AccessKind::LikeRoot,
                        false => AccessKind::Group,
                    },
                    gains,
                    group: group.name.into(),
                    why,
                });
            }
        }
    }

    /// Tells of members that the account files do not know: a directory's users.
    fn tell_strangers(
        &self,
        accounts: &[Affected<'a>],
        members: &BTreeMap<&'a [u8], BTreeSet<u32>>,
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
                let lists = |group: &&Group<'_>| group.members().any(|member| member == *name);
                for group in groups.of(*gid).iter().filter(lists) {
                    let (name, group) = ((*name).into(), group.name.into());
                    let (kind, why) = (AccessKind::Group, String::new());
                    access.push(AccessChange { name, kind, gains: is, group, why });
                }
            }
        }
    }
}

impl Groups<'_> {
    /// Whether one of these groups makes administrators.
    fn has_admins(&self, context: PlanContext<'_>) -> bool {
        self.gids()
            .any(|gid| self.of(gid).iter().any(|group| context.policy.makes_admins(group.name)))
    }

    /// The administrators' group that an account is in.
    fn admin_group_of(
        &self,
        context: PlanContext<'_>,
        person: Option<&Person<'_>>,
    ) -> Option<BString> {
        let user = person?.user;
        let mut given = self.gids().filter(|gid| self.gives(*gid, user.name, user.gid()));
        given.find_map(|gid| {
            let makes = |group: &&Group<'_>| context.policy.makes_admins(group.name);
            self.of(gid).iter().find(makes).map(|group| group.name.into())
        })
    }

    fn is_admin(&self, context: PlanContext<'_>, person: Option<&Person<'_>>) -> bool {
        self.admin_group_of(context, person).is_some()
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
