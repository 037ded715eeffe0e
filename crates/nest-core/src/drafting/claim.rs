//! Which directory may be moved, taken over, packed or erased for an account, and which
//! file of its own: the one judgement, whatever request asks for it.

use bstr::{BString, ByteSlice};

use crate::context::PlanContext;
use crate::drafting::find::FoundUser;
use crate::surroundings::{Facts, Site, Survey};
use crate::value::{FileKind, TreePath, Uid, parent_of, tidy};
use crate::words::list;

/// Directories of the system: none of them, and nothing that holds one, is an account's
/// to move or to be given, whoever owns it.
const SYSTEM: [&str; 54] = [
    "/bin",
    "/boot",
    "/dev",
    "/efi",
    "/etc",
    "/home",
    "/lib",
    "/lib32",
    "/lib64",
    "/libx32",
    "/lost+found",
    "/media",
    "/mnt",
    "/nix",
    "/opt",
    "/proc",
    "/run",
    "/sbin",
    "/srv",
    "/sys",
    "/tmp",
    "/usr",
    "/usr/bin",
    "/usr/etc",
    "/usr/games",
    "/usr/include",
    "/usr/lib",
    "/usr/libexec",
    "/usr/local",
    "/usr/local/bin",
    "/usr/local/etc",
    "/usr/local/lib",
    "/usr/local/sbin",
    "/usr/local/share",
    "/usr/sbin",
    "/usr/share",
    "/usr/src",
    "/var",
    "/var/backups",
    "/var/cache",
    "/var/crash",
    "/var/db",
    "/var/empty",
    "/var/games",
    "/var/lib",
    "/var/lib/copper-nest",
    "/var/lock",
    "/var/log",
    "/var/mail",
    "/var/run",
    "/var/spool",
    "/var/spool/cron",
    "/var/spool/mail",
    "/var/tmp",
];

/// Directories of the system of which everything below is the system's too.
const SYSTEM_THROUGHOUT: [&str; 20] = [
    "/bin",
    "/boot",
    "/dev",
    "/efi",
    "/etc",
    "/lib",
    "/lib32",
    "/lib64",
    "/libx32",
    "/nix",
    "/proc",
    "/sbin",
    "/sys",
    "/usr/bin",
    "/usr/include",
    "/usr/lib",
    "/usr/libexec",
    "/usr/sbin",
    "/usr/share",
    "/var/lib/copper-nest",
];

/// Where homes stand on ordinary machines, besides where the policy and other accounts
/// have theirs.
const PARENTS: [&str; 6] = ["/home", "/srv", "/srv/home", "/export/home", "/opt", "/var/lib"];

/// What an account lays claim to.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Claim<'a> {
    /// Where it is.
    pub path: &'a BString,
    /// Whose it has to be: the uid.
    pub uid: Uid,
    /// The account's name.
    pub name: &'a [u8],
    /// What it has to be.
    pub kind: FileKind,
    /// What is to be done with it.
    pub purpose: Purpose,
}

/// What is to be done with something that an account claims.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// It becomes the account's, as it is.
    Adopt,
    /// It is moved, and nothing of what is in it is touched.
    Move,
    /// Everything in it is read and removed.
    Remove,
}

/// A claim that was judged.
#[derive(Debug)]
pub(crate) enum Judged {
    /// Nothing is there.
    Nothing,
    /// It holds; where, what is there, and what is in it.
    Sound(TreePath, Facts, Survey),
    /// It does not: why, in words that follow the path.
    Fault(String),
}

impl<'a> Claim<'a> {
    /// The claim of an account that is there.
    pub fn of(found: &FoundUser<'a>, path: &'a BString, kind: FileKind, purpose: Purpose) -> Self {
        Claim { path, uid: found.uid, name: found.user.name, kind, purpose }
    }

    /// Judges it.
    pub fn judge(self, context: PlanContext<'_>) -> Judged {
        let Claim { path, purpose, .. } = self;
        if !path.starts_with(b"/") {
            return Judged::Nothing;
        }
        let Some(plain) = TreePath::new(path) else {
            return Judged::Fault("is no plain path from the root of the tree".to_owned());
        };
        let facts = match context.world.site(path.as_ref()) {
            Site::Free | Site::NoParent(_) | Site::ParentIsNoDirectory(_) => {
                return Judged::Nothing;
            }
            Site::Taken(facts) => facts,
            Site::ThroughLink { link, .. } => {
                let own = link == *path;
                return Judged::Fault(match own {
                    true => "is a link: it leads elsewhere".to_owned(),
                    false => format!("is reached through the link {link}"),
                });
            }
            Site::Unknown(why) => return Judged::Fault(format!("can't be looked at: {why}")),
        };
        if let Some(fault) = self.fault_of_place(context, facts) {
            return Judged::Fault(fault);
        }
        // What is only moved goes in an instant, however much it is.
        let survey = match purpose {
            Purpose::Adopt => Ok(None),
            Purpose::Move => context.world.survey(path.as_ref(), false),
            Purpose::Remove => context.world.survey(path.as_ref(), true),
        };
        let survey = match survey {
            Ok(survey) => survey.unwrap_or_default(),
            Err(why) => return Judged::Fault(format!("can't be looked at: {why}")),
        };
        if let Some(mount) = survey.mounts.first() {
            return Judged::Fault(match mount == path {
                true => MOUNT_POINT.to_owned(),
                false => format!("has something mounted in it, at {mount}"),
            });
        }
        let stops = |fixed: &&BString| purpose == Purpose::Remove || *fixed == path;
        if let Some(fixed) = survey.fixed.as_ref().filter(stops) {
            let what =
                if fixed == path { "is".to_owned() } else { format!("holds {fixed}, which is") };
            return Judged::Fault(format!("{what} marked so that not even root can change it"));
        }
        Judged::Sound(plain, facts, survey)
    }

    /// What speaks against it before anything in it is looked at.
    fn fault_of_place(self, context: PlanContext<'_>, facts: Facts) -> Option<String> {
        let Claim { path, name, kind, .. } = self;
        if path == "/" {
            return Some("is the root of the tree".to_owned());
        }
        if facts.kind == FileKind::Link {
            return Some("is a link: it leads elsewhere".to_owned());
        }
        if facts.kind != kind {
            return Some(format!("is {}, not {kind}", facts.kind));
        }
        let others = match kind {
            FileKind::Directory => context.book.homes_below(path, name),
            _ => Vec::new(),
        };
        if !others.is_empty() {
            let others = list(&others);
            return Some(format!("is, or holds, the home of {} too", others.as_bstr()));
        }
        if kind == FileKind::Directory
            && let Some(fault) = system_fault(path)
        {
            return Some(fault);
        }
        if context.world.is_mount_point(path.as_ref()) {
            return Some(MOUNT_POINT.to_owned());
        }
        self.fault_of_owner(context, facts)
    }

    fn fault_of_owner(self, context: PlanContext<'_>, facts: Facts) -> Option<String> {
        if facts.uid == self.uid || context.world.owners_are_real().is_err() {
            return None;
        }
        // Root keeps many a mail spool file and crontab that is named after somebody else.
        if facts.uid == Uid::ROOT && self.kind == FileKind::File && self.purpose == Purpose::Move {
            return None;
        }
        let owner = context.book.user_by_uid(facts.uid);
        // Something of root's, or of nobody's, may be taken over where homes are.
        let ownerless = facts.uid == Uid::ROOT || owner.is_none();
        if self.purpose == Purpose::Adopt && ownerless {
            let parent = parent_of(self.path);
            return (!holds_homes(context, parent)).then(|| {
                format!("is root's, and {} is no place where homes are", parent.as_bstr())
            });
        }
        let owner = match owner {
            Some((_, user)) => user.name.as_bstr().to_string(),
            None => format!("number {}, whom nobody is", facts.uid),
        };
        Some(format!("belongs to {owner}, not to {}", self.name.as_bstr()))
    }
}

const MOUNT_POINT: &str = "is a mount point: what is mounted there can't be moved";

fn is_below(outer: &[u8], inner: &[u8]) -> bool {
    inner.strip_prefix(outer).is_some_and(|rest| rest.starts_with(b"/"))
}

/// Why a path is the system's, in words that follow it.
pub(crate) fn system_fault(path: &[u8]) -> Option<String> {
    let lies_in = || {
        let path = tidy(path);
        let outer = SYSTEM_THROUGHOUT.iter().find(|system| is_below(system.as_bytes(), &path));
        outer.map(|outer| format!("lies in {outer}, which is the system's"))
    };
    system_directory(path).or_else(lies_in)
}

/// That a path is a directory of the system, or holds one, in words that follow it.
pub(crate) fn system_directory(path: &[u8]) -> Option<String> {
    let path = tidy(path);
    if SYSTEM.iter().any(|system| path == system.as_bytes()) {
        return Some("is a directory of the system".to_owned());
    }
    let held = SYSTEM.iter().find(|system| path == b"/" || is_below(&path, system.as_bytes()));
    held.map(|system| format!("holds {system}, a directory of the system"))
}

/// Whether homes stand in a directory.
fn holds_homes(context: PlanContext<'_>, parent: &[u8]) -> bool {
    let policy = context.policy.home_of(b"x");
    let mut users = context.book.users.records();
    PARENTS.iter().any(|known| parent == known.as_bytes())
        || parent == parent_of(&policy)
        || users.any(|(_, user)| user.home.len() > 1 && parent_of(user.home) == parent)
            && system_fault(parent).is_none()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_systems_directories_and_what_holds_them_are_nobodys() {
        for path in ["/usr/sbin", "/usr", "/var/mail", "/var", "//usr//sbin/.", "/home", "/etc"] {
            assert!(system_fault(path.as_bytes()).is_some(), "{path}");
        }
        for path in ["/etc/skel", "/usr/lib/news", "/boot/efi", "/var/lib/copper-nest/changes"] {
            assert!(system_fault(path.as_bytes()).unwrap().starts_with("lies in "), "{path}");
        }
        for path in ["/home/maren", "/root", "/srv/tides", "/var/lib/tidegauge", "/opt/berthcam"] {
            assert_eq!(system_fault(path.as_bytes()), None, "{path}");
        }
    }
}
