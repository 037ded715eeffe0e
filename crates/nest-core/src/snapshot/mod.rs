//! What the files of one machine say, as one document without hashes, and how it is read back.
//!
//! - `take`: a snapshot of a tree
//! - `text`: texts that are borrowed from the document where they can be
//!
//! `docs/formats.md` describes the document.

mod take;
#[cfg(test)]
mod tests;
mod text;

use std::io::Write;

use serde::{Deserialize, Serialize};

pub use self::take::{SnapshotOf, of_book, take};
pub use self::text::Text;

/// What the document calls itself.
pub const DOCUMENT: &str = "snapshot";

/// The version of the document that this program writes, and the newest that it reads.
pub const VERSION: u32 = 1;

/// What the files of one machine say.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot<'t> {
    /// What the document is: [`DOCUMENT`].
    #[serde(borrow, default)]
    pub document: Text<'t>,
    /// The version of its form.
    pub version: u32,
    /// The version of the program that wrote it.
    #[serde(borrow, default)]
    pub program: Text<'t>,
    /// What the machine is called; empty where nothing says so.
    #[serde(borrow)]
    pub host: Text<'t>,
    /// A digest that tells machines of one name apart; missing where the machine has no id.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<Text<'t>>,
    /// When it was taken, RFC 3339.
    #[serde(borrow)]
    pub time: Text<'t>,
    /// What the operating system calls itself, os-release(5).
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub system: Option<Text<'t>>,
    /// A digest of all settings that the machine goes by.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Text<'t>>,
    /// Its users, in the order of the file.
    #[serde(borrow)]
    pub users: Vec<SnapshotUser<'t>>,
    /// Its groups, likewise.
    #[serde(borrow)]
    pub groups: Vec<SnapshotGroup<'t>>,
}

/// What is said of a user. What is missing was not asked after, or does not apply.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SnapshotUser<'t> {
    /// The name.
    #[serde(borrow)]
    pub name: Text<'t>,
    /// The uid; missing where it is no number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uid: Option<u32>,
    /// The gid of the primary group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gid: Option<u32>,
    /// The name of the primary group, where there is one of that gid.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub primary: Option<Text<'t>>,
    /// The full name.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub full_name: Option<Text<'t>>,
    /// The home.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub home: Option<Text<'t>>,
    /// The shell.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<Text<'t>>,
    /// `person` or `service`.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<Text<'t>>,
    /// The day from which on the account is over, or `never`.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<Text<'t>>,
    /// Whether it can sign in, and how: `password`, `key`, `password and key`, or why not.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub sign_in: Option<Text<'t>>,
    /// By what it can become root; empty where it can't.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub root: Option<Vec<Text<'t>>>,
    /// The fingerprints of its keys, sorted.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub keys: Option<Vec<Text<'t>>>,
    /// Its subordinate uids: pairs of the first and how many.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uids: Vec<(u32, u64)>,
    /// Its subordinate gids, likewise.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gids: Vec<(u32, u64)>,
    /// Where its home comes from, if that is another machine.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub home_from: Option<Text<'t>>,
    /// How many files of the machine's own carry its uid, where they were counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub files: Option<u64>,
    /// The groups that list it, where that is not what the groups of the document say: what is
    /// no snapshot may tell of nobody's groups, or of them with the user only.
    #[serde(skip)]
    pub groups: GroupsSaid<'t>,
}

/// What is said of the groups of a user.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum GroupsSaid<'t> {
    /// The groups say whom they list.
    #[default]
    ByGroups,
    /// These.
    Named(Vec<Text<'t>>),
    /// Nothing.
    Nothing,
}

/// What is said of a group.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SnapshotGroup<'t> {
    /// The name.
    #[serde(borrow)]
    pub name: Text<'t>,
    /// The gid; missing where it is no number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gid: Option<u32>,
    /// `private`, `people` or `services`.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<Text<'t>>,
    /// Those whom its list names.
    #[serde(borrow, default, skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<Text<'t>>,
    /// Who administers it; nothing where that is not said. A snapshot always says so.
    #[serde(borrow, default = "nobody", skip_serializing_if = "is_nobody")]
    pub admins: Option<Vec<Text<'t>>>,
    /// How many files of the machine's own carry its gid, where they were counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub files: Option<u64>,
}

fn nobody<'t>() -> Option<Vec<Text<'t>>> {
    Some(Vec::new())
}

fn is_nobody(admins: &Option<Vec<Text<'_>>>) -> bool {
    admins.as_ref().is_none_or(Vec::is_empty)
}

/// Why a text is no snapshot that can be gone by.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SnapshotFault {
    /// It says that it is something else.
    #[error("it is no snapshot, but {0}")]
    Other(String),
    /// It is of a version that nobody knows yet.
    #[error(
        "it is of version {0}, and this program reads up to {VERSION}: a newer one is needed to \
         read it"
    )]
    Newer(u32),
    /// It ends in the middle.
    #[error("it is cut off in line {line}: take it again with export snapshot")]
    CutOff {
        /// Where, counted from 1.
        line: usize,
    },
    /// It is at fault.
    #[error("line {line}, character {at}: {message}")]
    Fault {
        /// Where, counted from 1.
        line: usize,
        /// Likewise.
        at: usize,
        /// What is wrong.
        message: String,
    },
}

/// What a document says of itself before anything else.
#[derive(Deserialize)]
struct Head {
    document: Option<String>,
    version: Option<u32>,
}

impl<'t> Snapshot<'t> {
    /// Reads a snapshot, RFC 8259. Keys that are not known are passed over: a program of the
    /// same version may write more.
    ///
    /// # Errors
    /// Why it can't be gone by.
    pub fn read(text: &'t str) -> Result<Self, SnapshotFault> {
        let read = serde_json::from_str::<Snapshot<'t>>(text);
        let head = match &read {
            Ok(snapshot) => Some(Head {
                document: Some(snapshot.document.to_string()),
                version: Some(snapshot.version),
            }),
            Err(_) => serde_json::from_str::<Head>(text).ok(),
        };
        match head.map(|head| (head.document.unwrap_or_default(), head.version)) {
            Some((document, _)) if document.is_empty() => {
                Err(SnapshotFault::Other("a document that does not say what it is".to_owned()))
            }
            Some((document, _)) if document != DOCUMENT => {
                Err(SnapshotFault::Other(format!("a document of the kind {document:?}")))
            }
            Some((_, Some(version))) if version > VERSION => Err(SnapshotFault::Newer(version)),
            _ => read.map_err(|error| SnapshotFault::of(&error)),
        }
    }

    /// Writes it: one account a line, so that two of them can be held against each other line
    /// by line.
    pub fn to_text(&self) -> String {
        /// What a document is made of.
        const PLAIN: &str = "BUG: a snapshot is made of strings, numbers and lists of them";
        let mut text = Vec::new();
        let head = Snapshot { users: Vec::new(), groups: Vec::new(), ..self.clone() };
        let mut head = serde_json::to_string(&head).expect(PLAIN);
        // Both lists are empty, and the last keys.
        let end = head.rfind(",\"users\":[]").expect(PLAIN);
        head.truncate(end);
        text.extend_from_slice(head.as_bytes());
        let entries = |text: &mut Vec<u8>, title: &str, lines: Vec<String>| {
            text.extend_from_slice(b",\n\"");
            text.extend_from_slice(title.as_bytes());
            text.extend_from_slice(b"\":[\n");
            text.extend_from_slice(lines.join(",\n").as_bytes());
            text.extend_from_slice(b"\n]");
        };
        let users = self.users.iter().map(|user| serde_json::to_string(user).expect(PLAIN));
        entries(&mut text, "users", users.collect());
        let groups = self.groups.iter().map(|group| serde_json::to_string(group).expect(PLAIN));
        entries(&mut text, "groups", groups.collect());
        text.write_all(b"}\n").expect("BUG: memory takes what is written");
        String::from_utf8(text).expect(PLAIN)
    }
}

impl SnapshotFault {
    fn of(error: &serde_json::Error) -> Self {
        match error.is_eof() {
            true => SnapshotFault::CutOff { line: error.line() },
            false => {
                let message = error.to_string();
                let place = format!(" at line {} column {}", error.line(), error.column());
                SnapshotFault::Fault {
                    line: error.line(),
                    at: error.column(),
                    message: message.trim_end_matches(&place).to_owned(),
                }
            }
        }
    }
}
