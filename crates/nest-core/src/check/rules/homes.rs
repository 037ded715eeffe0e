//! Rules about home directories.

use super::{Example, Family, Rule, SOUND, Severity};
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
];
