//! What stands in a journal: what is done to which place, on which tree.

#![deny(clippy::wildcard_enum_match_arm)]

use nest_core::ownership::{Access, Owner, Reown};
use nest_core::record::ChangeRecord;
use nest_core::retired::{KeptFolder, PackedFile};
use nest_core::surroundings::Inventory;
use nest_core::table::File;
use nest_core::value::escaped::Escaped;
use nest_core::value::{Gid, PlainName, TreePath, Uid};
use rustix::fs::{AtFlags, StatxFlags};
use serde::{Deserialize, Serialize};

use crate::place::{BOTH, NEW, beside};
use crate::tree::{Tree, path_of};

/// What the names of lists of files begin with.
const LIST: &str = "files-";
/// The files of the state folder that a change replaces.
const STATE_FILES: [PlainName; 2] = [crate::retired::NAME, crate::suspended::NAME];

/// What a change does to one place. Paths are those in the tree, without links.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "effect", rename_all = "kebab-case")]
pub enum Effect {
    /// A file is exchanged for a new version that waits beside it.
    Replace {
        /// What is replaced.
        what: Replaced,
        /// The path, in the tree or in the state folder.
        path: Escaped,
        /// The name of the new version, in the same directory.
        staged: Escaped,
        /// The digest of the old version; nothing where there was no file.
        before: Option<String>,
        /// The digest of the new version.
        after: String,
    },
    /// A file that is no account file is exchanged for a new version that waits beside it.
    Rewrite {
        /// The file.
        path: TreePath,
        /// The digest of the old version; nothing where there was no file.
        before: Option<String>,
        /// The digest of the new version.
        after: String,
    },
    /// Something new gets its name.
    Make {
        /// Where.
        path: TreePath,
        /// Directories that are made on the way, outermost first.
        made: Vec<TreePath>,
        /// What it is.
        inventory: Option<Inventory>,
    },
    /// A directory itself is given to somebody else.
    Give {
        /// The directory.
        path: TreePath,
        /// Whose it is.
        from: Owner,
        /// Whose it becomes.
        to: Owner,
    },
    /// An account file itself gets other access.
    SetAccess {
        /// The file.
        file: File,
        /// The access that there was.
        from: Access,
        /// The one that there will be.
        to: Access,
    },
    /// A file or directory gets another place.
    Move {
        /// Where it is.
        from: TreePath,
        /// Where it will be.
        to: TreePath,
        /// The directory that is made for it, which only root may enter.
        made: Option<TreePath>,
        /// Whether it is on another file system: then a copy waits beside `to`,
        /// and what is at `from` is removed in the end.
        copied: bool,
        /// What the copy is.
        #[serde(default)]
        inventory: Option<Inventory>,
    },
    /// Something is removed, if it still is what it was.
    Remove {
        /// What.
        path: TreePath,
        /// What it has to be.
        made: Inventory,
    },
    /// Something is removed for good; packed before, where a folder is named.
    Erase {
        /// What.
        path: TreePath,
        /// The folder below `retired` and the file in it that hold it.
        packed: Option<(KeptFolder, PackedFile)>,
    },
    /// Something packed gets back to where it was.
    Unpack {
        /// Where.
        path: TreePath,
        /// The folder below `retired`.
        folder: KeptFolder,
        /// The file in it.
        file: PackedFile,
        /// Numbers that become others: of uids, and of gids.
        other: Renumbered,
        /// What it is.
        #[serde(default)]
        inventory: Option<Inventory>,
    },
    /// A folder below `retired` gets its name.
    Keep {
        /// The folder.
        folder: KeptFolder,
        /// The digest of what says what is kept.
        #[serde(default)]
        digest: Option<String>,
    },
    /// A folder below `retired` goes.
    Release {
        /// The folder.
        folder: KeptFolder,
    },
    /// Files get another owner or group: those that the list names.
    Reown {
        /// Which number becomes which.
        reown: Reown,
        /// The file of the journal that lists them.
        list: PlainName,
        /// The digest of that list.
        #[serde(default)]
        digest: Option<String>,
    },
}

/// A uid, and a gid, that become others.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Renumbered {
    /// The uid, and what it becomes.
    pub uid: Option<(Uid, Uid)>,
    /// The gid, and what it becomes.
    pub gid: Option<(Gid, Gid)>,
}

/// What is replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Replaced {
    /// An account file.
    Account(File),
    /// A file of the state folder.
    State,
}

/// What `begun.json` and `ready.json` hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct JournalEntry {
    /// The version of the format.
    pub version: u32,
    /// The root directory of the tree: its path, device and inode.
    pub tree: Rooted,
    /// The number the change has or would have had; nothing without state.
    pub number: Option<u64>,
    /// The change in a few words.
    pub summary: String,
    /// What is done, in the order in which it becomes visible.
    pub effects: Vec<Effect>,
    /// The record that will be kept, once the journal is ready.
    pub record: Option<ChangeRecord>,
    /// The digest of the record that waits for its name, where that holds the lines and
    /// the one in here does not.
    #[serde(default)]
    pub record_beside: Option<String>,
    /// Directories above the state folder that were made for this change.
    #[serde(default)]
    pub made: Vec<TreePath>,
}

/// Which tree a journal is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rooted {
    /// The path it was opened by.
    pub path: String,
    /// Device and inode of its root directory.
    pub identity: (u64, u64),
    /// The number of its file system, which stays when devices get other numbers.
    #[serde(default)]
    pub file_system: Option<u64>,
    /// When the root directory was made, in nanoseconds since 1970, where the file
    /// system tells it.
    #[serde(default)]
    pub made: Option<i128>,
}

impl Rooted {
    /// The root of `tree`.
    pub fn of(tree: &Tree) -> Self {
        let root = tree.root();
        let identity = rustix::fs::fstat(root).map_or((0, 0), |stat| (stat.st_dev, stat.st_ino));
        let file_system = rustix::fs::fstatvfs(root).ok().map(|told| told.f_fsid);
        let flags = AtFlags::EMPTY_PATH;
        let made = rustix::fs::statx(root, "", flags, StatxFlags::BTIME).ok();
        let made = made.filter(|stat| stat.stx_mask & StatxFlags::BTIME.bits() != 0);
        let made = made.map(|stat| {
            i128::from(stat.stx_btime.tv_sec) * 1_000_000_000 + i128::from(stat.stx_btime.tv_nsec)
        });
        Rooted { path: tree.path().display().to_string(), identity, file_system, made }
    }

    /// Whether both are one tree. Its device may have got another number since, and a
    /// copy may have been given its path and, by chance, its inode: but no copy was made
    /// at the same moment.
    pub fn is(&self, other: &Self) -> bool {
        let known = |mine: Option<i128>, other| mine.is_none() || mine == other;
        let file_system = self.file_system.is_some() && self.file_system == other.file_system;
        self.identity.1 == other.identity.1
            && (self.identity.0 == other.identity.0 || file_system)
            && known(self.made, other.made)
    }
}

impl JournalEntry {
    /// What makes it impossible that this program wrote it, in words.
    pub(super) fn fault(&self) -> Option<String> {
        let steps = self.record.iter().flat_map(|record| &record.told.steps);
        let step = steps.filter_map(|step| step.step.fault()).next();
        step.or_else(|| self.effects.iter().find_map(Effect::fault))
    }

    /// The change, in words.
    pub fn in_words(&self) -> String {
        match self.number {
            Some(number) => format!("change {number} ({})", self.summary),
            None => format!("a change ({})", self.summary),
        }
    }
}

/// What the name of another file begins with that goes with such a list.
const THERE: &str = "there-";
const REACHED: &str = "reached-";

/// The file that lists those which carried the new number before, by that of the other list.
pub(crate) fn there_name(list: &PlainName) -> PlainName {
    named_after(list, THERE)
}

/// The file that says how far a list is gone through.
pub(crate) fn reached_name(list: &PlainName) -> PlainName {
    named_after(list, REACHED)
}

fn named_after(list: &PlainName, start: &str) -> PlainName {
    let at = list.as_str().strip_prefix(LIST).unwrap_or(list.as_str());
    PlainName::parse(format!("{start}{at}")).expect("BUG: what goes with a list has no plain name")
}

/// The file of the journal that lists files which get another number, by the place of
/// its step in the plan.
pub(crate) fn list_name(at: usize) -> PlainName {
    PlainName::parse(format!("{LIST}{at}")).expect("BUG: a list has no plain name")
}

impl Effect {
    /// What makes it impossible that this program wrote it, in words: a name that it would
    /// not have given.
    fn fault(&self) -> Option<String> {
        match self {
            Effect::Replace { what: Replaced::State, path, staged, .. } => {
                let known = STATE_FILES.iter().any(|name| path.0 == name.as_str());
                (!known || !staged.0.is_empty()).then(|| format!("{} is none of its files", path.0))
            }
            Effect::Replace { what: Replaced::Account(_), path, .. }
                if !TreePath::fits(&path.0) =>
            {
                Some(format!("{} is no path of the tree", path.0))
            }
            Effect::Replace { what: Replaced::Account(_), path, staged, .. } => {
                let name = path_of(&path.0).file_name().unwrap_or_default();
                let given = [NEW, BOTH]
                    .iter()
                    .any(|ending| beside(name, ending).as_encoded_bytes() == staged.0.as_slice());
                (!given).then(|| format!("{} is no name of a new {}", staged.0, path.0))
            }
            Effect::Reown { list, .. } => {
                let at = list.as_str().strip_prefix(LIST).and_then(|at| at.parse().ok());
                let given = at.is_some_and(|at| list_name(at) == *list);
                (!given).then(|| format!("{list} is no name of a list"))
            }
            // Their types can hold nothing else.
            Effect::Rewrite { .. }
            | Effect::Make { .. }
            | Effect::Give { .. }
            | Effect::SetAccess { .. }
            | Effect::Move { .. }
            | Effect::Remove { .. }
            | Effect::Erase { .. }
            | Effect::Unpack { .. }
            | Effect::Keep { .. }
            | Effect::Release { .. } => None,
        }
    }

    /// The effect in a few words, for messages.
    pub fn describe(&self) -> String {
        match self {
            Effect::Replace { what: Replaced::Account(file), .. } => {
                format!("replacing {}", file.path())
            }
            Effect::Replace { path, .. } => format!("replacing {}", path.0),
            Effect::Rewrite { path, .. } => format!("editing {}", path),
            Effect::Make { path, .. } => format!("making {}", path),
            Effect::Give { path, .. } => format!("giving {} away", path),
            Effect::SetAccess { file, .. } => format!("giving {} other access", file.path()),
            Effect::Move { from, to, .. } => format!("moving {} to {}", from, to),
            Effect::Remove { path, .. } => format!("removing {}", path),
            Effect::Erase { path, .. } => format!("erasing {}", path),
            Effect::Unpack { path, .. } => format!("unpacking {}", path),
            Effect::Keep { folder, .. } => format!("keeping retired/{folder}"),
            Effect::Release { folder } => format!("dropping retired/{folder}"),
            Effect::Reown { reown, .. } => format!("re-owning {}", reown.in_words()),
        }
    }
}
