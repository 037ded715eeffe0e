//! What a request will do, decided before anything is touched.

mod caution;
mod create_user;
mod draft;
mod home;
mod refusal;

pub use caution::Caution;
pub use create_user::{CreateUser, KeyFile, create_user};
pub use draft::Draft;
pub use refusal::{Reason, Refusal, Way};

use bstr::BString;

use crate::book::Book;
use crate::policy::Policy;
use crate::surroundings::Surroundings;
use crate::table::Edit;
use crate::value::Day;

/// What a planner goes by.
#[derive(Clone, Copy)]
pub struct Ground<'a> {
    /// The account files.
    pub book: &'a Book,
    /// The settings.
    pub policy: &'a Policy,
    /// The world around the files.
    pub world: &'a dyn Surroundings,
    /// Today.
    pub today: Day,
}

/// Everything a change will do, and why.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Plan {
    /// The change in a few words: `create user maren`.
    pub summary: String,
    /// What was decided, account by account.
    pub subjects: Vec<Subject>,
    /// The lines that come, go or alter.
    pub edits: Vec<Edit>,
    /// What happens on the tree besides.
    pub steps: Vec<Step>,
    /// What the administrator should know.
    pub cautions: Vec<Caution>,
    /// Likely next commands, without the program's name and global options.
    pub next: Vec<String>,
}

/// The decisions about one account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Subject {
    /// Its name.
    pub name: BString,
    /// The decisions, in the order in which they are shown.
    pub decisions: Vec<Decision>,
}

/// One decision.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    /// What it is about, in a word or two.
    pub label: &'static str,
    /// What was decided.
    pub value: BString,
    /// Why, or what it is made from. May be empty.
    pub why: String,
}

/// An owner and a group, as numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Owner {
    /// The uid.
    pub uid: u32,
    /// The gid.
    pub gid: u32,
}

/// Something a change does on the tree besides editing account files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Makes a directory, with everything in it, that was not there.
    MakeDirectory {
        /// Where.
        path: BString,
        /// What it is a copy of; nothing for an empty one.
        skeleton: Option<BString>,
        /// Files put in besides.
        files: Vec<NewFile>,
        /// Whose everything in it becomes.
        owner: Owner,
        /// The mode of the directory itself.
        mode: u32,
    },
    /// Makes a file that was not there, below a directory that may belong to a
    /// user.
    MakeFile {
        /// The directory to start from.
        below: BString,
        /// The file.
        file: NewFile,
        /// Whose the file, and directories made for it, become.
        owner: Owner,
    },
    /// Gives a directory itself, not what is in it, to somebody else.
    GiveDirectory {
        /// The directory.
        path: BString,
        /// Whose it was.
        from: Owner,
        /// Whose it becomes.
        to: Owner,
    },
}

/// A file with its contents.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewFile {
    /// The path, relative to the directory it is put into. Directories on the
    /// way are made with mode 0700.
    pub path: BString,
    /// What is in it.
    pub contents: Vec<u8>,
    /// Its mode.
    pub mode: u32,
}

impl Step {
    /// The step in words.
    pub fn describe(&self) -> String {
        match self {
            Step::MakeDirectory { path, skeleton: Some(skeleton), mode, owner, .. } => format!(
                "makes {path} from {skeleton}, mode {mode:04o}, owner {}:{}",
                owner.uid, owner.gid
            ),
            Step::MakeDirectory { path, skeleton: None, mode, owner, .. } => {
                format!("makes {path}, mode {mode:04o}, owner {}:{}", owner.uid, owner.gid)
            }
            Step::MakeFile { below, file, owner } => format!(
                "makes {}, mode {:04o}, owner {}:{}",
                join(below, &file.path),
                file.mode,
                owner.uid,
                owner.gid
            ),
            Step::GiveDirectory { path, from, to } => format!(
                "gives {path} itself from {}:{} to {}:{}",
                from.uid, from.gid, to.uid, to.gid
            ),
        }
    }
}

/// A path below a directory.
pub(crate) fn join(directory: &[u8], path: &[u8]) -> BString {
    let mut joined: BString = directory.into();
    if !joined.ends_with(b"/") {
        joined.push(b'/');
    }
    joined.extend_from_slice(path);
    joined
}

impl Subject {
    fn decide(&mut self, label: &'static str, value: impl Into<BString>, why: impl Into<String>) {
        self.decisions.push(Decision { label, value: value.into(), why: why.into() });
    }
}
