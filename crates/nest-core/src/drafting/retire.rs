//! Numbers that lose their holder by a change are retired, and those whose
//! holder comes back are taken into use again.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use bstr::BString;

use crate::change::Step;
use crate::context::PlanContext;
use crate::plan::Plan;
use crate::surroundings::{Retired, RetiredId};
use crate::table::{Edit, File, Group, Passwd, Record, SubId};
use crate::value::IdSpan;

/// What a line holds: a uid, a gid, or a range; with the name it goes by.
fn held(file: File, line: &[u8]) -> Option<(IdSpan, BString)> {
    let line = line.trim_ascii_start();
    let one = |id: u32, name: &[u8]| (IdSpan { first: id, last: id }, name.into());
    match file {
        File::Passwd => Passwd::read(line).and_then(|user| Some(one(user.uid()?, user.name))),
        File::Group => Group::read(line).and_then(|group| Some(one(group.gid()?, group.name))),
        File::Subuid | File::Subgid => {
            SubId::read(line).and_then(|range| Some((range.span()?, range.owner.into())))
        }
        File::Shadow | File::Gshadow => None,
    }
}

/// Whether a line holds another number after one of these edits than before it.
pub(crate) fn moves_numbers(edits: &[Edit]) -> bool {
    edits.iter().any(|edit| {
        let before = edit.before.as_ref().and_then(|line| held(edit.file, line));
        let before = before.map(|(span, _)| span);
        let mut after = edit.lines_after().map(|(_, line)| held(edit.file, line));
        let kept = |held: Option<(IdSpan, BString)>| held.map(|(span, _)| span) == before;
        if edit.after.is_none() { before.is_some() } else { !after.all(kept) }
    })
}

type Numbers = BTreeMap<IdSpan, BString>;

/// The numbers of `files` that no line holds any more, and those that a line
/// holds again.
fn gone_and_back(context: PlanContext<'_>, edits: &[Edit], files: &[File]) -> (Numbers, Numbers) {
    let edits = || edits.iter().filter(|edit| files.contains(&edit.file));
    let before: Numbers =
        edits().filter_map(|edit| held(edit.file, edit.before.as_ref()?)).collect();
    let held_after = |edit: &Edit| -> Vec<_> {
        edit.lines_after().filter_map(|(_, line)| held(edit.file, line)).collect()
    };
    let after: Numbers = edits().flat_map(held_after).collect();
    let mut gone: Numbers =
        before.iter().filter(|(span, _)| !after.contains_key(span)).map(cloned).collect();
    let back = after.iter().filter(|(span, _)| !before.contains_key(span)).map(cloned).collect();
    if !gone.is_empty() {
        // Somebody else may hold the same number.
        let touched: HashSet<(File, usize)> =
            edits().filter(|edit| edit.before.is_some()).map(place).collect();
        for file in files {
            for line in context.book.lines(*file).into_iter().flat_map(|lines| lines.iter()) {
                if line.is_record()
                    && let Some((span, _)) = held(*file, line.bytes)
                    && gone.contains_key(&span)
                    && !touched.contains(&(*file, line.start))
                {
                    gone.remove(&span);
                }
            }
        }
    }
    (gone, back)
}

fn cloned((span, name): (&IdSpan, &BString)) -> (IdSpan, BString) {
    (*span, name.clone())
}

fn place(edit: &Edit) -> (File, usize) {
    (edit.file, edit.range.start)
}

fn ids(numbers: Numbers) -> Vec<RetiredId> {
    numbers.into_iter().map(|(span, name)| RetiredId { span, name }).collect()
}

/// Adds the steps that retire and revive numbers, and tells them among the
/// decisions of the account or group they were, where the plan speaks of it.
pub(crate) fn settle_numbers(context: PlanContext<'_>, plan: &mut Plan) {
    if context.change.is_none() {
        return;
    }
    let (mut gone, mut back) = (Retired::default(), Retired::default());
    let known = context.world.retired();
    let retired = |numbers: Numbers, known: &[RetiredId]| -> Vec<RetiredId> {
        let known: BTreeSet<IdSpan> = known.iter().map(|retired| retired.span).collect();
        ids(numbers).into_iter().filter(|id| known.contains(&id.span)).collect()
    };
    let (users, returning) = gone_and_back(context, &plan.edits, &[File::Passwd]);
    (gone.users, back.users) = (ids(users), retired(returning, &known.users));
    let (groups, returning) = gone_and_back(context, &plan.edits, &[File::Group]);
    (gone.groups, back.groups) = (ids(groups), retired(returning, &known.groups));
    let (ranges, returning) = gone_and_back(context, &plan.edits, &[File::Subuid, File::Subgid]);
    (gone.ranges, back.ranges) = (ids(ranges), retired(returning, &known.ranges));
    tell(plan, &gone, "retired", "not given to anybody else: files may carry them");
    tell(plan, &back, "back in use", "retired until now");
    if gone != Retired::default() {
        plan.steps.push(Step::RetireIds(gone));
    }
    if back != Retired::default() {
        plan.steps.push(Step::ReviveIds(back));
    }
}

/// Tells numbers among the decisions of the account or group they were, or of
/// the first one the plan speaks of.
fn tell(plan: &mut Plan, ids: &Retired, label: &'static str, why: &str) {
    let mut by_name: BTreeMap<&BString, Retired> = BTreeMap::new();
    for id in &ids.users {
        by_name.entry(&id.name).or_default().users.push(id.clone());
    }
    for id in &ids.groups {
        by_name.entry(&id.name).or_default().groups.push(id.clone());
    }
    for id in &ids.ranges {
        by_name.entry(&id.name).or_default().ranges.push(id.clone());
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
