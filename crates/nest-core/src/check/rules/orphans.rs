//! Rules about lines whose counterpart is missing.

use super::{Example, Family, MAREN, MAREN_GROUP, MAREN_SHADOW, Rule, SOUND, Severity};
use crate::table::File;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "shadow-orphan",
        severity: Severity::Error,
        family: Family::Orphans,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Shadow],
        finds: "a shadow line without a user",
        why: "The next user who gets that name gets the old password with it.",
        remedy: "Take the line out of etc/shadow.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:!:20781:0::7:::\nhesper:!:19000:0::7:::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "missing-shadow",
        severity: Severity::Error,
        family: Family::Orphans,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Shadow],
        finds: "a user whose password is said to be in shadow, but is not",
        why: "Nobody can sign in as that user by password, and its account can neither \
              age nor expire.",
        remedy: "Add a line to etc/shadow; NAME:!:::::::  sets no password.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "root:*:20781::::::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "range-orphan",
        severity: Severity::Warning,
        family: Family::Orphans,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Subuid, File::Subgid],
        finds: "a subordinate range whose owner does not exist",
        why: "The next user who gets that name or number can act as every id in the range, \
              and owns the files that old containers left.",
        remedy: "Take the line out of etc/subuid or etc/subgid.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Subuid, "hesper:2001010688:65536\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Subuid, "1004:2001010688:65536\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "home-orphan",
        severity: Severity::Warning,
        family: Family::Orphans,
        looks_at_tree: true,
        reads: &[File::Passwd],
        finds: "a directory among the homes that is no account's home",
        why: "The account went and its files stayed. The next account that gets the number \
              which owns them owns them too, and nobody looks after them until then.",
        remedy: "Find out whose files they are (copper-nest trace), then give them to somebody \
                 (copper-nest reassign), make the account again over them \
                 (copper-nest create user --adopt-home), or remove them.",
        bad: Example { files: SOUND.files, besides: "there is a directory /home/perrin too" },
        good: SOUND,
    },
    Rule {
        name: "mail-orphan",
        severity: Severity::Note,
        family: Family::Orphans,
        looks_at_tree: true,
        reads: &[File::Passwd],
        finds: "a mail spool file that bears no account's name",
        why: "The next account of that name would get the mail of the earlier one.",
        remedy: "Hand the mail on or remove the file.",
        bad: Example { files: SOUND.files, besides: "there is a file /var/mail/perrin" },
        good: SOUND,
    },
    Rule {
        name: "retired-id-in-use",
        severity: Severity::Error,
        family: Family::Orphans,
        looks_at_tree: true,
        reads: &[File::Passwd, File::Group],
        finds: "a uid or gid of a deleted account that somebody holds again",
        why: "Deleted accounts leave files behind, and a file belongs to a number: whoever has \
              the number now owns them.",
        remedy: "Give the new holder another number; or look through the files that carry it \
                 (copper-nest trace id), and where they may be the new holder's, purge the old \
                 account under a policy that frees its numbers.",
        bad: Example { files: SOUND.files, besides: "uid 1004 was perrin's, and is retired" },
        good: SOUND,
    },
    Rule {
        name: "gshadow-orphan",
        severity: Severity::Error,
        family: Family::Orphans,
        looks_at_tree: false,
        reads: &[File::Group, File::Gshadow],
        finds: "a gshadow line without a group",
        why: "The next group of that name gets the old administrators and the old password with it.",
        remedy: "Take the line out of etc/gshadow.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Gshadow, "maren:!::\nhesper:!:maren:\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Gshadow, "maren:!::\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "missing-gshadow",
        severity: Severity::Warning,
        family: Family::Orphans,
        looks_at_tree: false,
        reads: &[File::Group, File::Gshadow],
        finds: "a group without a line in gshadow, where there is such a file",
        why: "Programs that look the group up there find no administrators and no members, and some refuse to edit it.",
        remedy: "Add a line to etc/gshadow; NAME:!::  sets no password.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, "maren:x:1004:\npilots:x:210:\n"),
                (File::Shadow, MAREN_SHADOW),
                (File::Gshadow, "maren:!::\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, "maren:x:1004:\npilots:x:210:\n"),
                (File::Shadow, MAREN_SHADOW),
                (File::Gshadow, "maren:!::\npilots:!::\n"),
            ],
            besides: "",
        },
    },
];
