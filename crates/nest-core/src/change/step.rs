//! What a change does on the tree besides editing account files.

use bstr::BString;
use serde::{Deserialize, Serialize};

use crate::ownership::{Access, IdMapping, Owner, Reown};
use crate::retired::{Kept, KeptFolder, PackedFile};
use crate::retired_ids::{RetiredId, RetiredIds};
use crate::surroundings::Inventory;
use crate::suspended::Suspended;
use crate::table::File;
use crate::text_edit::TextEdit;
use crate::value::{Gid, TreePath, Uid, escaped, is_relative_path, join};

/// One step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "step", rename_all = "kebab-case")]
pub enum Step {
    /// Makes a directory, with everything in it, that was not there.
    MakeDirectory {
        /// Where.
        path: TreePath,
        /// What it is a copy of; nothing for an empty one.
        skeleton: Option<TreePath>,
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
        below: TreePath,
        /// The file.
        file: NewFile,
        /// Whose the file, and directories made for it, become.
        owner: Owner,
    },
    /// Alters lines of a file that is no account file; makes it where there is none.
    EditText(TextEdit),
    /// Gives a directory itself, not what is in it, to somebody else.
    GiveDirectory {
        /// The directory.
        path: TreePath,
        /// Whose it was.
        from: Owner,
        /// Whose it becomes.
        to: Owner,
    },
    /// Gives an account file itself, as it is after the change, other access.
    SetAccess {
        /// The file.
        file: File,
        /// The access that there was.
        from: Access,
        /// The one that there will be.
        to: Access,
    },
    /// Moves a file or directory, whole, to a place where nothing is; across
    /// file systems by a copy.
    Move {
        /// Where it is.
        from: TreePath,
        /// Where it will be.
        to: TreePath,
        /// The directory it goes into is one that only root may enter, and is
        /// made when it is not there.
        aside: bool,
    },
    /// Removes what an earlier change made, as long as it is still as it was
    /// made.
    Remove {
        /// What.
        path: TreePath,
        /// What it has to be for that.
        made: Inventory,
        /// The step that makes it again.
        again: Box<Step>,
    },
    /// Gives what carries some numbers below some paths others.
    Reown(Reown),
    /// Removes something for good.
    Erase {
        /// What.
        path: TreePath,
    },
    /// Packs something into a file of the state folder, and removes it when the
    /// file holds all of it.
    Archive {
        /// What.
        path: TreePath,
        /// The folder below `retired`.
        folder: KeptFolder,
        /// The file in it.
        file: PackedFile,
    },
    /// Unpacks such a file to where nothing is.
    Unpack {
        /// Where.
        path: TreePath,
        /// The folder below `retired`.
        folder: KeptFolder,
        /// The file in it.
        file: PackedFile,
        /// The uid that files in it carry, and the one they get instead.
        #[serde(default)]
        uid: Option<(Uid, Uid)>,
        /// The same for the gid.
        #[serde(default)]
        gid: Option<(Gid, Gid)>,
    },
    /// Keeps what is needed to bring a deleted account or group back.
    Keep {
        /// The folder below `retired`.
        folder: KeptFolder,
        /// What is kept; in records without hashes.
        kept: Box<Kept>,
    },
    /// Keeps it no longer: it is back, or its time is over.
    Release {
        /// The folder below `retired`.
        folder: KeptFolder,
        /// What was kept.
        kept: Box<Kept>,
        /// Whether its time is over.
        purged: bool,
    },
    /// Notes numbers that must not be given out again.
    RetireIds(RetiredIds),
    /// Takes numbers out of those notes: their holder is back.
    ReviveIds(RetiredIds),
    /// Notes what an account was like before it was suspended.
    NoteSuspended(Suspended),
    /// Takes that note out: the account is resumed.
    ForgetSuspended(Suspended),
}

/// A file with its contents.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NewFile {
    /// The path, relative to the directory it is put into. Directories on the
    /// way are made with mode 0700.
    #[serde(with = "escaped::text")]
    pub path: BString,
    /// What is in it.
    #[serde(with = "escaped::text")]
    pub contents: BString,
    /// Its mode.
    pub mode: u32,
}

impl Step {
    /// Files below some paths go with the numbers of an account that gets others: on their
    /// file systems, those with one name each.
    pub(crate) fn follow(paths: Vec<TreePath>, uids: IdMapping, gids: IdMapping) -> Step {
        Step::Reown(Reown { paths, uids, gids, follows: true, ..Reown::default() })
    }

    /// Files below some paths that carry the gid of one group get that of another.
    pub(crate) fn regroup(paths: Vec<TreePath>, from: Gid, to: Gid) -> Step {
        let gids = IdMapping::single(from.0, to.0);
        Step::Reown(Reown { paths, gids, ..Reown::default() })
    }
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
            Step::EditText(edit) => format!("{}: {}", edit.path, edit.in_words()),
            Step::GiveDirectory { path, from, to } => format!(
                "gives {path} itself from {}:{} to {}:{}",
                from.uid, from.gid, to.uid, to.gid
            ),
            Step::SetAccess { file, from, to } => format!(
                "gives {} mode {:04o}, owner {}:{}; it had {:04o}, {}:{}",
                file.path(),
                to.mode,
                to.owner.uid,
                to.owner.gid,
                from.mode,
                from.owner.uid,
                from.owner.gid
            ),
            Step::Move { from, to, aside: false } => format!("moves {from} to {to}"),
            Step::Move { from, to, aside: true } => {
                format!("sets {from} aside as {to}, whole; only root can enter there")
            }
            Step::Remove { path, .. } => format!("removes {path}, unused since it was made"),
            Step::Reown(reown) => {
                let paths: Vec<String> = reown.paths.iter().map(TreePath::to_string).collect();
                format!("re-owns what is in {}: {}", paths.join(" and "), reown.in_words())
            }
            Step::Erase { path } => format!("erases {path}"),
            Step::Archive { path, folder, file } => {
                format!("packs {path} into retired/{folder}/{file}, and removes it")
            }
            Step::Unpack { path, folder, file, .. } => {
                format!("unpacks retired/{folder}/{file} to {path}")
            }
            Step::Keep { folder, .. } => format!("keeps retired/{folder}"),
            Step::Release { folder, purged: false, .. } => format!("takes retired/{folder} out"),
            Step::Release { folder, .. } => format!("purges retired/{folder}"),
            Step::RetireIds(retired) => format!("retires {}", numbers(retired)),
            Step::ReviveIds(retired) => format!("takes {} back into use", numbers(retired)),
            Step::NoteSuspended(note) => format!("notes how {} was before", note.name),
            Step::ForgetSuspended(note) => format!("forgets that {} was suspended", note.name),
        }
    }

    /// The step as it is recorded: without any hash.
    #[must_use]
    pub fn without_hashes(&self) -> Self {
        let mut step = self.clone();
        if let Step::Keep { kept, .. } | Step::Release { kept, .. } = &mut step {
            **kept = kept.without_hashes();
        }
        step
    }

    /// What makes it impossible that this program planned the step, in words: a file below a
    /// directory that leads out of it, or something kept that could not be.
    pub fn fault(&self) -> Option<String> {
        let leads_out = |file: &&NewFile| !is_relative_path(&file.path);
        let files = match self {
            Step::MakeDirectory { files, .. } => &files[..],
            Step::MakeFile { file, .. } => std::slice::from_ref(file),
            Step::Remove { again, .. } => return again.fault(),
            Step::Keep { kept, .. } | Step::Release { kept, .. } => return kept.fault(),
            Step::EditText(_)
            | Step::GiveDirectory { .. }
            | Step::SetAccess { .. }
            | Step::Move { .. }
            | Step::Reown(_)
            | Step::Erase { .. }
            | Step::Archive { .. }
            | Step::Unpack { .. }
            | Step::RetireIds(_)
            | Step::ReviveIds(_)
            | Step::NoteSuspended(_)
            | Step::ForgetSuspended(_) => &[],
        };
        let bad = files.iter().find(leads_out)?;
        Some(format!("{} is no path below a directory", bad.path))
    }

    /// Whether the step can't be taken back.
    pub fn is_final(&self) -> bool {
        matches!(self, Step::Erase { .. } | Step::Release { purged: true, .. })
    }

    /// Whether the step is bookkeeping, which its decision tells well enough.
    pub fn is_bookkeeping(&self) -> bool {
        matches!(
            self,
            Step::RetireIds(_)
                | Step::ReviveIds(_)
                | Step::Keep { .. }
                | Step::Release { .. }
                | Step::NoteSuspended(_)
                | Step::ForgetSuspended(_)
        )
    }
}

/// Numbers in words: `uid 1004, gid 1004 and ids 2001207296-2001272831`.
pub(crate) fn numbers(retired: &RetiredIds) -> String {
    let single = |what, ids: &[RetiredId]| {
        ids.iter().map(|id| format!("{what} {}", id.id)).collect::<Vec<_>>()
    };
    let mut all = single("uid", &retired.users);
    all.extend(single("gid", &retired.groups));
    let ranges: std::collections::BTreeSet<_> =
        retired.ranges.iter().map(|range| format!("ids {}", range.span)).collect();
    all.extend(ranges);
    match all.pop() {
        None => "nothing".to_owned(),
        Some(last) if all.is_empty() => last,
        Some(last) if all.len() < 6 => format!("{} and {last}", all.join(", ")),
        Some(_) => format!("{} numbers", all.len() + 1),
    }
}
