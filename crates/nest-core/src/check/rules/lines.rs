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
    Rule {
        name: "bad-name",
        severity: Severity::Warning,
        family: Family::Lines,
        looks_at_tree: false,
        reads: ALL,
        finds: "a name that programs stumble over",
        why: "Longer names than 32 bytes are cut in the records of sign-ins; a name of digits alone is taken for a number, and one that begins with -, + or # means something else to programs.",
        remedy: "Rename it: copper-nest rename user, or rename group.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n1007:x:1005:1004::/nonexistent:/bin/sh\n",
                ),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:!:20781:0::7:::\n1007:!:20781::::::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "stray-space",
        severity: Severity::Warning,
        family: Family::Lines,
        looks_at_tree: false,
        reads: ALL,
        finds: "white space before or after a record",
        why: "The C library passes it over at the start and keeps it at the end, where it becomes part of the shell, or of the last member. Other programs read it differently.",
        remedy: "Take the space out.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, " maren:x:1004:\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "missing-newline",
        severity: Severity::Warning,
        family: Family::Lines,
        looks_at_tree: false,
        reads: ALL,
        finds: "a file whose last line has no line end",
        why: "The next program that adds a line may add it to the end of that one, and two accounts are lost.",
        remedy: "Add a line end to the file.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "compat-line",
        severity: Severity::Note,
        family: Family::Lines,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Shadow, File::Group, File::Gshadow],
        finds: "a line that begins with + or -, which brings in or shuts out accounts of a directory",
        why: "Only the C library in its compat mode reads such lines. Everywhere else they do nothing, and people are surprised to be missing, or there.",
        remedy: "Say in etc/nsswitch.conf where accounts come from, and take the line out.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n+\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
];
