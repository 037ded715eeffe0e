//! Rules about who can sign in.

use super::{Example, Family, MAREN, MAREN_GROUP, MAREN_SHADOW, Rule, SOUND, Severity};
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
    Rule {
        name: "exposed-hash",
        severity: Severity::Error,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Group],
        finds: "a password hash in a file that everybody can read",
        why: "Whoever can read the hash can guess the password at leisure, on a machine of their own.",
        remedy: "Set the password anew, which moves it to etc/shadow or etc/gshadow, and take the old one for known.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "maren:$6$Gullhaven$0123456789abcdef:1004:1004:Maren Solvik:/home/maren:/bin/bash\n",
                ),
                (File::Group, MAREN_GROUP),
                (File::Shadow, MAREN_SHADOW),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "root-group",
        severity: Severity::Warning,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Passwd],
        finds: "an account other than root whose primary group is root's",
        why: "Every file it makes can be read, and often written, by whoever is in root's group, and it reaches root's files.",
        remedy: "Give it another primary group: copper-nest regroup NAME --primary GROUP.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "root:x:0:0::/root:/bin/sh\nperrin:x:1005:0::/nonexistent:/bin/sh\n",
                ),
                (File::Group, "root:x:0:\n"),
                (File::Shadow, "root:*:20781::::::\nperrin:!:20781::::::\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "root:x:0:0::/root:/bin/sh\n"),
                (File::Group, "root:x:0:\n"),
                (File::Shadow, "root:*:20781::::::\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "service-password",
        severity: Severity::Warning,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Shadow],
        finds: "a service that can sign in by password",
        why: "Nobody signs in as a service; a password on it is a door that nobody watches.",
        remedy: "Take the password away: copper-nest password user NAME --none.",
        bad: Example {
            files: &[
                (File::Passwd, "gauge:x:200:200::/nonexistent:/usr/sbin/nologin\n"),
                (File::Group, "gauge:x:200:\n"),
                (File::Shadow, "gauge:$6$Gullhaven$0123456789abcdef:20781::::::\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "gauge:x:200:200::/nonexistent:/usr/sbin/nologin\n"),
                (File::Group, "gauge:x:200:\n"),
                (File::Shadow, "gauge:!:20781::::::\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "aging-order",
        severity: Severity::Warning,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Shadow],
        finds: "a password that may not be changed before it must be",
        why: "When it runs out, its owner is asked for a new one and refused it: locked out on that day.",
        remedy: "Make the days to hold it fewer: copper-nest change user NAME --password-hold DAYS.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:!:20781:90:30:7:::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "future-change",
        severity: Severity::Warning,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Shadow],
        finds: "a password that was changed in the future",
        why: "Until that day it does not age, and is never asked to be changed; usually a clock was wrong.",
        remedy: "Set the password again: copper-nest password user NAME.",
        bad: Example {
            files: &[
                (File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n"),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:!:30000:0:365:7:::\n"),
            ],
            besides: "",
        },
        good: SOUND,
    },
    Rule {
        name: "weak-hash",
        severity: Severity::Warning,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Shadow],
        finds: "a password hashed in a way that is quick to guess",
        why: "Once somebody has a copy of the file, such as a backup, passwords hashed by md5, des \
              and the like are found in hours.",
        remedy: "Have the password set anew, which hashes it by the policy's scheme: \
                 copper-nest password user NAME.",
        bad: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:$1$Gullhave$0123456789abcdefghijkl:20781:0::7:::\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, MAREN),
                (File::Group, MAREN_GROUP),
                (File::Shadow, "maren:$6$Gullhaven$0123456789abcdef:20781:0::7:::\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "service-shell",
        severity: Severity::Warning,
        family: Family::SignIn,
        looks_at_tree: false,
        reads: &[File::Passwd, File::Shadow],
        finds: "a service that somebody can sign in as, with a shell",
        why: "Whoever signs in as a service works unseen, under a name that nobody answers for. A \
              service with a shell that no password and no key leads to is left alone.",
        remedy: "Give it a shell that lets nobody in: copper-nest change user NAME --shell \
                 /usr/sbin/nologin.",
        bad: Example {
            files: &[
                (File::Passwd, "gauge:x:200:200::/srv/gauge:/bin/sh\n"),
                (File::Group, "gauge:x:200:\n"),
                (File::Shadow, "gauge:$6$Gullhaven$0123456789abcdef:20781::::::\n"),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (File::Passwd, "gauge:x:200:200::/srv/gauge:/bin/sh\n"),
                (File::Group, "gauge:x:200:\n"),
                (File::Shadow, "gauge:!:20781::::::\n"),
            ],
            besides: "",
        },
    },
    Rule {
        name: "unlisted-shell",
        severity: Severity::Warning,
        family: Family::SignIn,
        looks_at_tree: true,
        reads: &[File::Passwd],
        finds: "a person whose shell etc/shells does not list",
        why: "Some services, and some ways of changing the shell, refuse whoever has such a shell.",
        remedy: "Give the user a shell that is listed, or list this one in etc/shells.",
        bad: Example { files: SOUND.files, besides: "etc/shells lists /bin/sh alone" },
        good: SOUND,
    },
    Rule {
        name: "missing-shell",
        severity: Severity::Error,
        family: Family::SignIn,
        looks_at_tree: true,
        reads: &[File::Passwd],
        finds: "a person, or root, whose shell can't be started",
        why: "No sign-in works: neither by password nor by key.",
        remedy: "Give the user another shell: copper-nest change user NAME --shell PATH.",
        bad: Example { files: SOUND.files, besides: "there is no /bin/bash" },
        good: SOUND,
    },
    Rule {
        name: "no-admin",
        severity: Severity::Warning,
        family: Family::SignIn,
        looks_at_tree: true,
        reads: &[File::Passwd, File::Shadow, File::Group],
        finds: "a machine with people, of whom nobody can administer it",
        why: "When something has to be changed, nobody can: what is left is starting it from \
              another disk. A tree without people, such as an image, is not judged.",
        remedy: "Put somebody who can sign in into the administrators' group: copper-nest regroup \
                 NAME --join GROUP.",
        bad: Example {
            files: &[
                (
                    File::Passwd,
                    "root:x:0:0:root:/root:/bin/bash\nmaren:x:1004:1004::/home/maren:/bin/bash\n",
                ),
                (File::Group, "root:x:0:\nsudo:x:27:\nmaren:x:1004:\n"),
                (
                    File::Shadow,
                    "root:*:20781::::::\nmaren:$6$Gullhaven$0123456789abcdef:20781:0::7:::\n",
                ),
            ],
            besides: "",
        },
        good: Example {
            files: &[
                (
                    File::Passwd,
                    "root:x:0:0:root:/root:/bin/bash\nmaren:x:1004:1004::/home/maren:/bin/bash\n",
                ),
                (File::Group, "root:x:0:\nsudo:x:27:maren\nmaren:x:1004:\n"),
                (
                    File::Shadow,
                    "root:*:20781::::::\nmaren:$6$Gullhaven$0123456789abcdef:20781:0::7:::\n",
                ),
            ],
            besides: "",
        },
    },
];
