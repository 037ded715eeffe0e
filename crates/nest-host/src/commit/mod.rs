//! Carrying a plan out, whole or not at all.
//!
//! What will be staged is written into the journal first; everything new is then
//! staged beside what it replaces and flushed; the journal is marked ready, which
//! is the moment the change happens; only then is anything renamed into place. A
//! failure before that moment drops what was staged; a failure after it puts the
//! originals back; a crash is finished or rolled back by the module `recover`.

#![deny(clippy::wildcard_enum_match_arm)]

mod prepare;
mod staging;

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex};

use nest_core::change::{Plan, Subject};
use nest_core::drift::Drift;
use nest_core::record::{ChangeRecord, RecordedStep, Told, VERSION};
use nest_core::retired::{KeptFolder, PackedFile};
use nest_core::retired_ids::RetiredIds;
use nest_core::surroundings::Inventory;
use nest_core::table::{Edit, File};
use nest_core::value::{Author, Day};
use rustix::io::Errno;

use crate::changes::{self, LeftBehind};
use crate::effect::{EffectRunner, Moment, Published};
use crate::journal::{self, Effect, Journal, JournalEntry, JournalError, Replaced, Rooted};
use crate::lock::Lock;
use crate::reown::Earlier;
use crate::state::{Folder, Fresh, State, StateError};
use crate::store::Loaded;
use crate::tree::{Tree, path_of};
use crate::undone::Undone;
use crate::words::why;
use crate::{interrupt, kept};

pub use crate::watcher::Watcher;

/// Of more accounts at once the record keeps the lines, and not the decisions.
const MOST_SUBJECTS: usize = 1000;

/// The record of a change of more lines is not in `ready.json`, but beside it.
const MOST_LINES: usize = 1000;

/// What goes for a change besides its plan.
#[derive(Debug, Clone)]
pub struct Circumstances {
    /// Who makes it.
    pub by: Author,
    /// When, as it will stand in the record.
    pub time: String,
    /// Today.
    pub today: Day,
    /// The arguments as typed.
    pub arguments: Vec<String>,
    /// What it is for, as the administrator says.
    pub note: Option<String>,
    /// What other hands did since the change before.
    pub other_hands: Vec<Drift>,
    /// For how many days records are kept.
    pub keep_days: u32,
    /// Numbers retired so far.
    pub retired: RetiredIds,
    /// Files that were found while the change was planned.
    pub earlier: Arc<Earlier>,
    /// Accounts suspended so far.
    pub suspended: Vec<nest_core::suspended::Suspended>,
}

/// What came of a change besides what its plan says.
#[derive(Debug, Default)]
pub struct Outcome {
    /// The number of the change; nothing where no state is kept.
    pub number: Option<u64>,
    /// Owners and attributes that could not be set, in words.
    pub left_undone: Vec<Undone>,
    /// What else has to be told, in words.
    pub notes: Vec<String>,
    /// Files that are mount points, and were rewritten in place.
    pub in_place: Vec<File>,
}

/// Why a change did not happen.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum CommitError {
    /// Somebody edited a file without taking the lock.
    #[error("{} was changed by somebody else in the meantime; nothing was changed", .0.path())]
    ChangedMeanwhile(File),
    /// A signal came before the change happened.
    #[error("interrupted; nothing was changed")]
    Interrupted,
    /// The state folder can't be used.
    #[error(transparent)]
    State(#[from] StateError),
    /// The journal can't be used.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// Something failed, and all is as it was.
    #[error("{what}")]
    Failed { what: String, source: std::io::Error },
    /// Something failed, and so did putting things back.
    #[error("{what}")]
    NotPutBack { what: String, source: std::io::Error, stands: String },
}

/// Carries out a plan that was made from `loaded`. The lock proves that no other
/// program which takes it is at work, and that nothing unfinished stands.
///
/// # Errors
/// [`CommitError`]; all but [`CommitError::NotPutBack`] mean that nothing
/// changed.
pub fn commit(
    _lock: &Lock,
    tree: &Tree,
    state: &State,
    loaded: &Loaded,
    plan: &Plan,
    circumstances: &Circumstances,
    watcher: &dyn Watcher,
) -> Result<Outcome, CommitError> {
    let interrupted = interrupt::catch();
    interrupt::survive_size_limits();
    let made = state.missing(tree);
    // What is made for it is marked before, and a folder outside the tree once it is there.
    let mark = |made| state.leave_mark(tree, made);
    let marking = |error| failed("leaving a mark in etc", error);
    let unmark = |made| {
        state.drop_if_empty(tree, made);
        if let Err(error) = state.take_mark(tree) {
            tracing::warn!(%error, "the mark of the state folder stays");
        }
    };
    if *state == State::InTree && !made.is_empty() {
        mark(&made).map_err(marking).inspect_err(|_| unmark(&[]))?;
    }
    let folder = state.open_or_make(tree).inspect_err(|_| unmark(&made))?;
    let keeps = *state != State::Nowhere;
    let number = keeps.then(|| changes::next_number(Some(&folder)));
    let number = number.transpose().map_err(|error| CommitError::Failed {
        what: "looking for the number of the change".into(),
        source: std::io::Error::other(error),
    })?;
    let drop_all = |folder: &Folder| {
        Journal::sweep(folder);
        unmark(&made);
    };
    mark(&made).map_err(marking).inspect_err(|_| drop_all(&folder))?;
    let journal = Journal::make(&folder).inspect_err(|_| drop_all(&folder))?;
    let (recovering, notes) = (false, Mutex::default());
    let mut change = Change {
        runner: EffectRunner {
            tree,
            state: &folder,
            journal: &journal,
            number,
            recovering,
            watcher,
            earlier: Some(&*circumstances.earlier),
            notes,
        },
        loaded,
        plan,
        circumstances,
        watcher,
        entry: JournalEntry {
            version: journal::VERSION,
            tree: Rooted::of(tree),
            number,
            summary: plan.summary.clone(),
            effects: Vec::new(),
            record: None,
            record_beside: None,
            made: made.clone(),
        },
        step_of: Vec::new(),
        many_kept: staging::keeps_many(plan),
        made: vec![None; plan.steps.len()],
        digests: BTreeMap::new(),
        sizes: BTreeMap::new(),
        begun: None,
        outcome: Outcome { number, ..Outcome::default() },
    };
    let begun = change.prepare().and_then(|()| change.begin());
    let staged = begun.and_then(|()| change.stage()).and_then(|()| change.look_once_more());
    let staged = staged.and_then(|()| match interrupted.load(Ordering::Relaxed) {
        true => Err(CommitError::Interrupted),
        false => change.mark_ready(),
    });
    if let Err(error) = staged {
        change.discard();
        drop_all(&folder);
        // What was being done when the signal came is no matter.
        return Err(match interrupted.load(Ordering::Relaxed) {
            true => CommitError::Interrupted,
            false => error,
        });
    }
    // The change has happened. From here on it is finished, or put back whole.
    if let Err((what, error, reached)) = change.publish() {
        let put_back = change.put_back(what, error, reached);
        if !matches!(put_back, CommitError::NotPutBack { .. }) {
            drop_all(&folder);
        }
        return Err(match (put_back, interrupted.load(Ordering::Relaxed)) {
            (CommitError::Failed { .. }, true) => CommitError::Interrupted,
            (put_back, _) => put_back,
        });
    }
    change.keep_record();
    let cleared = change.finish();
    let mut outcome = change.outcome;
    outcome.notes.extend(change.runner.take_notes());
    match cleared {
        Ok(()) => {
            journal.drop(&folder);
            drop(folder);
            state.drop_if_empty(tree, &[]);
            if let Err(error) = state.take_mark(tree) {
                let error = why(error);
                outcome.notes.push(format!("the mark in etc could not be taken away: {error}"));
            }
        }
        // It is done; what is left to be cleared up is for recovery.
        Err(error) => outcome.notes.push(format!(
            "what it leaves to be cleared up stays for now ({}): the next change goes on \
             with it, or recover",
            why(error)
        )),
    }
    tracing::info!(change = plan.summary, "committed");
    Ok(outcome)
}

struct Change<'a> {
    runner: EffectRunner<'a>,
    loaded: &'a Loaded,
    plan: &'a Plan,
    circumstances: &'a Circumstances,
    watcher: &'a dyn Watcher,
    entry: JournalEntry,
    /// Which step each effect carries out; none for files that are replaced.
    step_of: Vec<Option<usize>>,
    /// Whether so many accounts are kept that they are flushed together.
    many_kept: bool,
    /// What each step made.
    made: Vec<Option<Inventory>>,
    /// The digests of what was packed, by folder and file.
    digests: BTreeMap<KeptFolder, BTreeMap<PackedFile, String>>,
    /// How long each account file will be, in bytes.
    sizes: BTreeMap<File, u64>,
    /// The record of a long change, up to the lines, beside its name.
    begun: Option<Fresh>,
    outcome: Outcome,
}

fn failed(what: impl Into<String>, error: impl Into<std::io::Error>) -> CommitError {
    CommitError::Failed { what: what.into(), source: error.into() }
}

impl Change<'_> {
    fn tree(&self) -> &Tree {
        self.runner.tree
    }

    fn edits(&self, file: File) -> Vec<&Edit> {
        self.plan.edits.iter().filter(|edit| edit.file == file).collect()
    }

    fn begin(&self) -> Result<(), CommitError> {
        let begun = self.runner.journal.begin(&self.entry);
        begun.map_err(|error| failed("writing the journal", error))
    }

    fn look_once_more(&self) -> Result<(), CommitError> {
        match self.loaded.originals.iter().find(|(_, original)| !original.is_unchanged()) {
            Some((file, _)) => Err(CommitError::ChangedMeanwhile(*file)),
            None => Ok(()),
        }
    }

    /// Whether the record is long: written once, in the journal, and moved to its place
    /// when the change is done.
    fn is_long(&self) -> bool {
        let lines = self.plan.edits.iter().map(|edit| edit.count_after().max(1));
        let mut so_far = lines.scan(0, |sum, lines| {
            *sum += lines;
            Some(*sum)
        });
        so_far.any(|sum| sum > MOST_LINES)
    }

    /// Room for the record is had, and everything that was staged is on the disk, before
    /// the mark.
    fn mark_ready(&mut self) -> Result<(), CommitError> {
        self.entry.record = self.entry.number.map(|number| self.record(number, self.told()));
        if let Some(record) = &self.entry.record {
            let staged = match self.begun.take() {
                None => changes::stage(self.runner.state, record),
                Some(mut begun) => {
                    let (_, last) = changes::around_edits(record);
                    let written = begun.write_all(&last).and_then(|()| begun.flush());
                    self.entry.record_beside = Some(begun.digest());
                    written
                }
            };
            staged.map_err(|error| failed("writing the record of the change", error))?;
            let flushed = changes::flush(self.runner.state);
            flushed.map_err(|error| failed("writing the record of the change", error))?;
        }
        let flushed = flush(&self.runner, &self.entry.effects, Moment::Staged);
        flushed.map_err(|error| failed("flushing a directory", error))?;
        let ready = self.runner.journal.mark_ready(&self.entry);
        ready.map_err(|error| failed("writing the journal", error))
    }

    /// What the record tells. The lines of a long one are written by themselves.
    fn told(&self) -> Told {
        let mut told = match self.is_long() {
            true => Told::without_accounts(self.plan),
            false => Told::of(self.plan),
        };
        told.subjects = self.subjects();
        let steps = self.plan.steps.iter().zip(&self.made);
        told.steps = steps
            .map(|(step, made)| RecordedStep { step: step.without_hashes(), left_as: made.clone() })
            .collect();
        told.cautions.extend(self.notes());
        told
    }

    fn record(&self, number: u64, told: Told) -> ChangeRecord {
        let mut left = BTreeMap::new();
        for (file, original) in &self.loaded.originals {
            let lines = self.loaded.book.lines(*file).filter(|lines| !lines.is_excerpt());
            if let Some(lines) = lines.filter(|_| !original.is_large()) {
                let digest = nest_core::drift::digest(lines.text());
                left.insert(*file, changes::left(digest, lines.text().len() as u64));
            }
        }
        for effect in &self.entry.effects {
            if let Effect::Replace { what: Replaced::Account(file), after, .. } = effect {
                let size =
                    *self.sizes.get(file).expect("BUG: a file that is replaced was not staged");
                left.insert(*file, changes::left(after.clone(), size));
            }
        }
        ChangeRecord {
            version: VERSION,
            number,
            time: self.circumstances.time.clone(),
            by: self.circumstances.by.clone(),
            arguments: self.circumstances.arguments.clone(),
            note: self.circumstances.note.clone(),
            undoes: self.plan.undoes,
            told,
            left,
            other_hands: self.circumstances.other_hands.clone(),
        }
    }

    /// What was decided about each account; of very many it is not kept.
    fn subjects(&self) -> Vec<Subject> {
        match self.plan.subjects.len() <= MOST_SUBJECTS {
            true => self.plan.subjects.clone(),
            false => Vec::new(),
        }
    }

    fn notes(&self) -> Vec<String> {
        let undone = self.outcome.left_undone.iter();
        let undone = undone.map(ToString::to_string);
        self.outcome.notes.iter().cloned().chain(undone).collect()
    }

    fn discard(&self) {
        self.entry.effects.iter().for_each(|effect| self.runner.discard(effect));
        if let Some(number) = self.entry.number {
            changes::discard(self.runner.state, number);
        }
        if let Err(error) = flush(&self.runner, &self.entry.effects, Moment::Visible) {
            tracing::warn!(%error, "what was dropped could not be flushed");
        }
    }

    fn publish(&mut self) -> Result<(), (String, std::io::Error, usize)> {
        for at in 0..self.entry.effects.len() {
            let effect = &self.entry.effects[at];
            let published = self.runner.publish(effect);
            let published = published.map_err(|error| (effect.describe(), error, at))?;
            if let (Published::InPlace, Effect::Replace { what: Replaced::Account(file), .. }) =
                (published, effect)
            {
                self.outcome.in_place.push(*file);
            }
        }
        let all = self.entry.effects.len();
        flush(&self.runner, &self.entry.effects, Moment::Visible)
            .map_err(|error| ("flushing a directory".to_owned(), error, all))
    }

    /// Takes back what became visible, last first, and drops what was staged.
    fn put_back(&self, what: String, source: std::io::Error, reached: usize) -> CommitError {
        let mut stands = Vec::new();
        // The one that failed did nothing, unless it is made of many.
        let half_done = self
            .entry
            .effects
            .get(reached)
            .filter(|effect| matches!(effect, Effect::Reown { .. } | Effect::SetAccess { .. }));
        for effect in half_done.into_iter().chain(self.entry.effects[..reached].iter().rev()) {
            if let Err(error) = self.runner.withdraw(effect) {
                stands.push(format!("{} stays done ({})", effect.describe(), why(error)));
            }
        }
        if !stands.is_empty() {
            return CommitError::NotPutBack { what, source, stands: stands.join(", ") };
        }
        let flushed = flush(&self.runner, &self.entry.effects, Moment::Visible);
        let unmarked = flushed.and_then(|()| self.runner.journal.unmark());
        if let Err(unmarked) = unmarked {
            let stands = format!("all is as it was, but the journal says otherwise ({unmarked})");
            return CommitError::NotPutBack { what, source, stands };
        }
        self.discard();
        CommitError::Failed { what, source }
    }

    /// The record gets its name; that it can't be given it is no reason to take the
    /// change back, but then there is nothing to undo it by.
    fn keep_record(&mut self) {
        let Some(record) = &self.entry.record else { return };
        if let Err(error) = keep_record(&self.runner, &self.entry, record) {
            self.outcome.number = None;
            let error = why(error);
            self.outcome.notes.push(format!("the record of the change could not be kept: {error}"));
        }
        let mut left = LeftBehind::read(self.runner.state);
        left.note(self.tree(), self.loaded, record);
        if let Err(error) = left.write(self.runner.state) {
            tracing::warn!(%error, "what the files are like now could not be noted");
        }
        changes::tidy(self.runner.state, self.circumstances.today, self.circumstances.keep_days);
    }

    /// Clears up, flushed.
    ///
    /// # Errors
    /// `ECANCELED`, where the program was told to stop: the journal knows what is left.
    fn finish(&mut self) -> Result<(), Errno> {
        for effect in &self.entry.effects {
            self.outcome.notes.extend(self.runner.finish(effect)?);
        }
        if let Err(error) = flush(&self.runner, &self.entry.effects, Moment::Cleared) {
            tracing::warn!(%error, "what was cleared up could not be flushed");
        }
        Ok(())
    }
}

/// Gives the record of a change its name, with the lists of files it gave another
/// number.
pub(crate) fn keep_record(
    runner: &EffectRunner<'_>,
    entry: &JournalEntry,
    record: &ChangeRecord,
) -> std::io::Result<()> {
    for effect in &entry.effects {
        let Effect::Reown { reown, list, digest } = effect else { continue };
        runner.hand_over(record.number, (reown, list, digest.as_deref()))?;
    }
    let whole = entry.record_beside.is_none().then_some(record);
    // After a crash what waits may not be what was written.
    if let (Some(whole), true) = (whole, runner.recovering) {
        changes::discard(runner.state, record.number);
        changes::stage(runner.state, whole)?;
    }
    changes::publish(runner.state, record.number, whole)
}

/// Flushes directories of the tree and of the state folder, each once.
pub(crate) fn flush(
    runner: &EffectRunner<'_>,
    effects: &[Effect],
    moment: Moment,
) -> std::io::Result<()> {
    let of = |effect| runner.flushed_at(effect, moment);
    let mut parents: Vec<&std::path::Path> =
        effects.iter().flat_map(of).filter_map(|path| path_of(path).parent()).collect();
    parents.sort_unstable();
    parents.dedup();
    for parent in parents {
        match runner.tree.open_directory_strictly(parent) {
            Ok(directory) => rustix::fs::fsync(directory)?,
            // One that was made for the change went again with it, or the way to it is
            // another one by now: then nothing of ours is there.
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => {}
            Err(error) => return Err(error.into()),
        }
    }
    if effects.iter().any(|effect| matches!(effect, Effect::Replace { what: Replaced::State, .. }))
    {
        runner.state.flush()?;
    }
    // What is kept of users is in one directory, and what is kept of groups.
    let kept = effects.iter().filter_map(|effect| {
        let (Effect::Keep { folder, .. } | Effect::Release { folder }) = effect else {
            return None;
        };
        Some((folder.thing, folder))
    });
    for folder in kept.collect::<BTreeMap<_, _>>().into_values() {
        if let Some(place) = kept::Place::find(runner.state, folder)? {
            place.flush()?;
        }
    }
    Ok(())
}
