//! What went wrong, as the administrator is told: a sentence, the ways round,
//! and the exit status.

use std::path::PathBuf;

use nest_core::policy::PolicyFault;
use nest_core::refusal::{Reason, Refusal, Way};
use nest_core::roster::Fault;
use nest_core::words::without_error_numbers;
use nest_host::changes::ChangesError;
use nest_host::commit::CommitError;
use nest_host::journal::JournalError;
use nest_host::lock::LockError;
use nest_host::recover::{Edited, RecoverError};
use nest_host::retired::RetiredError;
use nest_host::state::{self, StateError};
use nest_host::store::LoadError;
use nest_host::tree::TreeError;
use serde_json::json;

use crate::cli::Global;
use crate::view::{faults, style, visible};

/// A command that did not do what it was asked.
#[derive(Debug)]
pub struct Failure {
    /// One word for machines.
    pub kind: &'static str,
    /// The sentence.
    pub message: String,
    /// The ways round.
    pub ways: Vec<Way>,
    /// Everything that is wrong with what was given, where that is a table.
    pub faults: Vec<Fault>,
    /// The exit status.
    pub status: u8,
    /// The state folder in which something has to be recovered first.
    other_state: Option<PathBuf>,
}

/// The command line is wrong.
pub const USAGE: u8 = 2;
/// Refused; nothing changed.
pub const REFUSED: u8 = 3;
/// Locked by someone else.
pub const LOCKED: u8 = 4;
/// A file is too damaged to edit.
pub const DAMAGED: u8 = 5;
/// Reading or writing failed; all is as it was.
pub const UNTOUCHED: u8 = 6;
/// Failed, and could not be put back.
pub const BROKEN: u8 = 7;

impl Failure {
    /// A failure without a way round.
    pub fn new(status: u8, kind: &'static str, message: impl Into<String>) -> Self {
        let (ways, faults, other_state) = (Vec::new(), Vec::new(), None);
        Failure { kind, message: message.into(), ways, faults, status, other_state }
    }

    /// Adds a way round that is a command.
    pub fn or(mut self, label: &str, command: impl Into<String>) -> Self {
        self.ways.push(Way { label: label.into(), text: command.into(), is_command: true });
        self
    }

    /// Adds the way round of recovering what stands in another state folder.
    fn in_state(mut self, state: &str) -> Self {
        self.other_state = Some(state.into());
        self
    }

    /// Prints it: text on stderr, and with `--format json` a document on stdout.
    pub fn tell(&self, global: &Global) {
        if global.json() {
            let remedy = self.ways.first().map(|way| way_text(way, global));
            let mut error = json!({"error": {
                "kind": self.kind,
                "message": without_error_numbers(&self.message),
                "remedy": remedy,
            }});
            if !self.faults.is_empty() {
                error["error"]["faults"] = faults::to_json(&self.faults);
            }
            crate::view::print_json(&error);
        }
        let (bad, reset) = (style::BAD, style::BAD.render_reset());
        let lines = self.message.split('\n').map(|line| crate::view::visible_line(line.as_bytes()));
        let lines: Vec<String> = lines.flat_map(|line| crate::view::for_stderr(&line)).collect();
        let message = lines.join("\n");
        let stop = if message.ends_with(['.', ':', '?']) { "" } else { "." };
        errln!("{bad}{message}{stop}{reset}");
        faults::print(&self.faults);
        if !self.faults.is_empty() && !self.ways.is_empty() {
            errln!("");
        }
        let label = |way: &Way| visible(way.label.as_bytes()).chars().count();
        let width = self.ways.iter().map(label).max().unwrap_or(0);
        for way in &self.ways {
            let (label, text) = (visible(way.label.as_bytes()), way_text(way, global));
            errln!("  {label:width$}    {}", visible(text.as_bytes()));
        }
        if let Some(state) = &self.other_state {
            errln!("  recover it first    {}", global.command_in_state(state, "recover"));
        }
    }
}

fn way_text(way: &Way, global: &Global) -> String {
    if way.is_command { global.command(&way.text) } else { way.text.clone() }
}

impl From<Box<Refusal>> for Failure {
    fn from(refusal: Box<Refusal>) -> Self {
        Failure {
            kind: (&refusal.reason).into(),
            message: refusal.to_string(),
            status: if refusal.is_damage() { DAMAGED } else { REFUSED },
            ways: refusal.ways,
            faults: match refusal.reason {
                Reason::Roster { faults, .. } => faults,
                _ => Vec::new(),
            },
            other_state: None,
        }
    }
}

impl From<TreeError> for Failure {
    fn from(error: TreeError) -> Self {
        Failure::new(REFUSED, "no-tree", error.to_string())
    }
}

impl From<PolicyFault> for Failure {
    fn from(fault: PolicyFault) -> Self {
        let mut failure = Failure::new(REFUSED, "policy", fault.to_string());
        // Without the broken file: with it this would be refused as well.
        failure.ways.push(Way {
            label: "see every setting".into(),
            text: "copper-nest --policy /dev/null show policy".into(),
            is_command: false,
        });
        failure
    }
}

impl From<LoadError> for Failure {
    fn from(error: LoadError) -> Self {
        match error {
            LoadError::NoSuchFile { .. } => {
                Failure::new(REFUSED, "no-account-file", error.to_string())
            }
            LoadError::Unreadable { .. } => {
                Failure::new(UNTOUCHED, "unreadable", error.to_string())
            }
        }
    }
}

impl From<RetiredError> for Failure {
    fn from(error: RetiredError) -> Self {
        match error {
            RetiredError::State(error) => error.into(),
            _ => Failure::new(UNTOUCHED, "retired-ids", error.to_string()),
        }
    }
}

impl From<StateError> for Failure {
    fn from(error: StateError) -> Self {
        let status = if matches!(error, StateError::Unusable { .. }) { UNTOUCHED } else { REFUSED };
        Failure::new(status, "state", error.to_string())
    }
}

impl From<ChangesError> for Failure {
    fn from(error: ChangesError) -> Self {
        match error {
            ChangesError::NoSuchChange { .. } => {
                Failure::new(REFUSED, "no-change", error.to_string())
                    .or("see them all", "list changes")
            }
            ChangesError::Fault { fault: state::Fault::Unread(_), .. } => {
                Failure::new(UNTOUCHED, "record", error.to_string())
            }
            ChangesError::Fault { .. } => Failure::new(REFUSED, "record", error.to_string()),
        }
    }
}

impl From<RecoverError> for Failure {
    fn from(error: RecoverError) -> Self {
        match error {
            RecoverError::State(error) => error.into(),
            RecoverError::Journal(JournalError::Unusable { .. }) => {
                Failure::new(UNTOUCHED, "journal", error.to_string())
            }
            RecoverError::Journal(JournalError::OtherTree { .. }) => {
                Failure::new(REFUSED, "other-tree", error.to_string())
                    .or("see what it would do here", "recover --dry-run")
                    .or("and do it", "recover")
            }
            RecoverError::Journal(JournalError::OtherState(ref state)) => {
                Failure::new(REFUSED, "other-state", error.to_string()).in_state(state)
            }
            RecoverError::Journal(_) => Failure::new(REFUSED, "journal", error.to_string()),
            RecoverError::Lost { ref stands, .. } => {
                let mut failure = Failure::new(REFUSED, "lost-after-crash", error.to_string());
                for (path, what) in stands {
                    failure.ways.push(Way {
                        label: path.clone(),
                        text: what.clone(),
                        is_command: false,
                    });
                }
                failure.ways.push(how_to_go_on());
                failure
            }
            RecoverError::Edited { ref files, .. } => edited(&error, files),
            RecoverError::Failed { .. } => Failure::new(BROKEN, "unfinished", error.to_string())
                .or("when the cause is mended", "recover"),
        }
    }
}

/// Shows each file as it is and as it was or would be.
fn edited(error: &RecoverError, files: &[Edited]) -> Failure {
    let mut failure = Failure::new(REFUSED, "edited-after-crash", error.to_string());
    let mut tell = |label: String, text: String| {
        failure.ways.push(Way { label, text, is_command: false });
    };
    for file in files {
        let [before, after, now] = &file.digests;
        let path = file.file.path();
        tell(format!("{path} before"), before.clone());
        tell(format!("{path} after"), after.clone());
        tell(format!("{path} now"), now.clone());
        tell(format!("{path} in its other version"), file.staged.to_string());
        for line in &file.lines {
            tell("a line of neither version".into(), line.to_string());
        }
    }
    failure.ways.push(how_to_go_on());
    failure
}

fn how_to_go_on() -> Way {
    Way {
        label: "how to go on".into(),
        text: "docs/formats.md, \"A crash and an edit\"".into(),
        is_command: false,
    }
}

impl From<LockError> for Failure {
    fn from(error: LockError) -> Self {
        match error {
            LockError::Held { .. } => Failure::new(LOCKED, "locked", error.to_string()),
            LockError::NotAFile(_) => Failure::new(REFUSED, "lock-file", error.to_string()),
            LockError::Unopened(_) => Failure::new(UNTOUCHED, "lock-file", error.to_string()),
        }
    }
}

impl From<CommitError> for Failure {
    fn from(error: CommitError) -> Self {
        let (kind, status) = match error {
            CommitError::ChangedMeanwhile(_) => ("changed-meanwhile", UNTOUCHED),
            CommitError::Interrupted => ("interrupted", UNTOUCHED),
            CommitError::State(error) => return error.into(),
            CommitError::Journal(_) => ("journal", UNTOUCHED),
            CommitError::Failed { .. } => ("failed", UNTOUCHED),
            CommitError::NotPutBack { .. } => ("not-put-back", BROKEN),
        };
        Failure::new(status, kind, error.to_string())
    }
}
