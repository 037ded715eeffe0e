//! What is told beside what was asked for: on stderr, and in the system's log.

use nest_core::audit::records;
use nest_core::change::Plan;
use nest_core::table::File;
use nest_core::words::{agree, in_full};
use nest_host::commit::{Circumstances, CommitError, Outcome};
use nest_host::journal::JournalError;
use nest_host::store::Loaded;
use nest_host::{audit, recover, system_log};

use super::Session;
use crate::failure::Failure;
use crate::view::visible;

impl Session<'_> {
    /// Says on stderr that a change stands unfinished, before showing anything.
    pub fn tell_unfinished(&self) {
        match recover::unfinished(&self.tree, &self.state) {
            Ok(Some(unfinished)) if !recover::is_being_changed(&self.tree) => {
                let (what, command) =
                    (visible(unfinished.what.as_bytes()), self.global.command("recover"));
                match unfinished.foreign {
                    None => {
                        errln!("{what} stands unfinished since a crash; finish it with   {command}")
                    }
                    Some(tree) => errln!(
                        "{what} stands unfinished, but in another tree, {}, of which this one \
                         may be a copy; look at it with   {command} --dry-run",
                        visible(tree.as_bytes())
                    ),
                }
            }
            Ok(_) => {}
            // A state folder that is closed to whoever looks tells nothing.
            Err(error @ recover::RecoverError::Journal(_)) if !is_closed(&error) => {
                let told = Failure::from(error);
                errln!("{}", visible(told.message().as_bytes()));
            }
            Err(error) => tracing::info!(%error, "the journal can't be read"),
        }
    }

    /// Says on stderr which lines of these files a list leaves out, since they can't be read.
    pub fn tell_unread(&self, loaded: &Loaded, files: &[File]) {
        for told in unread(loaded, files) {
            let command = self.global.command("check --files-only");
            errln!("{told}; what is wrong there:   {command}");
        }
    }

    /// A record an account for the kernel's audit log: of the machine's own accounts, not of
    /// those of an image.
    fn audit(&self, plan: &Plan, worked: bool) {
        let program = std::env::current_exe().unwrap_or_default();
        let terminal = rustix::termios::ttyname(std::io::stdin(), Vec::new()).ok();
        let terminal = terminal.map(|name| name.to_string_lossy().into_owned());
        let terminal = terminal.as_deref().map(|name| name.trim_start_matches("/dev/"));
        audit::send(&records(plan, &program.to_string_lossy(), terminal, worked));
    }

    /// One line a change for the system's log.
    pub(super) fn log(
        &self,
        plan: &Plan,
        circumstances: &Circumstances,
        committed: &Result<Outcome, CommitError>,
    ) {
        let by = match &circumstances.by.name {
            Some(name) => format!("{name} (uid {})", circumstances.by.uid),
            None => format!("uid {}", circumstances.by.uid),
        };
        let tree = match self.tree.is_live() {
            true => String::new(),
            false => format!(" in {}", self.tree.path().display()),
        };
        let summary = visible(plan.summary.as_bytes());
        let note = circumstances.note.as_deref();
        let note = note.map(|note| format!(" ({})", visible(note.as_bytes()))).unwrap_or_default();
        let line = match committed {
            Ok(Outcome { number: Some(number), .. }) => {
                format!("change {number} by {by}{tree}: {summary}{note}")
            }
            Ok(_) => format!("change by {by}{tree}: {summary}{note}"),
            Err(error) => format!("failed, by {by}{tree}: {summary}: {}", in_full(error)),
        };
        system_log::send(&self.now.for_log(), &line);
        if self.tree.is_live() {
            self.audit(plan, committed.is_ok());
        }
    }
}

/// Whether a journal can't be read for want of the right to.
fn is_closed(error: &recover::RecoverError) -> bool {
    let recover::RecoverError::Journal(JournalError::Unusable { source: error, .. }) = error else {
        return false;
    };
    error.kind() == std::io::ErrorKind::PermissionDenied
}

/// What recovery did, in a line.
pub fn recovered_in_words(recovered: &recover::Recovered) -> String {
    let what = match recovered.number {
        Some(number) => format!("change {number} ({})", visible(recovered.summary.as_bytes())),
        None => format!("a change ({})", visible(recovered.summary.as_bytes())),
    };
    let told = recovered.notes.iter().map(|note| visible(note.as_bytes()));
    let notes: String = told.map(|note| format!("\n  {note}")).collect();
    match recovered.finished {
        true => format!("recovered: {what}, which a crash had cut off, is now finished{notes}"),
        false => format!(
            "recovered: {what}, which a crash had cut off before it happened, was rolled back{notes}"
        ),
    }
}

/// The lines of files that can't be read, in words.
pub fn unread(loaded: &Loaded, files: &[File]) -> Vec<String> {
    const MOST: usize = 5;
    let mut told = Vec::new();
    for file in files {
        let lines = loaded.book.unread_lines(*file);
        if lines.is_empty() {
            continue;
        }
        let places = lines.iter().take(MOST).map(|line| format!("{}:{line}", file.path()));
        let more = match lines.len().saturating_sub(MOST) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        told.push(format!(
            "{}{more} can't be read, and {} not listed",
            places.collect::<Vec<_>>().join(", "),
            agree(&lines.len(), "is", "are")
        ));
    }
    told
}
