//! What went wrong, as the administrator is told: a sentence, the ways round,
//! and the exit status.

use std::path::PathBuf;

use nest_core::policy::PolicyFaults;
use nest_core::refusal::{Reason, Refusal, Way, WayIs};
use nest_core::roster::Fault;
use nest_core::words::in_full;
use nest_host::changes::ChangesError;
use nest_host::commit::CommitError;
use nest_host::journal::JournalError;
use nest_host::lock::LockError;
use nest_host::recover::{Edited, RecoverError};
use nest_host::retired::RetiredError;
use nest_host::state::{self, StateError};
use nest_host::store::LoadError;
use nest_host::tree::TreeError;
use rustix::io::Errno;
use serde_json::json;

use crate::cli::Global;
use crate::view::{faults, style, visible};

/// What a command comes to: its exit status, unless it says otherwise.
pub type Result<T = u8, E = Failure> = std::result::Result<T, E>;

/// A command that did not do what it was asked.
#[derive(Debug)]
pub struct Failure {
    /// One word for machines.
    pub kind: &'static str,
    /// What went wrong, and what it comes from.
    error: anyhow::Error,
    /// What stands now, where the sentence has to say it.
    outcome: Option<Box<str>>,
    /// The ways round.
    pub ways: Vec<Way>,
    /// Everything that is wrong with what was given, where that is a table.
    pub faults: Vec<Fault>,
    /// The exit status.
    pub status: u8,
    /// The state folder in which something has to be recovered first.
    other_state: Option<PathBuf>,
}

/// Something was found, or left out.
pub const FOUND: u8 = 1;
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
        Failure::of(status, kind, anyhow::Error::msg(message.into()))
    }

    /// The failure that an error is.
    fn of(status: u8, kind: &'static str, error: impl Into<anyhow::Error>) -> Self {
        let (ways, faults, other_state) = (Vec::new(), Vec::new(), None);
        Failure { kind, error: error.into(), outcome: None, ways, faults, status, other_state }
    }

    /// Says what stands now.
    fn and(mut self, outcome: impl Into<String>) -> Self {
        self.outcome = Some(outcome.into().into());
        self
    }

    /// The sentence: what went wrong, what it comes from, and what stands now.
    pub fn message(&self) -> String {
        let mut message = in_full(self.error.as_ref());
        if let Some(outcome) = &self.outcome {
            message += &format!("; {outcome}");
        }
        message
    }

    /// Adds a way round that is a command.
    pub fn or(mut self, label: &str, command: impl Into<String>) -> Self {
        self.ways.push(Way { label: label.into(), text: command.into(), is: WayIs::Command });
        self
    }

    /// Adds a way round that is the same command with an option.
    pub fn or_again(mut self, label: &str, option: &str) -> Self {
        self.ways.push(Way { label: label.into(), text: option.into(), is: WayIs::Option });
        spell_out(&mut self.ways, None);
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
                "message": self.message(),
                "remedy": remedy,
            }});
            if !self.faults.is_empty() {
                error["error"]["faults"] = faults::to_json(&self.faults);
            }
            crate::view::print_json("error", &error);
        }
        let (bad, reset) = (style::BAD, style::BAD.render_reset());
        let message = self.message();
        let lines = message.split('\n').map(|line| crate::view::visible_line(line.as_bytes()));
        let lines: Vec<String> = lines.flat_map(|line| crate::view::for_stderr(&line)).collect();
        let message = lines.join("\n");
        let stop = if message.ends_with(['.', ':', '?']) { "" } else { "." };
        errln!("{bad}{message}{stop}{reset}");
        let word = if self.kind == "undecided" { "proposed" } else { "put" };
        faults::print(&self.faults, word);
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

/// Says in full which command is given again with an option. An undo names its change: the
/// newest may be another one by then.
pub fn spell_out(ways: &mut [Way], undoes: Option<u64>) {
    let mut words: Vec<String> =
        std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    let undo = words.iter().position(|word| word == "undo");
    if let (Some(number), Some(at)) = (undoes, undo)
        && words.get(at + 1).is_none_or(|next| next.parse::<u64>().is_err())
    {
        words.insert(at + 1, number.to_string());
    }
    for way in ways {
        let words = match &way.is {
            WayIs::Command | WayIs::Words => continue,
            WayIs::Option => format!("{} {}", shell_words::join(&words), way.text),
            WayIs::Instead { of } => {
                let instead =
                    |word: &String| if word == of { way.text.clone() } else { word.clone() };
                shell_words::join(words.iter().map(instead))
            }
        };
        way.text = format!("copper-nest {words}");
        way.is = WayIs::Words;
    }
}

fn way_text(way: &Way, global: &Global) -> String {
    match way.is {
        WayIs::Command => global.command(&way.text),
        WayIs::Option | WayIs::Instead { .. } | WayIs::Words => way.text.clone(),
    }
}

impl From<Box<Refusal>> for Failure {
    fn from(mut refusal: Box<Refusal>) -> Self {
        let kind = (&refusal.reason).into();
        let status = if refusal.is_damage() { DAMAGED } else { REFUSED };
        let mut ways = std::mem::take(&mut refusal.ways);
        spell_out(&mut ways, None);
        let faults = match &refusal.reason {
            Reason::Roster { faults, .. } | Reason::Undecided { faults } => faults.clone(),
            _ => Vec::new(),
        };
        Failure { ways, faults, ..Failure::of(status, kind, *refusal) }
    }
}

impl From<TreeError> for Failure {
    fn from(error: TreeError) -> Self {
        Failure::of(REFUSED, "no-tree", error)
    }
}

impl From<PolicyFaults> for Failure {
    fn from(faults: PolicyFaults) -> Self {
        let mut failure = Failure::of(REFUSED, "policy", faults);
        // Without the broken file: with it this would be refused as well.
        let way = told("see every setting", "copper-nest --policy /dev/null show policy");
        failure.ways.push(way);
        failure
    }
}

impl From<LoadError> for Failure {
    fn from(error: LoadError) -> Self {
        match error {
            LoadError::NoSuchFile { .. } => Failure::of(REFUSED, "no-account-file", error),
            LoadError::Unreadable { .. } => Failure::of(UNTOUCHED, "unreadable", error),
        }
    }
}

impl From<RetiredError> for Failure {
    fn from(error: RetiredError) -> Self {
        match error {
            RetiredError::State(error) => error.into(),
            _ => Failure::of(UNTOUCHED, "retired-ids", error),
        }
    }
}

impl From<StateError> for Failure {
    fn from(error: StateError) -> Self {
        match &error {
            StateError::Unusable { path, source: Errno::ACCESS | Errno::PERM }
                if !rustix::process::geteuid().is_root() =>
            {
                let message = format!(
                    "only root can look at what was changed and what is kept: {path} is closed to \
                     everybody else"
                );
                Failure::new(REFUSED, "needs-root", message)
            }
            StateError::Unusable { .. } => Failure::of(UNTOUCHED, "state", error),
            _ => Failure::of(REFUSED, "state", error),
        }
    }
}

impl From<ChangesError> for Failure {
    fn from(error: ChangesError) -> Self {
        match error {
            ChangesError::NoSuchChange { .. } => {
                Failure::of(REFUSED, "no-change", error).or("see them all", "list changes")
            }
            ChangesError::Fault { fault: state::Fault::Unread(_), .. } => {
                Failure::of(UNTOUCHED, "record", error)
            }
            ChangesError::Fault { .. } => Failure::of(REFUSED, "record", error),
        }
    }
}

impl From<RecoverError> for Failure {
    fn from(error: RecoverError) -> Self {
        match error {
            RecoverError::State(error) => error.into(),
            RecoverError::Journal(JournalError::Unusable { .. }) => {
                Failure::of(UNTOUCHED, "journal", error)
            }
            RecoverError::Journal(JournalError::OtherTree { .. }) => {
                Failure::of(REFUSED, "other-tree", error)
                    .or("see what it would do here", "recover --dry-run")
                    .or("and do it", "recover")
            }
            RecoverError::Journal(JournalError::OtherState(ref state)) => {
                let state = state.clone();
                Failure::of(REFUSED, "other-state", error).in_state(&state)
            }
            RecoverError::Journal(_) => Failure::of(REFUSED, "journal", error),
            RecoverError::Lost { ref stands, .. } => {
                let stands = stands.iter().map(|(path, what)| told(path, what));
                let ways = stands.chain([how_to_go_on()]).collect();
                Failure { ways, ..Failure::of(REFUSED, "lost-after-crash", error) }
            }
            RecoverError::Edited { ref files, .. } => {
                let ways = files.iter().flat_map(edited).chain([how_to_go_on()]).collect();
                Failure { ways, ..Failure::of(REFUSED, "edited-after-crash", error) }
            }
            RecoverError::Failed { .. } => {
                Failure::of(BROKEN, "unfinished", error).or("when the cause is mended", "recover")
            }
        }
    }
}

/// What is told beside a refusal, and is no command.
fn told(label: impl Into<String>, text: impl Into<String>) -> Way {
    Way { label: label.into(), text: text.into(), is: WayIs::Words }
}

/// A file as it is and as it was or would be.
fn edited(file: &Edited) -> Vec<Way> {
    let [before, after, now] = &file.digests;
    let path = file.file.path();
    let mut ways = vec![
        told(format!("{path} before"), before),
        told(format!("{path} after"), after),
        told(format!("{path} now"), now),
        told(format!("{path} in its other version"), file.staged.to_string()),
    ];
    ways.extend(file.lines.iter().map(|line| told("a line of neither version", line.to_string())));
    ways
}

fn how_to_go_on() -> Way {
    told("how to go on", "docs/formats.md, \"A crash and an edit\"")
}

impl From<LockError> for Failure {
    fn from(error: LockError) -> Self {
        match error {
            LockError::Held { .. } => Failure::of(LOCKED, "locked", error),
            LockError::NotAFile(_) => Failure::of(REFUSED, "lock-file", error),
            LockError::Unopened(_) => Failure::of(UNTOUCHED, "lock-file", error),
        }
    }
}

impl From<CommitError> for Failure {
    fn from(error: CommitError) -> Self {
        match error {
            CommitError::State(error) => error.into(),
            CommitError::ChangedMeanwhile(_) => Failure::of(UNTOUCHED, "changed-meanwhile", error),
            CommitError::Interrupted => Failure::of(UNTOUCHED, "interrupted", error),
            CommitError::Journal(_) => {
                Failure::of(UNTOUCHED, "journal", error).and("nothing was changed")
            }
            CommitError::Failed { .. } => {
                Failure::of(UNTOUCHED, "failed", error).and("all is as it was")
            }
            CommitError::NotPutBack { ref stands, .. } => {
                let outcome = format!("and what was done could not be put back: {stands}");
                Failure::of(BROKEN, "not-put-back", error).and(outcome)
            }
        }
    }
}
