//! Making everything new, beside what it replaces.

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Arc;
use std::thread::ScopedJoinHandle;

use nest_core::change::{Plan, Step};
use nest_core::record::{Told, write_edits};
use nest_core::surroundings::Inventory;
use nest_core::table::{File, Lines, holding_both};
use nest_core::value::PlainName;

use super::{Change, Circumstances, CommitError, failed};
use crate::home::{StagingOptions, flush_all, stage_directory, stage_file};
use crate::journal::{Effect, Replaced};
use crate::place::{BOTH, NEW, Place};
use crate::stage::{Staged, stage, stage_text};
use crate::state::Fresh;
use crate::tree::Tree;
use crate::{archive, changes, inventory, kept, retired, suspended};

/// Of more homes than this, or more accounts that are kept, it is quicker to flush all that
/// the file system holds.
const MANY: usize = 16;

/// Whether so many accounts are kept that they are flushed together.
pub(super) fn keeps_many(plan: &Plan) -> bool {
    plan.steps.iter().filter(|step| matches!(step, Step::Keep { .. })).count() > MANY
}

impl Change<'_> {
    /// Everything new is made beside its place, and flushed.
    pub(super) fn stage(&mut self) -> Result<(), CommitError> {
        let mut effects = std::mem::take(&mut self.entry.effects);
        let staged = self.stage_all(&mut effects);
        self.entry.effects = effects;
        staged
    }

    fn stage_all(&mut self, effects: &mut [Effect]) -> Result<(), CommitError> {
        // Packing comes first: what is kept names the digests of what is packed.
        let packs = |effect: &Effect| matches!(effect, Effect::Erase { packed: Some(_), .. });
        let steps = std::mem::take(&mut self.step_of).into_iter();
        let of_steps = steps.zip(effects.iter_mut()).filter_map(|(at, effect)| Some((at?, effect)));
        let (packing, others): (Vec<_>, Vec<_>) = of_steps.partition(|(_, effect)| packs(effect));
        let many = if self.flushes_at_once() { self.homes().count() as u64 } else { 0 };
        for (at, effect) in packing.into_iter().chain(others) {
            let step = &self.plan.steps[at];
            self.stage_step(at, step, effect).map_err(|error| failed(step.describe(), error))?;
            if many > 0 && matches!(step, Step::MakeDirectory { .. }) {
                self.watcher.made("making homes", many, 1);
            }
        }
        self.flush_together(effects)?;
        if self.many_kept {
            let flushed = self.runner.state.flush_file_system();
            flushed.map_err(|error| failed("flushing what is kept", error))?;
        }
        self.stage_state(effects)?;
        self.stage_files(effects)
    }

    /// The homes that are made.
    fn homes(&self) -> impl Iterator<Item = &[u8]> {
        self.plan.steps.iter().filter_map(|step| {
            let Step::MakeDirectory { path, .. } = step else { return None };
            Some(path.as_slice())
        })
    }

    /// Whether so many homes are made that the file system is flushed as a whole.
    fn flushes_at_once(&self) -> bool {
        self.homes().nth(MANY).is_some()
    }

    /// Flushes the file systems of what was not flushed by itself: many homes, and what was
    /// unpacked.
    fn flush_together(&self, effects: &[Effect]) -> Result<(), CommitError> {
        let unpacked = effects.iter().filter_map(|effect| {
            let Effect::Unpack { path, .. } = effect else { return None };
            Some(&path[..])
        });
        let homes = self.homes().filter(|_| self.flushes_at_once());
        flush_all(self.runner.tree, homes.chain(unpacked))
            .map_err(|error| failed("flushing homes", error))
    }

    fn stage_step(&mut self, at: usize, step: &Step, effect: &mut Effect) -> std::io::Result<()> {
        let (tree, many_kept) = (self.runner.tree, self.many_kept);
        // Mail may lie on another file system than the homes that are flushed at once.
        let alone = !matches!(step, Step::MakeDirectory { .. });
        let mut options = StagingOptions {
            live: tree.is_live(),
            flush: alone || !self.flushes_at_once(),
            links: false,
            undone: &mut self.outcome.left_undone,
            notes: &mut self.outcome.notes,
        };
        match (step, effect) {
            (Step::MakeDirectory { path, skeleton, files, owner, mode }, effect) => {
                let skeleton = skeleton.as_ref().map(|skeleton| skeleton.as_slice());
                stage_directory(tree, path, skeleton, files, *owner, *mode, &mut options)?;
                self.made[at] = note_made(tree, effect)?;
            }
            (Step::MakeFile { below, file, owner }, effect) => {
                stage_file(tree, below, file, *owner, &mut options)?;
                self.made[at] = note_made(tree, effect)?;
            }
            (Step::EditText(edit), Effect::Rewrite { before, after, .. }) => {
                let staged = stage_text(tree, edit, options.undone)?;
                (*before, *after) = (staged.before, staged.after);
            }
            (_, Effect::Move { from, to, copied: true, inventory, .. }) => {
                let (old, new) = (Place::of(tree, from)?, Place::of(tree, to)?);
                let name = new.beside(NEW);
                let was = inventory::take_inventory(&old.directory, &old.name, None)?;
                let bytes = was.as_ref().map_or(0, |was| was.bytes);
                let what = format!("moving {from}");
                let progress = |more| self.watcher.copied(&what, bytes, more);
                let (source, target) = (&old.directory, &new.directory);
                crate::copy::copy(source, &old.name, target, &name, &progress)?;
                if inventory::take_inventory(&new.directory, &name, None)? != was {
                    let message = "it was altered while it was copied";
                    return Err(std::io::Error::other(message));
                }
                inventory.clone_from(&was);
                self.made[at] = was;
            }
            (_, Effect::Erase { path, packed: Some((kept, file)) }) => {
                let place = Place::of(tree, path)?;
                let folder = kept::Place::make(self.runner.state, kept)?.fresh()?;
                let packed =
                    archive::pack(&place.directory, &place.name, &folder, *file, &|all, more| {
                        self.watcher.copied(&format!("packing {path}"), all, more);
                    })?;
                self.outcome.notes.push(packed.told(path[..].into()));
                self.digests.entry(kept.clone()).or_default().insert(*file, packed.digest);
            }
            (_, Effect::Unpack { path, folder, file, other, inventory }) => {
                let place = Place::of(tree, path)?;
                let kept = kept::Place::find(self.runner.state, folder)?;
                let folder = kept.map(|kept| kept.open()).transpose()?.flatten();
                let folder = folder.ok_or(std::io::ErrorKind::NotFound)?;
                let progress = |all, more| {
                    self.watcher.copied(&format!("unpacking {path}"), all, more);
                };
                let name = place.beside(NEW);
                archive::unpack(&folder, *file, (&place.directory, &name), *other, &progress)?;
                *inventory = inventory::take_inventory(&place.directory, &name, None)?;
            }
            (Step::Keep { kept, .. }, Effect::Keep { folder, digest }) => {
                let number = self.entry.number;
                let change = number.ok_or_else(|| {
                    std::io::Error::other("BUG: an account is kept by a change without a number")
                })?;
                let Circumstances { time, by, .. } = self.circumstances;
                let digests = self.digests.get(folder).cloned().unwrap_or_default();
                let text = kept::text((folder, kept), change, time, by, digests);
                let place = kept::Place::make(self.runner.state, folder)?;
                if place.open()?.is_some() {
                    return Err(std::io::Error::other("something is kept there already"));
                }
                let fresh = place.fresh()?;
                *digest = Some(nest_core::drift::digest(&text));
                if many_kept {
                    fresh.write_unflushed(&kept::ACCOUNT, &text)?;
                } else {
                    fresh.write(&kept::ACCOUNT, &text)?;
                    fresh.flush()?;
                    place.flush()?;
                }
            }
            (_, Effect::Reown { reown, list, digest }) => {
                let (found, carriers) = self.runner.keep_list(reown, list)?;
                // What was told before it was asked about is not told again.
                let told: Vec<String> =
                    self.plan.cautions.iter().map(ToString::to_string).collect();
                let new = carriers.notes.into_iter().filter(|note| !told.contains(note));
                self.outcome.notes.extend(new);
                *digest = Some(found);
            }
            // Nothing of these waits beside its place.
            (
                _,
                Effect::Give { .. }
                | Effect::SetAccess { .. }
                | Effect::Move { copied: false, .. }
                | Effect::Remove { .. }
                | Effect::Erase { packed: None, .. }
                | Effect::Release { .. },
            ) => {}
            (
                step,
                effect @ (Effect::Replace { .. }
                | Effect::Rewrite { .. }
                | Effect::Make { .. }
                | Effect::Keep { .. }),
            ) => {
                let (step, effect) = (step.describe(), effect.describe());
                unreachable!("{effect} does not carry out what {step}")
            }
        }
        Ok(())
    }

    fn stage_state(&self, effects: &mut [Effect]) -> Result<(), CommitError> {
        for effect in effects {
            let Effect::Replace { what: Replaced::State, path, before, after, .. } = effect else {
                continue;
            };
            let (name, state) = (path.0.to_string(), self.runner.state);
            let staged = PlainName::parse(&*name).map_err(std::io::Error::other).and_then(|name| {
                *before = state.digest(&name)?;
                *after = state.write_beside(&name, &self.state_text(&name))?;
                Ok(())
            });
            staged.map_err(|error| failed(format!("writing {}", state.shown(&name)), error))?;
        }
        Ok(())
    }

    /// A file of the state folder as it will be.
    fn state_text(&self, name: &PlainName) -> Vec<u8> {
        let (mut more, mut back) = (Vec::new(), Vec::new());
        let (mut noted, mut forgotten) = (Vec::new(), Vec::new());
        for step in &self.plan.steps {
            match step {
                Step::RetireIds(ids) => more.push(ids),
                Step::ReviveIds(ids) => back.push(ids),
                Step::NoteSuspended(note) => noted.push(note),
                Step::ForgetSuspended(note) => forgotten.push(note),
                Step::MakeDirectory { .. }
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
                | Step::Keep { .. }
                | Step::Release { .. } => {}
            }
        }
        match *name == suspended::NAME {
            true => suspended::text(&self.circumstances.suspended, &noted, &forgotten),
            false => retired::text(&self.circumstances.retired, &more, &back),
        }
    }

    /// One thread a file: flushing is mostly waiting. One more for the lines of a long
    /// record.
    fn stage_files(&mut self, effects: &mut [Effect]) -> Result<(), CommitError> {
        let this = &*self;
        let (results, begun): (Vec<_>, _) = std::thread::scope(|scope| {
            let number = this.entry.number.filter(|_| this.is_long());
            let record = number.map(|number| scope.spawn(move || this.begin_record(number)));
            let threads: Vec<_> = effects
                .iter_mut()
                .filter_map(|effect| {
                    let Effect::Replace { what: Replaced::Account(file), .. } = effect else {
                        return None;
                    };
                    Some((*file, effect))
                })
                .map(|(file, effect)| scope.spawn(move || (file, this.stage_one(file, effect))))
                .collect();
            (threads.into_iter().map(joined).collect(), record.map(joined).transpose())
        });
        let mut failure = None;
        match begun {
            Ok(begun) => self.begun = begun,
            Err(error) => failure = Some(failed("writing the journal", error)),
        }
        for (file, result) in results {
            match result {
                Ok(staged) => {
                    self.sizes.insert(file, staged.size);
                    self.outcome.left_undone.extend(staged.left_undone);
                }
                Err(error) => {
                    let what = format!("writing the new {}", file.path());
                    failure.get_or_insert(failed(what, error));
                }
            }
        }
        self.outcome.left_undone.sort();
        self.outcome.left_undone.dedup();
        chain_digests(effects);
        failure.map_or(Ok(()), Err)
    }

    /// Writes the record of a long change as far as it is known already.
    fn begin_record(&self, number: u64) -> std::io::Result<Fresh> {
        let mut fresh = changes::begin(self.runner.state, number)?;
        let told = Told { subjects: self.subjects(), ..Told::before_edits(self.plan) };
        fresh.write_all(&changes::around_edits(&self.record(number, told)).0)?;
        write_edits(&self.plan.edits, &mut fresh)?;
        // Most of it is on the disk by the time the rest is known.
        fresh.flush_data()?;
        Ok(fresh)
    }

    fn stage_one(&self, file: File, effect: &mut Effect) -> std::io::Result<Staged> {
        let Effect::Replace { staged, before, after, .. } = effect else {
            return Err(std::io::ErrorKind::InvalidInput.into());
        };
        let edits = self.edits(file);
        let both = staged.0.ends_with(BOTH.as_bytes()).then(|| holding_both(&edits));
        let edits = both.as_ref().map_or(edits, |both| both.iter().collect());
        let original = self.loaded.originals.get(&file);
        let empty = Lines::new(file, Arc::new(Vec::new()));
        let lines = self.loaded.book.lines(file).unwrap_or(&empty);
        if let Some(original) = original {
            *before = Some(original.digest()?);
        }
        let name = crate::tree::path_of(&staged.0).as_os_str();
        let staged = stage(self.tree(), file, original, &lines.rewrite(&edits), name)?;
        *after = staged.digest.clone();
        Ok(staged)
    }
}

fn joined<T>(thread: ScopedJoinHandle<'_, T>) -> T {
    thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

/// What was made, as it waits beside its place.
fn note_made(tree: &Tree, effect: &mut Effect) -> std::io::Result<Option<Inventory>> {
    let Effect::Make { path, inventory, .. } = effect else { return Ok(None) };
    let place = Place::of(tree, path)?;
    *inventory = inventory::take_inventory(&place.directory, &place.beside(NEW), None)?;
    Ok(inventory.clone())
}

/// A file that is replaced twice is replaced the second time from what the first
/// one made of it.
fn chain_digests(effects: &mut [Effect]) {
    let mut current: BTreeMap<File, String> = BTreeMap::new();
    for effect in effects {
        if let Effect::Replace { what: Replaced::Account(file), before, after, .. } = effect {
            if let Some(current) = current.get(file) {
                *before = Some(current.clone());
            }
            current.insert(*file, after.clone());
        }
    }
}
