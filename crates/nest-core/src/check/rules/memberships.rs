//! Rules about who is in which group.

use super::{Example, Family, MAREN, MAREN_GROUP, MAREN_SHADOW, Rule, SOUND, Severity};
use crate::table::File;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "ghost-member",
        severity: Severity::Error,
        family: Family::Memberships,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Group],
        finds: "a name in a group's list of members that no account has",
        why: "It does nothing today; the next account of that name is in the group at once, \
              without anybody deciding it.",
        remedy: "Take the name out of the list, or correct its spelling.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, "maren:x:1004:\npilots:x:210:maren,tavis\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, "maren:x:1004:\npilots:x:210:maren\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
    },
    Rule {
        name: "member-mismatch",
        severity: Severity::Warning,
        family: Family::Memberships,
        looks_at_tree: false,
        reads: &[File::Group, File::Gshadow],
        finds: "a group whose members differ between group and gshadow",
        why: "Signing in goes by etc/group. Programs that switch groups go by etc/gshadow, \
              and let in people who left, or keep members out.",
        remedy: "Make the list in etc/gshadow the same as the one in etc/group.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, "maren:x:1004:\npilots:x:210:maren\n"),
                (File::Gshadow, "maren:!::\npilots:!::\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, "maren:x:1004:\npilots:x:210:maren\n"),
                (File::Gshadow, "maren:!::\npilots:!::maren\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
    },
    Rule {
        name: "no-primary-group",
        severity: Severity::Error,
        family: Family::Memberships,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Group],
        finds: "a user whose primary gid no group has",
        why: "New files of that user belong to a bare number; the next group that gets the \
              number gets the files.",
        remedy: "Create the group with that gid, or give the user another primary group.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, "users:x:100:\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "ghost-admin",
        severity: Severity::Error,
        family: Family::Memberships,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Gshadow],
        finds: "a name among a group's administrators that no account has",
        why: "The next account of that name may add members to the group, without anybody deciding it.",
        remedy: "Take the name out: copper-nest change group GROUP --drop-group-admin NAME.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Gshadow, "maren:!:tavis:\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
                (File::Gshadow, "maren:!:maren:\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "listed-in-primary",
        severity: Severity::Note,
        family: Family::Memberships,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Group],
        finds: "a user whom the list of its own primary group names",
        why: "It does no harm, and outlives the primary group: after another one is given, the user stays in the old one.",
        remedy: "Take the name out of the list, if that is not meant.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, "maren:x:1004:maren\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "empty-group",
        severity: Severity::Note,
        family: Family::Memberships,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Group],
        finds: "a group of people that nobody is in",
        why: "It may wait for somebody; or the last one left, and files that are still the group's \
              wait for whoever joins next. Groups of services are not judged.",
        remedy: "Delete it, if nobody is to come: copper-nest delete group NAME.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, "maren:x:1004:\nregatta:x:1050:\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, "maren:x:1004:\nregatta:x:1050:maren\n"),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
    },
];
