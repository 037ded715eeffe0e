//! Numbers that lose their holder by a change are retired, and those whose
//! holder comes back are taken into use again.

use std::collections::{BTreeMap, BTreeSet};

use bstr::{BStr, BString};
use hashbrown::{HashMap, HashSet};

use crate::change::{Plan, Step};
use crate::context::PlanContext;
use crate::drafting::plan_builder::GoingNumbers;
use crate::retired_ids::{RetiredId, RetiredIds, RetiredRange};
use crate::table::{Edit, File, each_row, held_ids};
use crate::value::{IdSpan, IdSpans, TreePath, Uid};

/// Ids with whose they are or were.
type Named<'e> = Vec<(IdSpan, &'e BStr)>;

/// The ids that a change takes from their last holder, and those that it gives one again.
struct Moved<'e> {
    gone: Named<'e>,
    back: IdSpans,
}

impl<'e> Moved<'e> {
    /// What the edits of some files, which hold the same kind of ids, come to.
    fn between(context: PlanContext<'_>, edits: &'e [Edit], files: &[File]) -> Self {
        let edits = || edits.iter().filter(|edit| files.contains(&edit.file));
        let before: Named<'e> = edits()
            .filter_map(|edit| {
                let (span, name) = held_ids(edit.file, edit.before.as_ref()?)?;
                Some((span, BStr::new(name)))
            })
            .collect();
        let after: IdSpans = edits()
            .flat_map(|edit| edit.lines_after().filter_map(|(_, line)| held_ids(edit.file, line)))
            .map(|(span, _)| span)
            .collect();
        let held: IdSpans = before.iter().map(|(span, _)| *span).collect();
        let back = after.spans().iter().flat_map(|span| held.outside(*span)).collect();
        let mut gone = without(before, &after);
        if !gone.is_empty() {
            let lost: IdSpans = gone.iter().map(|(span, _)| *span).collect();
            let touched: HashSet<(File, usize)> = edits()
                .filter(|edit| edit.before.is_some())
                .map(|edit| (edit.file, edit.range.start))
                .collect();
            gone = without(gone, &held_elsewhere(context, files, &touched, &lost));
        }
        Moved { gone, back }
    }
}

/// Those of some ids that lines hold which the change leaves alone.
fn held_elsewhere(
    context: PlanContext<'_>,
    files: &[File],
    touched: &HashSet<(File, usize)>,
    lost: &IdSpans,
) -> IdSpans {
    let known_of_file = |file: File| -> Option<Vec<IdSpan>> {
        let mut held = Vec::new();
        for span in lost.spans() {
            for id in span.first()..=span.last() {
                let mut lines = context.book.holding_at_once(file, id)?;
                held.extend(
                    lines
                        .any(|line| !touched.contains(&(file, line.start)))
                        .then(|| IdSpan::single(id)),
                );
            }
        }
        Some(held)
    };
    let of_file = |file: &File| {
        if let Some(known) = known_of_file(*file) {
            return Some(vec![known].into_iter().flatten());
        }
        let lines = context.book.lines(*file)?;
        let found = lines.sweep(Vec::new, |found: &mut Vec<IdSpan>, from, text| {
            each_row(text, |row| {
                let held = held_ids(*file, row.line).map(|(span, _)| span);
                let held = held.filter(|span| lost.overlaps(*span));
                found.extend(held.filter(|_| {
                    // White space before a record is part of its line.
                    let before = text[..row.start].iter().rposition(|byte| *byte == b'\n');
                    let start = from + before.map_or(0, |at| at + 1);
                    !touched.contains(&(*file, start))
                }));
            });
        });
        Some(found.into_iter().flatten())
    };
    files.iter().filter_map(of_file).flatten().collect()
}

/// What is left of some ids, each once.
fn without<'e>(ids: Named<'e>, others: &IdSpans) -> Named<'e> {
    let mut left = Named::with_capacity(ids.len());
    for (span, name) in ids {
        match others.overlaps(span) {
            true => left.extend(others.outside(span).into_iter().map(|part| (part, name))),
            false => left.push((span, name)),
        }
    }
    left.sort_unstable();
    left.dedup_by_key(|(span, _)| *span);
    left
}

/// Adds the steps that retire numbers and take them into use again, and tells them among
/// the decisions of the account or group they were, where the plan speaks of it. Where the
/// plan takes something back, numbers that nobody used are free again.
pub(crate) fn settle_numbers(context: PlanContext<'_>, plan: &mut Plan, going: &GoingNumbers) {
    let known = context.world.retired();
    // What only comes takes nothing from anybody.
    let only_adds = plan.edits.iter().all(|edit| edit.before.is_none());
    if context.change.is_none() || only_adds && known.is_empty() {
        return;
    }
    // There may be very many of each.
    let between = |files: &[File]| Moved::between(context, &plan.edits, files);
    let (users, (groups, ranges)) = rayon::join(
        || between(&[File::Passwd]),
        || (between(&[File::Group]), between(&[File::Subuid, File::Subgid])),
    );
    let since = Some(context.today);
    let single = |(span, name): (IdSpan, &BStr)| RetiredId {
        id: span.first(),
        name: name.to_owned(),
        since,
    };
    let range = |(span, name): (IdSpan, &BStr)| RetiredRange { span, name: name.to_owned(), since };
    let mut gone = RetiredIds {
        users: users.gone.into_iter().map(single).collect(),
        groups: groups.gone.into_iter().map(single).collect(),
        ranges: ranges.gone.into_iter().map(range).collect(),
    };
    let (uids_back, gids_back, ranges_back) = (users.back, groups.back, ranges.back);
    for (ids, earlier) in
        [(&mut gone.users, &going.earlier.users), (&mut gone.groups, &going.earlier.groups)]
    {
        for id in ids {
            if let Some(before) = earlier.iter().find(|before| before.id == id.id) {
                id.name.clone_from(&before.name);
            }
        }
    }
    if going.free_if_unused && !gone.is_empty() {
        let free = take_unused(context, plan, &mut gone);
        tell(plan, &free, "free again", "no file carries them, and nothing runs under them");
    }
    let is_back = |ids: &[RetiredId], back: &IdSpans| -> Vec<RetiredId> {
        ids.iter().filter(|id| back.overlaps(IdSpan::single(id.id))).cloned().collect()
    };
    let parts = |retired: &RetiredRange| -> Vec<RetiredRange> {
        let parts = ranges_back.within(retired.span).into_iter();
        parts.map(|span| RetiredRange { span, ..retired.clone() }).collect()
    };
    let back = RetiredIds {
        users: is_back(&known.users, &uids_back),
        groups: is_back(&known.groups, &gids_back),
        ranges: known.ranges.iter().flat_map(parts).collect(),
    };
    tell(plan, &gone, "retired", "not given to anybody else: files may carry them");
    tell(plan, &back, "back in use", "retired until now");
    if !gone.is_empty() {
        plan.steps.push(Step::RetireIds(gone));
    }
    if !back.is_empty() {
        plan.steps.push(Step::ReviveIds(back));
    }
}

/// Takes those out of some numbers that nobody used: that no file carries, besides what the
/// plan removes as it was made, that nothing runs under, and of whom nothing is kept.
fn take_unused(context: PlanContext<'_>, plan: &Plan, gone: &mut RetiredIds) -> RetiredIds {
    let removed = plan.steps.iter().filter_map(|step| match step {
        Step::Remove { path, .. } => Some(path.clone()),
        _ => None,
    });
    let mut removed: Vec<TreePath> = removed.collect();
    // What goes with its account to another number carries the old one no more.
    let follows = || {
        plan.steps.iter().filter_map(|step| match step {
            Step::Reown(reown) if reown.follows => Some(reown),
            _ => None,
        })
    };
    let all_follow = gone.users.iter().all(|id| follows().any(|of| of.uids.get(id.id).is_some()))
        && gone.groups.iter().all(|id| follows().any(|of| of.gids.get(id.id).is_some()));
    if all_follow {
        removed.extend(follows().flat_map(|of| of.paths.clone()));
    }
    let ranges = || gone.ranges.iter().map(|range| range.span);
    let single = |id: &RetiredId| IdSpan::single(id.id);
    let uids: IdSpans = gone.users.iter().map(single).chain(ranges()).collect();
    let gids: IdSpans = gone.groups.iter().map(single).chain(ranges()).collect();
    let carried = match removed.contains(&TreePath::root()) {
        true => Ok(Default::default()),
        false => context.world.carried(&uids, &gids, &removed),
    };
    let Ok((uids, gids)) = carried else { return RetiredIds::default() };
    let keeps = plan.steps.iter().filter_map(|step| match step {
        Step::Keep { kept, .. } => Some(&kept.name),
        _ => None,
    });
    let keeps: HashSet<&BString> = keeps.collect();
    let runs = |id: &RetiredId| !context.world.processes(Uid(id.id)).is_empty();
    let in_span =
        |ids: &BTreeSet<u32>, span: IdSpan| ids.range(span.first()..=span.last()).next().is_some();
    let mut free = RetiredIds::default();
    let used = |id: &RetiredId| keeps.contains(&id.name) || uids.contains(&id.id) || runs(id);
    free.users = gone.users.extract_if(.., |id| !used(id)).collect();
    let used = |id: &RetiredId| keeps.contains(&id.name) || gids.contains(&id.id);
    free.groups = gone.groups.extract_if(.., |id| !used(id)).collect();
    let used = |range: &RetiredRange| {
        keeps.contains(&range.name) || in_span(&uids, range.span) || in_span(&gids, range.span)
    };
    free.ranges = gone.ranges.extract_if(.., |range| !used(range)).collect();
    free
}

/// Tells numbers among the decisions of the account or group they were, or of
/// the first one the plan speaks of.
fn tell(plan: &mut Plan, ids: &RetiredIds, label: &'static str, why: &str) {
    if plan.subjects.is_empty() {
        return;
    }
    let mut by_name: BTreeMap<&BString, RetiredIds> = BTreeMap::new();
    for id in &ids.users {
        by_name.entry(&id.name).or_default().users.push(id.clone());
    }
    for id in &ids.groups {
        by_name.entry(&id.name).or_default().groups.push(id.clone());
    }
    for range in &ids.ranges {
        by_name.entry(&range.name).or_default().ranges.push(range.clone());
    }
    // Of several subjects of a name the first.
    let subjects = plan.subjects.iter().enumerate().rev();
    let subjects: HashMap<BString, usize> =
        subjects.map(|(at, subject)| (subject.name.clone(), at)).collect();
    for (name, mine) in by_name {
        let numbers = crate::change::step::numbers(&mine);
        let named = subjects.get(name).copied();
        if let Some(subject) = plan.subjects.get_mut(named.unwrap_or(0)) {
            let value = if named.is_some() { numbers } else { format!("{numbers} ({name})") };
            subject.decide(label, value, why);
        }
    }
}
