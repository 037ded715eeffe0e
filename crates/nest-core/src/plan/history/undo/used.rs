//! What was used since it was made, and goes all the same: it is set aside, and its account is
//! kept like a deleted one.

use std::cell::OnceCell;

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashMap;

use super::Undoing;
use crate::change::{Caution, Step};
use crate::drafting::places_naming;
use crate::order;
use crate::refusal::{NotKept, Result};
use crate::retired::{Became, Belonging, BelongingKind, Kept, KeptLine};
use crate::surroundings::Inventory;
use crate::table::{File, Passwd, Record, name_on};
use crate::value::{TreePath, Uid, UserOrGroup};

/// Accounts that go.
pub(super) struct Going {
    /// Their names and numbers, by their homes.
    homes: HashMap<BString, (BString, Uid)>,
    /// The lines that go with them, by the owner that stands on them: gathered where one is
    /// to be kept.
    lines: OnceCell<HashMap<BString, Vec<KeptLine>>>,
}

impl Going {
    /// Whose home a path is.
    pub fn at_home(&self, path: &TreePath) -> Option<&(BString, Uid)> {
        self.homes.get(path.as_bstr())
    }
}

impl Undoing<'_> {
    /// The accounts whose lines the undoing takes away.
    pub(super) fn going(&self) -> Going {
        let edits = self.builder.edits.iter();
        let gone = edits.filter(|edit| edit.file == File::Passwd && edit.after.is_none());
        let users = gone.filter_map(|edit| {
            let user = Passwd::read(edit.before.as_ref()?.trim_ascii_start())?;
            Some((user.home.into(), (user.name.into(), user.uid()?)))
        });
        Going { homes: users.collect(), lines: OnceCell::new() }
    }

    /// The lines that go with an account: by its name, and ranges by its number too.
    fn lines_going(&self, going: &Going, name: &BString, uid: Uid) -> Vec<KeptLine> {
        let all = going.lines.get_or_init(|| {
            let mut all: HashMap<BString, Vec<KeptLine>> = HashMap::new();
            for edit in self.builder.edits.iter().filter(|edit| edit.after.is_none()) {
                let Some(text) = edit.before.clone() else { continue };
                let owner = BString::from(name_on(&text));
                let line = KeptLine { file: edit.file, line: edit.line, text };
                all.entry(owner).or_default().push(line);
            }
            all
        });
        let of = |owner: &BString| all.get(owner).into_iter().flatten();
        let is_range = |line: &&KeptLine| matches!(line.file, File::Subuid | File::Subgid);
        let by_number = uid.to_string().into();
        let mut lines: Vec<KeptLine> =
            of(name).chain(of(&by_number).filter(is_range)).cloned().collect();
        order::sort_by_key(&mut lines, |line| (line.file, line.line));
        lines
    }

    /// Keeps an account whose home is set aside, to be restored from and to be purged one day.
    pub(super) fn keep_used(
        &mut self,
        going: &Going,
        (name, uid): &(BString, Uid),
        path: &TreePath,
        place: &TreePath,
        now: &Inventory,
    ) {
        let Some(change) = self.context.change else { return };
        let book = self.context.book;
        let mut kept = Kept::new(UserOrGroup::User, name.clone(), uid.0);
        kept.lines = self.lines_going(going, name, *uid);
        let own_goes = kept.line_of(File::Group).is_some();
        kept.places = places_naming(book, BStr::new(name), own_goes);
        kept.shared_uid = book.users_by_uid(*uid).iter().any(|(_, user)| user.name != name);
        let (path, became) = (path.clone().into(), Became::SetAside { place: place.clone() });
        let (what, files, bytes) = (BelongingKind::Home, now.files, now.bytes);
        kept.belongings.push(Belonging { what, path, became, files, bytes });
        // A name that is no file name has no folder to be kept in.
        let Ok(folder) = kept.folder(change) else {
            return self.builder.caution(Caution::NothingKept { name: name.clone() });
        };
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
                | Step::EditText(_)
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
