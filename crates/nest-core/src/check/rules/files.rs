//! Rules about the account files themselves.

use super::{Example, Family, Rule, SOUND, Severity};

pub(super) const RULES: &[Rule] = &[Rule {
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
}];
