//! Rules about who can sign in.

use super::{Example, Family, MAREN, MAREN_GROUP, Rule, SOUND, Severity};
use crate::table::File;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "open-password",
        severity: Severity::Error,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Shadow],
        finds: "an empty password field",
        why: "Whoever types the name is in: no password is asked.",
        remedy: "Set a password, or put ! into the field.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren::20781:0::7:::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "second-root",
        severity: Severity::Error,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Passwd],
        finds: "a second user with uid 0",
        why: "It is root under another name, easily overlooked, with a password of its own.",
        remedy: "Give it another uid, or take it out; to be an administrator, membership of \
                 the administrators' group is enough.",
        bad: Example {
            files: &[
                (File::Passwd, "root:x:0:0:root:/root:/bin/bash\nkeeper:x:0:0::/root:/bin/bash\n"),
                (File::Group, "root:x:0:\n"),
                (File::Shadow, "root:*:20781::::::\nkeeper:*:20781::::::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
];
