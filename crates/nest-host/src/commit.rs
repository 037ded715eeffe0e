//! Carrying a plan out, whole or not at all.
//!
//! Everything new is staged beside what it replaces and flushed; only then is it
//! renamed into place. A failure before the first rename drops what was staged;
//! a failure after it puts the originals back.

use std::ffi::OsString;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use nest_core::plan::{Plan, Step};
use nest_core::table::{Edit, File};
use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags};
use rustix::io::Errno;

use crate::home::{StagedEntry, Undone, give_directory, stage_directory, stage_file};
use crate::lock::Lock;
use crate::stage::{Staged, stage, write_all};
use crate::store::{Loaded, Original};
use crate::tree::Tree;

/// What came of a change besides what its plan says.
#[derive(Debug, Default)]
pub struct Outcome {
    /// Owners and attributes that could not be set, in words.
    pub left_undone: Vec<String>,
    /// Files that are mount points, and were rewritten in place.
    pub in_place: Vec<File>,
}

/// Why a change did not happen.
#[derive(Debug, thiserror::Error)]
pub enum CommitError {
    /// Somebody edited a file without taking the lock.
    #[error("{} was changed by somebody else in the meantime; nothing was changed", .0.path())]
    ChangedMeanwhile(File),
    /// A signal came before the change happened.
    #[error("interrupted; nothing was changed")]
    Interrupted,
    /// Something failed, and all is as it was.
    #[error("{what}: {error}; all is as it was")]
    Failed {
        /// What was being done.
        what: String,
        /// The system's reason.
        error: std::io::Error,
    },
    /// Something failed, and so did putting things back.
    #[error("{what}: {error}; and what was done could not be put back: {stands}")]
    NotPutBack {
        /// What was being done.
        what: String,
        /// The system's reason.
        error: std::io::Error,
        /// What stands where now.
        stands: String,
    },
}

/// What is about to become visible.
enum Ready {
    Entry { what: String, entry: StagedEntry },
    Give { step: Step },
    File(Box<Staged>),
}

/// What has become visible, and how to take it back.
enum Visible {
    Entry(usize),
    Gave(usize),
    /// The old version stands under the staged name.
    Exchanged(usize),
    /// The old version stands under this name.
    Renamed(usize, OsString),
    /// There was no old version.
    Fresh(usize),
    /// This old text has to be written back.
    InPlace(usize, Vec<u8>),
}

/// Carries out a plan that was made from `loaded`. The lock proves that no other
/// program which takes it is at work.
///
/// # Errors
/// [`CommitError`]; all but [`CommitError::NotPutBack`] mean that nothing
/// changed.
pub fn commit(
    _lock: &Lock,
    tree: &Tree,
    loaded: &Loaded,
    plan: &Plan,
) -> Result<Outcome, CommitError> {
    let interrupted = catch_signals();
    let mut outcome = Outcome::default();
    let mut change =
        Change { tree, loaded, ready: Vec::new(), visible: Vec::new(), outcome: &mut outcome };
    if let Err(error) = change.stage(plan) {
        change.discard();
        return Err(error);
    }
    for (file, original) in &loaded.originals {
        if !original.is_unchanged() {
            change.discard();
            return Err(CommitError::ChangedMeanwhile(*file));
        }
    }
    if interrupted.load(Ordering::Relaxed) {
        change.discard();
        return Err(CommitError::Interrupted);
    }
    // From here on the change happens.
    if let Err((what, error)) = change.publish().and_then(|()| change.flush()) {
        return Err(change.put_back(what, error));
    }
    change.clear_up();
    tracing::info!(change = plan.summary, "committed");
    Ok(outcome)
}

/// From here on an interrupt is only noted: a half-done change is worse than a
/// late answer.
fn catch_signals() -> Arc<AtomicBool> {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    let interrupted = Arc::new(AtomicBool::new(false));
    for signal in [SIGHUP, SIGINT, SIGTERM] {
        if let Err(error) = signal_hook::flag::register(signal, Arc::clone(&interrupted)) {
            tracing::debug!(signal, %error, "the signal can't be caught");
        }
    }
    interrupted
}

struct Change<'a> {
    tree: &'a Tree,
    loaded: &'a Loaded,
    ready: Vec<Ready>,
    visible: Vec<Visible>,
    outcome: &'a mut Outcome,
}

type Failure = (String, std::io::Error);

impl Change<'_> {
    /// Steps first, then the files in the order in which they will become
    /// visible: a reader that finds a user in passwd, which comes last, finds
    /// its group, its shadow line and its home too.
    fn stage(&mut self, plan: &Plan) -> Result<(), CommitError> {
        for step in &plan.steps {
            let mut undone =
                Undone { live: self.tree.is_live(), list: &mut self.outcome.left_undone };
            let ready = match step {
                Step::MakeDirectory { path, skeleton, files, owner, mode } => {
                    let skeleton = skeleton.as_ref().map(|skeleton| skeleton.as_slice());
                    stage_directory(self.tree, path, skeleton, files, *owner, *mode, &mut undone)
                        .map(|entry| Ready::Entry { what: path.to_string(), entry })
                }
                Step::MakeFile { below, file, owner } => {
                    stage_file(self.tree, below, file, *owner, &mut undone)
                        .map(|entry| Ready::Entry { what: format!("{below}/{}", file.path), entry })
                }
                Step::GiveDirectory { .. } => Ok(Ready::Give { step: step.clone() }),
            };
            let failed = |error| CommitError::Failed { what: step.describe(), error };
            self.ready.push(ready.map_err(failed)?);
        }
        let mut files: Vec<File> = plan.edits.iter().map(|edit| edit.file).collect();
        files.sort_by_key(|file| publish_order(*file));
        files.dedup();
        // One thread a file: flushing is mostly waiting.
        let results: Vec<_> = std::thread::scope(|scope| {
            let threads: Vec<_> = files
                .iter()
                .map(|file| scope.spawn(|| (*file, self.stage_one(*file, &plan.edits))))
                .collect();
            threads
                .into_iter()
                .map(|thread| {
                    thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
                })
                .collect()
        });
        let mut failure = None;
        for (file, result) in results {
            match result {
                Ok(staged) => {
                    self.outcome.left_undone.extend(staged.left_undone.iter().cloned());
                    self.ready.push(Ready::File(Box::new(staged)));
                }
                Err(error) => {
                    let what = format!("writing the new {}", file.path());
                    failure.get_or_insert(CommitError::Failed { what, error });
                }
            }
        }
        failure.map_or(Ok(()), Err)
    }

    fn stage_one(&self, file: File, edits: &[Edit]) -> std::io::Result<Staged> {
        let edits: Vec<&Edit> = edits.iter().filter(|edit| edit.file == file).collect();
        let original = self.loaded.originals.get(&file);
        let empty = nest_core::table::Lines::new(file, Arc::new(Vec::new()));
        let lines = self.loaded.book.lines(file).unwrap_or(&empty);
        stage(self.tree, file, original, &lines.rewrite(&edits))
    }

    fn discard(&self) {
        for ready in &self.ready {
            match ready {
                Ready::Entry { entry, .. } => entry.discard(),
                Ready::File(staged) => staged.discard(),
                Ready::Give { .. } => {}
            }
        }
    }

    fn publish(&mut self) -> Result<(), Failure> {
        for at in 0..self.ready.len() {
            let visible = match &self.ready[at] {
                Ready::Entry { what, entry } => {
                    let make = |error: Errno| (format!("making {what}"), error.into());
                    entry.publish().map_err(make)?;
                    Visible::Entry(at)
                }
                Ready::Give { step } => {
                    self.give(step, false).map_err(|error| (step.describe(), error))?;
                    Visible::Gave(at)
                }
                Ready::File(staged) => {
                    let what = format!("replacing {}", staged.file.path());
                    self.replace(at, staged).map_err(|error| (what, error))?
                }
            };
            if let (Visible::InPlace(..), Ready::File(staged)) = (&visible, &self.ready[at]) {
                self.outcome.in_place.push(staged.file);
            }
            self.visible.push(visible);
        }
        Ok(())
    }

    fn give(&self, step: &Step, back: bool) -> std::io::Result<()> {
        let Step::GiveDirectory { path, from, to } = step else { return Ok(()) };
        let (from, to) = if back { (*to, *from) } else { (*from, *to) };
        let mut list = Vec::new();
        give_directory(
            self.tree,
            path,
            from,
            to,
            &mut Undone { live: self.tree.is_live(), list: &mut list },
        )
    }

    /// Puts the new version of a file into place, and keeps the old one until
    /// everything is done.
    fn replace(&self, at: usize, staged: &Staged) -> std::io::Result<Visible> {
        let (directory, name) = (&staged.located.directory, &staged.located.name);
        let rename =
            |flags| rustix::fs::renameat_with(directory, &staged.name, directory, name, flags);
        let Some(original) = self.loaded.originals.get(&staged.file) else {
            rename(RenameFlags::NOREPLACE)?;
            return Ok(Visible::Fresh(at));
        };
        match rename(RenameFlags::EXCHANGE) {
            Ok(()) => Ok(Visible::Exchanged(at)),
            Err(Errno::BUSY) => Ok(Visible::InPlace(at, rewrite_in_place(staged, original)?)),
            // File systems that can't exchange: keep the old version by a link.
            Err(Errno::INVAL | Errno::NOSYS) => {
                let mut kept = staged.name.clone();
                kept.push(".old");
                let _ = rustix::fs::unlinkat(directory, &kept, AtFlags::empty());
                rustix::fs::linkat(directory, name, directory, &kept, AtFlags::empty())?;
                match rustix::fs::renameat(directory, &staged.name, directory, name) {
                    Ok(()) => Ok(Visible::Renamed(at, kept)),
                    Err(Errno::BUSY) => {
                        rustix::fs::unlinkat(directory, &kept, AtFlags::empty())?;
                        Ok(Visible::InPlace(at, rewrite_in_place(staged, original)?))
                    }
                    Err(error) => Err(error.into()),
                }
            }
            Err(error) => Err(error.into()),
        }
    }

    fn flush(&self) -> Result<(), Failure> {
        for ready in &self.ready {
            let flushed = match ready {
                Ready::Entry { entry, .. } => entry.flush(),
                Ready::File(staged) => rustix::fs::fsync(&staged.located.directory),
                Ready::Give { .. } => Ok(()),
            };
            flushed.map_err(|error| ("flushing a directory".to_owned(), error.into()))?;
        }
        Ok(())
    }

    /// Undoes what became visible, last first, and drops what was staged.
    fn put_back(&mut self, what: String, error: std::io::Error) -> CommitError {
        let mut stands = Vec::new();
        for visible in self.visible.iter().rev() {
            if let Err((place, error)) = self.take_back(visible) {
                stands.push(format!("{place} is the new version ({error})"));
            }
        }
        self.discard();
        let _ = self.flush();
        if stands.is_empty() {
            CommitError::Failed { what, error }
        } else {
            CommitError::NotPutBack { what, error, stands: stands.join(", ") }
        }
    }

    fn take_back(&self, visible: &Visible) -> Result<(), Failure> {
        match visible {
            Visible::Entry(at) => {
                let Ready::Entry { what, entry } = &self.ready[*at] else { return Ok(()) };
                entry.withdraw().map_err(|error| (what.clone(), error.into()))
            }
            Visible::Gave(at) => {
                let Ready::Give { step } = &self.ready[*at] else { return Ok(()) };
                self.give(step, true).map_err(|error| (step.describe(), error))
            }
            Visible::Exchanged(at)
            | Visible::Fresh(at)
            | Visible::Renamed(at, _)
            | Visible::InPlace(at, _) => {
                let Ready::File(staged) = &self.ready[*at] else { return Ok(()) };
                self.take_back_file(visible, staged)
                    .map_err(|error| (staged.file.path().to_owned(), error))
            }
        }
    }

    fn take_back_file(&self, visible: &Visible, staged: &Staged) -> std::io::Result<()> {
        let (directory, name) = (&staged.located.directory, &staged.located.name);
        match visible {
            Visible::Exchanged(_) => {
                let flags = RenameFlags::EXCHANGE;
                rustix::fs::renameat_with(directory, &staged.name, directory, name, flags)?;
            }
            Visible::Renamed(_, kept) => rustix::fs::renameat(directory, kept, directory, name)?,
            Visible::Fresh(_) => rustix::fs::renameat(directory, name, directory, &staged.name)?,
            Visible::InPlace(_, old) => overwrite(&open_in_place(staged)?, old)?,
            Visible::Entry(_) | Visible::Gave(_) => {}
        }
        Ok(())
    }

    /// The change has happened: old versions go.
    fn clear_up(&self) {
        for visible in &self.visible {
            let (at, name) = match visible {
                Visible::Exchanged(at) | Visible::InPlace(at, _) => (at, None),
                Visible::Renamed(at, kept) => (at, Some(kept)),
                _ => continue,
            };
            let Ready::File(staged) = &self.ready[*at] else { continue };
            let name = name.unwrap_or(&staged.name);
            if let Err(error) =
                rustix::fs::unlinkat(&staged.located.directory, name, AtFlags::empty())
            {
                tracing::warn!(?name, %error, "the old version could not be removed");
            }
        }
    }
}

/// Users become visible last: see [`Change::stage`].
fn publish_order(file: File) -> u8 {
    match file {
        File::Gshadow => 0,
        File::Shadow => 1,
        File::Subuid => 2,
        File::Subgid => 3,
        File::Group => 4,
        File::Passwd => 5,
    }
}

/// For a file that is a mount point of its own: puts the staged text into it and
/// returns the old one. When that fails half-way the old text is written back at
/// once.
fn rewrite_in_place(staged: &Staged, original: &Original) -> std::io::Result<Vec<u8>> {
    let (new, old) = (staged_text(staged)?, original.text()?);
    let target = open_in_place(staged)?;
    overwrite(&target, &new).or_else(|error| {
        overwrite(&target, &old)?;
        Err(error)
    })?;
    Ok(old)
}

fn staged_text(staged: &Staged) -> std::io::Result<Vec<u8>> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let fd = rustix::fs::openat(&staged.located.directory, &staged.name, flags, Mode::empty())?;
    let mut text = Vec::new();
    std::io::Read::read_to_end(&mut std::fs::File::from(fd), &mut text)?;
    Ok(text)
}

fn open_in_place(staged: &Staged) -> std::io::Result<OwnedFd> {
    let flags = OFlags::WRONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let located = &staged.located;
    Ok(rustix::fs::openat(&located.directory, &located.name, flags, Mode::empty())?)
}

fn overwrite(target: &OwnedFd, text: &[u8]) -> std::io::Result<()> {
    rustix::fs::seek(target, rustix::fs::SeekFrom::Start(0))?;
    write_all(target, text)?;
    rustix::fs::ftruncate(target, text.len() as u64)?;
    Ok(rustix::fs::fsync(target)?)
}
