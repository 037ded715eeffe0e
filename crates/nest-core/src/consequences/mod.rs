//! What a plan does to access: who gains and who loses it, whichever request the plan comes
//! from. Only the accounts are judged that it touches, from the account files before and
//! after its edits, and from the tree before and after its steps.
//!
//! - `overlay`: the lines of some accounts as the edits leave them
//! - `homes`: which keys there will be
//! - `touched`: whom a plan touches
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
mod touched;

#[cfg(test)]
mod tests;

use std::sync::{Arc, OnceLock};

use bstr::BString;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use self::homes::Homes;
use self::memberships::{GroupChange, GroupsAfter, Memberships, group_changes};
use self::overlay::Overlay;
use self::touched::{Members, Touched, listed_otherwise, regrouped, renamed_for, told_of, touched};
use crate::change::{AccessChange, AccessKind, Caution, Plan, Step, TextEdit};
use crate::configuration::EditedFiles;
use crate::context::PlanContext;
use crate::ownership::Reown;
use crate::refusal::Result;
use crate::request::GuardOverrides;
use crate::sign_in::{Obstacle, Question, SignIn, gids_of, sign_in_by_book};
use crate::ssh::Rules;
use crate::surroundings::{Keys, Origin};
use crate::table::{File, Passwd, Shadow};
use crate::value::{Day, Gid, Uid};
use crate::windows::{Windows, edits_windows};

/// Judges what a plan does to access, stands before what must not happen unasked, and tells
/// the rest in the plan.
///
/// # Errors
/// The [`Refusal`](crate::refusal::Refusal) of a guard, which names the way round.
pub fn judge(context: PlanContext<'_>, mut plan: Plan, overrides: GuardOverrides) -> Result<Plan> {
    if plan.nothing {
        return Ok(plan);
    }
    let (access, halves, sign_ins) = {
        let consequences = Consequences::of(context, &plan);
        guards::stand_before(context, &plan, &consequences, overrides)?;
        let sign_ins = consequences.sign_ins(&plan);
        let Consequences { access, accounts, halves, .. } = consequences;
        // Of very many that too is done side by side.
        accounts.into_par_iter().with_min_len(MANY).for_each(drop);
        (access, halves, sign_ins)
    };
    plan.access = access;
    for subject in &mut plan.subjects {
        if let Some(sentence) = sign_ins.get(&subject.name) {
            subject.tell_sign_in(sentence);
        }
    }
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
    groups: Arc<[GroupChange<'a>]>,
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

/// The shadow line of an account.
#[derive(Clone, Copy)]
enum ShadowOf<'a> {
    /// The one of the book, which is looked up when it is asked for.
    Book,
    /// This one.
    Known(Option<Shadow<'a>>),
}

/// An account at one moment.
#[derive(Clone)]
struct Person<'a> {
    context: PlanContext<'a>,
    user: Passwd<'a>,
    shadow: ShadowOf<'a>,
    /// The groups as they are afterwards; nothing before that.
    regrouped: Option<Arc<GroupsAfter<'a>>>,
    /// The rules about hours and places, where the plan edits them; nothing before that.
    windows: Option<Arc<Windows>>,
    /// Of an account of which only the groups change judged when it is asked for.
    sign_in: Arc<OnceLock<Box<SignIn>>>,
}

impl<'a> Person<'a> {
    fn groups(&self) -> Vec<(Gid, &'a [u8])> {
        match &self.regrouped {
            None => gids_of(self.context, &self.user, self.user.name),
            Some(after) => after.gids_of(self.context, &self.user),
        }
    }

    /// Asks whether it can sign in, with the keys that are found.
    fn judged(&self, keys: impl FnOnce(&Question<'_, '_>, &Rules) -> Keys) -> SignIn {
        let groups = || self.groups();
        let (context, user, shadow) = (self.context, self.user, self.shadow());
        let windows = self.windows.as_deref();
        let question = Question { context, windows, user, shadow, groups: &groups };
        let rules = question.rules();
        question.judge(&rules, keys(&question, &rules))
    }

    fn shadow(&self) -> Option<Shadow<'a>> {
        match self.shadow {
            ShadowOf::Book => self.context.book.shadow(self.user.name).map(|(_, shadow)| shadow),
            ShadowOf::Known(shadow) => shadow,
        }
    }

    fn sign_in(&self) -> &SignIn {
        self.sign_in.get_or_init(|| Box::new(sign_in_by_book(self.context, self.user)))
    }

    fn can_sign_in(&self) -> bool {
        self.sign_in().is_possible()
    }

    /// Whether more than a fixed command can be done under it.
    fn can_work(&self) -> bool {
        self.sign_in().is_free()
    }

    /// The uid; one that nobody has where the field is unreadable.
    fn uid(&self) -> Uid {
        self.user.uid().unwrap_or(Uid(u32::MAX))
    }

    /// The first day on which it no longer works.
    fn ends(&self) -> Option<Day> {
        self.shadow().and_then(|shadow| shadow.aging().expires)
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

    /// Whether accounts can sign in afterwards, where that is to be told.
    fn sign_ins(&self, plan: &Plan) -> HashMap<BString, String> {
        let asked = told_of(plan);
        let after = self.accounts.iter().filter_map(|account| account.after.as_ref());
        let asked = after.filter(|person| asked.contains(person.user.name));
        asked.map(|person| (person.user.name.into(), person.sign_in().sentence())).collect()
    }

    /// Judges a plan.
    pub fn of(context: PlanContext<'a>, plan: &'a Plan) -> Self {
        let homes = Homes::after(context, &plan.steps);
        let groups: Arc<[GroupChange<'_>]> = group_changes(&plan.edits).into();
        let mut members = Members::new();
        listed_otherwise(&groups, &mut members);
        renamed_for(context, &groups, &mut members);
        let touched = touched(context, plan, &homes, &groups, &members);
        let mut accounts = Judging::accounts(context, plan, &homes, touched, (&groups, &members));
        regrouped(&groups, &accounts, &mut members);
        let memberships = Memberships::new(context, plan, &groups, &members, &accounts);
        accounts.par_iter_mut().with_min_len(MANY).for_each(|account| {
            account.was_admin = memberships.before.is_admin(account.before.as_ref());
            account.is_admin = memberships.after.is_admin(account.after.as_ref());
        });
        let told: Vec<Vec<AccessChange>> = accounts
            .par_chunks(MANY)
            .map(|some| {
                let mut access = Vec::new();
                for account in some {
                    if account.itself {
                        tell_sign_in(account, &mut access);
                    }
                    memberships.tell(context, account, &members, &mut access);
                }
                access
            })
            .collect();
        let mut access: Vec<AccessChange> = told.into_iter().flatten().collect();
        leftovers::tell(context, plan, &mut access);
        // Where accounts come from files alone, nobody else is anybody.
        if context.world.origin() != Origin::FilesAlone {
            memberships.tell_strangers(&accounts, &members, &mut access);
        }
        access.par_sort_by(|one, other| one.name.cmp(&other.name));
        let mut consequences = Consequences { access, accounts, groups, halves: Vec::new() };
        consequences.halves = halves::cautions(context, plan, &consequences, &memberships);
        consequences
    }
}

/// From so many accounts on they are judged side by side.
const MANY: usize = 256;

/// What it takes to judge one account.
struct Judging<'j, 'a> {
    context: PlanContext<'a>,
    homes: &'j Homes<'a>,
    overlay: &'j Overlay<'a>,
    members: &'j Members<'a>,
    groups: Arc<GroupsAfter<'a>>,
    /// Whether lines of `shadow` change.
    edits_shadow: bool,
    /// Files that go with the numbers of their accounts.
    follows: Vec<&'j Reown>,
    /// The rules about hours and places, where the plan edits them.
    windows: Option<Arc<Windows>>,
}

impl<'a> Judging<'_, 'a> {
    /// The accounts that a plan touches, before and after.
    fn accounts(
        context: PlanContext<'a>,
        plan: &'a Plan,
        homes: &Homes<'a>,
        touched: Touched<'a>,
        (groups, members): (&Arc<[GroupChange<'a>]>, &Members<'a>),
    ) -> Vec<Affected<'a>> {
        let Touched { mut lines, come, mut wanted, members: mut regrouped } = touched;
        // Where the SSH server lets in by groups, whoever changes them may be let in or not.
        if context.world.ssh().asks_for_groups() || context.world.windows().asks_for_groups() {
            wanted.extend(&regrouped);
            lines.extend(regrouped.drain(..).map(|name| (name, Some(name))));
        }
        let overlay = Overlay::new(context.book, &plan.edits, &wanted);
        let groups = Arc::new(GroupsAfter::new(Arc::clone(groups)));
        let follows = plan.steps.iter().filter_map(|step| match step {
            Step::Reown(reown) if reown.follows => Some(reown),
            _ => None,
        });
        let follows: Vec<&Reown> = match context.world.ssh().finds_keys_by_uid() {
            true => Vec::new(),
            false => follows.collect(),
        };
        let overlay = &overlay;
        let edits_shadow = plan.edits.iter().any(|edit| edit.file == File::Shadow);
        let windows = windows_after(context, plan);
        let judging =
            Judging { context, homes, overlay, members, groups, edits_shadow, follows, windows };
        let of_lines = lines.iter().map(|(before, after)| (Some(*before), *after));
        let all: Vec<_> = of_lines.chain(come.iter().map(|name| (None, Some(*name)))).collect();
        let judge =
            |(before, after): (Option<&'a [u8]>, Option<&'a [u8]>)| judging.account(before, after);
        let mut judged: Vec<Affected<'a>> = match all.len() >= MANY {
            true => all.into_par_iter().map(judge).collect(),
            false => all.into_iter().map(judge).collect(),
        };
        judged.retain(|account| account.before.is_some() || account.after.is_some());
        judged.extend(regrouped.into_iter().filter_map(|name| judging.member(name)));
        judged
    }

    /// One of whom only the groups change.
    fn member(&self, name: &'a [u8]) -> Option<Affected<'a>> {
        let (_, user) = self.context.book.user(name)?;
        let person = self.person(user, ShadowOf::Book);
        let (before, after) = (Some(person.clone()), Some(person));
        Some(Affected { before, after, itself: false, was_admin: false, is_admin: false })
    }

    fn account(&self, before: Option<&'a [u8]>, after: Option<&'a [u8]>) -> Affected<'a> {
        let book = self.context.book;
        let before = before.and_then(|name| book.user(name));
        let shadow = |name: &[u8]| match self.edits_shadow {
            true => ShadowOf::Known(book.shadow(name).map(|(_, shadow)| shadow)),
            false => ShadowOf::Book,
        };
        let before = before.map(|(_, user)| self.person(user, shadow(user.name)));
        let after = after.and_then(|name| self.overlay.user::<Passwd<'a>>(name));
        let after = after.map(|user| {
            let groups = Some(Arc::clone(&self.groups));
            let shadow = match self.edits_shadow {
                true => ShadowOf::Known(self.overlay.shadow(user.name)),
                false => ShadowOf::Book,
            };
            let windows = self.windows.clone();
            Person { regrouped: groups, windows, ..self.person(user, shadow) }
        });
        let both = before.as_ref().zip(after.as_ref());
        let itself = !both.is_some_and(|(before, after)| self.is_only_renumbered(before, after));
        if itself {
            self.judge(before.as_ref(), after.as_ref());
        }
        Affected { before, after, itself, was_admin: false, is_admin: false }
    }

    /// Judges the sign-in before and after.
    fn judge(&self, before: Option<&Person<'a>>, after: Option<&Person<'a>>) {
        // Which keys there are does not matter where a password let in, and where nothing
        // lets in any more.
        let unseen =
            |person: &Person<'a>| person.judged(|_, _| Keys::Unknown("not looked at".to_owned()));
        // Of who comes anew nothing is lost, and keys are looked for in any case.
        let is = before.and(after).map(unseen);
        let was = before.map(unseen);
        let could = was.as_ref().is_some_and(SignIn::by_password);
        if could && is.as_ref().is_none_or(|is| !is.both.is_empty()) {
            for (person, sign_in) in [(before, was), (after, is)] {
                if let (Some(person), Some(sign_in)) = (person, sign_in) {
                    person.sign_in.get_or_init(|| Box::new(sign_in));
                }
            }
            return;
        }
        // Where nothing that keys are found by changes, they are looked for once.
        let by_what = |person: &Person<'a>| (person.user.home, person.user.name);
        let numbers = |person: &Person<'a>| (Some(person.uid()), person.user.gid());
        let stays = before.zip(after).is_some_and(|(before, after)| {
            by_what(before) == by_what(after) && !self.homes.change(before.user.home)
        });
        let same = stays
            && before.map(|person| self.followed(person)) == after.map(numbers)
            && !after.is_some_and(|person| self.members.contains_key(person.user.name));
        let stays = stays && before.map(Person::uid) == after.map(Person::uid);
        // Nor do they matter where a password lets in before and after, and none is lost, or
        // where nothing lets in at either time.
        let closed =
            |sign_in: &Option<SignIn>| sign_in.as_ref().is_some_and(|it| !it.both.is_empty());
        let stays_open = could && is.as_ref().is_some_and(SignIn::by_password);
        if same && (stays_open || closed(&was) && closed(&is)) {
            for (person, sign_in) in [(before, was), (after, is)] {
                if let (Some(person), Some(sign_in)) = (person, sign_in) {
                    person.sign_in.get_or_init(|| Box::new(sign_in));
                }
            }
            return;
        }
        let mut known = None;
        if let Some(person) = before {
            person.sign_in.get_or_init(|| {
                Box::new(person.judged(|question, rules| {
                    known = Some(question.keys(rules));
                    known.clone().expect("BUG: it was set a line ago")
                }))
            });
        }
        if let Some(person) = after {
            let owner = before.unwrap_or(person).uid();
            person.sign_in.get_or_init(|| {
                Box::new(person.judged(|question, rules| match known {
                    // Nor do its groups change, by which they are read.
                    Some(known) if same => known,
                    _ if stays => question.keys(rules),
                    _ => self.homes.keys(question, rules, owner),
                }))
            });
        }
    }

    /// Whether nothing but numbers of an account become others, and its files go along: then it
    /// can sign in as before.
    fn is_only_renumbered(&self, before: &Person<'a>, after: &Person<'a>) -> bool {
        let numbers = (Some(after.uid()), after.user.gid());
        let same = Passwd { uid: after.user.uid, gid: after.user.gid, ..before.user };
        !self.follows.is_empty()
            && same == after.user
            && (!self.edits_shadow || before.shadow() == after.shadow())
            && !before.is_root()
            && !after.is_root()
            && self.followed(before) == numbers
            && !self.homes.change(before.user.home)
            && !self.members.contains_key(before.user.name)
    }

    /// The uid and the gid that the files of an account carry after the plan, where they go
    /// with it.
    fn followed(&self, person: &Person<'a>) -> (Option<Uid>, Option<Gid>) {
        let (uid, gid) = (person.uid(), person.user.gid());
        let holds = |reown: &&&Reown| {
            reown.paths.iter().any(|path| {
                let rest = person.user.home.strip_prefix(path.strip_suffix(b"/").unwrap_or(path));
                rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
            })
        };
        let mut follows = self.follows.iter().filter(holds);
        let new = follows.clone().find_map(|reown| reown.uids.get(uid.0)).map(Uid);
        let other = gid.and_then(|gid| follows.find_map(|reown| reown.gids.get(gid.0))).map(Gid);
        (Some(new.unwrap_or(uid)), other.or(gid))
    }

    fn person(&self, user: Passwd<'a>, shadow: ShadowOf<'a>) -> Person<'a> {
        let context = self.context;
        let sign_in = Arc::default();
        Person { context, user, shadow, regrouped: None, windows: None, sign_in }
    }
}

/// The rules about hours and places as a plan leaves them, where it edits them.
fn windows_after(context: PlanContext<'_>, plan: &Plan) -> Option<Arc<Windows>> {
    let edits: Vec<&TextEdit> = plan.text_edits().filter(|edit| edits_windows(edit)).collect();
    if edits.is_empty() {
        return None;
    }
    let files = EditedFiles { files: context.world.configuration(), edits };
    Some(Arc::new(Windows::read(&files)))
}

/// What stands in the way, in words.
fn words(obstacle: Option<&Obstacle>) -> String {
    obstacle.map(Obstacle::to_string).unwrap_or_default()
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
            let had = |by: fn(&SignIn) -> bool| was.is_some_and(by);
            let password = had(SignIn::by_password);
            match (could, after.can_sign_in()) {
                (true, false) => {
                    let by_password = is.against_password().next().filter(|_| password);
                    let why = by_password.or_else(|| is.against_key().next());
                    let why = why.unwrap_or_else(|| is.first_obstacle());
                    tell(AccessKind::SignIn, false, why.to_string());
                }
                (false, true) => {
                    let again = if before.is_some() { "again " } else { "" };
                    let by = match (is.by_password(), is.by_key()) {
                        (true, true) => "by password and by key",
                        (true, false) if is.open => "without a password",
                        (true, false) => "by password",
                        (false, true) => "by key",
                        (false, false) => "by password over SSH",
                    };
                    tell(AccessKind::SignIn, true, format!("{again}{by}"));
                }
                (true, true) => {
                    let mut way = |kind, had, has, why: Option<&Obstacle>| match (had, has) {
                        (true, false) => tell(kind, false, words(why)),
                        (false, true) => tell(kind, true, String::new()),
                        (true, true) | (false, false) => {}
                    };
                    let why = is.against_password().next();
                    way(AccessKind::Password, password, is.by_password(), why);
                    let (was_over, is_over) =
                        (had(SignIn::is_possible_over_ssh), is.is_possible_over_ssh());
                    // Where the machine lets in, what is lost over SSH altogether is told once.
                    if was_over != is_over && is.by_password() && password {
                        let why = is.against_ssh_password().next().or(is.against_key().next());
                        way(AccessKind::Ssh, was_over, is_over, why);
                    } else {
                        let why = is.against_key().next();
                        way(AccessKind::Key, had(SignIn::by_key), is.by_key(), why);
                    }
                }
                (false, false) => {}
            }
        }
    }
    match [before, after].map(|person| person.is_some_and(Person::is_root)) {
        [true, false] => tell(AccessKind::Root, false, String::new()),
        [false, true] => tell(AccessKind::Root, true, String::new()),
        [true, true] | [false, false] => {}
    }
}
