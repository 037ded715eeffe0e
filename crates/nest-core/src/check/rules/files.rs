//! Rules about the account files themselves.

use super::{Example, Family, MAREN, MAREN_GROUP, MAREN_SHADOW, Rule, SOUND, Severity};
use crate::table::File;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "unfinished-change",
        severity: Severity::Error,
        family: Family::Files,
        looks_at_tree: true,
        reads: &[],
        finds: "a change that a crash cut off",
        why: "Some of the account files may be as before it and some as after it.",
        remedy: "Finish it, or roll it back: copper-nest recover does what is right.",
        bad: Example { files: SOUND.files, besides: "a journal says that change 14 was begun" },
        good: SOUND,
    },
    Rule {
        name: "loose-mode",
        severity: Severity::Error,
        family: Family::Files,
        looks_at_tree: true,
        reads: &[],
        finds: "an account file that more may read or alter than should",
        why: "Whoever can alter one of these files is root; whoever can read the hashes guesses \
              passwords at leisure. Files with hashes are to be 0640 at most, the others 0644.",
        remedy: "copper-nest repair takes the surplus permissions away.",
        bad: Example { files: SOUND.files, besides: "etc/shadow has mode 0644" },
        good: SOUND,
    },
    Rule {
        name: "wrong-owner",
        severity: Severity::Error,
        family: Family::Files,
        looks_at_tree: true,
        reads: &[],
        finds: "an account file that is not root's",
        why: "Its owner can alter it, and become whoever it likes. The group of a file with hashes \
              is root's, or shadow, whose programs check passwords.",
        remedy: "copper-nest repair gives it to root.",
        bad: Example { files: SOUND.files, besides: "etc/group belongs to uid 1005" },
        good: SOUND,
    },
    Rule {
        name: "missing-file",
        severity: Severity::Note,
        family: Family::Files,
        looks_at_tree: false,
        reads: &[],
        finds: "passwd, shadow, group or gshadow that is not there",
        why: "Some systems do without shadow or gshadow. Where there should be one, passwords are \
              in files that everybody reads, and groups have no administrators.",
        remedy: "Where the file should be, make it empty, and let copper-nest repair fill in the \
                 lines that are missing.",
        bad: SOUND,
        good: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Gshadow, "maren:!::\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "idle-acceptance",
        severity: Severity::Note,
        family: Family::Files,
        looks_at_tree: false,
        reads: &[],
        finds: "a finding that the policy accepts, and that is not there any more",
        why: "What was accepted once for a reason would be passed over in silence when it comes \
              back for another.",
        remedy: "Take the entry out of [check] accept in etc/copper-nest/policy.toml.",
        bad: Example { files: SOUND.files, besides: "the policy accepts second-root:keeper" },
        good: SOUND,
    },
];
