//! Finishing or rolling back what a crash left. Until the journal was marked
//! ready nothing had happened: what was staged goes. From then on the change has
//! happened: the rest of it is done. Doing it twice does no harm.

use std::collections::BTreeMap;
use std::ffi::OsStr;

use bstr::BString;
use nest_core::secret::shown;
use nest_core::table::File;

use crate::changes::LeftBehind;
use crate::commit::{flush, keep_record};
use crate::digest::digest_of;
use crate::effect::{Hands, Place};
use crate::journal::{Effect, Entry, Found, Journal, JournalError, Replaced};
use crate::lock::Lock;
use crate::state::{self, Folder, State, StateError};
use crate::store::{self, Focus};
use crate::tree::{Tree, path_of};

/// What recovery did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recovered {
    /// The number of the change, where one is kept.
    pub number: Option<u64>,
    /// The change in a few words.
    pub summary: String,
    /// Whether it was finished; else it was rolled back.
    pub finished: bool,
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
pub enum RecoverError {
    /// The state folder can't be used.
    #[error(transparent)]
    State(#[from] StateError),
    /// The journal can't be used.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// Files are neither as they were before nor as they would be after.
    #[error("{} was edited after the crash: it is neither as it was before {what} nor as it would be after it; nothing was changed", .files[0].file.path())]
    Edited {
        /// The unfinished change, in words.
        what: String,
        /// The files.
        files: Vec<Edited>,
    },
    /// It failed. What is unfinished stays so, and can be tried again.
    #[error("{what} is unfinished and could not be finished: {doing}: {error}")]
    Failed {
        /// The unfinished change, in words.
        what: String,
        /// What was being done.
        doing: String,
        /// The system's reason.
        error: std::io::Error,
    },
}

/// The unfinished change, if one stands.
///
/// # Errors
/// [`RecoverError`].
pub fn unfinished(tree: &Tree, state: &State) -> Result<Option<String>, RecoverError> {
    Ok(find(tree, state)?.map(|(_, found)| in_words(&found.entry)))
}

fn in_words(entry: &Entry) -> String {
    match entry.number {
        Some(number) => format!("change {number} ({})", entry.summary),
        None => format!("a change ({})", entry.summary),
    }
}

/// Looks where a journal can be: in the state folder, and in `etc` for changes
/// that kept no state.
fn find(tree: &Tree, state: &State) -> Result<Option<(Folder, Found)>, RecoverError> {
    let shared = matches!(state, State::At(_));
    let folders = [(state.open(tree)?, shared), (state::left_without_state(tree)?, false)];
    for (folder, shared) in folders {
        let Some(folder) = folder else { continue };
        if let Some(found) = Journal::find(&folder, tree, shared)? {
            return Ok(Some((folder, found)));
        }
    }
    Ok(None)
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
) -> Result<Option<Recovered>, RecoverError> {
    let Some((folder, found)) = find(tree, state)? else {
        // A crash may have left a journal in which nothing stands yet, or no more.
        for folder in [state.open(tree)?, state::left_without_state(tree)?].iter().flatten() {
            Journal::sweep(folder);
        }
        State::Nowhere.drop_if_empty(tree);
        return Ok(None);
    };
    let Found { journal, entry, ready } = found;
    let hands = Hands { tree, state: &folder, journal: &journal };
    let recovered =
        Recovered { number: entry.number, summary: entry.summary.clone(), finished: ready };
    if ready {
        finish(&hands, &entry)?;
    } else {
        entry.effects.iter().for_each(|effect| hands.discard(effect));
        // The number was in the journal, and might have been seen.
        if let Some(number) = entry.number {
            let mut left = LeftBehind::read(&folder);
            left.number = left.number.max(number);
            left.write(&folder).map_err(|error| failed(&entry, "noting its number", error))?;
        }
    }
    journal.drop();
    folder.remove("journal");
    State::Nowhere.drop_if_empty(tree);
    tracing::info!(change = recovered.summary, ready, "recovered");
    Ok(Some(recovered))
}

fn failed(entry: &Entry, doing: &str, error: std::io::Error) -> RecoverError {
    RecoverError::Failed { what: in_words(entry), doing: doing.to_owned(), error }
}

/// How far each file has come: the digest it has now.
type Standing = BTreeMap<BString, Option<String>>;

fn finish(hands: &Hands<'_>, entry: &Entry) -> Result<(), RecoverError> {
    // First everything is looked at; nothing is touched while anything is wrong.
    let standing = look(hands, entry)?;
    let mut standing = standing;
    for effect in &entry.effects {
        let published = match effect {
            Effect::Replace { path, before, after, .. } => {
                let now = standing.entry(path.0.clone()).or_default();
                if *now != *before || now.as_deref() == Some(after) {
                    continue;
                }
                *now = Some(after.clone());
                hands.publish(effect)
            }
            effect => hands.publish(effect),
        };
        published.map_err(|error| failed(entry, &effect.describe(), error))?;
    }
    flush(hands, &entry.effects).map_err(|error| failed(entry, "flushing a directory", error))?;
    if let Some(record) = &entry.record {
        keep_record(hands, entry, record)
            .map_err(|error| failed(entry, "keeping its record", error))?;
        if let Ok(loaded) = store::load(hands.tree, &Focus::new()) {
            let mut left = LeftBehind::read(hands.state);
            left.note(hands.tree, &loaded, record);
            left.write(hands.state).map_err(|error| failed(entry, "noting its files", error))?;
        }
    }
    for effect in &entry.effects {
        hands.finish(effect);
    }
    Ok(())
}

/// Compares each file with its digests before and after.
fn look(hands: &Hands<'_>, entry: &Entry) -> Result<Standing, RecoverError> {
    let mut standing = Standing::new();
    let mut edited = Vec::new();
    for effect in &entry.effects {
        let Effect::Replace { what, path, .. } = effect else { continue };
        if standing.contains_key(&path.0) {
            continue;
        }
        let versions = versions(entry, &path.0);
        let mut now = digest_now(hands, *what, path.0.as_ref())
            .map_err(|error| failed(entry, &format!("reading {}", path.0), error))?;
        if !versions.contains(&now) && matches!(what, Replaced::Account(_)) {
            let torn = hands.mend_torn(path);
            if torn.map_err(|error| failed(entry, &format!("mending {}", path.0), error))? {
                now = versions.last().cloned().flatten();
            }
        }
        if versions.contains(&now) {
            standing.insert(path.0.clone(), now);
        } else if let Replaced::Account(file) = *what {
            edited.push(tell_edited(hands, entry, file, &path.0, [versions, vec![now]].concat()));
            standing.insert(path.0.clone(), None);
        }
    }
    match edited.is_empty() {
        true => Ok(standing),
        false => Err(RecoverError::Edited { what: in_words(entry), files: edited }),
    }
}

/// The digests of a file's versions, from the one before the change on.
fn versions(entry: &Entry, wanted: &BString) -> Vec<Option<String>> {
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

fn digest_now(hands: &Hands<'_>, what: Replaced, path: &[u8]) -> std::io::Result<Option<String>> {
    match what {
        Replaced::State => {
            let text = hands.state.read(&String::from_utf8_lossy(path))?;
            Ok(text.map(|text| nest_core::drift::digest(&text)))
        }
        Replaced::Account(_) => {
            let place = Place::of(hands.tree, path)?;
            digest_of(&place, &place.name)
        }
    }
}

fn tell_edited(
    hands: &Hands<'_>,
    entry: &Entry,
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
        .find_map(|effect| match effect {
            Effect::Replace { path: wanted, staged, .. } if wanted.0 == *path => {
                let parent = path_of(path).parent().unwrap_or(path_of(b"/"));
                let whole = parent.join(path_of(&staged.0));
                Some(std::os::unix::ffi::OsStrExt::as_bytes(whole.as_os_str()).into())
            }
            _ => None,
        })
        .unwrap_or_default();
    let read = |path: &[u8]| hands.tree.read(path_of(path)).unwrap_or_default();
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
