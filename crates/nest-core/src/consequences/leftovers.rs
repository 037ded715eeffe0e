//! What an earlier holder of a name or a number has left behind, and a new one takes over.

use bstr::BString;

use crate::book::Book;
use crate::change::{AccessChange, AccessKind, Caution, Plan};
use crate::context::PlanContext;
use crate::drafting::named_after;
use crate::surroundings::list_mentions;
use crate::table::{Edit, File, Passwd, Record, SubId};
use crate::value::Uid;

/// Of more accounts than these it is not asked.
const MOST_ACCOUNTS: usize = 64;

/// Tells what the accounts take over that come, or get another name or number.
pub(super) fn tell(context: PlanContext<'_>, plan: &Plan, access: &mut Vec<AccessChange>) {
    let edits = || plan.edits.iter().filter(|edit| edit.file == File::Passwd);
    if edits().map(Edit::count_after).sum::<usize>() > MOST_ACCOUNTS {
        return;
    }
    let before: Vec<Passwd<'_>> =
        edits().filter_map(|edit| Passwd::read(edit.before.as_ref()?.trim_ascii_start())).collect();
    let lines = edits().flat_map(|edit| edit.lines_after().map(|(_, line)| line));
    for user in lines.filter_map(|line| Passwd::read(line.trim_ascii_start())) {
        let mut left = Vec::new();
        if before.iter().all(|old| old.name != user.name) {
            left.extend(by_name(context, plan, user.name));
        }
        if let Some(uid) = user.uid().filter(|uid| before.iter().all(|old| old.uid() != Some(*uid)))
        {
            left.extend(ranges_by_number(context.book, plan, uid));
        }
        access.extend(left.into_iter().map(|why| {
            let (name, group) = (user.name.into(), BString::default());
            AccessChange { name, kind: AccessKind::Leftover, gains: true, group, why }
        }));
    }
}

/// Grants, jobs and mail that are there under a name already.
fn by_name(context: PlanContext<'_>, plan: &Plan, name: &[u8]) -> Vec<String> {
    let PlanContext { policy, world, .. } = context;
    let there = named_after(policy, name).into_iter();
    let there = there.filter(|(_, path)| matches!(world.facts(path.as_ref()), Ok(Some(_))));
    let mut left: Vec<String> =
        there.map(|(kind, path)| format!("the {} {path}", <&str>::from(kind))).collect();
    let told = plan
        .cautions
        .iter()
        .any(|caution| matches!(caution, Caution::Mentioned { name: other, .. } if other == name));
    let mentions = world.mentions(name.into());
    if !told && !mentions.is_empty() {
        left.push(format!("what {} grants", list_mentions(&mentions)));
    }
    left
}

/// Ranges that name their owner by a number, and that the plan does not alter.
fn ranges_by_number(book: &Book, plan: &Plan, uid: Uid) -> Vec<String> {
    let number = uid.to_string();
    let files = [File::Subuid, File::Subgid].into_iter().filter(|file| !book.is_partial(*file));
    let lines = files.flat_map(|file| {
        book.named(file, number.as_bytes()).into_iter().map(move |line| (file, line))
    });
    let stays = |file: File, start: usize| {
        let here = |edit: &&Edit| edit.file == file && edit.range.start == start;
        plan.edits.iter().find(here).is_none_or(|edit| edit.before.is_none())
    };
    let stay = lines.filter(|(file, line)| stays(*file, line.start));
    let told = stay.filter_map(|(file, line)| {
        let range = SubId::read(line.record())?;
        let number = book.lines(file).map_or(0, |lines| lines.number(line.start));
        Some(format!("the ids {}, {}:{number}", range.span()?, file.path()))
    });
    told.collect()
}
