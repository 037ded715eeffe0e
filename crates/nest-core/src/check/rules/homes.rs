//! Rules about home directories.

use super::{Example, Family, MAREN_GROUP, MAREN_SHADOW, Rule, SOUND, Severity};
use crate::table::File;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "missing-home",
        severity: Severity::Warning,
        family: Family::Homes,
        looks_at_tree: true,
        reads: &[File::Passwd],
        finds: "a person whose home is not there",
        why: "Signing in lands in / or fails, and the next directory made at that place may \
              be somebody else's.",
        remedy: "Make the directory and give it to the user, or correct the path. A person \
                 who is to have none gets /nonexistent.",
        bad: Example { files: SOUND.files, besides: "there is no /home/maren" },
        good: SOUND,
    },
    Rule {
        name: "home-owner",
        severity: Severity::Error,
        family: Family::Homes,
        looks_at_tree: true,
        reads: &[File::Passwd],
        finds: "a person's home that belongs to somebody else",
        why: "The user can't use it, and its owner decides what the user's shell starts.",
        remedy: "Give the directory to the user, after looking at whose it is and why.",
        bad: Example { files: SOUND.files, besides: "/home/maren belongs to uid 1005" },
        good: SOUND,
    },
    Rule {
        name: "home-not-absolute",
        severity: Severity::Error,
        family: Family::Homes,
        looks_at_tree: false,
        reads: &[File::Passwd],
        finds: "a home that does not begin at /",
        why: "Programs take it from wherever they happen to be: a sign-in lands in another directory each time.",
        remedy: "Give the whole path: copper-nest change user NAME --home PATH --record-only.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "home-open-to-others",
        severity: Severity::Warning,
        family: Family::Homes,
        looks_at_tree: true,
        reads: &[File::Passwd],
        finds: "a person's home that lets everybody in, where the policy would not",
        why: "Others read what is in it; where they may write, they decide what its owner's shell \
              starts. What may be open is said by people.home_permissions in the policy.",
        remedy: "Take the others' rights away: chmod o= HOME. If homes are to be open, say so in \
                 the policy.",
        bad: Example { files: SOUND.files, besides: "/home/maren has mode 0755" },
        good: SOUND,
    },
];
