//! What a planner or a rule may ask about the world. The host answers from a
//! real tree; tests answer by hand.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use bstr::{BStr, BString};
use serde::{Deserialize, Serialize};

use crate::configuration::ConfigFiles;
use crate::labels::{Carried as CarriedLabel, Labels};
use crate::last_seen::{LastSeen, Presence};
use crate::ownership::Reown;
use crate::retired::RetiredAccount;
use crate::retired_ids::RetiredIds;
use crate::ssh::SshServer;
use crate::suspended::Suspended;
use crate::table::File;
use crate::value::{Day, FileKind, Gid, IdSpans, TreePath, Uid};
use crate::windows::{Moment, Windows};
use crate::words::{agree, counted, list};

/// What stands at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Facts {
    /// Its kind.
    pub kind: FileKind,
    /// The owner's uid.
    pub uid: Uid,
    /// The group's gid.
    pub gid: Gid,
    /// Permission bits.
    pub mode: u32,
}

/// Whether something new can be made at a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Site {
    /// Nothing is there, and the parent is a directory.
    Free,
    /// Something is there.
    Taken(Facts),
    /// A directory above it is not there.
    NoParent(BString),
    /// Something above it is no directory.
    ParentIsNoDirectory(BString),
    /// The way there goes through a link.
    ThroughLink {
        /// The link.
        link: BString,
        /// The whole path, with that link followed once.
        real: BString,
    },
    /// It could not be looked at.
    Unknown(String),
}

/// A skeleton directory that can be copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Skeleton {
    /// Files and links below it; directories are not counted.
    pub files: usize,
    /// What in it has a set-user-id or set-group-id bit, which no copy gets: how many.
    pub set_id: usize,
    /// Files with more than one name, of which another may be anywhere: how many.
    pub linked: usize,
}

/// Why a skeleton can't be copied, in words that follow its path.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SkeletonFault {
    /// Its path can't be taken.
    #[error("{0}")]
    Path(&'static str),
    /// It is the system's: why, in words that follow its path.
    #[error("{0}, and a copy of that is no home")]
    System(String),
    /// The home would be made inside it.
    #[error("holds the new home, {home}: the copy would have no end")]
    HoldsHome {
        /// The home.
        home: BString,
    },
    /// Nothing there.
    #[error("does not exist")]
    Missing,
    /// Not a directory.
    #[error("is {0}, not a directory")]
    NotADirectory(FileKind),
    /// Something in it that is neither file, directory nor link.
    #[error("holds {kind}, {path}; a home is made of files, directories and links only")]
    Special {
        /// Where, below the skeleton.
        path: BString,
        /// What.
        kind: FileKind,
    },
    /// A link that leads out of it.
    #[error("holds a link, {path}, that leads out of it, to {target}")]
    LinkOutward {
        /// Where, below the skeleton.
        path: BString,
        /// Where it points.
        target: BString,
    },
    /// It could not be read.
    #[error("can't be read: {0}")]
    Unreadable(String),
}

/// Whether a shell can be started.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Program {
    /// A file that can be executed.
    Fine,
    /// Nothing there.
    Missing,
    /// Something that can't be executed.
    NotExecutable,
    /// It could not be looked at.
    Unknown,
}

/// A running process.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Process {
    /// Its number.
    pub pid: u32,
    /// What runs.
    pub command: String,
    /// Since when, for people.
    pub since: String,
}

/// A line of some configuration that names an account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mention {
    /// The file, as a path in the tree.
    pub file: String,
    /// The line, counted from 1; 0 for a file that is called so itself.
    pub line: usize,
}

/// What is in a file or directory, to tell later whether it is still the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Inventory {
    /// Files and links; directories are not counted.
    pub files: u64,
    /// The bytes in the files.
    pub bytes: u64,
    /// A digest of every path in it with kind, mode, owner, size, time of the
    /// last alteration and link target.
    pub digest: String,
}

/// What is in a file or directory, counted: for telling before it goes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Survey {
    /// Files, links and the like; directories are not counted.
    pub files: u64,
    /// The bytes in the files.
    pub bytes: u64,
    /// Whether counting was given up after a while: then there is more.
    pub more: bool,
    /// The day of the last alteration.
    pub newest: Option<Day>,
    /// Directories in it on which something is mounted; what is behind them is not
    /// counted.
    pub mounts: Vec<BString>,
    /// What could not be counted, and why: the first few.
    pub uncounted: Vec<(BString, String)>,
    /// The first thing in it that is marked so that nobody can change it.
    pub fixed: Option<BString>,
}

/// Files that carry one of some numbers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Carried {
    /// How many that are meant.
    pub files: u64,
    /// The bytes in the regular ones.
    pub bytes: u64,
    /// How many have more than one name.
    pub linked: u64,
    /// How many have a set-id bit.
    pub set_id: u64,
    /// How many have an access control list that names one of the numbers.
    pub listed: u64,
    /// How many carry none of them.
    pub others: u64,
    /// How many carry each uid.
    pub uids: BTreeMap<u32, u64>,
    /// How many carry each gid.
    pub gids: BTreeMap<u32, u64>,
    /// How many carry a uid already that others get, and that becomes no other itself.
    pub uids_there: BTreeMap<u32, u64>,
    /// The same with gids.
    pub gids_there: BTreeMap<u32, u64>,
}

/// Whether accounts come from the account files alone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// Files only: a name they don't know is nobody's.
    FilesAlone,
    /// Other sources are asked too; these, in the words of the configuration.
    Others(String),
}

/// Users and groups that other files of the tree than the account files know: lists that an
/// image brings, nss-altfiles(5), users of an overlay, and the records of user databases.
#[derive(Debug, Clone, Default)]
pub struct Elsewhere {
    /// The users, with their uids where these are told.
    pub users: HashMap<BString, Option<Uid>>,
    /// The groups, with their gids.
    pub groups: HashMap<BString, Option<Gid>>,
    /// Owners of subordinate ranges that are no accounts: from them containers get theirs.
    pub range_owners: BTreeSet<BString>,
    /// Why some could not be read.
    pub unread: Option<String>,
}

impl Elsewhere {
    /// Whether they know a user of this name.
    pub fn has_user(&self, name: &BStr) -> bool {
        self.users.contains_key(name)
    }

    /// Whether they know a group of this name.
    pub fn has_group(&self, name: &BStr) -> bool {
        self.groups.contains_key(name)
    }

    /// Whether they know a user with this uid.
    pub fn has_uid(&self, uid: Uid) -> bool {
        self.users.values().any(|known| *known == Some(uid))
    }

    /// Whether they know a group with this gid.
    pub fn has_gid(&self, gid: Gid) -> bool {
        self.groups.values().any(|known| *known == Some(gid))
    }

    /// Whether they know a name of the kind that a file has.
    pub fn has(&self, file: File, name: &BStr) -> bool {
        if file.is_of_groups() { self.has_group(name) } else { self.has_user(name) }
    }
}

/// The keys that a user may sign in with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Keys {
    /// So many.
    Count {
        /// That let somebody in.
        usable: usize,
        /// That do so for one command only.
        forced: usize,
    },
    /// The home is not there.
    NoHome,
    /// There are some, but the SSH server would not go by them: why.
    Ignored(String),
    /// It could not be looked at.
    Unknown(String),
}

impl Keys {
    /// None at all.
    pub const NONE: Keys = Keys::Count { usable: 0, forced: 0 };

    /// Those of two files: keys in one help, whatever is wrong with the other.
    #[must_use]
    pub fn and(self, other: Keys) -> Keys {
        match (self, other) {
            (Keys::Count { usable, forced }, Keys::Count { usable: more, forced: also }) => {
                Keys::Count { usable: usable + more, forced: forced + also }
            }
            (Keys::NONE, other) | (other, Keys::NONE) => other,
            (known @ Keys::Count { .. }, _) | (_, known @ Keys::Count { .. }) => known,
            (first, _) => first,
        }
    }
}

/// A file of keys, and the way to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyFile {
    /// Each directory from the root on, and the file. Empty where there is no file.
    pub way: Vec<(BString, Facts)>,
    /// The first of these whose label keeps the SSH server out.
    pub closed: Option<(BString, CarriedLabel)>,
    /// What it says; nothing where there is none. Why it can't be read, in words that follow
    /// its path.
    pub text: Result<Option<Vec<u8>>, String>,
}

/// The world around the account files.
pub trait Surroundings: Sync {
    /// Whether the tree is the running system itself.
    fn is_live(&self) -> bool;
    /// Whether something new can be made at `path`.
    fn site(&self, path: &BStr) -> Site;
    /// What stands at `path`, links followed inside the tree.
    ///
    /// # Errors
    /// Why it can't be looked at.
    fn facts(&self, path: &BStr) -> Result<Option<Facts>, String>;
    /// Whether owners in the tree mean anything: a tree that somebody without
    /// root's rights unpacked belongs to them throughout.
    ///
    /// # Errors
    /// Why they mean nothing.
    fn owners_are_real(&self) -> Result<(), String>;
    /// Looks a skeleton over.
    ///
    /// # Errors
    /// Why it can't be copied.
    fn skeleton(&self, path: &BStr) -> Result<Skeleton, SkeletonFault>;
    /// Whether a shell can be started.
    fn program(&self, path: &BStr) -> Program;
    /// The shells that `etc/shells` lists; `None` when there is no such file.
    fn shells(&self) -> Option<Vec<BString>>;
    /// The file, in `etc` or `run`, that keeps everybody but root out.
    fn nologin(&self) -> Option<&'static str>;
    /// The configuration of the operating system, file by file.
    fn configuration(&self) -> &(dyn ConfigFiles + Sync);
    /// What the machine is called; empty where nothing says so.
    fn host(&self) -> &BStr;
    /// The security labels of its files.
    fn labels(&self) -> &dyn Labels;
    /// The SSH server, as it is configured.
    fn ssh(&self) -> &SshServer;
    /// The rules about hours and places, and the services that ask for them.
    fn windows(&self) -> &Windows;
    /// This moment, in the time zone of the tree.
    fn moment(&self) -> Moment;
    /// A file of keys.
    fn key_file(&self, path: &BStr) -> KeyFile;
    /// Whether there are name services that may know users and groups. Never off the
    /// live system.
    fn has_services(&self) -> bool;
    /// What the name services call this uid. Always `None` off the live system.
    ///
    /// # Errors
    /// Why they gave no answer, which is not a no.
    fn service_user_by_uid(&self, uid: Uid) -> Result<Option<BString>, String>;
    /// What the name services call this gid.
    ///
    /// # Errors
    /// Why they gave no answer.
    fn service_group_by_gid(&self, gid: Gid) -> Result<Option<BString>, String>;
    /// Whether the name services know a user of this name.
    ///
    /// # Errors
    /// Why they gave no answer.
    fn service_knows_user(&self, name: &BStr) -> Result<bool, String>;
    /// Whether the name services know a group of this name.
    ///
    /// # Errors
    /// Why they gave no answer.
    fn service_knows_group(&self, name: &BStr) -> Result<bool, String>;
    /// Where users come from besides the files.
    fn origin(&self) -> Origin;
    /// What other files of the tree know of users and groups.
    fn elsewhere(&self) -> &Elsewhere;
    /// Why what belongs at a path may only be missing for now: an automounter brings it, or a
    /// file system that is not mounted.
    fn comes_later(&self, path: &BStr) -> Option<String>;
    /// How many bytes an account file had when the last change left it.
    fn size_left(&self, file: File) -> Option<u64>;
    /// The numbers of deleted accounts.
    fn retired(&self) -> &RetiredIds;
    /// Whether those numbers could be read.
    ///
    /// # Errors
    /// Why not: then [`Surroundings::retired`] has none.
    fn retired_is_known(&self) -> Result<(), String>;
    /// What is in the file or directory at a path that goes through no link;
    /// `None` when nothing is there. Where numbers and sizes are not those of
    /// `like` nothing is read, and the digest is empty.
    ///
    /// # Errors
    /// Why it can't be looked at.
    fn inventory(&self, path: &BStr, like: Option<&Inventory>)
    -> Result<Option<Inventory>, String>;
    /// Counts what is in a file or directory; `None` when nothing is there. Unless it
    /// is to be `thorough` it gives up after a moment, and says so.
    ///
    /// # Errors
    /// Why it can't be looked at.
    fn survey(&self, path: &BStr, thorough: bool) -> Result<Option<Survey>, String>;
    /// Whether a directory is fit to hide things in: not there yet, or one that
    /// only root may enter.
    ///
    /// # Errors
    /// What is there instead.
    fn can_hide_in(&self, path: &BStr) -> Result<(), String>;
    /// What is in a directory, with the status of each entry, sorted.
    ///
    /// # Errors
    /// Why it can't be looked at; a directory that is not there is empty.
    fn entries(&self, path: &BStr) -> Result<Vec<(BString, Facts)>, String>;
    /// Whether something is mounted at a path.
    fn is_mount_point(&self, path: &BStr) -> bool;
    /// Where what is at a path comes from, if that is another machine: `harbour:/home/maren`.
    fn home_from(&self, path: &BStr) -> Option<String>;
    /// How many files outside some paths carry a number, as gid or as uid, on the
    /// local file systems of the tree.
    ///
    /// # Errors
    /// Why they were not counted.
    fn carriers_elsewhere(&self, id: u32, group: bool, but: &[TreePath]) -> Result<usize, String>;
    /// Which of some numbers files outside some paths carry, as uids and as gids, on the local
    /// file systems of the tree.
    ///
    /// # Errors
    /// Why that can't be told.
    fn carried(
        &self,
        uids: &IdSpans,
        gids: &IdSpans,
        but: &[TreePath],
    ) -> Result<(BTreeSet<u32>, BTreeSet<u32>), String>;
    /// Counts the files that a re-owning is about, and says what it does not see.
    ///
    /// # Errors
    /// Why they can't be counted.
    fn carriers(&self, reown: &Reown) -> Result<(Carried, Vec<String>), String>;
    /// The login behind the privilege.
    fn me(&self) -> Option<Uid>;
    /// When an account was last signed in, by the logs of the tree.
    fn last_seen(&self, name: &BStr, uid: Option<Uid>, today: Day) -> LastSeen;
    /// The sessions that are open now.
    fn present(&self, today: Day) -> &[Presence];
    /// The processes that run under a uid; none off the live system.
    fn processes(&self, uid: Uid) -> Vec<Process>;
    /// The processes of a uid that lead a session: what was started at a sign-in,
    /// or by the system.
    fn sessions(&self, uid: Uid) -> Vec<Process>;
    /// Whether it is known what sudoers says.
    ///
    /// # Errors
    /// Why not: a file, and why it can't be read.
    fn sudoers_is_known(&self) -> Result<(), String>;
    /// Lines of configuration, sudoers to udev rules, that name a group.
    fn mentions_of_group(&self, name: &BStr) -> Vec<Mention>;
    /// The deleted accounts and groups that are kept, the oldest first.
    ///
    /// # Errors
    /// Why they can't be had.
    fn kept(&self) -> Result<&[RetiredAccount], String>;
    /// The accounts that were suspended, as they were before.
    fn suspended(&self) -> &[Suspended];
    /// What goes on for a user who is kept out: lingering services, at jobs.
    fn left_running(&self, name: &BStr, uid: Uid) -> Vec<String>;
    /// Lines of configuration, sudoers to systemd units, that name a user.
    fn mentions_of_user(&self, name: &BStr) -> Vec<Mention>;
    /// Lines of configuration that run or keep something at a path, those of the user's own
    /// crontab included.
    fn mentions_of_path(&self, path: &BStr, user: &BStr) -> Vec<Mention>;
    /// The change that was begun and neither finished nor rolled back, in words.
    fn unfinished(&self) -> Option<String>;
    /// What tells one file or directory from all others, however its path is written: of what
    /// stands at a path, links followed.
    fn identity(&self, path: &BStr) -> Option<(u64, u64)>;
    /// Where it is said who is asked for users, and whom, where that is not the account files
    /// at all.
    fn files_not_asked(&self) -> Option<(String, String)>;
    /// The users that sudoers, crontabs and sshd_config name, each with the lines that do.
    fn names_granted(&self) -> Vec<(BString, Vec<Mention>)>;
    /// Lines of sudoers, sshd_config and the like that name a user.
    fn mentions(&self, name: &BStr) -> Vec<Mention>;
}

/// The first few processes, one a line.
pub(crate) fn list_processes(processes: &[Process]) -> String {
    const MOST: usize = 8;
    let mut text = String::new();
    for process in processes.iter().take(MOST) {
        text += &format!("\n  {:>7}  since {}  {}", process.pid, process.since, process.command);
    }
    if processes.len() > MOST {
        text += &format!("\n  and {} more", processes.len() - MOST);
    }
    text
}

/// How many processes; one alone is named.
pub(crate) fn count_processes(processes: &[Process]) -> String {
    match processes {
        [one] => format!("1 process ({} {})", one.pid, one.command),
        all => counted(all.len(), "process", "processes"),
    }
}

/// Places of configuration, one after the other.
pub(crate) fn list_mentions(places: &[Mention]) -> String {
    let told = |place: &Mention| match place.line {
        0 => place.file.clone(),
        line => format!("{}:{line}", place.file),
    };
    list(places.iter().map(told)).to_string()
}

/// The verb that follows them.
pub(crate) fn verb_of(places: &[Mention]) -> &'static str {
    agree(&places.len(), "names", "name")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_many_processes_the_first_are_listed() {
        let process = |pid| Process { pid, command: "vi".into(), since: "today".into() };
        let all: Vec<Process> = (1..11).map(process).collect();
        let text = list_processes(&all);
        assert_eq!(text.lines().count(), 1 + 8 + 1, "{text}");
        assert!(text.ends_with("and 2 more"), "{text}");
    }
}
