//! The table of rules: what each finds, why it matters, what to do, and a bad
//! and a good example, which are also its tests and its documentation.

use strum::{Display, EnumString};

use crate::table::File;

/// How bad a finding is. Fixed for each rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Display, EnumString)]
#[strum(serialize_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Note,
    /// Should be looked at.
    Warning,
    /// Broken, or dangerous.
    Error,
}

/// Rules that belong together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Display)]
#[strum(serialize_all = "kebab-case")]
pub enum Family {
    /// The form of lines.
    Lines,
    /// Things that must be unique.
    Duplicates,
    /// Lines whose counterpart is missing.
    Orphans,
    /// Who is in which group.
    Memberships,
    /// Who can sign in.
    SignIn,
    /// Home directories.
    Homes,
    /// Subordinate ids.
    Ranges,
    /// The account files themselves.
    Files,
}

/// Account files that show a rule.
#[derive(Debug)]
pub struct Example {
    /// The texts.
    pub files: &'static [(File, &'static str)],
    /// What else has to be known about the tree; may be empty.
    pub besides: &'static str,
}

/// One rule.
#[derive(Debug)]
pub struct Rule {
    /// Its name.
    pub name: &'static str,
    /// How bad its findings are.
    pub severity: Severity,
    /// The family.
    pub family: Family,
    /// Whether it looks at the tree besides the account files.
    pub looks_at_tree: bool,
    /// The files it cannot do without.
    pub reads: &'static [File],
    /// What it finds, in a line.
    pub finds: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// What to do.
    pub remedy: &'static str,
    /// What it finds, shown.
    pub bad: Example,
    /// The same, as it should be.
    pub good: Example,
}

/// The rule of this name.
pub fn rule(name: &str) -> Option<&'static Rule> {
    RULES.iter().find(|rule| rule.name == name)
}

const ALL: &[File] = &File::ALL;
const MAREN: &str = "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n";
const MAREN_GROUP: &str = "maren:x:1004:\n";
const MAREN_SHADOW: &str = "maren:!:20781:0::7:::\n";
const SOUND: Example = Example {
    files: &[(File::Passwd, MAREN), (File::Group, MAREN_GROUP), (File::Shadow, MAREN_SHADOW)],
    besides: "",
};

/// All rules, family by family.
pub const RULES: &[Rule] = &[
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
    },
];
