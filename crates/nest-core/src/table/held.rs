//! The ids that a line holds.

use super::{Edit, File, Group, Passwd, Record, SubId};
use crate::value::IdSpan;

/// The ids that a line holds, with the name that it goes by: the uid of a user, the gid of
/// a group, the ids of a range.
pub(crate) fn held_ids(file: File, line: &[u8]) -> Option<(IdSpan, &[u8])> {
    let line = line.trim_ascii_start();
    match file {
        File::Passwd => {
            Passwd::read(line).and_then(|user| Some((IdSpan::single((user.uid()?).0), user.name)))
        }
        File::Group => {
            Group::read(line).and_then(|group| Some((IdSpan::single((group.gid()?).0), group.name)))
        }
        File::Subuid | File::Subgid => {
            SubId::read(line).and_then(|range| Some((range.span()?, range.owner)))
        }
        File::Shadow | File::Gshadow => None,
    }
}

/// Whether a line holds other ids after one of these edits than before it.
pub(crate) fn moves_ids(edits: &[Edit]) -> bool {
    edits.iter().any(|edit| {
        let span = |line: &[u8]| held_ids(edit.file, line).map(|(span, _)| span);
        let before = edit.before.as_ref().and_then(|line| span(line));
        let mut after = edit.lines_after().map(|(_, line)| span(line));
        if edit.after.is_none() { before.is_some() } else { !after.all(|after| after == before) }
    })
}
