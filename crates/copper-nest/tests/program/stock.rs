//! What systems ship is in order: trees of system families, as these install them, and what
//! `check` says of each.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::symlink;

use crate::harness::{TestTree, is_root};

/// A family of systems, as one of its releases is installed.
pub struct Stock {
    /// What it is.
    pub name: &'static str,
    /// What is special about its accounts.
    pub about: &'static str,
    passwd: &'static str,
    group: &'static str,
    /// Nothing where the family ships none.
    shadow: Option<&'static str>,
    gshadow: Option<&'static str>,
    /// Other files.
    files: &'static [(&'static str, &'static str)],
    /// Directories that belong to somebody: path, owner, group, mode.
    directories: &'static [(&'static str, u32, u32, u32)],
}

/// Password hashes of people who were added at installation; nobody knows the passwords.
const HASHES: [&str; 3] = [
    "$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2",
    "$y$j9T$Gk8rTqW1xZ0aLmNvB3cD5/$rsJmLIUDq1PN5VP0a35yIivRkNWbAlYEJJNtmbMaNQD",
    "$y$j9T$Gk8rTqW1xZ0aLmNvB3cD5/$oMUdqLIIUbNlp.5ERqT8mq/0KPAoLbWTEaHGlGEYnd1",
];

pub const FAMILIES: &[Stock] = &[
    Stock {
        name: "Debian",
        about: "a person, and stock services with placeholder homes",
        passwd: "root:x:0:0:root:/root:/bin/bash\ndaemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin\nbin:x:2:2:bin:/bin:/usr/sbin/nologin\nsys:x:3:3:sys:/dev:/usr/sbin/nologin\nsync:x:4:65534:sync:/bin:/bin/sync\ngames:x:5:60:games:/usr/games:/usr/sbin/nologin\nman:x:6:12:man:/var/cache/man:/usr/sbin/nologin\nlp:x:7:7:lp:/var/spool/lpd:/usr/sbin/nologin\nmail:x:8:8:mail:/var/mail:/usr/sbin/nologin\nnews:x:9:9:news:/var/spool/news:/usr/sbin/nologin\nuucp:x:10:10:uucp:/var/spool/uucp:/usr/sbin/nologin\nproxy:x:13:13:proxy:/bin:/usr/sbin/nologin\nwww-data:x:33:33:www-data:/var/www:/usr/sbin/nologin\nbackup:x:34:34:backup:/var/backups:/usr/sbin/nologin\nlist:x:38:38:Mailing List Manager:/var/list:/usr/sbin/nologin\nirc:x:39:39:ircd:/run/ircd:/usr/sbin/nologin\n_apt:x:42:65534::/nonexistent:/usr/sbin/nologin\nnobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\nsystemd-network:x:998:998:systemd Network Management:/:/usr/sbin/nologin\nmessagebus:x:100:101::/nonexistent:/usr/sbin/nologin\nsshd:x:101:65534::/run/sshd:/usr/sbin/nologin\nsunniva:x:1000:1000:Sunniva Hale,,,:/home/sunniva:/bin/bash\n",
        group: "root:x:0:\ndaemon:x:1:\nbin:x:2:\nsys:x:3:\nadm:x:4:\ntty:x:5:\ndisk:x:6:\nlp:x:7:\nmail:x:8:\nnews:x:9:\nuucp:x:10:\nman:x:12:\nproxy:x:13:\nkmem:x:15:\ndialout:x:20:\nfax:x:21:\nvoice:x:22:\ncdrom:x:24:sunniva\nfloppy:x:25:sunniva\ntape:x:26:\nsudo:x:27:sunniva\naudio:x:29:sunniva\ndip:x:30:sunniva\nwww-data:x:33:\nbackup:x:34:\noperator:x:37:\nlist:x:38:\nirc:x:39:\nsrc:x:40:\nshadow:x:42:\nutmp:x:43:\nvideo:x:44:sunniva\nsasl:x:45:\nplugdev:x:46:sunniva\nstaff:x:50:\ngames:x:60:\nusers:x:100:sunniva\nnogroup:x:65534:\nsystemd-journal:x:999:\nsystemd-network:x:998:\ncrontab:x:997:\nmessagebus:x:101:\ninput:x:996:\nsgx:x:995:\nkvm:x:994:\nrender:x:993:\nnetdev:x:102:sunniva\nsunniva:x:1000:\n",
        shadow: Some(
            "root:!:20600:0:99999:7:::\ndaemon:*:20600:0:99999:7:::\nbin:*:20600:0:99999:7:::\nsys:*:20600:0:99999:7:::\nsync:*:20600:0:99999:7:::\ngames:*:20600:0:99999:7:::\nman:*:20600:0:99999:7:::\nlp:*:20600:0:99999:7:::\nmail:*:20600:0:99999:7:::\nnews:*:20600:0:99999:7:::\nuucp:*:20600:0:99999:7:::\nproxy:*:20600:0:99999:7:::\nwww-data:*:20600:0:99999:7:::\nbackup:*:20600:0:99999:7:::\nlist:*:20600:0:99999:7:::\nirc:*:20600:0:99999:7:::\n_apt:*:20600:0:99999:7:::\nnobody:*:20600:0:99999:7:::\nsystemd-network:!*:20600::::::\nmessagebus:!:20600::::::\nsshd:!:20600::::::\nsunniva:HASH:20600:0:99999:7:::\n",
        ),
        gshadow: None,
        files: &[
            (
                "etc/nsswitch.conf",
                "passwd: files systemd\ngroup: files systemd\nshadow: files systemd\ngshadow: files systemd\n",
            ),
            ("etc/subuid", "sunniva:100000:65536\n"),
            ("etc/subgid", "sunniva:100000:65536\n"),
            ("etc/fstab", "UUID=0000 / ext4 errors=remount-ro 0 1\nUUID=0001 none swap sw 0 0\n"),
        ],
        directories: &[("home/sunniva", 1000, 1000, 0o700)],
    },
    Stock {
        name: "Ubuntu cloud image",
        about: "no person yet: the first start makes one",
        passwd: "root:x:0:0:root:/root:/bin/bash\ndaemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin\nbin:x:2:2:bin:/bin:/usr/sbin/nologin\nsys:x:3:3:sys:/dev:/usr/sbin/nologin\nsync:x:4:65534:sync:/bin:/bin/sync\ngames:x:5:60:games:/usr/games:/usr/sbin/nologin\nman:x:6:12:man:/var/cache/man:/usr/sbin/nologin\nlp:x:7:7:lp:/var/spool/lpd:/usr/sbin/nologin\nmail:x:8:8:mail:/var/mail:/usr/sbin/nologin\nwww-data:x:33:33:www-data:/var/www:/usr/sbin/nologin\nbackup:x:34:34:backup:/var/backups:/usr/sbin/nologin\n_apt:x:42:65534::/nonexistent:/usr/sbin/nologin\nnobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\nsystemd-network:x:998:998:systemd Network Management:/:/usr/sbin/nologin\nsystemd-timesync:x:996:996:systemd Time Synchronization:/:/usr/sbin/nologin\ndhcpcd:x:100:65534:DHCP Client Daemon:/usr/lib/dhcpcd:/bin/false\nmessagebus:x:101:101::/nonexistent:/usr/sbin/nologin\nsyslog:x:102:102::/nonexistent:/usr/sbin/nologin\nsystemd-resolve:x:991:991:systemd Resolver:/:/usr/sbin/nologin\nuuidd:x:103:103::/run/uuidd:/usr/sbin/nologin\nlandscape:x:105:105::/var/lib/landscape:/usr/sbin/nologin\nfwupd-refresh:x:990:990:Firmware update daemon:/var/lib/fwupd:/usr/sbin/nologin\nusbmux:x:106:46:usbmux daemon:/var/lib/usbmux:/usr/sbin/nologin\nsshd:x:107:65534::/run/sshd:/usr/sbin/nologin\npollinate:x:108:1::/var/cache/pollinate:/bin/false\n",
        group: "root:x:0:\ndaemon:x:1:\nbin:x:2:\nsys:x:3:\nadm:x:4:syslog\ntty:x:5:\ndisk:x:6:\nlp:x:7:\nmail:x:8:\nman:x:12:\nsudo:x:27:\nwww-data:x:33:\nbackup:x:34:\nshadow:x:42:\nutmp:x:43:\nplugdev:x:46:\nstaff:x:50:\ngames:x:60:\nusers:x:100:\nnogroup:x:65534:\nsystemd-journal:x:999:\nsystemd-network:x:998:\nsystemd-timesync:x:996:\nmessagebus:x:101:\nsyslog:x:102:\nsystemd-resolve:x:991:\nuuidd:x:103:\nlandscape:x:105:\nfwupd-refresh:x:990:\nlxd:x:110:\n",
        shadow: Some(
            "root:*:20600:0:99999:7:::\ndaemon:*:20600:0:99999:7:::\nbin:*:20600:0:99999:7:::\nsys:*:20600:0:99999:7:::\nsync:*:20600:0:99999:7:::\ngames:*:20600:0:99999:7:::\nman:*:20600:0:99999:7:::\nlp:*:20600:0:99999:7:::\nmail:*:20600:0:99999:7:::\nwww-data:*:20600:0:99999:7:::\nbackup:*:20600:0:99999:7:::\n_apt:*:20600:0:99999:7:::\nnobody:*:20600:0:99999:7:::\nsystemd-network:!*:20600::::::\nsystemd-timesync:!*:20600::::::\ndhcpcd:!:20600::::::\nmessagebus:!:20600::::::\nsyslog:!:20600::::::\nsystemd-resolve:!*:20600::::::\nuuidd:!:20600::::::\nlandscape:!:20600::::::\nfwupd-refresh:!*:20600::::::\nusbmux:!:20600::::::\nsshd:!:20600::::::\npollinate:!:20600::::::\n",
        ),
        gshadow: Some(
            "root:*::\ndaemon:*::\nbin:*::\nsys:*::\nadm:*::syslog\ntty:*::\ndisk:*::\nlp:*::\nmail:*::\nman:*::\nsudo:*::\nwww-data:*::\nbackup:*::\nshadow:*::\nutmp:*::\nplugdev:*::\nstaff:*::\ngames:*::\nusers:*::\nnogroup:*::\nsystemd-journal:!*::\nsystemd-network:!*::\nsystemd-timesync:!*::\nmessagebus:!::\nsyslog:!::\nsystemd-resolve:!*::\nuuidd:!::\nlandscape:!::\nfwupd-refresh:!*::\nlxd:!::\n",
        ),
        files: &[("etc/nsswitch.conf", "passwd: files systemd\ngroup: files systemd\n")],
        directories: &[],
    },
    Stock {
        name: "Fedora, RHEL and kin",
        about: "locked accounts in root's group, with shells that stop the machine",
        passwd: "root:x:0:0:Super User:/root:/bin/bash\nbin:x:1:1:bin:/bin:/usr/sbin/nologin\ndaemon:x:2:2:daemon:/sbin:/usr/sbin/nologin\nadm:x:3:4:adm:/var/adm:/usr/sbin/nologin\nlp:x:4:7:lp:/var/spool/lpd:/usr/sbin/nologin\nsync:x:5:0:sync:/sbin:/bin/sync\nshutdown:x:6:0:shutdown:/sbin:/sbin/shutdown\nhalt:x:7:0:halt:/sbin:/sbin/halt\nmail:x:8:12:mail:/var/spool/mail:/usr/sbin/nologin\noperator:x:11:0:operator:/root:/usr/sbin/nologin\ngames:x:12:100:games:/usr/games:/usr/sbin/nologin\nftp:x:14:50:FTP User:/var/ftp:/usr/sbin/nologin\nnobody:x:65534:65534:Kernel Overflow User:/:/usr/sbin/nologin\ntss:x:59:59:Account used for TPM access:/:/usr/sbin/nologin\nsystemd-oom:x:999:999:systemd Userspace OOM Killer:/:/usr/sbin/nologin\npolkitd:x:114:114:User for polkitd:/:/sbin/nologin\nsshd:x:74:74:Privilege-separated SSH:/usr/share/empty.sshd:/usr/sbin/nologin\nchrony:x:998:996:chrony system user:/var/lib/chrony:/sbin/nologin\ndbus:x:81:81:System Message Bus:/:/usr/sbin/nologin\ntavish:x:1000:1000:Tavish Rowe:/home/tavish:/bin/bash\n",
        group: "root:x:0:\nbin:x:1:\ndaemon:x:2:\nsys:x:3:\nadm:x:4:\ntty:x:5:\ndisk:x:6:\nlp:x:7:\nmem:x:8:\nkmem:x:9:\nwheel:x:10:tavish\ncdrom:x:11:\nmail:x:12:\nman:x:15:\ndialout:x:18:\nfloppy:x:19:\ngames:x:20:\nutmp:x:22:\ntape:x:33:\nkvm:x:36:\nvideo:x:39:\nftp:x:50:\nlock:x:54:\ntss:x:59:\nsshd:x:74:\ndbus:x:81:\naudio:x:63:\nusers:x:100:\nclock:x:103:\ninput:x:104:\nrender:x:105:\npolkitd:x:114:\nnobody:x:65534:\nsystemd-oom:x:999:\nchrony:x:996:\nsystemd-journal:x:190:\ntavish:x:1000:\n",
        shadow: Some(
            "root:!locked::0:99999:7:::\nbin:*:20200:0:99999:7:::\ndaemon:*:20200:0:99999:7:::\nadm:*:20200:0:99999:7:::\nlp:*:20200:0:99999:7:::\nsync:*:20200:0:99999:7:::\nshutdown:*:20200:0:99999:7:::\nhalt:*:20200:0:99999:7:::\nmail:*:20200:0:99999:7:::\noperator:*:20200:0:99999:7:::\ngames:*:20200:0:99999:7:::\nftp:*:20200:0:99999:7:::\nnobody:*:20200:0:99999:7:::\ntss:!*:20600::::::\nsystemd-oom:!*:20600::::::\npolkitd:!*:20600::::::\nsshd:!*:20600::::::\nchrony:!*:20600::::::\ndbus:!*:20600::::::\ntavish:HASH::0:99999:7:::\n",
        ),
        gshadow: Some(
            "root:::\nbin:::\ndaemon:::\nsys:::\nadm:::\ntty:::\ndisk:::\nlp:::\nmem:::\nkmem:::\nwheel:::tavish\ncdrom:::\nmail:::\nman:::\ndialout:::\nfloppy:::\ngames:::\nutmp:::\ntape:::\nkvm:::\nvideo:::\nftp:::\nlock:::\ntss:!*::\nsshd:!*::\ndbus:!*::\naudio:::\nusers:::\nclock:::\ninput:::\nrender:::\npolkitd:!*::\nnobody:::\nsystemd-oom:!*::\nchrony:!*::\nsystemd-journal:!*::\ntavish:!::\n",
        ),
        files: &[
            (
                "etc/nsswitch.conf",
                "passwd:     files systemd\nshadow:     files systemd\ngroup:      files [SUCCESS=merge] systemd\n",
            ),
            ("etc/subuid", "tavish:524288:65536\n"),
            ("etc/subgid", "tavish:524288:65536\n"),
            ("usr/sbin/shutdown", "x"),
            ("usr/sbin/halt", "x"),
            ("sbin/shutdown", "x"),
            ("sbin/halt", "x"),
            ("sbin/nologin", "x"),
        ],
        directories: &[("home/tavish", 1000, 1000, 0o700)],
    },
    Stock {
        name: "Fedora CoreOS and other image-based systems",
        about: "most accounts are in usr/lib/passwd, and groups in etc list people of theirs",
        passwd: "root:x:0:0:Super User:/root:/bin/bash\ncore:x:1000:1000:CoreOS Admin:/var/home/core:/bin/bash\n",
        group: "root:x:0:\nadm:x:4:core,daemon\nwheel:x:10:core\nsudo:x:16:core\nsystemd-journal:x:190:core,tss\ncore:x:1000:\n",
        shadow: Some(
            "root:!locked::0:99999:7:::\ncore:!:20600:0:99999:7:::\nbin:*:20200:0:99999:7:::\n",
        ),
        gshadow: Some(
            "root:::\nadm:::core,daemon\nwheel:::core\nsudo:::core\nsystemd-journal:!*::core,tss\ncore:!::\ntss:!*::\n",
        ),
        files: &[
            (
                "etc/nsswitch.conf",
                "passwd: files altfiles systemd\ngroup: files [SUCCESS=merge] altfiles [SUCCESS=merge] systemd\nshadow: files\n",
            ),
            (
                "usr/lib/passwd",
                "bin:x:1:1:bin:/bin:/usr/sbin/nologin\ndaemon:x:2:2:daemon:/sbin:/usr/sbin/nologin\ntss:x:59:59::/:/usr/sbin/nologin\n",
            ),
            ("usr/lib/group", "bin:x:1:\ndaemon:x:2:\ntss:x:59:\n"),
            ("etc/subuid", "core:100000:65536\n"),
            ("etc/subgid", "core:100000:65536\n"),
            (
                "var/home/core/.ssh/authorized_keys",
                "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAILM+rvN+ot98qgEN796jTiQfZfG1KaT0PtFDJ/XFSqti tavish@harbour\n",
            ),
        ],
        directories: &[
            ("var/home/core", 1000, 1000, 0o700),
            ("var/home/core/.ssh", 1000, 1000, 0o700),
            ("var/home/core/.ssh/authorized_keys", 1000, 1000, 0o600),
        ],
    },
    Stock {
        name: "Alpine",
        about: "root is listed in the groups of the system; locked accounts in root's group",
        passwd: "root:x:0:0:root:/root:/bin/sh\nbin:x:1:1:bin:/bin:/sbin/nologin\ndaemon:x:2:2:daemon:/sbin:/sbin/nologin\nlp:x:4:7:lp:/var/spool/lpd:/sbin/nologin\nsync:x:5:0:sync:/sbin:/bin/sync\nshutdown:x:6:0:shutdown:/sbin:/sbin/shutdown\nhalt:x:7:0:halt:/sbin:/sbin/halt\nmail:x:8:12:mail:/var/mail:/sbin/nologin\nnews:x:9:13:news:/usr/lib/news:/sbin/nologin\nuucp:x:10:14:uucp:/var/spool/uucppublic:/sbin/nologin\ncron:x:16:16:cron:/var/spool/cron:/sbin/nologin\nftp:x:21:21::/var/lib/ftp:/sbin/nologin\nsshd:x:22:22:sshd:/dev/null:/sbin/nologin\ngames:x:35:35:games:/usr/games:/sbin/nologin\nntp:x:123:123:NTP:/var/empty:/sbin/nologin\nguest:x:405:100:guest:/dev/null:/sbin/nologin\nnobody:x:65534:65534:nobody:/:/sbin/nologin\n",
        group: "root:x:0:root\nbin:x:1:root,bin,daemon\ndaemon:x:2:root,bin,daemon\nsys:x:3:root,bin\nadm:x:4:root,daemon\ntty:x:5:\ndisk:x:6:root\nlp:x:7:lp\nkmem:x:9:\nwheel:x:10:root\nfloppy:x:11:root\nmail:x:12:mail\nnews:x:13:news\nuucp:x:14:uucp\ncron:x:16:cron\naudio:x:18:\ncdrom:x:19:\ndialout:x:20:root\nftp:x:21:\nsshd:x:22:\ninput:x:23:\ntape:x:26:root\nvideo:x:27:root\nnetdev:x:28:\nkvm:x:34:kvm\ngames:x:35:\nshadow:x:42:\nwww-data:x:82:\nusers:x:100:games\nntp:x:123:\nabuild:x:300:\nutmp:x:406:\nping:x:999:\nnogroup:x:65533:\nnobody:x:65534:\n",
        shadow: Some(
            "root:*::0:::::\nbin:!::0:::::\ndaemon:!::0:::::\nlp:!::0:::::\nsync:!::0:::::\nshutdown:!::0:::::\nhalt:!::0:::::\nmail:!::0:::::\nnews:!::0:::::\nuucp:!::0:::::\ncron:!::0:::::\nftp:!::0:::::\nsshd:!::0:::::\ngames:!::0:::::\nntp:!::0:::::\nguest:!::0:::::\nnobody:!::0:::::\n",
        ),
        gshadow: None,
        files: &[
            ("sbin/shutdown", "x"),
            ("sbin/halt", "x"),
            ("sbin/nologin", "x"),
            ("etc/shells", "/bin/sh\n/bin/ash\n"),
        ],
        directories: &[],
    },
    Stock {
        name: "Arch",
        about: "shadow lines without days, and services that share an empty home",
        passwd: "root:x:0:0::/root:/usr/bin/bash\nbin:x:1:1::/:/usr/bin/nologin\ndaemon:x:2:2::/:/usr/bin/nologin\nmail:x:8:12::/var/spool/mail:/usr/bin/nologin\nftp:x:14:11::/srv/ftp:/usr/bin/nologin\nhttp:x:33:33::/srv/http:/usr/bin/nologin\nnobody:x:65534:65534:Kernel Overflow User:/:/usr/bin/nologin\ndbus:x:81:81:System Message Bus:/:/usr/bin/nologin\nsystemd-coredump:x:984:984:systemd Core Dumper:/:/usr/bin/nologin\nsystemd-network:x:983:983:systemd Network Management:/:/usr/bin/nologin\nuuidd:x:68:68::/:/usr/bin/nologin\nodalys:x:1000:1000::/home/odalys:/usr/bin/bash\n",
        group: "root:x:0:root\nsys:x:3:bin\nmem:x:8:\nftp:x:11:\nmail:x:12:\nlog:x:19:\nsmmsp:x:25:\nproc:x:26:\ngames:x:50:\nlock:x:54:\nnetwork:x:90:\nfloppy:x:94:\nscanner:x:96:\npower:x:98:\nnobody:x:65534:\nadm:x:999:daemon\nwheel:x:998:odalys\nutmp:x:997:\naudio:x:996:\ndisk:x:995:\ninput:x:994:\nkmem:x:993:\nkvm:x:992:\nlp:x:991:\noptical:x:990:\nrender:x:989:\nsgx:x:988:\nstorage:x:987:\ntty:x:5:\nuucp:x:986:\nvideo:x:985:\nusers:x:984:\nbin:x:1:daemon\ndaemon:x:2:bin\nhttp:x:33:\ndbus:x:81:\nsystemd-coredump:x:981:\nsystemd-network:x:983:\nuuidd:x:68:\nodalys:x:1000:\n",
        shadow: Some(
            "root:*:20600::::::\nbin:!*:20600::::::\ndaemon:!*:20600::::::\nmail:!*:20600::::::\nftp:!*:20600::::::\nhttp:!*:20600::::::\nnobody:!*:20600::::::\ndbus:!*:20600::::::\nsystemd-coredump:!*:20600::::::\nsystemd-network:!*:20600::::::\nuuidd:!*:20600::::::\nodalys:HASH:20600:0:99999:7:::\n",
        ),
        gshadow: Some(
            "root:::root\nsys:!!::bin\nmem:!!::\nftp:!!::\nmail:!!::\nlog:!!::\nsmmsp:!!::\nproc:!!::\ngames:!!::\nlock:!!::\nnetwork:!!::\nfloppy:!!::\nscanner:!!::\npower:!!::\nnobody:!*::\nadm:!!::daemon\nwheel:!!::odalys\nutmp:!!::\naudio:!!::\ndisk:!!::\ninput:!!::\nkmem:!!::\nkvm:!!::\nlp:!!::\noptical:!!::\nrender:!!::\nsgx:!!::\nstorage:!!::\ntty:!!::\nuucp:!!::\nvideo:!!::\nusers:!!::\nbin:!!::daemon\ndaemon:!!::bin\nhttp:!!::\ndbus:!*::\nsystemd-coredump:!*::\nsystemd-network:!*::\nuuidd:!*::\nodalys:!::\n",
        ),
        files: &[
            ("usr/bin/nologin", "x"),
            (
                "etc/nsswitch.conf",
                "passwd: files systemd\ngroup: files [SUCCESS=merge] systemd\nshadow: files systemd\n",
            ),
            ("etc/shells", "/bin/sh\n/bin/bash\n/usr/bin/sh\n/usr/bin/bash\n"),
        ],
        directories: &[("home/odalys", 1000, 1000, 0o700)],
    },
    Stock {
        name: "openSUSE",
        about: "nobody has a shell, and people share the primary group users",
        passwd: "root:x:0:0:root:/root:/bin/bash\nmessagebus:x:499:499:User for D-Bus:/run/dbus:/usr/sbin/nologin\nnobody:x:65534:65534:nobody:/var/lib/nobody:/bin/bash\nman:x:13:62:Manual pages viewer:/var/lib/empty:/usr/sbin/nologin\nlp:x:497:496:Printing daemon:/var/spool/lpd:/usr/sbin/nologin\nmail:x:498:498:Mailer daemon:/var/spool/clientmqueue:/usr/sbin/nologin\npolkitd:x:496:495:User for polkitd:/var/lib/polkit:/usr/sbin/nologin\nsshd:x:495:494:SSH daemon:/var/lib/sshd:/usr/sbin/nologin\nperrin:x:1000:100:Perrin Vale:/home/perrin:/bin/bash\nmaren:x:1001:100:Maren Solvik:/home/maren:/bin/bash\n",
        group: "root:x:0:\nshadow:x:15:\nwheel:x:481:perrin\nusers:x:100:\nnobody:x:65533:\nnogroup:x:65534:nobody\nmail:x:498:\nmessagebus:x:499:\nlp:x:496:\nman:x:62:\npolkitd:x:495:\nsshd:x:494:\ntrusted:x:42:\ntty:x:5:\nutmp:x:490:\naudio:x:489:\nvideo:x:485:\n",
        shadow: Some(
            "root:HASH:20600::::::\nmessagebus:!:20600::::::\nnobody:!:20600::::::\nman:!:20600::::::\nlp:!:20600::::::\nmail:!:20600::::::\npolkitd:!:20600::::::\nsshd:!:20600::::::\nperrin:HASH:20600:0:99999:7:::\nmaren:HASH:20600:0:99999:7:::\n",
        ),
        gshadow: None,
        files: &[(
            "etc/nsswitch.conf",
            "passwd: compat systemd\ngroup:  compat [SUCCESS=merge] systemd\nshadow: compat systemd\n",
        )],
        directories: &[
            ("home/perrin", 1000, 100, 0o700),
            ("home/maren", 1001, 100, 0o700),
            ("var/lib/nobody", 65534, 65534, 0o755),
        ],
    },
    Stock {
        name: "Gentoo",
        about: "root and services are listed in groups they are in already",
        passwd: "root:x:0:0:System user; root:/root:/bin/bash\nbin:x:1:1:bin:/bin:/bin/false\ndaemon:x:2:2:daemon:/sbin:/bin/false\nadm:x:3:4:adm:/var/adm:/bin/false\nlp:x:4:7:lp:/var/spool/lpd:/bin/false\nsync:x:5:0:sync:/sbin:/bin/sync\nshutdown:x:6:0:shutdown:/sbin:/sbin/shutdown\nhalt:x:7:0:halt:/sbin:/sbin/halt\nnews:x:9:13:news:/var/spool/news:/bin/false\nuucp:x:10:14:uucp:/var/spool/uucp:/bin/false\noperator:x:11:0:operator:/root:/sbin/nologin\nportage:x:250:250:System user; portage:/var/lib/portage/home:/sbin/nologin\nnobody:x:65534:65534:nobody:/var/empty:/bin/false\nsshd:x:22:22:User for running sshd:/var/empty:/sbin/nologin\nbrannoc:x:1000:1000::/home/brannoc:/bin/bash\n",
        group: "root:x:0:root\nbin:x:1:root,bin,daemon\ndaemon:x:2:root,bin,daemon\nsys:x:3:root,bin,adm\nadm:x:4:root,adm,daemon\ntty:x:5:\ndisk:x:6:root,adm\nlp:x:7:lp\nmem:x:8:\nkmem:x:9:\nwheel:x:10:root,brannoc\nfloppy:x:11:root\nnews:x:13:news\nuucp:x:14:uucp\nconsole:x:17:\naudio:x:18:\ncdrom:x:19:\ndialout:x:20:\nsshd:x:22:\ntape:x:26:root\nvideo:x:27:root\ncdrw:x:80:\nusb:x:85:\nusers:x:100:\nportage:x:250:portage,brannoc\nnogroup:x:65533:\nnobody:x:65534:\nbrannoc:x:1000:\n",
        shadow: Some(
            "root:*:10770:0:::::\nbin:*:9797:0:::::\ndaemon:*:9797:0:::::\nadm:*:9797:0:::::\nlp:*:9797:0:::::\nsync:*:9797:0:::::\nshutdown:*:9797:0:::::\nhalt:*:9797:0:::::\nnews:*:9797:0:::::\nuucp:*:9797:0:::::\noperator:*:9797:0:::::\nportage:!:20600::::::\nnobody:*:9797:0:::::\nsshd:!:20600::::::\nbrannoc:HASH:20600:0:99999:7:::\n",
        ),
        gshadow: None,
        files: &[
            ("sbin/shutdown", "x"),
            ("sbin/halt", "x"),
            ("sbin/nologin", "x"),
            ("bin/false", "x"),
        ],
        directories: &[("home/brannoc", 1000, 1000, 0o700)],
    },
    Stock {
        name: "NixOS",
        about: "builders above all people, who share an empty home; shells below /run",
        passwd: "root:x:0:0:System administrator:/root:/run/current-system/sw/bin/bash\nmessagebus:x:4:4:D-Bus system message bus daemon user:/run/dbus:/run/current-system/sw/bin/nologin\nsshd:x:998:998:SSH privilege separation user:/var/empty:/run/current-system/sw/bin/nologin\nsystemd-network:x:152:152::/var/empty:/run/current-system/sw/bin/nologin\nnscd:x:997:997::/var/empty:/run/current-system/sw/bin/nologin\nnixbld1:x:30001:30000:Nix build user 1:/var/empty:/run/current-system/sw/bin/nologin\nnixbld2:x:30002:30000:Nix build user 2:/var/empty:/run/current-system/sw/bin/nologin\nnixbld3:x:30003:30000:Nix build user 3:/var/empty:/run/current-system/sw/bin/nologin\nnixbld4:x:30004:30000:Nix build user 4:/var/empty:/run/current-system/sw/bin/nologin\nnobody:x:65534:65534:Unprivileged account (don't use!):/var/empty:/run/current-system/sw/bin/nologin\nsunniva:x:1000:100:Sunniva Hale:/home/sunniva:/run/current-system/sw/bin/bash\n",
        group: "root:x:0:\nwheel:x:1:sunniva\nkmem:x:2:\ntty:x:3:\nmessagebus:x:4:\ndisk:x:6:\naudio:x:17:\nfloppy:x:18:\nuucp:x:19:\nlp:x:20:\ncdrom:x:24:\ntape:x:25:\nvideo:x:26:\ndialout:x:27:\nutmp:x:29:\nadm:x:55:\nkeys:x:96:\nusers:x:100:\nsystemd-journal:x:62:\nsystemd-network:x:152:\ninput:x:174:\nsshd:x:998:\nnscd:x:997:\nshadow:x:318:\nkvm:x:302:\nrender:x:303:\nsgx:x:304:\nnixbld:x:30000:nixbld1,nixbld2,nixbld3,nixbld4\nnogroup:x:65534:\n",
        shadow: Some(
            "root:!:1::::::\nmessagebus:!:1::::::\nsshd:!:1::::::\nsystemd-network:!:1::::::\nnscd:!:1::::::\nnixbld1:!:1::::::\nnixbld2:!:1::::::\nnixbld3:!:1::::::\nnixbld4:!:1::::::\nnobody:!:1::::::\nsunniva:HASH:1::::::\n",
        ),
        gshadow: None,
        files: &[
            (
                "etc/nsswitch.conf",
                "passwd:    files systemd\ngroup:     files [success=merge] systemd\nshadow:    files systemd\n",
            ),
            (
                "etc/shells",
                "/run/current-system/sw/bin/bash\n/run/current-system/sw/bin/sh\n/bin/sh\n",
            ),
            ("etc/subuid", "sunniva:100000:65536\n"),
            ("etc/subgid", "sunniva:100000:65536\n"),
        ],
        directories: &[("home/sunniva", 1000, 100, 0o700), ("var/empty", 0, 0, 0o555)],
    },
    Stock {
        name: "Guix System",
        about: "builders below the people, with an empty home of root's",
        passwd: "root:x:0:0:System administrator:/root:/run/current-system/profile/bin/bash\nguixbuilder01:x:999:30000:Guix build user 01:/var/empty:/run/current-system/profile/sbin/nologin\nguixbuilder02:x:998:30000:Guix build user 02:/var/empty:/run/current-system/profile/sbin/nologin\nguixbuilder03:x:997:30000:Guix build user 03:/var/empty:/run/current-system/profile/sbin/nologin\nnobody:x:65534:65534:Nobody:/nonexistent:/run/current-system/profile/sbin/nologin\nmessagebus:x:990:990::/var/run/dbus:/run/current-system/profile/sbin/nologin\ntavish:x:1000:998:Tavish Rowe:/home/tavish:/run/current-system/profile/bin/bash\n",
        group: "root:x:0:root\nwheel:x:999:root,tavish\nusers:x:998:\nnogroup:x:65534:\ntty:x:996:\ndialout:x:995:\nkmem:x:994:\ninput:x:993:\nvideo:x:992:tavish\naudio:x:991:tavish\nmessagebus:x:990:\nnetdev:x:989:tavish\nguixbuild:x:30000:guixbuilder01,guixbuilder02,guixbuilder03\nkvm:x:987:guixbuilder01,guixbuilder02,guixbuilder03\n",
        shadow: Some(
            "root:!:::::::\nguixbuilder01:!:::::::\nguixbuilder02:!:::::::\nguixbuilder03:!:::::::\nnobody:!:::::::\nmessagebus:!:::::::\ntavish:HASH:::::::\n",
        ),
        gshadow: None,
        files: &[(
            "etc/shells",
            "/run/current-system/profile/bin/sh\n/run/current-system/profile/bin/bash\n",
        )],
        directories: &[("home/tavish", 1000, 998, 0o700), ("var/empty", 0, 0, 0o555)],
    },
    Stock {
        name: "Void",
        about: "services whose names begin with an underscore",
        passwd: "root:x:0:0:root:/root:/bin/sh\nbin:x:1:1:bin:/bin:/bin/false\ndaemon:x:2:2:daemon:/sbin:/bin/false\nnobody:x:99:99:Unprivileged User:/dev/null:/bin/false\n_uuidd:x:999:999:_uuidd unprivileged user:/var/empty:/sbin/nologin\ndhcpcd:x:998:998:dhcpcd unprivileged user:/var/db/dhcpcd:/sbin/nologin\n_chrony:x:997:997:_chrony unprivileged user:/var/lib/chrony:/sbin/nologin\n",
        group: "root:x:0:\nbin:x:1:daemon\ndaemon:x:2:bin\nsys:x:3:bin\nadm:x:4:daemon\nwheel:x:5:\ntty:x:6:\ndisk:x:7:\nlp:x:8:daemon\nkmem:x:9:\ndialout:x:10:\ncdrom:x:11:\nfloppy:x:12:\naudio:x:13:\nvideo:x:14:\nusers:x:100:\nnogroup:x:99:\ninput:x:16:\nutmp:x:17:\nstorage:x:18:\nscanner:x:19:\noptical:x:20:\nnetwork:x:21:\nkvm:x:24:\n_uuidd:x:999:\ndhcpcd:x:998:\n_chrony:x:997:\n",
        shadow: Some(
            "root:*:14871::::::\nbin:!:14871::::::\ndaemon:!:14871::::::\nnobody:!:14871::::::\n_uuidd:!:20600:0:99999:7:::\ndhcpcd:!:20600:0:99999:7:::\n_chrony:!:20600:0:99999:7:::\n",
        ),
        gshadow: None,
        files: &[("sbin/nologin", "x"), ("bin/false", "x")],
        directories: &[],
    },
    Stock {
        name: "Slackware",
        about: "passwords may be empty in gshadow's place: there is none; halt and shutdown have shells",
        passwd: "root:x:0:0::/root:/bin/bash\nbin:x:1:1:bin:/bin:/bin/false\ndaemon:x:2:2:daemon:/sbin:/bin/false\nadm:x:3:4:adm:/var/log:/bin/false\nlp:x:4:7:lp:/var/spool/lpd:/bin/false\nsync:x:5:0:sync:/sbin:/bin/sync\nshutdown:x:6:0:shutdown:/sbin:/sbin/shutdown\nhalt:x:7:0:halt:/sbin:/sbin/halt\nmail:x:8:12:mail:/:/bin/false\nnews:x:9:13:news:/usr/lib/news:/bin/false\nuucp:x:10:14:uucp:/var/spool/uucppublic:/bin/false\noperator:x:11:0:operator:/root:/bin/bash\ngames:x:12:100:games:/usr/games:/bin/false\nftp:x:14:50::/home/ftp:/bin/false\nsmmsp:x:25:25:smmsp:/var/spool/clientmqueue:/bin/false\nrpc:x:32:32:RPC portmap user:/:/bin/false\nsshd:x:33:33:sshd:/:/bin/false\nnobody:x:99:99:nobody:/:/bin/false\n",
        group: "root:x:0:root\nbin:x:1:root,bin\ndaemon:x:2:root,bin,daemon\nsys:x:3:root,bin,adm\nadm:x:4:root,adm,daemon\ntty:x:5:\ndisk:x:6:root,adm\nlp:x:7:lp\nmem:x:8:\nkmem:x:9:\nwheel:x:10:root\nfloppy:x:11:\nmail:x:12:mail\nnews:x:13:news\nuucp:x:14:uucp\nman:x:15:\naudio:x:17:\nvideo:x:18:\ncdrom:x:19:\ngames:x:20:\nsmmsp:x:25:smmsp\nrpc:x:32:\nsshd:x:33:sshd\nshadow:x:43:\nftp:x:50:\nscanner:x:93:\nnobody:x:98:nobody\nnogroup:x:99:\nusers:x:100:\nconsole:x:101:\n",
        shadow: Some(
            "root:HASH:20600:0:::::\nbin:*:9797:0:::::\ndaemon:*:9797:0:::::\nadm:*:9797:0:::::\nlp:*:9797:0:::::\nsync:*:9797:0:::::\nshutdown:*:9797:0:::::\nhalt:*:9797:0:::::\nmail:*:9797:0:::::\nnews:*:9797:0:::::\nuucp:*:9797:0:::::\noperator:*:9797:0:::::\ngames:*:9797:0:::::\nftp:*:9797:0:::::\nsmmsp:*:9797:0:::::\nrpc:*:9797:0:::::\nsshd:*:9797:0:::::\nnobody:*:9797:0:::::\n",
        ),
        gshadow: None,
        files: &[("sbin/shutdown", "x"), ("sbin/halt", "x"), ("bin/false", "x")],
        directories: &[],
    },
    Stock {
        name: "a container image with nothing but programs",
        about: "no shadow, no shells, no administrator",
        passwd: "root:x:0:0:root:/root:/sbin/nologin\nnobody:x:65534:65534:nobody:/nonexistent:/sbin/nologin\nnonroot:x:65532:65532:nonroot:/home/nonroot:/sbin/nologin\n",
        group: "root:x:0:\nnobody:x:65534:\ntty:x:5:\nstaff:x:50:\nnonroot:x:65532:\n",
        shadow: None,
        gshadow: None,
        files: &[],
        directories: &[("home/nonroot", 65532, 65532, 0o700)],
    },
    Stock {
        name: "a minimal image with a few programs",
        about: "services that share /var, and passwords that nothing matches in passwd itself",
        passwd: "root:x:0:0:root:/root:/bin/sh\ndaemon:*:1:1:daemon:/var:/bin/false\nftp:*:55:55:ftp:/home/ftp:/bin/false\nnetwork:*:101:101:network:/var:/bin/false\nnobody:*:65534:65534:nobody:/var:/bin/false\nntp:x:123:123:ntp:/var/run/ntp:/bin/false\ndnsmasq:x:453:453:dnsmasq:/var/run/dnsmasq:/bin/false\n",
        group: "root:x:0:\ndaemon:x:1:\nadm:x:4:\nmail:x:8:\ndialout:x:20:\naudio:x:29:\nwww-data:x:33:\nftp:x:55:\nusers:x:100:\nnetwork:x:101:\nnogroup:x:65534:\nntp:x:123:ntp\ndnsmasq:x:453:dnsmasq\n",
        shadow: Some(
            "root:HASH:20600:0:99999:7:::\ndaemon:*:0:0:99999:7:::\nftp:*:0:0:99999:7:::\nnetwork:*:0:0:99999:7:::\nnobody:*:0:0:99999:7:::\nntp:x:0:0:99999:7:::\ndnsmasq:x:0:0:99999:7:::\n",
        ),
        gshadow: None,
        files: &[("etc/shells", "/bin/sh\n"), ("bin/false", "x")],
        directories: &[],
    },
];

impl Stock {
    /// The tree of such a system.
    pub fn tree(&self) -> TestTree {
        let tree = TestTree::empty();
        let hashed = |text: &str| {
            HASHES.iter().fold(text.to_owned(), |text, hash| text.replacen("HASH", hash, 1))
        };
        for (path, text, mode) in [
            ("etc/passwd", Some(self.passwd), 0o644),
            ("etc/group", Some(self.group), 0o644),
            ("etc/shadow", self.shadow, 0o640),
            ("etc/gshadow", self.gshadow, 0o640),
        ] {
            let Some(text) = text else { continue };
            tree.write(path, hashed(text));
            tree.chmod(path, mode);
        }
        for path in ["bin/bash", "bin/sh", "bin/sync", "usr/bin/bash", "usr/sbin/nologin"] {
            if self.shadow.is_some() {
                tree.write(path, "a program\n");
                tree.chmod(path, 0o755);
            }
        }
        for (path, text) in self.files {
            tree.write(path, text);
            tree.chmod(path, if path.contains("bin/") { 0o755 } else { 0o644 });
        }
        fs::create_dir_all(tree.path("root")).unwrap();
        tree.chmod("root", 0o700);
        fs::create_dir_all(tree.path("var/lib")).unwrap();
        if !tree.exists("etc/shells") && self.shadow.is_some() {
            tree.write("etc/shells", "/bin/sh\n/bin/bash\n");
        }
        // As packages lay the spool out: what is old leads to what is new.
        fs::create_dir_all(tree.path("var/mail")).unwrap();
        symlink("../mail", tree.path("var/spool-mail")).unwrap();
        for (path, uid, gid, mode) in self.directories {
            if !tree.exists(path) {
                fs::create_dir_all(tree.path(path)).unwrap();
            }
            if is_root() {
                tree.chown(path, *uid, *gid);
            }
            tree.chmod(path, *mode);
        }
        tree
    }
}

/// The rows of a table: each family, what is special about it, and what check says.
pub fn table() -> String {
    let mut page =
        "\n## Systems as they are installed\n\nNothing that a system ships is an alarm. \
                    These are the account files of system families, as\ntheir releases install \
                    them, and what check says of each.\n\n\
                    | system | what is special | what check says |\n|---|---|---|\n"
            .to_owned();
    for family in FAMILIES {
        let report = family.tree().json("check --allow-skipped");
        let mut rules: BTreeMap<String, usize> = BTreeMap::new();
        for finding in report["findings"].as_array().unwrap() {
            let rule = finding["rule"].as_str().unwrap().to_owned();
            *rules.entry(rule).or_default() += 1;
        }
        let said: Vec<String> =
            rules.iter().map(|(rule, count)| format!("{count} × {rule} (note)")).collect();
        let said = if said.is_empty() { "nothing".to_owned() } else { said.join(", ") };
        page += &format!("| {} | {} | {said} |\n", family.name, family.about);
    }
    page
}

#[test]
fn a_stock_system_raises_no_alarm() {
    let mut alarms = Vec::new();
    for family in FAMILIES {
        let tree = family.tree();
        let run = tree.run("check --fail-on warning --allow-skipped");
        let loud = |line: &&str| !line.contains(": note ");
        let loud: Vec<&str> = run.stdout.lines().filter(loud).collect();
        if run.status != 0 {
            alarms.push(format!("{}:\n  {}\n{}", family.name, loud.join("\n  "), run.stderr));
        }
    }
    assert!(alarms.is_empty(), "{}", alarms.join("\n"));
}
