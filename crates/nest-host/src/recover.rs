//! Finishing or rolling back what a crash left. Until the journal was marked
//! ready nothing had happened: what was staged goes. From then on the change has
//! happened: the rest of it is done. Doing it twice does no harm. Nothing is trusted
//! that was not compared with its digest: where something of what was staged is lost,
//! all of it goes as long as nothing has become visible, and else it stops.

#![deny(clippy::wildcard_enum_match_arm)]

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::sync::Mutex;

use bstr::BString;
use nest_core::book::Lookups;
use nest_core::secret::shown;
use nest_core::table::File;
use nest_core::value::TreePath;

use crate::changes::{self, LeftBehind};
use crate::commit::{flush, keep_record};
use crate::digest::digest_of;
use crate::effect::{EffectRunner, Moment, Standing};
use crate::journal::{Effect, FoundJournal, Journal, JournalEntry, JournalError, Replaced};
use crate::lock::Lock;
use crate::place::Place;
use crate::state::{self, Folder, State, StateError};
use crate::tree::{Tree, path_of};
use crate::untrusted::read_configuration;
use crate::{retired, store, suspended};

/// What recovery did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recovered {
    /// The number of the change, where one is kept.
    pub number: Option<u64>,
    /// The change in a few words.
    pub summary: String,
    /// Whether it was finished; else it was rolled back.
    pub finished: bool,
    /// What has to be told.
    pub notes: Vec<String>,
}

/// A change that stands unfinished.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unfinished {
    /// The change in words.
    pub what: String,
    /// Whether it would be finished; else rolled back.
    pub ready: bool,
    /// The tree that it is about, where that is another one.
    pub foreign: Option<String>,
    /// What it does, effect by effect.
    pub effects: Vec<String>,
}

/// Whether a journal is carried out that is about another tree, of which this one may
/// be a copy.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Foreign {
    /// It is not: somebody has to look at it.
    Refused,
    /// Somebody has looked at it, and wants it.
    Wanted,
}

/// A file that somebody edited after a crash.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edited {
    /// The file.
    pub file: File,
    /// The digests before and after the change, and now.
    pub digests: [String; 3],
    /// Where the other version of it stands, in the tree.
    pub staged: BString,
    /// Lines that neither version has, without hashes; the first few.
    pub lines: Vec<BString>,
}

/// Why nothing was recovered.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum RecoverError {
    /// The state folder can't be used.
    #[error(transparent)]
    State(#[from] StateError),
    /// The journal can't be used.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// Files are neither as they were before nor as they would be after.
    #[error("{} was edited after the crash: it is neither as it was before {what} nor as it would be after it; nothing was changed", .files[0].file.path())]
    Edited { what: String, files: Vec<Edited> },
    /// Something that was staged is lost, and part of the change is visible already.
    #[error("{what} is half done and can't be finished: {}; nothing was changed", .lost.join(", and "))]
    Lost { what: String, lost: Vec<String>, stands: Vec<(String, String)> },
    /// It failed. What is unfinished stays so, and can be tried again.
    #[error("{what} is unfinished and could not be finished: {doing}")]
    Failed { what: String, doing: String, source: std::io::Error },
}

/// The unfinished change, if one stands.
///
/// # Errors
/// [`RecoverError`] where a journal is there and can't be read or understood.
pub fn unfinished(tree: &Tree, state: &State) -> Result<Option<Unfinished>, RecoverError> {
    Ok(find(tree, state)?.map(|(_, found)| Unfinished {
        what: found.entry.in_words(),
        ready: found.ready,
        foreign: found.foreign,
        effects: found.entry.effects.iter().map(Effect::describe).collect(),
    }))
}

/// Looks where a journal can be: in the state folder, and in `etc` for changes
/// that kept no state. One in another state folder is not passed over.
fn find(tree: &Tree, state: &State) -> Result<Option<(Folder, FoundJournal)>, RecoverError> {
    let marked = state.marked_elsewhere(tree);
    if let Ok(Some(path)) = marked {
        return Err(JournalError::OtherState(path.display().to_string()).into());
    }
    for folder in [state.open(tree)?, state::left_without_state(tree)?] {
        let Some(folder) = folder else { continue };
        if let Some(found) = Journal::find(&folder, tree)? {
            return Ok(Some((folder, found)));
        }
    }
    if *state != State::InTree
        && let Some(folder) = State::InTree.open(tree)?
        && Journal::find(&folder, tree)?.is_some()
    {
        let shown = State::InTree.shown().unwrap_or_default();
        return Err(JournalError::OtherState(shown).into());
    }
    // Somewhere else there may be one, and nobody knows where.
    match marked {
        Err((path, fault)) => Err(JournalError::Fault { path, fault }.into()),
        Ok(_) => Ok(None),
    }
}

/// Finishes or rolls back what stands unfinished. The lock proves that it is not
/// just being done by somebody else.
///
/// # Errors
/// [`RecoverError`]; then it still stands.
pub fn recover(
    _lock: &Lock,
    tree: &Tree,
    state: &State,
    foreign: Foreign,
) -> Result<Option<Recovered>, RecoverError> {
    let Some((folder, found)) = find(tree, state)? else {
        // A crash may have left a journal in which nothing stands yet, or no more.
        for folder in [state.open(tree)?, state::left_without_state(tree)?].iter().flatten() {
            Journal::sweep(folder);
        }
        State::Nowhere.drop_if_empty(tree, &[]);
        // Of a crash that came before there was a journal; a folder of the administrator's
        // stays.
        if *state == State::InTree {
            // Whether the folder was there before is not known so early; what is empty is no loss.
            let made = State::marked_made(tree).into_iter().chain([TreePath::root()]);
            state.drop_if_empty(tree, &made.collect::<Vec<_>>());
        }
        // Without the right to, the next change will do it.
        if let Err(error) = state.take_mark(tree) {
            tracing::debug!(%error, "the mark stays");
        }
        return Ok(None);
    };
    let FoundJournal { journal, entry, ready, foreign: other } = found;
    if let Some(other) = other.filter(|_| foreign == Foreign::Refused) {
        let what = entry.in_words();
        return Err(JournalError::OtherTree { what, tree: other }.into());
    }
    let notes = Mutex::default();
    let (number, recovering) = (entry.number, true);
    let runner = EffectRunner {
        tree,
        state: &folder,
        journal: &journal,
        number,
        recovering,
        watcher: &(),
        earlier: None,
        notes,
    };
    let finished = match ready {
        true => finish(&runner, &entry)?,
        false => false,
    };
    if !finished {
        roll_back(&runner, &entry, ready)?;
    }
    let notes = runner.take_notes();
    // What a crash left of documents that were being written.
    for name in [&retired::NAME, &suspended::NAME, &LeftBehind::NAME] {
        folder.remove_beside(name);
    }
    journal.drop(&folder);
    if !finished {
        drop(folder);
        state.drop_if_empty(tree, &entry.made);
    }
    State::Nowhere.drop_if_empty(tree, &[]);
    state.take_mark(tree).map_err(|error| failed(&entry, "taking its mark away", error))?;
    let recovered = Recovered { number: entry.number, summary: entry.summary, finished, notes };
    tracing::info!(change = recovered.summary, finished, "recovered");
    Ok(Some(recovered))
}

/// Drops everything that was staged. Of a change that was ready, what has become visible
/// without anybody's noticing is taken back first: owners of files, and what is in the
/// state folder.
fn roll_back(
    runner: &EffectRunner<'_>,
    entry: &JournalEntry,
    ready: bool,
) -> Result<(), RecoverError> {
    if ready {
        for effect in entry.effects.iter().rev() {
            let standing = match is_ours(effect) {
                true => runner.standing(effect),
                false => continue,
            };
            let reowned = matches!(effect, Effect::Reown { .. });
            let wanted = if reowned { Standing::Waiting } else { Standing::Done };
            if standing.is_ok_and(|standing| standing == wanted) {
                runner
                    .withdraw(effect)
                    .map_err(|error| failed(entry, &effect.describe(), error))?;
            }
        }
    }
    entry.effects.iter().for_each(|effect| runner.discard(effect));
    if let Some(number) = entry.number {
        changes::discard(runner.state, number);
    }
    flush(runner, &entry.effects, Moment::Visible)
        .map_err(|error| failed(entry, "flushing a directory", error))
}

fn failed(entry: &JournalEntry, doing: &str, source: std::io::Error) -> RecoverError {
    RecoverError::Failed { what: entry.in_words(), doing: doing.to_owned(), source }
}

/// The digest that each account file has now.
type Digests = BTreeMap<BString, Option<String>>;

/// Does the rest of a change. Returns whether that was possible: where something of what
/// was staged is lost and nothing is visible yet, it has to be rolled back.
fn finish(runner: &EffectRunner<'_>, entry: &JournalEntry) -> Result<bool, RecoverError> {
    // First everything is looked at; nothing is touched while anything is wrong.
    let mut digests = read_digests(runner, entry)?;
    let (lost, visible) = compare(runner, entry, &digests)?;
    if !lost.is_empty() && !visible {
        lost.into_iter().for_each(|lost| runner.note(lost));
        return Ok(false);
    }
    if !lost.is_empty() {
        let stands = what_stands(runner, entry, &digests);
        return Err(RecoverError::Lost { what: entry.in_words(), lost, stands });
    }
    for effect in &entry.effects {
        let published = match effect {
            Effect::Replace { what: Replaced::Account(_), path, before, after, .. } => {
                let now = digests.entry(path.0.clone()).or_default();
                if *now != *before || now.as_deref() == Some(after) {
                    continue;
                }
                *now = Some(after.clone());
                runner.publish(effect)
            }
            Effect::Rewrite { .. } | Effect::Replace { what: Replaced::State, .. } => {
                match runner.standing(effect) {
                    Ok(Standing::Waiting) => runner.publish(effect),
                    Ok(Standing::Other) => {
                        runner
                            .note(format!("left undone: {}, as it was edited", effect.describe()));
                        continue;
                    }
                    Ok(Standing::Done | Standing::Lost(_) | Standing::Ruined(_)) => continue,
                    Err(error) => Err(error),
                }
            }
            Effect::Make { .. }
            | Effect::Give { .. }
            | Effect::SetAccess { .. }
            | Effect::Move { .. }
            | Effect::Remove { .. }
            | Effect::Erase { .. }
            | Effect::Unpack { .. }
            | Effect::Keep { .. }
            | Effect::Release { .. }
            | Effect::Reown { .. } => runner.publish(effect),
        };
        published.map_err(|error| failed(entry, &effect.describe(), error))?;
    }
    flush(runner, &entry.effects, Moment::Visible)
        .map_err(|error| failed(entry, "flushing a directory", error))?;
    if let Some(record) = &entry.record {
        keep_record(runner, entry, record)
            .map_err(|error| failed(entry, "keeping its record", error))?;
        if let Ok(loaded) = store::load(runner.tree, &Lookups::whole(), false) {
            let mut left = LeftBehind::read(runner.state);
            left.note(runner.tree, &loaded, record);
            left.write(runner.state).map_err(|error| failed(entry, "noting its files", error))?;
        }
    }
    for effect in &entry.effects {
        let left = runner.finish(effect);
        let left = left.map_err(|error| failed(entry, &effect.describe(), error.into()))?;
        left.into_iter().for_each(|left| runner.note(left));
    }
    flush(runner, &entry.effects, Moment::Cleared)
        .map_err(|error| failed(entry, "flushing a directory", error))?;
    Ok(true)
}

/// Whether nobody but this program sees what an effect does.
fn is_ours(effect: &Effect) -> bool {
    matches!(
        effect,
        Effect::Reown { .. } | Effect::Keep { .. } | Effect::Replace { what: Replaced::State, .. }
    )
}

/// Holds everything that waits against its digest. Returns what is lost, and whether
/// anything has become visible already.
fn compare(
    runner: &EffectRunner<'_>,
    entry: &JournalEntry,
    digests: &Digests,
) -> Result<(Vec<String>, bool), RecoverError> {
    let (mut lost, mut visible) = (Vec::new(), false);
    let mut seen: Digests = digests.clone();
    for effect in &entry.effects {
        let reading =
            |error| failed(entry, &format!("looking at it: {}", effect.describe()), error);
        if let Effect::Replace { what: Replaced::Account(file), path, staged, before, after } =
            effect
        {
            let now = seen.entry(path.0.clone()).or_default();
            if *now != *before || now.as_deref() == Some(after) {
                visible = true;
                continue;
            }
            *now = Some(after.clone());
            let place = Place::of(runner.tree, &path.0).map_err(|error| reading(error.into()))?;
            let name = path_of(&staged.0).as_os_str();
            match digest_of(&place, name).map_err(reading)? {
                Some(waits) if waits == *after => {}
                Some(_) => lost.push(format!("the new {} is not what was written", file.path())),
                None => lost.push(format!("the new {} is not there", file.path())),
            }
            continue;
        }
        match runner.standing(effect).map_err(reading)? {
            Standing::Done => visible |= !(is_ours(effect) && runner.can_withdraw(effect)),
            Standing::Lost(what) => lost.push(what),
            Standing::Ruined(what) => {
                lost.push(what);
                visible = true;
            }
            Standing::Waiting | Standing::Other => {}
        }
    }
    if let Some(number) = entry.number {
        let records = changes::digests(runner.state, number);
        let records = records.map_err(|error| failed(entry, "looking for its record", error))?;
        // It gets its name when all else is done.
        visible |= records[1].is_some();
        if let Some(digest) = &entry.record_beside
            && !records.contains(&Some(digest.clone()))
        {
            lost.push(format!("the record of change {number} is not what was written"));
        }
    }
    Ok((lost, visible))
}

/// Which version of each account file stands where.
fn what_stands(
    runner: &EffectRunner<'_>,
    entry: &JournalEntry,
    digests: &Digests,
) -> Vec<(String, String)> {
    let mut stands = Vec::new();
    for effect in &entry.effects {
        let Effect::Replace { what: Replaced::Account(_), path, staged, before, after } = effect
        else {
            continue;
        };
        let call = |digest: &Option<String>| match digest {
            None => "not there",
            Some(digest) if digest == after => "as it would be after the change",
            digest if digest == before => "as it was before the change",
            Some(_) => "neither",
        };
        let now = digests.get(&path.0).cloned().flatten();
        stands.push((path.0.to_string(), call(&now).to_owned()));
        let parent = path_of(&path.0).parent().unwrap_or(path_of(b"/"));
        let other = parent.join(path_of(&staged.0));
        let place = Place::of(runner.tree, &path.0);
        let waits = place.ok().and_then(|place| {
            digest_of(&place, path_of(&staged.0).as_os_str()).unwrap_or_default()
        });
        stands.push((other.display().to_string(), call(&waits).to_owned()));
    }
    stands
}

/// Compares each account file with its digests before and after.
fn read_digests(runner: &EffectRunner<'_>, entry: &JournalEntry) -> Result<Digests, RecoverError> {
    let mut digests = Digests::new();
    let mut edited = Vec::new();
    for effect in &entry.effects {
        let Effect::Replace { what: Replaced::Account(file), path, .. } = effect else { continue };
        if digests.contains_key(&path.0) {
            continue;
        }
        let reading = |error| failed(entry, &format!("reading {}", path.0), error);
        // What the journal calls the file has to be where the tree has it.
        let located = runner.tree.locate(file.path()).map_err(|error| reading(error.into()))?;
        if located.path != path_of(&path.0) {
            let message = format!("{} is at {} now", file.path(), located.path.display());
            return Err(reading(std::io::Error::other(message)));
        }
        let versions = versions(entry, &path.0);
        let place = Place::of(runner.tree, &path.0).map_err(|error| reading(error.into()))?;
        let mut now = digest_of(&place, &place.name).map_err(reading)?;
        let last = versions.last().cloned().flatten().expect("BUG: no version of a replaced file");
        if !versions.contains(&now) && runner.mend_torn(path, &last).map_err(reading)? {
            now = Some(last);
        }
        if !versions.contains(&now) {
            edited.push(tell_edited(
                runner,
                entry,
                *file,
                &path.0,
                [versions, vec![now.clone()]].concat(),
            ));
        }
        digests.insert(path.0.clone(), now);
    }
    match edited.is_empty() {
        true => Ok(digests),
        false => Err(RecoverError::Edited { what: entry.in_words(), files: edited }),
    }
}

/// The digests of a file's versions, from the one before the change on.
fn versions(entry: &JournalEntry, wanted: &BString) -> Vec<Option<String>> {
    let mut versions = Vec::new();
    for effect in &entry.effects {
        if let Effect::Replace { path, before, after, .. } = effect
            && path.0 == *wanted
        {
            if versions.is_empty() {
                versions.push(before.clone());
            }
            versions.push(Some(after.clone()));
        }
    }
    versions
}

fn tell_edited(
    runner: &EffectRunner<'_>,
    entry: &JournalEntry,
    file: File,
    path: &BString,
    digests: Vec<Option<String>>,
) -> Edited {
    let shown_digest =
        |at: usize| digests.get(at).cloned().flatten().unwrap_or_else(|| "not there".to_owned());
    let last = digests.len() - 1;
    let staged: BString = entry
        .effects
        .iter()
        .rev()
        .find_map(|effect| {
            let Effect::Replace { path: wanted, staged, .. } = effect else { return None };
            let parent = path_of(path).parent().unwrap_or(path_of(b"/"));
            let whole = parent.join(path_of(&staged.0));
            let whole = std::os::unix::ffi::OsStrExt::as_bytes(whole.as_os_str()).into();
            (wanted.0 == *path).then_some(whole)
        })
        .expect("BUG: no effect on an edited file");
    let read = |path: &[u8]| read_configuration(runner.tree, path_of(path)).unwrap_or_default();
    let (now, other) = (read(path), read(&staged));
    let split = |text: &[u8]| -> Vec<Vec<u8>> {
        text.split(|&byte| byte == b'\n').map(<[u8]>::to_vec).collect()
    };
    let known: std::collections::HashSet<Vec<u8>> = split(&other).into_iter().collect();
    let lines = split(&now).into_iter().filter(|line| !known.contains(line));
    Edited {
        file,
        digests: [shown_digest(0), shown_digest(last - 1), shown_digest(last)],
        staged,
        lines: lines.take(6).map(|line| shown(file, &line)).collect(),
    }
}

/// Whether somebody is at work on the account files: a journal is then no sign
/// of a crash.
pub fn is_being_changed(tree: &Tree) -> bool {
    let etc = tree.locate("etc/.pwd.lock");
    let stat = etc.and_then(|lock| {
        let here = rustix::fs::AtFlags::SYMLINK_NOFOLLOW;
        rustix::fs::statat(&lock.directory, OsStr::new(&lock.name), here)
    });
    stat.is_ok_and(|stat| crate::lock::is_held(stat.st_ino))
}
