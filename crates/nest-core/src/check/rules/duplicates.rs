//! Rules about things that must be unique.

use super::{Example, Family, MAREN, MAREN_GROUP, MAREN_SHADOW, Rule, SOUND, Severity};
use crate::table::File;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "duplicate-name",
        severity: Severity::Error,
        family: Family::Duplicates,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Group, File::Shadow, File::Gshadow],
        finds: "two lines of a file with one name",
        why: "Only the first is found by name. The second still owns files, and a change \
              may reach the one or the other.",
        remedy: "Decide which line is right and take the other out, or give it another name.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nmaren:x:1009:1004:Maren Solvik:/home/maren:/bin/sh\n",
                ),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "duplicate-uid",
        severity: Severity::Error,
        family: Family::Duplicates,
        looks_at_tree: false,
        reads: &[File::Passwd],
        finds: "two users with one uid",
        why: "To the kernel they are one and the same: each owns, reads and deletes the \
              other's files, and ends the other's processes.",
        remedy: "Give one of them a uid of its own, and the files that belong to it.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "odalys:x:1002:100::/home/maren:/bin/bash\ntavish:x:1002:100::/home/maren:/bin/sh\n",
                ),
                (File::Group, "users:x:100:\n"),
                (File::Shadow, "odalys:!:20781:0::7:::\ntavish:!:20781:0::7:::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "duplicate-gid",
        severity: Severity::Error,
        family: Family::Duplicates,
        looks_at_tree: false,
        reads: &[File::Group],
        finds: "two groups with one gid",
        why: "To the kernel they are one and the same: the members of one reach the files \
              of the other, whatever the lists say.",
        remedy: "Give one of them a gid of its own, and the files that belong to it.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, "maren:x:1004:\npilots:x:1004:\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "duplicate-member",
        severity: Severity::Warning,
        family: Family::Duplicates,
        looks_at_tree: false,
        reads: &[File::Group],
        finds: "a member whom a list names twice",
        why: "Whoever takes the name out once leaves it in: access that was withdrawn stays.",
        remedy: "Take the name out of the list once.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, "maren:x:1004:\npilots:x:210:maren,maren\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, "maren:x:1004:\npilots:x:210:maren\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
    },
    Rule {
        name: "case-twin",
        severity: Severity::Warning,
        family: Family::Duplicates,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Group],
        finds: "two names that differ in capitals only",
        why: "Mail, some file systems and many directories do not tell capitals apart: the two get one mailbox, or one folder.",
        remedy: "Rename one of the two.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nMaren:x:1005:1004::/nonexistent:/bin/sh\n",
                ),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:!:20781:0::7:::\nMaren:!:20781::::::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "shared-home",
        severity: Severity::Warning,
        family: Family::Duplicates,
        looks_at_tree: false,
        reads: &[File::Passwd],
        finds: "two people with one home",
        why: "Each reads and writes the other's files, or is kept out of them; deleting one account takes the other's home with it.",
        remedy: "Give one of them a home of its own: copper-nest change user NAME --home PATH --record-only.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nperrin:x:1005:1004::/home/maren:/bin/sh\n",
                ),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:!:20781:0::7:::\nperrin:!:20781::::::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
];
