//! Rules about subordinate ids.

use super::{Example, Family, MAREN, MAREN_GROUP, MAREN_SHADOW, Rule, Severity};
use crate::table::File;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "overlapping-range",
        severity: Severity::Error,
        family: Family::Ranges,
        looks_at_tree: false,
        reads: &[File::Subuid, File::Subgid],
        finds: "two subordinate ranges that share ids",
        why: "The containers of one user own, read and change the files of the other's.",
        remedy: "Give one of the users a range of its own, and its containers new ids.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nkeeper:x:0:1004::/home/maren:/bin/sh\n",
                ),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:!:20781:0::7:::\nkeeper:!:20781::::::\n"),
                (File::Subuid, "maren:2001010688:65536\nkeeper:2001010788:65536\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Subuid, "maren:2001010688:65536\nmaren:2001076224:65536\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "duplicate-range",
        severity: Severity::Error,
        family: Family::Ranges,
        looks_at_tree: false,
        reads: &[File::Subuid, File::Subgid],
        finds: "a range that stands twice",
        why: "Whoever takes it away takes it away once: the other line goes on granting it.",
        remedy: "Take one of the two lines out.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Subuid, "maren:2001010688:65536\nmaren:2001010688:65536\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Subuid, "maren:2001010688:65536\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "range-over-account",
        severity: Severity::Error,
        family: Family::Ranges,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Group, File::Subuid, File::Subgid],
        finds: "a range that covers the number of an account or a group",
        why: "The owner of the range can become that account inside a container, and read and write its files.",
        remedy: "Give the owner another range: copper-nest change user NAME --ranges none, then --ranges 65536.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Subuid, "maren:1000:65536\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Subuid, "maren:2001010688:65536\n"),
            ],
            besides: "",
        },
    },
];
