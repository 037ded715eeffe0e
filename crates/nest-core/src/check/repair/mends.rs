//! The mends of lines: each knows when there is only one right answer.

use bstr::ByteSlice;

use super::carries_hash;
use super::edits::RepairEdits;
use crate::account::NewShadow;
use crate::check::lost::LostLines;
use crate::check::trailing::{TrailingChoice, trailing_choice};
use crate::check::{Finding, Mark};
use crate::context::PlanContext;
use crate::secret::told;
use crate::surroundings::Origin;
use crate::table::{
    Column, File, GroupField, Gshadow, GshadowField, Line, Passwd, Record, with_fields,
};
use crate::value::{Uid, read_id, read_plain_id, with_member_once, without_member};

/// What a mend has at hand. Each says in words what it did; nothing where the fault takes a
/// decision.
pub(in crate::check) struct Mending<'m, 'b> {
    pub context: PlanContext<'m>,
    pub edits: &'m mut RepairEdits<'b>,
    pub finding: &'m Finding,
    /// What may be missing from the files.
    pub lost: &'m LostLines,
}

impl Mending<'_, '_> {
    /// The line of the finding, by index and as it is by now.
    fn line(&mut self) -> Option<(usize, Vec<u8>)> {
        let at = self.finding.line.checked_sub(1)?;
        Some((at, self.edits.line(self.finding.file, at)?.to_vec()))
    }

    /// The same, unless the line is malformed: nobody can say what is what in it, nor where
    /// its hash is.
    fn readable_line(&mut self) -> Option<(usize, Vec<u8>)> {
        self.line().filter(|(_, line)| Line { bytes: line, start: 0 }.is_whole(self.finding.file))
    }

    /// Puts other text in the place of that line.
    fn alter(&mut self, at: usize, text: Vec<u8>) -> bool {
        self.edits.alter(self.finding.file, at, text)
    }

    /// Takes that line out, and tells so in these words.
    fn remove(&mut self, at: usize, what: &str) -> Option<String> {
        self.edits.remove(self.finding.file, at).then(|| what.to_owned())
    }

    /// Only where accounts come from files alone is an unknown name nobody's.
    fn are_files_alone(&self) -> bool {
        let world = self.context.world;
        world.origin() == Origin::FilesAlone && world.elsewhere().unread.is_none()
    }

    /// A shadow line with this password field.
    fn new_shadow(&self, uid: Option<Uid>, name: &[u8], field: &[u8]) -> Vec<u8> {
        let policy = self.context.policy;
        NewShadow::new(policy, self.context.today).line(policy, uid, name, field, false)
    }
}

fn field(line: &[u8], at: impl Into<Column>) -> &[u8] {
    at.into().of(line)
}

pub(in crate::check) fn end(mending: &mut Mending<'_, '_>) -> Option<String> {
    // One that is cut off is not the end: more may be missing after it.
    mending.readable_line()?;
    mending.edits.end(mending.finding.file).then(|| "gives the last line its end".to_owned())
}

pub(in crate::check) fn trim(mending: &mut Mending<'_, '_>) -> Option<String> {
    let (at, line) = mending.readable_line()?;
    let choice = trailing_choice(mending.edits.base(), mending.finding.file, &line);
    if matches!(choice, Some(TrailingChoice::Password)) {
        return None;
    }
    let trimmed = line.trim_with(|c| matches!(c, ' ' | '\t' | '\r')).to_vec();
    mending.alter(at, trimmed).then(|| "takes the space out".to_owned())
}

/// A number that the C library reads, in plain digits: it means the same.
pub(in crate::check) fn number(mending: &mut Mending<'_, '_>) -> Option<String> {
    let Mark::Field(number) = mending.finding.mark else { return None };
    if !matches!(mending.finding.file, File::Passwd | File::Group) {
        return None;
    }
    let (at, line) = mending.line()?;
    let text = field(&line, number);
    if read_plain_id(text).is_some() {
        return None;
    }
    let plain = read_id(text)?.to_string();
    let mended = with_fields(&line, &[(number, plain.as_bytes())]);
    mending.alter(at, mended).then(|| format!("writes it as {plain}"))
}

pub(in crate::check) fn repeated(mending: &mut Mending<'_, '_>) -> Option<String> {
    let (at, _) = mending.readable_line()?;
    if !mending.edits.is_repeated(mending.finding.file, at) {
        return None;
    }
    mending.remove(at, "takes the second of the two out")
}

pub(in crate::check) fn once(mending: &mut Mending<'_, '_>) -> Option<String> {
    let Mark::Member(list, name) = &mending.finding.mark else { return None };
    let (at, line) = mending.line()?;
    let mended = with_fields(&line, &[(*list, &with_member_once(field(&line, *list), name)[..])]);
    let told = told(mending.finding.file, name);
    mending.alter(at, mended).then(|| format!("lists {told} once"))
}

pub(in crate::check) fn ghost(mending: &mut Mending<'_, '_>) -> Option<String> {
    if !mending.are_files_alone() {
        return None;
    }
    let Mark::Member(list, name) = &mending.finding.mark else { return None };
    if mending.lost.may_have_had(File::Passwd, name) {
        return None;
    }
    let (at, line) = mending.line()?;
    let (names, _) = without_member(field(&line, *list), name)?;
    let mended = with_fields(&line, &[(*list, &names[..])]);
    mending
        .alter(at, mended)
        .then(|| format!("takes {} out of the list", told(mending.finding.file, name)))
}

pub(in crate::check) fn orphan(mending: &mut Mending<'_, '_>) -> Option<String> {
    let (at, line) = mending.readable_line()?;
    let counterpart = match mending.finding.file {
        File::Gshadow => File::Group,
        File::Passwd | File::Shadow | File::Group | File::Subuid | File::Subgid => File::Passwd,
    };
    if mending.lost.may_have_had(counterpart, field(&line, Column::NAME))
        || carries_hash(mending.finding.file, &line)
    {
        return None;
    }
    mending.remove(at, "takes the line out")
}

pub(in crate::check) fn range_orphan(mending: &mut Mending<'_, '_>) -> Option<String> {
    if !mending.are_files_alone() {
        return None;
    }
    orphan(mending)
}

/// Moves a hash to where only root reads it, if no other waits there: whoever could
/// sign in by it still can.
pub(in crate::check) fn hide(mending: &mut Mending<'_, '_>) -> Option<String> {
    let file = match mending.finding.file {
        File::Group => File::Gshadow,
        _ => File::Shadow,
    };
    if !mending.edits.has(file) {
        return None;
    }
    let (at, line) = mending.line()?;
    if !mending.edits.is_kept(mending.finding.file, at) {
        return None;
    }
    let (name, hash) = (field(&line, Column::NAME), field(&line, Column::PASSWORD));
    let moved = match mending.edits.named(file, name) {
        Some(hidden) => {
            let other = mending.edits.line(file, hidden)?.to_vec();
            if !matches!(field(&other, Column::PASSWORD), b"!" | b"*" | b"x" | b"!!" | b"") {
                return None;
            }
            mending.edits.alter(file, hidden, with_fields(&other, &[(Column::PASSWORD, hash)]))
        }
        None if file == File::Gshadow => {
            let listed = field(&line, GroupField::Members);
            mending.edits.add(file, [name, hash, b"", listed].join(&b':'))
        }
        None => {
            let uid = Passwd::read(line.trim_ascii_start()).and_then(|user| user.uid());
            mending.edits.add(file, mending.new_shadow(uid, name, hash))
        }
    };
    (moved && mending.alter(at, with_fields(&line, &[(Column::PASSWORD, b"x")])))
        .then(|| format!("moves the hash to {}", file.path()))
}

pub(in crate::check) fn close(mending: &mut Mending<'_, '_>) -> Option<String> {
    let (at, line) = mending.line()?;
    if !field(&line, Column::PASSWORD).is_empty() {
        return None;
    }
    let mended = with_fields(&line, &[(Column::PASSWORD, b"!")]);
    mending.alter(at, mended).then(|| "locks the password".to_owned())
}

pub(in crate::check) fn shadow_line(mending: &mut Mending<'_, '_>) -> Option<String> {
    let (_, line) = mending.line()?;
    let user = Passwd::read(line.trim_ascii_start())?;
    let (name, uid) = (user.name, user.uid());
    if !mending.edits.has(File::Shadow) || mending.edits.named(File::Shadow, name).is_some() {
        return None;
    }
    if mending.lost.may_have_had(File::Shadow, name) {
        return None;
    }
    let added = mending.edits.add(File::Shadow, mending.new_shadow(uid, name, b"!"));
    added.then(|| "adds the line, with the password locked".to_owned())
}

pub(in crate::check) fn gshadow_line(mending: &mut Mending<'_, '_>) -> Option<String> {
    let (_, line) = mending.line()?;
    let (name, listed) = (field(&line, Column::NAME), field(&line, GroupField::Members));
    if mending.edits.named(File::Gshadow, name).is_some()
        || mending.lost.may_have_had(File::Gshadow, name)
    {
        return None;
    }
    let added = mending.edits.add(File::Gshadow, [name, b"!", b"", listed].join(&b':'));
    added.then(|| "adds the line, without a password".to_owned())
}

pub(in crate::check) fn same_members(mending: &mut Mending<'_, '_>) -> Option<String> {
    let (_, line) = mending.line()?;
    let (name, listed) = (field(&line, Column::NAME), field(&line, GroupField::Members));
    // A space beside a name is a fault of its own, and does not go on.
    if listed.split(|byte| *byte == b',').any(|name| name.trim_ascii().len() < name.len()) {
        return None;
    }
    let at = mending.edits.named(File::Gshadow, name)?;
    let other = mending.edits.line(File::Gshadow, at)?.to_vec();
    Gshadow::read(other.trim_ascii_start())?;
    let mended = with_fields(&other, &[(GshadowField::Members, listed)]);
    let altered = mending.edits.alter(File::Gshadow, at, mended);
    altered.then(|| "the same list in etc/gshadow".to_owned())
}
