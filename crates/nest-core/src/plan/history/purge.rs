//! Letting go of deleted accounts whose time is over, for good.

use std::collections::BTreeMap;

use bstr::{BStr, BString};

use crate::book::Lookups;
use crate::change::step::numbers;
use crate::change::{Caution, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::order;
use crate::plan::history::find_kept::find_kept;
use crate::policy::{Freed, Policy};
use crate::refusal::{NotKept, Reason, Refusal, Result};
use crate::request::Request;
use crate::retired::{Became, BelongingKind, RetiredAccount};
use crate::retired_ids::{RetiredId, RetiredIds, RetiredRange};
use crate::surroundings::Site;
use crate::table::{File, held_ids};
use crate::value::{Day, Gid, IdSpans, Uid, UserOrGroup};

/// What is to be let go.
#[derive(Debug, Clone)]
pub enum Purge {
    /// Everything that is past its days.
    Due,
    /// These.
    Named(UserOrGroup, Vec<BString>),
}

/// The day from which on a deleted account may be let go; `None` where its own
/// record does not say when it was deleted.
pub fn kept_until(account: &RetiredAccount, keep_days: u32) -> Option<Day> {
    let day = Day::of_time(&account.time)?;
    Some(Day(day.0 + i64::from(keep_days)))
}

impl Request for Purge {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }
}

/// Plans the letting go.
///
/// # Errors
/// The [`Refusal`]: nothing of that name is kept.
pub fn purge(context: PlanContext<'_>, request: &Purge) -> Result<Plan> {
    let keep_days = context.policy.retired_keep_days;
    let (summary, chosen): (String, Vec<&RetiredAccount>) = match request {
        Purge::Due => {
            let what = "nothing was purged";
            if context.change.is_none() {
                return Err(Refusal::new(what, NotKept::NothingIsKept.into()));
            }
            let all = context.world.kept();
            let all = all.map_err(|why| Refusal::new(what, NotKept::KeptUnreadable(why).into()))?;
            let due = |account: &&RetiredAccount| {
                kept_until(account, keep_days).is_some_and(|day| day <= context.today)
            };
            ("purge".to_owned(), all.iter().filter(due).collect())
        }
        Purge::Named(thing, names) => {
            let mut chosen: Vec<&RetiredAccount> = Vec::new();
            for name in names {
                let what = format!("{name} was not purged");
                let found = find_kept(context, *thing, name.as_ref(), &what, "purge")?;
                if !chosen.iter().any(|known| known.folder == found.folder) {
                    chosen.push(found);
                }
            }
            let names: Vec<String> = names.iter().map(ToString::to_string).collect();
            (format!("purge {thing} {}", names.join(", ")), chosen)
        }
    };
    let mut plan = Plan { summary, nothing: chosen.is_empty(), ..Plan::default() };
    let (mut revived, mut over) = (RetiredIds::default(), RetiredIds::default());
    let named = matches!(request, Purge::Named(..));
    for account in chosen {
        // What is live is not let go of, and nor is what was set aside of it.
        if account.kept.is_live(context.book) && account.kept.can_come_back() {
            let name = &account.kept.name;
            if named {
                let refused = format!("{name} was not purged");
                let reason = NotKept::LiveAgain { thing: account.kept.thing, name: name.clone() };
                return Err(Refusal::new(refused, reason.into())
                    .or("bring back what is set aside of it", format!("restore user {name}")));
            }
            let mut subject = Subject::new(name.clone());
            subject.decide("stays", format!("retired/{}", account.folder), "it is there again");
            plan.subjects.push(subject);
            continue;
        }
        match set_aside_fault(context, account) {
            // Of many the others go all the same.
            Some(Stands { what, path, fault, .. }) if !named => {
                let mut subject = Subject::new(account.kept.name.clone());
                subject.decide("stays", path, format!("its {what} {fault}"));
                plan.subjects.push(subject);
            }
            Some(Stands { what, path, fault, mount }) => {
                let refused = format!("{} was not purged", account.kept.name);
                let refusal = Refusal::new(refused, Reason::NotToBeErased { what, path, fault });
                return Err(match mount {
                    Some(mount) => refusal.or_else("unmount it first", format!("umount {mount}")),
                    None => refusal,
                });
            }
            None => purge_account(context, account, &mut plan, (&mut revived, &mut over)),
        }
    }
    if !named && context.policy.ids_freed == Freed::AfterRetention {
        free_numbers(context, &mut plan, &mut revived);
    }
    if !over.is_empty() {
        plan.steps.push(Step::RetireIds(over));
    }
    if std::mem::replace(&mut plan.nothing, plan.steps.is_empty() && revived.is_empty()) {
        let mut subject = Subject::new("purge");
        let days = format!("deleted accounts are kept for {keep_days} days");
        subject.decide("past its days", "nothing", days);
        plan.subjects.push(subject);
    }
    if !revived.is_empty() {
        plan.steps.push(Step::ReviveIds(revived));
    }
    plan.next.push("list retired".into());
    Ok(plan)
}

/// Something that was set aside and must not be erased.
struct Stands {
    what: BelongingKind,
    path: BString,
    /// Why, in words that follow the path.
    fault: String,
    /// What is mounted in it, where that is why.
    mount: Option<BString>,
}

fn set_aside_fault(context: PlanContext<'_>, account: &RetiredAccount) -> Option<Stands> {
    account.kept.belongings.iter().find_map(|belonging| {
        let Became::SetAside { place } = &belonging.became else { return None };
        let survey = context.world.survey(place.as_ref(), true);
        let (fault, mount) = match survey {
            Err(why) => (format!("can't be looked at: {why}"), None),
            Ok(survey) => {
                let mount = survey?.mounts.into_iter().next()?;
                (format!("has something mounted in it, at {mount}"), Some(mount))
            }
        };
        Some(Stands { what: belonging.what, path: place.clone().into(), fault, mount })
    })
}

/// Numbers of which nothing is kept any more, and whose days are over, are free: those too that
/// were retired while the policy was another one.
fn free_numbers(context: PlanContext<'_>, plan: &mut Plan, revived: &mut RetiredIds) {
    // Of what can't be read it is not known what it holds.
    let Ok(kept) = context.world.kept() else { return };
    let mut held = RetiredIds::default();
    for account in kept {
        held = held.with(&ids_of(account));
    }
    let keep_days = i64::from(context.policy.retired_keep_days);
    let is_over =
        |since: Option<Day>| since.is_none_or(|since| since.0 + keep_days <= context.today.0);
    let mut free = context.world.retired().clone().without(&held).without(revived);
    free.users.retain(|id| is_over(id.since));
    free.groups.retain(|id| is_over(id.since));
    free.ranges.retain(|range| is_over(range.since));
    let mut by_name: BTreeMap<&BString, RetiredIds> = BTreeMap::new();
    for id in &free.users {
        by_name.entry(&id.name).or_default().users.push(id.clone());
    }
    for id in &free.groups {
        by_name.entry(&id.name).or_default().groups.push(id.clone());
    }
    for range in &free.ranges {
        by_name.entry(&range.name).or_default().ranges.push(range.clone());
    }
    for (name, ids) in by_name {
        let mut subject = Subject::new(name.clone());
        subject.decide("numbers", numbers(&ids), "free: nothing of theirs is kept any more");
        plan.subjects.push(subject);
    }
    *revived = std::mem::take(revived).with(&free);
}

fn purge_account(
    context: PlanContext<'_>,
    account: &RetiredAccount,
    plan: &mut Plan,
    (revived, over): (&mut RetiredIds, &mut RetiredIds),
) {
    let keep_days = context.policy.retired_keep_days;
    let kept = &account.kept;
    let mut subject = Subject::new(kept.name.clone());
    let day = account.time.get(..10).unwrap_or_default();
    let until = kept_until(account, keep_days).map(|day| format!("kept until {day}"));
    subject.decide("deleted", day, until.unwrap_or_default());
    for belonging in &kept.belongings {
        let (what, path): (&'static str, _) = match &belonging.became {
            Became::SetAside { place }
                if matches!(context.world.site(place.as_ref()), Site::Taken(_)) =>
            {
                ("erases", place.clone())
            }
            Became::Archived { file } => {
                let file = format!("retired/{}/{file}", account.folder);
                subject.decide(
                    "erases",
                    file,
                    format!("the {} {}", belonging.what, belonging.path),
                );
                continue;
            }
            Became::Stays => {
                subject.decide("stays", belonging.path.clone(), "it was left where it is");
                continue;
            }
            Became::SetAside { .. } | Became::Erased | Became::Given { .. } => continue,
        };
        let size = crate::value::bytes_in_words(belonging.bytes);
        subject.decide(what, path.clone(), format!("the {}, {size}", belonging.what));
        plan.steps.push(Step::Erase { path });
    }
    subject.decide("forgets", format!("{} {}", kept.thing, kept.id), "lines, hash, memberships");
    let ids = ids_of(account);
    if account.kept.is_live(context.book) {
        subject.decide("numbers", "in use", "it is there again");
    } else if context.policy.ids_freed == Freed::AfterRetention {
        subject.decide("numbers", "free", "the policy lets them be given out again");
        *revived = std::mem::take(revived).with(&retired_of(context, ids));
    } else {
        subject.decide("numbers", "stay retired", "nobody is given them: files may carry them");
        // Their days are over from here on, for when the policy lets them be given out again.
        *over = std::mem::take(over).with(&retired_of(context, ids));
    }
    let (folder, kept) = (account.folder.clone(), Box::new(kept.clone()));
    plan.steps.push(Step::Release { folder, kept, purged: true });
    plan.cautions.push(Caution::Purges { name: BStr::new(&account.kept.name).into() });
    plan.subjects.push(subject);
}

/// Those of some numbers that are retired: others have a holder again.
fn retired_of(context: PlanContext<'_>, mut ids: RetiredIds) -> RetiredIds {
    let known = context.world.retired();
    ids.users.retain(|id| known.user(Uid(id.id)).is_some());
    ids.groups.retain(|id| known.group(Gid(id.id)).is_some());
    let of_known: IdSpans = known.ranges.iter().map(|range| range.span).collect();
    let parts = |range: &RetiredRange| {
        let parts = of_known.within(range.span).into_iter();
        parts.map(|span| RetiredRange { span, ..range.clone() }).collect::<Vec<_>>()
    };
    ids.ranges = ids.ranges.iter().flat_map(parts).collect();
    ids
}

/// The numbers that the lines of a deleted account held.
fn ids_of(account: &RetiredAccount) -> RetiredIds {
    let mut ids = RetiredIds::default();
    for line in &account.kept.lines {
        let Some((span, _)) = held_ids(line.file, &line.text) else { continue };
        let name = account.kept.name.clone();
        match line.file {
            File::Passwd => ids.users.push(RetiredId { id: span.first(), name, since: None }),
            File::Group => ids.groups.push(RetiredId { id: span.first(), name, since: None }),
            File::Shadow | File::Gshadow | File::Subuid | File::Subgid => {
                ids.ranges.push(RetiredRange { span, name, since: None })
            }
        }
    }
    order::sort_by_key(&mut ids.ranges, |range| range.span);
    ids.ranges.dedup();
    ids
}
