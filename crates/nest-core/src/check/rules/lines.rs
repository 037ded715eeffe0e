//! Rules about the form of lines.

use super::{ALL, Example, Family, MAREN_GROUP, MAREN_SHADOW, Rule, SOUND, Severity};
use crate::table::File;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "malformed-line",
        severity: Severity::Error,
        family: Family::Lines,
        looks_at_tree: false,
        reads: ALL,
        finds: "a line with too few or too many fields, or with NUL bytes",
        why: "The C library passes such a line over, or takes one field for another: \
              the account is gone, or somebody else.",
        remedy: "Mend the line by hand; fields are separated by single colons.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nperrin:x:1005:1005:/home/perrin:/bin/bash\n",
                ),
                (File::Group, "maren:x:1004:\nperrin:x:1005:\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "bad-number",
        severity: Severity::Error,
        family: Family::Lines,
        looks_at_tree: false,
        reads: ALL,
        finds: "a number that is not written as plain decimal digits, or out of range",
        why: "Programs read such a number differently. The C library takes 00, +0 and a \
              negative number for ids that nobody meant, and passes other lines over.",
        remedy: "Write the number in plain digits, without sign, spaces or leading zeros.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:01004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
];
