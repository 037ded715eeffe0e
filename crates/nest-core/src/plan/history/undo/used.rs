//! What was used since it was made, and goes all the same: it is set aside, and its account is
//! kept like a deleted one.

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashMap;

use super::Undoing;
use crate::change::{Caution, Step};
use crate::drafting::places_naming;
use crate::refusal::{NotKept, Result};
use crate::retired::{Became, Belonging, BelongingKind, Kept, KeptLine};
use crate::surroundings::Inventory;
use crate::table::{File, Passwd, Record, name_on};
use crate::value::{TreePath, Uid, UserOrGroup};

/// Accounts that go, by their homes.
pub(super) type Going = HashMap<BString, (BString, Uid)>;

impl Undoing<'_> {
    /// The accounts whose lines the undoing takes away.
    pub(super) fn going(&self) -> Going {
        let edits = self.builder.edits.iter();
        let gone = edits.filter(|edit| edit.file == File::Passwd && edit.after.is_none());
        let users = gone.filter_map(|edit| {
            let user = Passwd::read(edit.before.as_ref()?.trim_ascii_start())?;
            Some((user.home.into(), (user.name.into(), user.uid()?)))
        });
        users.collect()
    }

    /// Keeps an account whose home is set aside, to be restored from and to be purged one day.
    pub(super) fn keep_used(
        &mut self,
        (name, uid): &(BString, Uid),
        path: &TreePath,
        place: &TreePath,
        now: &Inventory,
    ) {
        let Some(change) = self.context.change else { return };
        let book = self.context.book;
        let number = uid.to_string();
        let is_its = |file: File, owner: &[u8]| {
            let by_number = matches!(file, File::Subuid | File::Subgid);
            owner == name.as_bytes() || by_number && owner == number.as_bytes()
        };
        let lines = self.builder.edits.iter().filter_map(|edit| {
            let text = edit.before.clone().filter(|_| edit.after.is_none())?;
            let line = KeptLine { file: edit.file, line: edit.line, text };
            is_its(edit.file, name_on(&line.text)).then_some(line)
        });
        let mut kept = Kept::new(UserOrGroup::User, name.clone(), uid.0);
        kept.lines = lines.collect();
        kept.lines.sort_by_key(|line| (line.file, line.line));
        let own_goes = kept.line_of(File::Group).is_some();
        kept.places = places_naming(book, BStr::new(name), own_goes);
        kept.shared_uid = book.users_by_uid(*uid).iter().any(|(_, user)| user.name != name);
        let (path, became) = (path.clone().into(), Became::SetAside { place: place.clone() });
        let (what, files, bytes) = (BelongingKind::Home, now.files, now.bytes);
        kept.belongings.push(Belonging { what, path, became, files, bytes });
        // A name that is no file name has no folder to be kept in.
        let Ok(folder) = kept.folder(change) else { return };
        let days = self.context.policy.retired_keep_days;
        let why = format!("to be restored from, for {days} days");
        self.decide("kept", format!("retired/{folder}"), why);
        self.builder.step(Step::Keep { folder, kept: Box::new(kept) });
    }

    /// What is noted of accounts follows their lines, where nothing else is taken back.
    pub(super) fn notes(&mut self) -> Result<()> {
        for recorded in self.record.told.steps.iter().rev() {
            match &recorded.step {
                Step::NoteSuspended(note) => {
                    self.builder.step(Step::ForgetSuspended(note.clone()));
                }
                Step::ForgetSuspended(note) => {
                    self.builder.step(Step::NoteSuspended(note.clone()));
                }
                Step::Keep { folder, .. } => {
                    let all = self.context.world.kept();
                    let all =
                        all.map_err(|why| self.refuse(NotKept::KeptUnreadable(why).into()))?;
                    let Some(found) = all.iter().find(|kept| kept.folder == *folder) else {
                        continue;
                    };
                    if found.kept.can_come_back() {
                        let name = found.kept.name.clone();
                        self.builder.caution(Caution::StaysSetAside { name });
                    } else {
                        self.release(folder)?;
                    }
                }
                Step::Release { purged: false, folder, kept } => {
                    let mut kept = kept.clone();
                    for belonging in &mut kept.belongings {
                        // It came back, and stays there.
                        if belonging.became.can_come_back() {
                            belonging.became = Became::Stays;
                        }
                    }
                    self.keep_again(folder, &kept);
                }
                Step::Release { purged: true, .. }
                | Step::MakeDirectory { .. }
                | Step::MakeFile { .. }
                | Step::GiveDirectory { .. }
                | Step::SetAccess { .. }
                | Step::Move { .. }
                | Step::Remove { .. }
                | Step::Reown(_)
                | Step::Erase { .. }
                | Step::Archive { .. }
                | Step::Unpack { .. }
                // The lines say which numbers have a holder.
                | Step::RetireIds(_)
                | Step::ReviveIds(_) => {}
            }
        }
        Ok(())
    }
}
