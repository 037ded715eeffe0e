//! What must not happen unasked: rules over consequences, the same before every request.

use std::cell::LazyCell;

use bstr::{BStr, ByteSlice};
use hashbrown::HashSet;

use super::{Affected, Consequences, Person};
use crate::account::{AccountKind, admin_groups, kind_of, kind_of_user};
use crate::change::{Plan, Step};
use crate::context::PlanContext;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::GuardOverrides;
use crate::sign_in::can_work;
use crate::table::{File, Group, Passwd, Record};
use crate::value::{Day, Gid, Uid};

/// Stands before a plan.
///
/// # Errors
/// The [`Refusal`] of the first guard that is not waved through.
pub(super) fn stand_before<'a>(
    context: PlanContext<'a>,
    plan: &Plan,
    consequences: &Consequences<'a>,
    overrides: GuardOverrides,
) -> Result<()> {
    let guards = Guards { context, plan, consequences };
    let all: [(bool, &str, Guard<'_, '_>); 5] = [
        (overrides.root, "--even-root", Guards::root),
        (overrides.me, "--even-me", Guards::own_account),
        (overrides.service, "--even-service", Guards::service),
        (overrides.last_admin, "--even-last-admin", Guards::last_admin),
        (overrides.busy, "--even-if-busy", Guards::busy),
    ];
    let standing = all.iter().filter(|(waved_through, ..)| !waved_through);
    let Some((option, (name, reason))) =
        standing.filter_map(|(_, option, guard)| Some((*option, guard(&guards)?))).next()
    else {
        return Ok(());
    };
    let place = plan.subjects.iter().find(|subject| subject.name == name);
    let what = match place.map(|subject| subject.place.as_str()) {
        None | Some("") => "nothing was changed".to_owned(),
        Some(row) => format!("nothing was changed, because of {row}"),
    };
    let refusal = match reason {
        Reason::LastAdmin { .. } => Refusal::new(what, reason)
            .or_else("make somebody else one first", guards.admin_hint(name)),
        _ => Refusal::new(what, reason),
    };
    let or = if refusal.ways.is_empty() { "" } else { "or " };
    Err(refusal.or_again(format!("{or}do it all the same"), option))
}

/// What stands before a plan: the account or group that is concerned, and why.
type Guard<'g, 'a> = fn(&Guards<'g, 'a>) -> Option<(&'a BStr, Reason)>;

/// The path that a step takes something away from.
fn moved_away(step: &Step) -> Option<&[u8]> {
    match step {
        Step::Move { from: path, .. }
        | Step::Archive { path, .. }
        | Step::Erase { path }
        | Step::Remove { path, .. } => Some(path.as_slice()),
        Step::MakeDirectory { .. }
        | Step::MakeFile { .. }
        | Step::EditText(_)
        | Step::GiveDirectory { .. }
        | Step::SetAccess { .. }
        | Step::Reown(_)
        | Step::Unpack { .. }
        | Step::Keep { .. }
        | Step::Release { .. }
        | Step::RetireIds(_)
        | Step::ReviveIds(_)
        | Step::NoteSuspended(_)
        | Step::ForgetSuspended(_) => None,
    }
}

struct Guards<'g, 'a> {
    context: PlanContext<'a>,
    plan: &'g Plan,
    consequences: &'g Consequences<'a>,
}

impl<'a> Affected<'a> {
    /// What it is called before.
    fn old_name(&self) -> &'a BStr {
        self.before.as_ref().map_or_else(|| self.name(), |person| person.user.name).as_bstr()
    }

    fn both(&self) -> Option<(&Person<'a>, &Person<'a>)> {
        self.before.as_ref().zip(self.after.as_ref())
    }

    /// That it would be no account any more, or another one: a clause about it.
    fn displaced(&self) -> Option<String> {
        let name = self.old_name();
        let Some((before, after)) = self.both() else {
            return self.before.is_some().then(|| format!("{name} would go"));
        };
        let (old, new) = (before.user, after.user);
        if old.uid() != new.uid() {
            return Some(format!("{name} would get uid {}", BStr::new(new.uid)));
        }
        (old.name != new.name).then(|| format!("{name} would be called {}", BStr::new(new.name)))
    }

    /// That it could not be used any more: a clause about it.
    fn shut_out(&self) -> Option<String> {
        let (before, after) = self.both()?;
        let name = self.old_name();
        if before.can_sign_in() && !after.can_sign_in() {
            let why = after.sign_in().first_obstacle();
            return Some(format!("{name} could no longer sign in ({why})"));
        }
        match after.over().filter(|_| before.over().is_none()) {
            Some(over) => Some(format!("{name} would be out of use ({over})")),
            None => self.end_set().map(|day| format!("{name} would be out of use from {day} on")),
        }
    }

    /// The day on which it would end, where it had no end or a later one.
    pub(super) fn end_set(&self) -> Option<Day> {
        let (before, after) = self.both()?;
        after.ends().filter(|end| before.ends().is_none_or(|known| known > *end))
    }

    /// That it would administer the machine no longer: a clause about it.
    fn demoted(&self) -> Option<String> {
        let is = |person: &Option<Person<'_>>, by_group| {
            by_group || person.as_ref().is_some_and(Person::is_root)
        };
        let loses = is(&self.before, self.was_admin) && !is(&self.after, self.is_admin);
        loses.then(|| format!("{} would no longer be administrator", self.old_name()))
    }

    /// Whether it could administer the machine before.
    fn administered(&self) -> bool {
        let can = |person: &Person<'_>| (self.was_admin || person.is_root()) && person.can_work();
        self.before.as_ref().is_some_and(can)
    }

    /// Whether it can afterwards, and for good.
    fn administers(&self) -> bool {
        let can = |person: &Person<'_>| (self.is_admin || person.is_root()) && person.can_work();
        self.after.as_ref().is_some_and(can) && self.end_set().is_none()
    }
}

impl<'a> Guards<'_, 'a> {
    fn accounts(&self) -> impl Iterator<Item = &Affected<'a>> {
        self.consequences.accounts.iter()
    }

    /// Nobody with uid 0 would be left as it is.
    fn root(&self) -> Option<(&'a BStr, Reason)> {
        let is_root = |person: &Option<Person<'_>>| person.as_ref().is_some_and(Person::is_root);
        let loses = |account: &&Affected<'_>| {
            is_root(&account.before)
                && (account.displaced().is_some() || account.shut_out().is_some())
        };
        let first = self.accounts().find(loses)?;
        let losing: HashSet<&[u8]> =
            self.accounts().filter(loses).map(|account| account.old_name().as_bytes()).collect();
        let others = self.context.book.users_by_uid(Uid::ROOT);
        let left = others.iter().any(|(_, user)| !losing.contains(user.name));
        let loss = first.displaced().or_else(|| first.shut_out())?;
        (!left).then_some((first.old_name(), Reason::IsRoot { loss }))
    }

    fn own_account(&self) -> Option<(&'a BStr, Reason)> {
        let me = self.context.world.me().filter(|_| self.context.world.is_live())?;
        let mut mine = self.accounts().filter(|account| {
            account.before.as_ref().is_some_and(|person| person.user.uid() == Some(me))
        });
        mine.find_map(|account| {
            let loss = account.displaced().or_else(|| account.shut_out());
            let loss = loss.or_else(|| account.demoted())?;
            Some((account.old_name(), Reason::IsMe { loss }))
        })
    }

    fn service(&self) -> Option<(&'a BStr, Reason)> {
        let accounts = self.accounts().find_map(|account| {
            let before = account.before.as_ref()?;
            let user = before.user;
            let uid = user.uid().filter(|uid| *uid != Uid::ROOT)?;
            let (kind, _) = kind_of_user(self.context.policy, &user, || before.shadow());
            if kind != AccountKind::Service {
                return None;
            }
            let other = || {
                let new = account.after.as_ref()?.user;
                let name = account.old_name();
                if user.home != new.home {
                    return Some(format!("the home of {name} would be {}", BStr::new(new.home)));
                }
                (user.gid() != new.gid())
                    .then(|| format!("the primary group of {name} would be another one"))
            };
            let loss = account.displaced().or_else(|| account.shut_out()).or_else(other)?;
            Some((account.old_name(), Reason::IsService { loss, uid }))
        });
        accounts.or_else(|| self.service_group())
    }

    fn service_group(&self) -> Option<(&'a BStr, Reason)> {
        let book = self.context.book;
        // Asked for of services' groups alone, of which there are few.
        let edited = LazyCell::new(|| -> HashSet<usize> {
            let edited = self.plan.edits.iter().filter(|edit| edit.file == File::Group);
            edited.map(|edit| edit.range.start).collect()
        });
        // Of two lines of a name the first counts; another may say the same.
        let stays = |group: &Group<'_>| {
            let lines = book.named(File::Group, group.name).into_iter();
            let mut known = lines.filter_map(|line| Some((line, Group::read(line.record())?)));
            let counts = known.clone().next().is_some_and(|(_, first)| first.gid() == group.gid());
            !counts
                || known.any(|(line, other)| {
                    !edited.contains(&line.start) && other.gid() == group.gid()
                })
        };
        // A group that goes with its user, or is renamed with it, is judged with it.
        let names = LazyCell::new(|| -> HashSet<&[u8]> {
            let displaced = self.accounts().filter(|account| account.displaced().is_some());
            displaced.map(|account| account.old_name().as_bytes()).collect()
        });
        self.consequences.groups.iter().find_map(|change| {
            let before = change.before?;
            let gid = before.gid()?;
            let policy = self.context.policy;
            let is_own = || names.contains(before.name);
            if kind_of(policy, Some(gid)) != AccountKind::Service || is_own() || stays(&before) {
                return None;
            }
            let name = BStr::new(before.name);
            let loss = match change.after {
                None => format!("the group {name} would go"),
                Some(after) if after.gid() != Some(gid) => {
                    format!("the group {name} would get gid {}", BStr::new(after.gid))
                }
                Some(after) if after.name != before.name => {
                    format!("the group {name} would be called {}", BStr::new(after.name))
                }
                Some(_) => return None,
            };
            Some((name, Reason::IsServiceGroup { loss, gid }))
        })
    }

    /// Somebody could administer the machine before, and nobody can afterwards.
    fn last_admin(&self) -> Option<(&'a BStr, Reason)> {
        let loses =
            self.accounts().find(|account| account.administered() && !account.administers())?;
        let one_stays = self.accounts().any(Affected::administers);
        if one_stays || self.others_administer() {
            return None;
        }
        let only_forced =
            || format!("{} could run no more than the command of a key", loses.old_name());
        let loss = loses.displaced().or_else(|| loses.shut_out()).or_else(|| loses.demoted());
        Some((loses.old_name(), Reason::LastAdmin { loss: loss.unwrap_or_else(only_forced) }))
    }

    /// Whether an account that the plan does not touch can administer the machine.
    fn others_administer(&self) -> bool {
        let PlanContext { book, policy, .. } = self.context;
        let touched: HashSet<&[u8]> =
            self.accounts().map(|account| account.old_name().as_bytes()).collect();
        let can = |user: Passwd<'_>| !touched.contains(user.name) && can_work(self.context, user);
        let gone = |group: &Group<'_>| {
            let change = |change: &&super::GroupChange<'_>| {
                change.before.is_some_and(|before| before.name == group.name)
            };
            let change = self.consequences.groups.iter().find(change);
            change.is_some_and(|change| change.after.is_none_or(|after| after.name != group.name))
        };
        if book.users_by_uid(Uid::ROOT).into_iter().any(|(_, user)| can(user)) {
            return true;
        }
        let groups: Vec<Group<'_>> =
            admin_groups(book, policy).into_iter().filter(|group| !gone(group)).collect();
        let gids = groups.iter().filter_map(Group::gid).map(|Gid(gid)| gid).collect();
        let listed = groups
            .iter()
            .copied()
            .chain(book.groups_of_gids(&gids).into_iter().map(|(_, group)| group));
        let mut members = listed.flat_map(|group| group.members().collect::<Vec<_>>());
        members.any(|name| book.user(name).is_some_and(|(_, user)| can(user)))
            || groups
                .iter()
                .filter_map(Group::gid)
                .any(|gid| book.users_by_gid(gid).into_iter().any(|(_, user)| can(user)))
    }

    fn admin_hint(&self, name: &BStr) -> String {
        let groups = admin_groups(self.context.book, self.context.policy);
        let group = groups.first().map_or("the administrators' group".into(), |group| {
            format!("the group {}", BStr::new(group.name))
        });
        format!("somebody other than {name} has to be in {group} and able to sign in")
    }

    /// Something runs under an account that would be another one, or find its files
    /// elsewhere.
    fn busy(&self) -> Option<(&'a BStr, Reason)> {
        let moved: HashSet<&[u8]> = self.plan.steps.iter().filter_map(moved_away).collect();
        let regrouped = self
            .plan
            .steps
            .iter()
            .any(|step| matches!(step, Step::Reown(reown) if !reown.gids.is_empty()));
        self.accounts().find_map(|account| {
            let user = account.before.as_ref()?.user;
            let uid = user.uid()?;
            let name = account.old_name();
            let home =
                || moved.contains(user.home).then(|| format!("the home of {name} would be moved"));
            let number = || {
                let new = account.after.as_ref()?.user;
                (regrouped && new.gid() != user.gid())
                    .then(|| format!("the files of {name} would get another group"))
            };
            // Of very many hardly any runs something.
            let processes = self.context.world.processes(uid);
            if processes.is_empty() {
                return None;
            }
            let loss = account.displaced().or_else(home).or_else(number)?;
            Some((name, Reason::Busy { loss, processes }))
        })
    }
}
