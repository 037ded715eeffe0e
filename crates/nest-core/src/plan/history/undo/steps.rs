//! Taking back what a change did on the tree.

use bstr::BString;

use crate::change::{LinesOf, Step, TextEdit};
use crate::ownership::Reown;
use crate::plan::history::undo::used::Going;
use crate::plan::history::undo::{Undoing, with_hash};
use crate::record::RecordedStep;
use crate::refusal::{NotKept, Result};
use crate::retired::{Kept, KeptFolder, set_aside_place};
use crate::secret::hash_of;
use crate::surroundings::Site;
use crate::table::File;
use crate::value::{TreePath, Uid, join};
use crate::words::counted;

impl Undoing<'_> {
    pub(crate) fn steps(&mut self) -> Result<()> {
        let going = self.going();
        let steps: Vec<&RecordedStep> = self.record.told.steps.iter().rev().collect();
        // Files that go with an account are looked for where they are now: before anything is
        // moved back.
        for (at, recorded) in self.record.told.steps.iter().enumerate().rev() {
            if let Step::Reown(reown) = &recorded.step
                && reown.follows
            {
                let moved = &self.record.told.steps[at..];
                self.follow_back(reown, moved);
            }
        }
        for recorded in steps {
            match &recorded.step {
                Step::MakeDirectory { path, owner, .. } => {
                    self.unmake(recorded, path.clone(), owner.uid, &going)?;
                }
                Step::MakeFile { below, file, owner } => {
                    let path = TreePath::judged(&join(below, &file.path));
                    self.unmake(recorded, path, owner.uid, &going)?;
                }
                Step::EditText(edit) => self.edit_back(edit)?,
                Step::GiveDirectory { path, from, to } => {
                    self.expect_owner(path, to.uid)?;
                    let (path, from, to) = (path.clone(), *to, *from);
                    self.builder.step(Step::GiveDirectory { path, from, to });
                }
                Step::SetAccess { file, from, to } => {
                    let path = BString::from(format!("/{}", file.path()));
                    match self.context.world.facts(path.as_ref()) {
                        Ok(Some(now)) if now.mode == to.mode && now.uid == to.owner.uid => {}
                        _ => {
                            let why = format!("{} has other access by now", file.path());
                            return Err(self.cannot(why));
                        }
                    }
                    let (file, from, to) = (*file, *to, *from);
                    self.builder.step(Step::SetAccess { file, from, to });
                }
                Step::Move { from, to, .. } => {
                    self.move_back(to.clone(), from.clone())?;
                }
                Step::Remove { path, again, .. } => {
                    self.expect_free(path)?;
                    self.decide("made again", path.clone(), "");
                    self.builder.step((**again).clone());
                }
                Step::Reown(reown) => self.give_back(reown),
                Step::NoteSuspended(note) => {
                    self.builder.step(Step::ForgetSuspended(note.clone()));
                }
                Step::ForgetSuspended(note) => {
                    self.builder.step(Step::NoteSuspended(note.clone()));
                }
                Step::Erase { path } => {
                    return Err(self.cannot(format!("{path} was erased, and is nowhere")));
                }
                Step::Archive { path, folder, file } => {
                    self.expect_free(path)?;
                    self.decide("unpacks", path.clone(), "");
                    let (path, folder, file) = (path.clone(), folder.clone(), *file);
                    let (uid, gid) = (None, None);
                    self.builder.step(Step::Unpack { path, folder, file, uid, gid });
                }
                Step::Unpack { path, folder, file, .. } => {
                    self.decide("packs again", path.clone(), "");
                    let (path, folder, file) = (path.clone(), folder.clone(), *file);
                    self.builder.step(Step::Archive { path, folder, file });
                }
                Step::Keep { folder, .. } => self.release(folder)?,
                Step::Release { purged: true, folder, .. } => {
                    return Err(self.cannot(format!(
                        "retired/{folder} was purged, and nothing brings that back"
                    )));
                }
                Step::Release { folder, kept, .. } => self.keep_again(folder, kept),
                // The lines say which numbers have a holder again.
                Step::RetireIds(_) | Step::ReviveIds(_) => {}
            }
        }
        Ok(())
    }

    /// Lines that came go, where they are there still; those that went come back, and all else
    /// stays as it is by now.
    fn edit_back(&mut self, edit: &TextEdit) -> Result<()> {
        let mut back = edit.back();
        let path = back.path.clone();
        let text = self.context.world.key_file(path[..].into()).text;
        let text = text.map_err(|why| self.cannot(format!("{path} {why}")))?;
        let now = text.unwrap_or_default();
        let is_there = |line: &BString| now.lines_of().any(|other| other == line.as_slice());
        let (there, gone): (Vec<_>, Vec<_>) = std::mem::take(&mut back.lines)
            .into_iter()
            .partition(|change| change.was.as_ref().is_none_or(is_there));
        for line in gone.into_iter().filter_map(|change| change.was) {
            self.decide("gone already", path.clone(), line.to_string());
        }
        if there.is_empty() {
            return Ok(());
        }
        back.lines = there;
        self.decide("edits back", path.clone(), back.in_words());
        // A file in which nothing would be left goes again.
        let after = back.apply(&now).map_err(|fault| self.cannot(format!("{path}: {fault}")))?;
        let inventory = self.context.world.inventory(path[..].into(), None);
        match inventory {
            Ok(Some(made)) if after.is_empty() => {
                let again = Box::new(Step::EditText(edit.clone()));
                self.builder.step(Step::Remove { path, made, again });
            }
            _ => self.builder.step(Step::EditText(back)),
        }
        Ok(())
    }

    /// Files that were given away are given back.
    fn give_back(&mut self, reown: &Reown) {
        if reown.follows {
            return;
        }
        let back = Reown { of_change: Some(self.record.number), ..reown.back() };
        let why = "the same files, those that have not changed hands since";
        self.decide("re-owns", back.in_words(), why);
        self.builder.step(Step::Reown(back));
    }

    /// Files go back with the numbers of an account, those that were made since too, where
    /// later steps of the change have moved them.
    fn follow_back(&mut self, reown: &Reown, later: &[RecordedStep]) {
        let mut back = Reown { of_change: Some(self.record.number), ..reown.back() };
        for path in &mut back.paths {
            for recorded in later {
                if let Step::Move { from, to, .. } = &recorded.step
                    && path == from
                {
                    *path = to.clone();
                }
            }
        }
        let paths: Vec<String> = back.paths.iter().map(TreePath::to_string).collect();
        let why = format!("what carries them in {}", paths.join(" and "));
        self.decide("re-owns", back.in_words(), why);
        self.builder.step(Step::Reown(back));
    }

    /// What was kept is back, and is kept no longer.
    pub(super) fn release(&mut self, folder: &KeptFolder) -> Result<()> {
        let all = self.context.world.kept();
        let all = all.map_err(|why| self.refuse(NotKept::KeptUnreadable(why).into()))?;
        if let Some(kept) = all.iter().find(|kept| kept.folder == *folder) {
            let kept = Box::new(kept.kept.clone());
            let folder = folder.clone();
            self.builder.step(Step::Release { folder, kept, purged: false });
        }
        Ok(())
    }

    /// What had come back is kept again, with the hashes that it has now.
    pub(super) fn keep_again(&mut self, folder: &KeptFolder, kept: &Kept) {
        let mut kept = kept.clone();
        let mut going: Vec<(File, BString)> = Vec::new();
        for edit in &self.record.told.edits {
            if let (None, Some(after)) = (&edit.before, &edit.after)
                && let Ok(line) = self.find(edit, after)
            {
                going.push((edit.file, line.bytes.into()));
            }
        }
        for line in &mut kept.lines {
            let at = going.iter().position(|(file, _)| *file == line.file);
            let Some((file, now)) = at.map(|at| going.remove(at)) else { continue };
            if let Some(hash) = hash_of(file, &now) {
                line.text = with_hash(&line.text, hash).into();
            }
        }
        let folder = folder.clone();
        self.builder.step(Step::Keep { folder, kept: Box::new(kept) });
    }

    /// What was made goes if it is still as it was made; what has been used
    /// since is set aside.
    fn unmake(
        &mut self,
        recorded: &RecordedStep,
        path: TreePath,
        uid: Uid,
        going: &Going,
    ) -> Result<()> {
        let found = self.context.world.inventory(path.as_ref(), recorded.left_as.as_ref());
        let found =
            found.map_err(|why| self.cannot(format!("{path} can't be looked at: {why}")))?;
        match (found, &recorded.left_as) {
            (None, _) => self.decide("gone already", path, ""),
            (Some(now), Some(made)) if now == *made => {
                self.decide("removes", path.clone(), "unused since it was made");
                let again = Box::new(recorded.step.clone());
                self.builder.step(Step::Remove { path, made: made.clone(), again });
            }
            (Some(now), _) => {
                let last = path.rsplit(|&byte| byte == b'/').next().unwrap_or_default();
                let account = going.at_home(&path);
                let (name, uid) = account.map_or((last, uid), |(name, uid)| (&name[..], *uid));
                let to = set_aside_place(&path, name, uid, self.context.change);
                self.expect_free(&to)?;
                let files = counted(now.files, "file", "files");
                self.decide("sets aside", to.clone(), format!("used since it was made: {files}"));
                let (from, place) = (path.clone(), to.clone());
                self.builder.step(Step::Move { from, to, aside: true });
                if let Some(account) = account {
                    self.keep_used(going, account, &path, &place, &now);
                }
            }
        }
        Ok(())
    }

    fn move_back(&mut self, from: TreePath, to: TreePath) -> Result<()> {
        match self.context.world.site(from.as_ref()) {
            Site::Taken(_) => {}
            Site::Free
            | Site::NoParent(_)
            | Site::ParentIsNoDirectory(_)
            | Site::ThroughLink { .. }
            | Site::Unknown(_) => return Err(self.cannot(format!("{from} is not there any more"))),
        }
        self.expect_free(&to)?;
        self.decide("moves back", to.clone(), format!("from {from}"));
        self.builder.step(Step::Move { from, to, aside: false });
        Ok(())
    }

    fn expect_free(&self, path: &BString) -> Result<()> {
        match self.context.world.site(path.as_ref()) {
            Site::Taken(_) => Err(self.cannot(format!("something else is at {path} now"))),
            Site::Unknown(why) => Err(self.cannot(format!("{path} can't be looked at: {why}"))),
            Site::Free
            | Site::NoParent(_)
            | Site::ParentIsNoDirectory(_)
            | Site::ThroughLink { .. } => Ok(()),
        }
    }

    fn expect_owner(&self, path: &BString, uid: Uid) -> Result<()> {
        match self.context.world.facts(path.as_ref()) {
            Ok(Some(facts)) if facts.uid == uid => Ok(()),
            Ok(Some(facts)) => Err(self.cannot(format!("{path} belongs to {} now", facts.uid))),
            Ok(None) => Err(self.cannot(format!("{path} is not there any more"))),
            Err(why) => Err(self.cannot(format!("{path} can't be looked at: {why}"))),
        }
    }
}
