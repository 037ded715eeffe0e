//! The table of rules: what each finds, why it matters, what to do, how it is mended,
//! and a bad and a good example, which are also its tests and its documentation. Each
//! stands in the file of its family, next to what judges it.

use std::fmt;
use std::sync::LazyLock;

use strum::Display;

use super::repair::LineMend;
use super::{
    Pass, admins, duplicates, files, homes, keys, labels, left_behind, lines, look_alike, lost,
    memberships, orphans, passwords, places, ranges, roots, shells, sign_in, unseen, windows,
};
use crate::table::File;
use crate::value::{FileKind, Severity, Uid};
use crate::words::counted;

/// Rules that belong together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Display)]
#[strum(serialize_all = "kebab-case")]
pub enum Family {
    /// The form of lines.
    Lines,
    /// Things that must be unique.
    Duplicates,
    /// Who is in which group.
    Memberships,
    /// Who can sign in.
    SignIn,
    /// Lines whose counterpart is missing.
    Orphans,
    /// Home directories.
    Homes,
    /// Subordinate ids.
    Ranges,
    /// The account files themselves.
    Files,
}

/// What an example has besides its account files.
#[derive(Debug, Clone, Copy)]
pub enum Besides {
    /// Nothing that matters.
    Nothing,
    /// Something that stands in a folder of the tree.
    Entry {
        /// The folder.
        folder: &'static str,
        /// What it is called.
        name: &'static str,
        /// What it is.
        kind: FileKind,
    },
    /// Nothing stands at this path.
    Lacks(&'static str),
    /// What stands at a path belongs to this uid.
    Owner {
        /// The path.
        path: &'static str,
        /// Whose it is.
        uid: Uid,
    },
    /// What stands at a path has these permissions.
    Mode {
        /// The path.
        path: &'static str,
        /// Its permissions.
        mode: u32,
    },
    /// A file belongs to this uid, and has these permissions.
    Belongs {
        /// The path.
        path: &'static str,
        /// Whose it is.
        uid: Uid,
        /// Its permissions.
        mode: u32,
    },
    /// What stands at a path carries a security label, and the file contexts say this.
    Carries {
        /// The path.
        path: &'static str,
        /// The label that it carries.
        label: &'static str,
        /// The file contexts.
        contexts: &'static str,
    },
    /// The account has so many keys to sign in with.
    Keys(usize),
    /// The account has a key that is too weak.
    WeakKey,
    /// The account was last seen so many days ago, and the policy names so many.
    Unseen {
        /// How long ago.
        days: u32,
        /// What the policy names.
        tells_after: u32,
    },
    /// Files of configuration say this.
    Says(&'static [(&'static str, &'static str)]),
    /// These sources alone are asked for accounts.
    Asks(&'static str),
    /// A line of sudoers names this user.
    Mentions(&'static str),
    /// The uid of a deleted account.
    Retired {
        /// The uid.
        uid: Uid,
        /// Who had it.
        name: &'static str,
    },
    /// A change that a crash cut off.
    Unfinished(u64),
    /// What the policy accepts.
    Accepts(&'static str),
    /// The one login shell that is listed.
    Shells(&'static str),
}

impl fmt::Display for Besides {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Besides::Nothing => Ok(()),
            Besides::Entry { folder, name, kind } => write!(f, "there is {kind} {folder}/{name}"),
            Besides::Lacks(path) => write!(f, "there is no {path}"),
            Besides::Owner { path, uid } => write!(f, "{path} belongs to uid {uid}"),
            Besides::Mode { path, mode } => write!(f, "{path} has mode {mode:04o}"),
            Besides::Belongs { path, uid, mode } => {
                write!(f, "{path} belongs to uid {uid} and has mode {mode:04o}")
            }
            Besides::Carries { path, label, contexts } => {
                write!(f, "{path} carries the label {label}, and the file contexts say {contexts}")
            }
            Besides::Keys(count) => write!(f, "maren has {}", counted(*count, "key", "keys")),
            Besides::WeakKey => f.write_str("maren has an RSA key of 1024 bits"),
            Besides::Unseen { days, tells_after } => write!(
                f,
                "maren was last signed in {days} days ago, and check.unseen_days is {tells_after}"
            ),
            Besides::Says(files) => {
                for (at, (path, text)) in files.iter().enumerate() {
                    let and = if at > 0 { ", and " } else { "" };
                    let lines = text.lines().collect::<Vec<_>>().join(" / ");
                    write!(f, "{and}{path} says {lines}")?;
                }
                Ok(())
            }
            Besides::Asks(sources) => write!(f, "etc/nsswitch.conf says passwd: {sources}"),
            Besides::Mentions(name) => write!(f, "etc/sudoers says {name} ALL=(ALL) ALL"),
            Besides::Retired { uid, name } => write!(f, "uid {uid} was {name}'s, and is retired"),
            Besides::Unfinished(change) => {
                write!(f, "a journal says that change {change} was begun")
            }
            Besides::Accepts(what) => write!(f, "the policy accepts {what}"),
            Besides::Shells(shell) => write!(f, "etc/shells lists {shell} alone"),
        }
    }
}

/// Account files that show a rule: those of one sound account, but for some.
#[derive(Debug, Clone, Copy)]
pub struct Example {
    pub(super) other: &'static [(File, &'static str)],
    /// What else there is.
    pub besides: Besides,
}

impl Example {
    /// With these files in the place of the sound ones.
    pub(super) const fn with(other: &'static [(File, &'static str)]) -> Self {
        Example { other, besides: Besides::Nothing }
    }

    /// With something besides the files, which are sound.
    pub(super) const fn beside(besides: Besides) -> Self {
        Example { other: &[], besides }
    }

    /// The account files, in the order of [`File::ALL`].
    pub fn files(&self) -> Vec<(File, &'static str)> {
        let text = |file: File| {
            let of = |files: &[(File, &'static str)]| {
                files.iter().find(|(known, _)| *known == file).map(|(_, text)| *text)
            };
            of(self.other).or_else(|| of(&SOUND_FILES))
        };
        File::ALL.into_iter().filter_map(|file| Some((file, text(file)?))).collect()
    }
}

/// How what a rule finds is mended.
#[derive(Clone, Copy)]
pub(super) enum Mend {
    /// That takes a decision.
    Decision,
    /// In the line of the finding, where there is one right answer.
    Line(LineMend),
    /// Beside that line, which stays as it is.
    Beside(LineMend),
    /// The file gets the permissions and the owner that it is to have.
    Access,
    /// The home is made, when that is asked for.
    Home,
}

/// One rule.
pub struct Rule {
    /// Its name.
    pub name: &'static str,
    /// How bad its findings are.
    pub severity: Severity,
    /// The family.
    pub family: Family,
    /// Whether it looks at the tree besides the account files.
    pub looks_at_tree: bool,
    /// The files it cannot do without.
    pub reads: &'static [File],
    /// What it finds, in a line.
    pub finds: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// What to do.
    pub remedy: &'static str,
    /// What it finds, shown.
    pub bad: Example,
    /// The same, as it should be.
    pub good: Example,
    /// Whether it judges each line by itself: then it is shown only those that the sweep
    /// over a large file leaves over.
    pub by_line: bool,
    /// How what it finds is mended.
    pub(super) mend: Mend,
    /// Whether a line that it finds may be taken out, when the administrator says so.
    pub(super) taken_out: bool,
    /// Whether a line that it finds can't be edited by the name on it.
    pub(super) blocks: bool,
}

impl Rule {
    /// Whether `repair` mends what it finds: all of it, or what has one right answer.
    pub fn is_mended(&self) -> bool {
        !matches!(self.mend, Mend::Decision)
    }
}

impl PartialEq for Rule {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name
    }
}

impl Eq for Rule {}

impl fmt::Debug for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)
    }
}

/// What most rules have in common; the rest each says for itself.
pub(super) const PLAIN: Rule = Rule {
    name: "",
    severity: Severity::Note,
    family: Family::Lines,
    looks_at_tree: false,
    reads: &[],
    finds: "",
    why: "",
    remedy: "",
    bad: SOUND,
    good: SOUND,
    by_line: false,
    mend: Mend::Decision,
    taken_out: false,
    blocks: false,
};

/// Every account file.
pub(super) const ALL: &[File] = &File::ALL;
pub(super) const MAREN: &str = "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n";
const SOUND_FILES: [(File, &str); 3] = [
    (File::Passwd, MAREN),
    (File::Group, "maren:x:1004:\n"),
    (File::Shadow, "maren:!:20781:0::7:::\n"),
];
const SOUND: Example = Example::with(&[]);

/// The passes of all families.
pub(super) const FAMILIES: [&[Pass]; 20] = [
    lines::PASSES,
    look_alike::PASSES,
    lost::PASSES,
    duplicates::PASSES,
    memberships::PASSES,
    sign_in::PASSES,
    roots::PASSES,
    passwords::PASSES,
    keys::PASSES,
    unseen::PASSES,
    windows::PASSES,
    shells::PASSES,
    admins::PASSES,
    orphans::PASSES,
    left_behind::PASSES,
    homes::PASSES,
    labels::PASSES,
    ranges::PASSES,
    files::PASSES,
    places::PASSES,
];

/// All rules, family by family, in the order in which what they find is mended.
pub static RULES: LazyLock<Vec<&'static Rule>> = LazyLock::new(|| {
    FAMILIES.into_iter().flatten().flat_map(|(rules, _)| rules.iter().copied()).collect()
});

/// The rule of this name.
pub fn rule(name: &str) -> Option<&'static Rule> {
    RULES.iter().find(|rule| rule.name == name).copied()
}
