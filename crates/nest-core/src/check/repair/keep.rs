//! What a repair takes away and a record of it must not hold is kept, for undo to put back.

use std::collections::{BTreeMap, HashSet};

use bstr::BString;

use crate::change::{Caution, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::retired::{Kept, KeptLine};
use crate::secret::{hash_of, is_kept, told};
use crate::table::{File, Line};
use crate::value::{NameStyle, UserOrGroup, check_name};
use crate::words::counted;

/// Keeps what a record of the change must not hold: lines that go with a hash that no line has
/// afterwards, and lines in which a hash may be anywhere. Where nothing is kept that is said.
pub(super) fn keep_hashes(context: PlanContext<'_>, plan: &mut Plan) {
    fn hash(file: File, line: &[u8]) -> Option<&[u8]> {
        hash_of(file, line).filter(|hash| !hash.is_empty())
    }
    let edits = &plan.edits;
    // A last line that gets its end goes, and comes again.
    let come = edits.iter().flat_map(|edit| edit.lines_after().map(|(_, line)| (edit.file, line)));
    let come: HashSet<&[u8]> = come.filter_map(|(file, line)| hash(file, line)).collect();
    let mut kept: BTreeMap<(bool, BString, u32), Kept> = BTreeMap::new();
    for edit in edits {
        let Some(before) = &edit.before else { continue };
        let is_lost = match is_kept(edit.file, before) {
            true => hash(edit.file, before).is_some_and(|hash| !come.contains(hash)),
            // What the line holds it may still hold.
            false => edit.after.as_ref() != Some(before),
        };
        if !is_lost {
            continue;
        }
        let thing = if edit.file.is_of_groups() { UserOrGroup::Group } else { UserOrGroup::User };
        let name = Line { bytes: before, start: 0 }.name();
        let plain = check_name(NameStyle::Loose, name.into()).is_ok();
        let name = match plain && told(edit.file, name) == name {
            true => BString::from(name),
            false => "unknown".into(),
        };
        let id = match thing {
            UserOrGroup::User => context.book.user(&name).and_then(|(_, it)| it.uid()?.0.into()),
            UserOrGroup::Group => context.book.group(&name).and_then(|(_, it)| it.gid()?.0.into()),
        };
        let id = id.unwrap_or(Kept::NO_ID);
        let key = (edit.file.is_of_groups(), name.clone(), id);
        let kept = kept.entry(key).or_insert_with(|| Kept::new(thing, name, id));
        kept.lines.push(KeptLine { file: edit.file, line: edit.line, text: before.clone() });
    }
    let (days, mut gone) = (context.policy.retired_keep_days, 0);
    for kept in kept.into_values() {
        // Without state there is no folder, and none for a name that no file can have.
        let Some(folder) = context.change.and_then(|change| kept.folder(change).ok()) else {
            gone += kept.lines.len();
            continue;
        };
        let what = counted(kept.lines.len(), "line", "lines");
        let mut subject = Subject::new(kept.name.clone());
        let why = format!("{what} with a hash, for undo to put back, for {days} days");
        subject.decide("kept", format!("retired/{folder}"), why);
        plan.subjects.push(subject);
        plan.steps.push(Step::Keep { folder, kept: Box::new(kept) });
    }
    if gone > 0 {
        plan.cautions.push(Caution::HashesGo { count: gone });
    }
}
