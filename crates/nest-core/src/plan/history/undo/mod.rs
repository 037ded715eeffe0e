//! Taking a change back: line by line, step by step, the other way round.

#![deny(clippy::wildcard_enum_match_arm)]

mod fields;
mod steps;
mod used;

use std::collections::BTreeMap;

use bstr::{BString, ByteSlice};

use crate::allot::Holder;
use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::PlanBuilder;
use crate::order;
use crate::policy::Policy;
use crate::record::{ChangeRecord, RecordedEdit, RecordedStep, Secret};
use crate::refusal::{NotKept, Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::retired::{Kept, KeptFolder, KeptLine};
use crate::secret::{has_lost_parts, hash_of, shown};
use crate::table::{File, Line, Passwd, Record, name_on};
use crate::value::{Uid, UserOrGroup};

/// A change to be taken back.
#[derive(Debug, Clone, Copy)]
pub struct Undo<'a> {
    /// Its record.
    pub record: &'a ChangeRecord,
    /// The change that took it back already.
    pub undone_by: Option<u64>,
    /// What that comes to, where it is an undo itself.
    pub comes_to: Option<&'a str>,
    /// Only the lines of the account files, not what was done on the tree.
    pub lines_only: bool,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for Undo<'_> {
    /// The names on all lines of the change.
    fn lookups(&self, _: &Policy) -> Lookups {
        let edits = self.record.told.edits.iter();
        let name = |line: &BString| BString::from(name_on(line));
        let mut names: Vec<BString> =
            edits.flat_map(|edit| edit.before.iter().chain(&edit.after)).map(name).collect();
        names.sort_unstable();
        names.dedup();
        Lookups::whole().names(&names).with_belongings()
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the taking back of a change. A line that has changed since stops it;
/// other lines of the same files are left as they are.
///
/// # Errors
/// The first [`Refusal`].
pub fn undo(context: PlanContext<'_>, request: Undo<'_>) -> Result<Plan> {
    let record = request.record;
    let builder = PlanBuilder::new(context, format!("undo {}", record.number));
    let mut undoing = Undoing { context, record, builder };
    undoing.builder.plan.undoes = Some(record.number);
    undoing.builder.plan.returning = true;
    let mut subject = Subject::new(format!("change {}", record.number));
    let by = record.by.name.clone().unwrap_or_else(|| format!("uid {}", record.by.uid));
    let day = record.time.split('T').next().unwrap_or_default();
    let summary = record.told.summary.as_str();
    subject.decide("takes back", summary, format!("of {day}, by {by}"));
    if let Some(what) = request.comes_to {
        subject.decide(Label::COMES_TO, what, "");
    }
    undoing.builder.tell(subject);
    if let Some(by) = request.undone_by {
        let number = record.number;
        return Err(undoing
            .refuse(Reason::UndoneAlready { by })
            .or(format!("do change {number} again"), format!("undo {by}")));
    }
    undoing.lines()?;
    if request.lines_only {
        undoing.notes()?;
        let left = record.told.steps.iter().filter(|step| !step.step.is_bookkeeping()).count();
        if left > 0 {
            undoing.builder.caution(Caution::StepsLeft { count: left });
        }
    } else {
        undoing.steps()?;
    }
    // Numbers that had been somebody's before are so again.
    for RecordedStep { step, .. } in &record.told.steps {
        if let Step::ReviveIds(ids) = step {
            let earlier = std::mem::take(&mut undoing.builder.going.earlier);
            undoing.builder.going.earlier = earlier.with(ids);
        }
    }
    let none = undoing.builder.going.earlier.is_empty();
    undoing.builder.going.free_if_unused = !request.lines_only && none;
    let mut builder = undoing.builder;
    note_people(&mut builder);
    let mut plan = builder.finish("list changes");
    // That there is nothing left to be done takes the change back too.
    plan.nothing = false;
    Ok(plan)
}

/// One subject for each account and group whose lines come or go, so that what
/// becomes of its numbers is told with its name.
fn note_people(builder: &mut PlanBuilder<'_>) {
    let mut names: BTreeMap<BString, (bool, &'static str)> = BTreeMap::new();
    for edit in builder.edits.iter() {
        let name = |line: &BString| BString::from(name_on(line));
        let (before, after) = (edit.before.as_ref().map(name), edit.after.as_ref().map(name));
        if before == after || !matches!(edit.file, File::Passwd | File::Group) {
            continue;
        }
        // Of a user with a group of the same name the user is told.
        let is_user = edit.file == File::Passwd;
        for (name, what) in [(before, "goes"), (after, "comes back")] {
            let Some(name) = name else { continue };
            let known = names.entry(name).or_insert((is_user, what));
            if is_user {
                *known = (is_user, what);
            }
        }
    }
    for (name, (is_user, what)) in names {
        let mut subject = Subject::new(name);
        subject.decide(if is_user { "account" } else { "group" }, what, "");
        builder.tell(subject);
    }
}

struct Undoing<'a> {
    context: PlanContext<'a>,
    record: &'a ChangeRecord,
    builder: PlanBuilder<'a>,
}

impl<'a> Undoing<'a> {
    fn refuse(&self, reason: Reason) -> Box<Refusal> {
        Refusal::new(format!("change {} was not taken back", self.record.number), reason)
    }

    fn decide(&mut self, label: &'static str, value: impl Into<BString>, why: impl Into<String>) {
        if let Some(subject) = self.builder.plan.subjects.first_mut() {
            subject.decide(label, value, why);
        }
    }

    fn lines(&mut self) -> Result<()> {
        let mut edits: Vec<&RecordedEdit> = self.record.told.edits.iter().collect();
        // Lines that come back to one file are put back from the top down.
        order::sort_by_key(&mut edits, |edit| (edit.file, edit.line));
        for edit in edits {
            match (&edit.before, &edit.after) {
                (Some(before), None) => self.put_back(edit, before)?,
                // Only the end of the file was altered.
                (Some(before), Some(after)) if before == after && edit.secret != Secret::Lost => {
                    self.unend(edit, after);
                }
                (before, Some(after)) => match (self.find(edit, after), before) {
                    (Ok(line), None) => self.builder.edits.remove(edit.file, line),
                    (Ok(line), Some(before)) => self.restore(edit, line, before)?,
                    (Err(refusal), None) => return Err(self.or_delete(edit.file, after, refusal)),
                    (Err(refusal), Some(before)) => {
                        self.merge(edit, before, after).ok_or(refusal)?;
                    }
                },
                (None, None) => {}
            }
        }
        Ok(())
    }

    /// The last line of a file loses the end that the change gave it.
    fn unend(&mut self, edit: &RecordedEdit, left: &BString) {
        if let Ok(line) = self.find(edit, left) {
            self.builder.edits.unend(edit.file, line);
        }
    }

    /// The line as the change left it; a refusal when there is none.
    fn find(&self, edit: &RecordedEdit, left: &BString) -> Result<Line<'a>> {
        let name = name_on(left);
        let lines = self.context.book.lines(edit.file);
        let named = self.context.book.named(edit.file, name);
        let same = |line: &&Line<'a>| shown(edit.file, line.bytes) == *left;
        if let Some(line) = named.iter().find(same) {
            return Ok(*line);
        }
        // A line that is no record has no name to be found by. Of several the nearest is
        // meant.
        let nameless =
            |line: &Line<'a>| !line.is_record() || line.name().len() == line.record().len();
        let other = lines.and_then(|lines| {
            let same = lines
                .iter()
                .enumerate()
                .filter(|(_, line)| line.bytes == left.as_slice() && nameless(line));
            same.min_by_key(|(at, _)| edit.line.abs_diff(at + 1)).map(|(_, line)| line)
        });
        if let Some(line) = other {
            return Ok(line);
        }
        let now = named.first().map(|line| shown(edit.file, line.bytes));
        let number = named.first().map(|line| lines.map_or(0, |lines| lines.number(line.start)));
        Err(self.or_restore(self.refuse(Reason::LineChanged {
            file: edit.file,
            line: number.unwrap_or(edit.line),
            left: left.clone(),
            now,
        })))
    }

    /// A line that has changed since gets back what the change altered, field by field and
    /// member by member; nothing where it is just that which has changed.
    fn merge(&mut self, edit: &RecordedEdit, before: &BString, after: &BString) -> Option<()> {
        // A hash that came or was replaced looks like the one that was there before.
        if !matches!(edit.secret, Secret::None | Secret::Kept) {
            return None;
        }
        let book = self.context.book;
        let line = *book.named(edit.file, name_on(after)).first()?;
        let now = shown(edit.file, line.bytes);
        let merged = fields::taken_back(edit.file, line.bytes, &now, before, after)?;
        let number = book.lines(edit.file).map_or(0, |lines| lines.number(line.start));
        self.builder.caution(Caution::LineMerged { file: edit.file, line: number });
        if merged != line.bytes {
            self.builder.edits.alter(edit.file, line, merged);
        }
        Some(())
    }

    /// An altered line gets its old text, with the hash that stands in it now.
    fn restore(&mut self, edit: &RecordedEdit, line: Line<'a>, before: &BString) -> Result<()> {
        let name = BString::from(line.name());
        if (has_lost_parts(before) || edit.secret == Secret::Lost)
            && let Some(kept) = self.kept_line(edit, before)?
        {
            self.builder.edits.alter(edit.file, line, kept);
            return Ok(());
        }
        if has_lost_parts(before) {
            return Err(self.refuse(Reason::PartNotKept { name }));
        }
        let restored = match edit.secret {
            Secret::Lost => match self.moved_hash(edit.file, &name) {
                Some(hash) => with_hash(before, hash),
                None => return Err(self.refuse(Reason::HashNotKept { name })),
            },
            Secret::Kept => {
                let hash = hash_of(edit.file, line.bytes).unwrap_or_default();
                with_hash(before, hash)
            }
            Secret::None | Secret::New => before.to_vec(),
        };
        self.builder.edits.alter(edit.file, line, restored);
        Ok(())
    }

    /// A line that went comes back, if nothing has taken its place.
    fn put_back(&mut self, edit: &RecordedEdit, before: &BString) -> Result<()> {
        if has_lost_parts(before) {
            let (file, line) = (edit.file, edit.line);
            if let Some(kept) = self.kept_line(edit, before)? {
                self.builder.edits.put_back(file, line, kept);
                return Ok(());
            }
            self.builder.caution(Caution::LineNotKept { file, line });
            return Ok(());
        }
        let record = before.trim_ascii_start();
        let name = name_on(record);
        let book = self.context.book;
        if let Some(line) = book.named(edit.file, name).first()
            && !matches!(edit.file, File::Subuid | File::Subgid)
            && !self.record.told.mends
        {
            return Err(self.refuse(Reason::PlaceTaken {
                file: edit.file,
                line: book.lines(edit.file).map_or(0, |lines| lines.number(line.start)),
                name: name.into(),
            }));
        }
        if edit.file == File::Passwd
            && let Some(uid) = Passwd::read(record).and_then(|user| user.uid())
            && let Some((_, other)) = book.user_by_uid(uid)
            && !self.was_shared(uid)
            && !self.record.told.mends
        {
            let holder = Holder::User(other.name.into());
            return Err(self.refuse(Reason::IdTaken { what: "uid", id: uid.0, holder }));
        }
        let line = match edit.secret {
            Secret::Lost => match self.kept_line(edit, before)? {
                Some(line) => line,
                None => {
                    self.builder.caution(Caution::PasswordAnew { name: name.into() });
                    with_hash(before, b"")
                }
            },
            Secret::None | Secret::Kept | Secret::New => before.to_vec(),
        };
        self.builder.edits.put_back(edit.file, edit.line, line);
        Ok(())
    }

    /// The hash that the change moved from a line to where only root reads it.
    fn moved_hash(&self, from: File, name: &BString) -> Option<&'a [u8]> {
        let to = if from == File::Group { File::Gshadow } else { File::Shadow };
        let moved = self.record.told.moves_hash(from, name);
        let line = self.context.book.named(to, name).into_iter().next().filter(|_| moved)?;
        hash_of(to, line.bytes)
    }

    /// The accounts and groups that the change kept.
    fn kept(&self) -> impl Iterator<Item = &'a Kept> {
        self.record.told.steps.iter().filter_map(|step| {
            let Step::Keep { kept, .. } = &step.step else { return None };
            Some(&**kept)
        })
    }

    /// Whether two accounts had a uid when one of them went: it comes back as it
    /// was, shared.
    fn was_shared(&self, uid: Uid) -> bool {
        self.kept().any(|kept| kept.id == uid.0 && kept.shared_uid)
    }

    /// A line that is kept whole.
    fn kept_line(&self, edit: &RecordedEdit, before: &BString) -> Result<Option<Vec<u8>>> {
        let folders = self.record.told.steps.iter().filter_map(|step| {
            let Step::Keep { folder, .. } = &step.step else { return None };
            Some(folder)
        });
        let folders: Vec<&KeptFolder> = folders.collect();
        if folders.is_empty() {
            return Ok(None);
        }
        let all = self.context.world.kept();
        let all = all.map_err(|why| self.refuse(NotKept::KeptUnreadable(why).into()))?;
        let same =
            |line: &&KeptLine| line.file == edit.file && shown(line.file, &line.text) == *before;
        Ok(folders.into_iter().find_map(|folder| {
            let kept = all.iter().find(|kept| kept.folder == *folder)?;
            kept.kept.lines.iter().find(same).map(|line| line.text.to_vec())
        }))
    }

    /// A deletion that can't be taken back line by line can still be restored.
    fn or_restore(&self, refusal: Box<Refusal>) -> Box<Refusal> {
        match self.kept().next() {
            Some(kept) => {
                let way = format!("restore {} {}", kept.thing, kept.name);
                refusal.or("bring it back as it is kept", way)
            }
            None => refusal,
        }
    }

    /// What was made and has changed since can still be deleted.
    fn or_delete(&self, file: File, line: &BString, refusal: Box<Refusal>) -> Box<Refusal> {
        let (name, book) = (name_on(line), self.context.book);
        let made = |file: File| {
            let mut edits = self.record.told.edits.iter();
            edits.any(|edit| {
                let after = edit.after.as_ref().filter(|_| edit.before.is_none());
                edit.file == file && after.is_some_and(|after| name_on(after) == name)
            })
        };
        // A user's own group goes with it.
        let thing = match (made(File::Passwd), file.is_of_groups() && made(File::Group)) {
            (true, _) if book.user(name).is_some() => UserOrGroup::User,
            (_, true) if book.group(name).is_some() => UserOrGroup::Group,
            _ => return refusal,
        };
        refusal.or("delete it as it is by now", format!("delete {thing} {}", name.as_bstr()))
    }

    fn cannot(&self, why: String) -> Box<Refusal> {
        let number = self.record.number;
        let refusal = self.refuse(Reason::StepStands(why));
        // Of files alone there are none.
        if self.record.told.edits.is_empty() {
            return refusal;
        }
        refusal.or("take back the lines only", format!("undo {number} --lines-only"))
    }
}

/// A recorded line with a hash in the place of `(hash)`; without one the field
/// says that none was ever set.
fn with_hash(line: &[u8], hash: &[u8]) -> Vec<u8> {
    let mut fields: Vec<&[u8]> = line.split_str(":").collect();
    let locked = fields.get(1).is_some_and(|field| field.starts_with(b"!"));
    let field = match (hash, locked) {
        (b"", _) => b"!".to_vec(),
        (hash, true) => [b"!", hash].concat(),
        (hash, false) => hash.to_vec(),
    };
    if let Some(place) = fields.get_mut(1) {
        *place = &field;
    }
    fields.join(&b':')
}
