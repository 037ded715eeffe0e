//! The mends of lines: each knows when there is only one right answer.

use bstr::ByteSlice;

use super::edits::RepairEdits;
use crate::account::NewShadow;
use crate::check::{Finding, Mark};
use crate::context::PlanContext;
use crate::secret::told;
use crate::surroundings::Origin;
use crate::table::{
    Column, File, GroupField, Gshadow, GshadowField, Line, Passwd, Record, with_fields,
};
use crate::value::{members, read_id, read_plain_id, without_member};

/// The line of a finding, by index and as it is by now.
fn line_of(edits: &mut RepairEdits<'_>, finding: &Finding) -> Option<(usize, Vec<u8>)> {
    let at = finding.line.checked_sub(1)?;
    Some((at, edits.line(finding.file, at)?.to_vec()))
}

fn field(line: &[u8], at: impl Into<Column>) -> &[u8] {
    at.into().of(line)
}

/// A malformed line: nobody can say what is what in it, nor where its hash is.
fn is_unreadable(file: File, line: &[u8]) -> bool {
    !Line { bytes: line, start: 0 }.is_whole(file)
}

pub(in crate::check) fn end(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    edits.end(finding.file).then(|| "gives the last line its end".to_owned())
}

pub(in crate::check) fn trim(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let (at, line) = line_of(edits, finding)?;
    if is_unreadable(finding.file, &line) {
        return None;
    }
    let trimmed = line.trim_with(|c| matches!(c, ' ' | '\t' | '\r')).to_vec();
    edits.alter(finding.file, at, trimmed).then(|| "takes the space out".to_owned())
}

/// A number that the C library reads, in plain digits: it means the same.
pub(in crate::check) fn number(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let Mark::Field(number) = finding.mark else { return None };
    if !matches!(finding.file, File::Passwd | File::Group) {
        return None;
    }
    let (at, line) = line_of(edits, finding)?;
    let text = field(&line, number);
    if read_plain_id(text).is_some() {
        return None;
    }
    let plain = read_id(text)?.to_string();
    let mended = with_fields(&line, &[(number, plain.as_bytes())]);
    edits.alter(finding.file, at, mended).then(|| format!("writes it as {plain}"))
}

pub(in crate::check) fn repeated(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let (at, line) = line_of(edits, finding)?;
    if is_unreadable(finding.file, &line) {
        return None;
    }
    let same = edits.is_repeated(finding.file, at);
    (same && edits.remove(finding.file, at)).then(|| "takes the second of the two out".to_owned())
}

pub(in crate::check) fn once(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let Mark::Member(list, name) = &finding.mark else { return None };
    let (at, line) = line_of(edits, finding)?;
    let mut names: Vec<&[u8]> = Vec::new();
    for member in members(field(&line, *list)).map(<[u8]>::trim_ascii_end) {
        if !(member == name.as_slice() && names.contains(&member)) {
            names.push(member);
        }
    }
    let mended = with_fields(&line, &[(*list, &names.join(&b","[..]))]);
    edits
        .alter(finding.file, at, mended)
        .then(|| format!("lists {} once", told(finding.file, name)))
}

/// Only where accounts come from files alone is an unknown name nobody's.
fn files_alone(context: PlanContext<'_>) -> Option<()> {
    (context.world.origin() == Origin::FilesAlone).then_some(())
}

pub(in crate::check) fn ghost(
    context: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    files_alone(context)?;
    let Mark::Member(list, name) = &finding.mark else { return None };
    let (at, line) = line_of(edits, finding)?;
    let (names, _) = without_member(field(&line, *list), name)?;
    let mended = with_fields(&line, &[(*list, &names[..])]);
    edits
        .alter(finding.file, at, mended)
        .then(|| format!("takes {} out of the list", told(finding.file, name)))
}

pub(in crate::check) fn orphan(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let (at, line) = line_of(edits, finding)?;
    if is_unreadable(finding.file, &line) {
        return None;
    }
    edits.remove(finding.file, at).then(|| "takes the line out".to_owned())
}

pub(in crate::check) fn range_orphan(
    context: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    files_alone(context)?;
    orphan(context, edits, finding)
}

/// Moves a hash to where only root reads it, if no other waits there: whoever could
/// sign in by it still can.
pub(in crate::check) fn hide(
    context: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let file = match finding.file {
        File::Group => File::Gshadow,
        _ => File::Shadow,
    };
    if !edits.has(file) {
        return None;
    }
    let (at, line) = line_of(edits, finding)?;
    if !edits.is_kept(finding.file, at) {
        return None;
    }
    let (name, hash) = (field(&line, Column::NAME), field(&line, Column::PASSWORD));
    let moved = match edits.named(file, name) {
        Some(hidden) => {
            let other = edits.line(file, hidden)?.to_vec();
            if !matches!(field(&other, Column::PASSWORD), b"!" | b"*" | b"x" | b"!!" | b"") {
                return None;
            }
            edits.alter(file, hidden, with_fields(&other, &[(Column::PASSWORD, hash)]))
        }
        None if file == File::Gshadow => {
            let listed = field(&line, GroupField::Members);
            edits.add(file, [name, hash, b"", listed].join(&b':'))
        }
        None => {
            let uid = Passwd::read(line.trim_ascii_start()).and_then(|user| user.uid());
            edits.add(file, new_shadow(context, uid, name, hash))
        }
    };
    (moved && edits.alter(finding.file, at, with_fields(&line, &[(Column::PASSWORD, b"x")])))
        .then(|| format!("moves the hash to {}", file.path()))
}

pub(in crate::check) fn close(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let (at, line) = line_of(edits, finding)?;
    if !field(&line, Column::PASSWORD).is_empty() {
        return None;
    }
    let mended = with_fields(&line, &[(Column::PASSWORD, b"!")]);
    edits.alter(finding.file, at, mended).then(|| "locks the password".to_owned())
}

fn new_shadow(context: PlanContext<'_>, uid: Option<u32>, name: &[u8], field: &[u8]) -> Vec<u8> {
    NewShadow::new(context.policy, context.today).line(context.policy, uid, name, field, false)
}

pub(in crate::check) fn shadow_line(
    context: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let (_, line) = line_of(edits, finding)?;
    let user = Passwd::read(line.trim_ascii_start())?;
    let (name, uid) = (user.name, user.uid());
    if !edits.has(File::Shadow) || edits.named(File::Shadow, name).is_some() {
        return None;
    }
    let added = edits.add(File::Shadow, new_shadow(context, uid, name, b"!"));
    added.then(|| "adds the line, with the password locked".to_owned())
}

pub(in crate::check) fn gshadow_line(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let (_, line) = line_of(edits, finding)?;
    let (name, listed) = (field(&line, Column::NAME), field(&line, GroupField::Members));
    if edits.named(File::Gshadow, name).is_some() {
        return None;
    }
    let added = edits.add(File::Gshadow, [name, b"!", b"", listed].join(&b':'));
    added.then(|| "adds the line, without a password".to_owned())
}

pub(in crate::check) fn same_members(
    _: PlanContext<'_>,
    edits: &mut RepairEdits<'_>,
    finding: &Finding,
) -> Option<String> {
    let (_, line) = line_of(edits, finding)?;
    let (name, listed) = (field(&line, Column::NAME), field(&line, GroupField::Members));
    let at = edits.named(File::Gshadow, name)?;
    let other = edits.line(File::Gshadow, at)?.to_vec();
    Gshadow::read(other.trim_ascii_start())?;
    let mended = with_fields(&other, &[(GshadowField::Members, listed)]);
    let altered = edits.alter(File::Gshadow, at, mended);
    altered.then(|| "the same list in etc/gshadow".to_owned())
}
