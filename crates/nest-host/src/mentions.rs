//! Lines of configuration that name a user.

use std::collections::{BTreeMap, HashMap};

use bstr::{BStr, BString, ByteSlice};
use nest_core::sudo::{Named, Sudoers};
use nest_core::surroundings::Mention;
use nest_core::value::FileKind;
use rustix::fs::OFlags;
use rustix::io::Errno;

use crate::state::{Notices, PassedOver};
use crate::tree::Tree;
use crate::untrusted::{Unreadable, read_configuration};
use crate::words::why;

/// Files that grant something by name.
const GRANTING: [&str; 4] =
    ["etc/sudoers", "etc/ssh/sshd_config", "etc/security/access.conf", "etc/cron.allow"];
/// Of them, what the SSH server goes by.
const SSHD: (&str, &str) = ("etc/ssh/sshd_config", "etc/ssh/sshd_config.d");
/// Directories of such files.
const GRANTING_DIRECTORIES: [&str; 2] = ["etc/sudoers.d", "etc/ssh/sshd_config.d"];
/// Where services are told which user they run as.
const UNITS: [&str; 2] = ["etc/systemd/system", "usr/lib/systemd/system"];
/// Where it is said how much of the machine each may use, limits.conf(5).
const LIMITS: (&str, &str) = ("etc/security/limits.conf", "etc/security/limits.d");

/// Names, each with the lines that say it.
pub(crate) type Mentions = HashMap<BString, Vec<Mention>>;

/// Every word on a line that may grant something, and where it stands.
pub(crate) fn granted(tree: &Tree, notices: &Notices) -> Mentions {
    let mut index = Index::new(tree, notices);
    let below = GRANTING_DIRECTORIES.iter().flat_map(|directory| tree.files_in(directory));
    for file in GRANTING.map(str::to_owned).into_iter().chain(below) {
        index.take(&file, |line| words(line).collect());
    }
    for (name, here) in run_by_crontabs(tree, notices) {
        index.found.entry(name).or_default().push(here);
    }
    index.found
}

/// Where crontabs say as whom each line runs, crontab(5).
const SYSTEM_CRONTABS: (&str, &str) = ("etc/crontab", "etc/cron.d");
/// Where the crontabs of users are, each called after its own.
const CRONTABS: [&str; 2] = ["var/spool/cron/crontabs", "var/spool/cron"];

/// The users that sudoers(5), crontab(5) and sshd_config(5) name, each with the lines that do.
pub(crate) fn names_granted(
    tree: &Tree,
    sudoers: &Sudoers,
    notices: &Notices,
) -> Vec<(BString, Vec<Mention>)> {
    let mut named: BTreeMap<BString, Vec<Mention>> = BTreeMap::new();
    let mut add = |name: &[u8], file: &str, line: usize| {
        let places = named.entry(name.into()).or_default();
        places.push(Mention { file: file.to_owned(), line });
    };
    for (named, place) in sudoers.named() {
        if let Named::User(name) = named
            && is_name(&name)
        {
            add(&name, &place.file.to_string(), place.line);
        }
    }
    for file in one_and(tree, SSHD) {
        for (at, line) in read(tree, &file, notices).iter().flat_map(|text| said(text)) {
            for name in users_of_sshd(line) {
                add(name, &file, at + 1);
            }
        }
    }
    for (name, here) in run_by_crontabs(tree, notices) {
        add(&name, &here.file, here.line);
    }
    for directory in CRONTABS {
        for file in tree.files_in(directory) {
            let name = file.rsplit('/').next().unwrap_or_default();
            add(name.as_bytes(), &file, 0);
        }
    }
    named.into_iter().collect()
}

/// A file, and those of the directory that goes with it.
fn one_and(tree: &Tree, (file, directory): (&str, &str)) -> Vec<String> {
    std::iter::once(file.to_owned()).chain(tree.files_in(directory)).collect()
}

/// As whom the lines of the system's crontabs run.
fn run_by_crontabs(tree: &Tree, notices: &Notices) -> Vec<(BString, Mention)> {
    let mut run = Vec::new();
    for file in one_and(tree, SYSTEM_CRONTABS) {
        for (at, line) in read(tree, &file, notices).iter().flat_map(|text| said(text)) {
            if let Some(name) = user_of_crontab(line) {
                run.push((name.into(), Mention { file: file.clone(), line: at + 1 }));
            }
        }
    }
    run
}

/// Where services are set up, files that add to others included.
fn units(tree: &Tree) -> Vec<String> {
    let mut files = Vec::new();
    for directory in UNITS {
        files.extend(tree.files_in(directory));
        let below = tree.directories_in(directory).into_iter().filter(|one| one.ends_with(".d"));
        files.extend(below.flat_map(|one| tree.files_in(&one)));
    }
    files
}

/// Whether a word is the name of one user: no group, alias, pattern or number.
fn is_name(word: &[u8]) -> bool {
    let starts = matches!(word.first(), Some(b'a'..=b'z' | b'_'));
    starts && word.iter().all(|byte| byte.is_ascii_alphanumeric() || b"_-.".contains(byte))
}

/// The users that a line of sshd_config names.
fn users_of_sshd(line: &[u8]) -> Vec<&[u8]> {
    let mut words = line.fields();
    let key = words.next().unwrap_or_default().to_ascii_lowercase();
    let words: Vec<&[u8]> = match &key[..] {
        b"allowusers" | b"denyusers" => words.collect(),
        b"match" => {
            let words: Vec<&[u8]> = words.collect();
            let user = words.iter().position(|word| word.eq_ignore_ascii_case(b"user"));
            let list = user.and_then(|at| words.get(at + 1)).copied().unwrap_or_default();
            list.split_str(",").collect()
        }
        _ => Vec::new(),
    };
    // What follows an @ is where they come from.
    let users = words.into_iter().filter_map(|word| word.split_str("@").next());
    users.filter(|word| is_name(word)).collect()
}

/// As whom a line of a system crontab runs.
fn user_of_crontab(line: &[u8]) -> Option<&[u8]> {
    let words: Vec<&[u8]> = line.fields().collect();
    let first = *words.first()?;
    let (at, is_time) = match first.first()? {
        b'@' => (1, true),
        _ => (5, first.iter().all(|byte| byte.is_ascii_digit() || b"*/,-".contains(byte))),
    };
    words.get(at).copied().filter(|word| is_time && is_name(word))
}

/// Whether each file of sudoers can be read.
///
/// # Errors
/// The first that can't, and why not.
pub(crate) fn sudoers_is_known(tree: &Tree) -> Result<(), String> {
    const BELOW: &str = "etc/sudoers.d";
    match tree.open_file(BELOW, OFlags::RDONLY | OFlags::DIRECTORY) {
        Ok(_) | Err(Errno::NOENT) => {}
        Err(error) => return Err(format!("{BELOW} can't be looked through: {}", why(error))),
    }
    for file in std::iter::once("etc/sudoers".to_owned()).chain(tree.files_in(BELOW)) {
        match read_configuration(tree, &file) {
            Ok(_) => {}
            Err(unreadable) if unreadable.is_missing() => {}
            Err(unreadable) => return Err(format!("{file} {unreadable}")),
        }
    }
    Ok(())
}

/// Lines that would dangle if the name of a user went, beside [`granted`]: mail aliases, limits,
/// the users that services run as.
pub(crate) fn of_users(tree: &Tree, notices: &Notices) -> Mentions {
    let mut index = Index::new(tree, notices);
    index.take("etc/aliases", |line| words(line).collect());
    for file in one_and(tree, LIMITS) {
        index.take(&file, |line| line.fields().take(1).collect());
    }
    for file in units(tree) {
        index.take(&file, |line| set_by(&["User="], line));
    }
    index.found
}

/// Where device files get their groups.
const DEVICE_RULES: [&str; 2] = ["etc/udev/rules.d", "usr/lib/udev/rules.d"];

/// Lines that would dangle if the name of a group went: grants to `%name` and the
/// like, the groups that services run with, the groups of devices.
pub(crate) fn of_groups(tree: &Tree, notices: &Notices) -> Mentions {
    let mut index = Index::new(tree, notices);
    for file in one_and(tree, ("etc/sudoers", "etc/sudoers.d")) {
        index.take(&file, |line| {
            let after = line.split_str("%").skip(1);
            after.filter_map(|rest| words(rest).next()).collect()
        });
    }
    for file in one_and(tree, SSHD) {
        index.take(&file, |line| match line.to_ascii_lowercase().contains_str("group") {
            true => words(line).collect(),
            false => Vec::new(),
        });
    }
    index.take("etc/security/access.conf", |line| words(line).collect());
    for file in one_and(tree, LIMITS) {
        index.take(&file, |line| {
            let first = line.fields().take(1);
            first.filter_map(|first| first.strip_prefix(b"@")).collect()
        });
    }
    for file in units(tree) {
        index.take(&file, |line| set_by(&["Group=", "SupplementaryGroups="], line));
    }
    for file in DEVICE_RULES.iter().flat_map(|directory| tree.files_in(directory)) {
        index.take(&file, |line| match line.contains_str("GROUP") {
            true => words(line).collect(),
            false => Vec::new(),
        });
    }
    index.found
}

/// Lines of services, of the system's crontabs and of the SSH server that have a path.
pub(crate) fn with_paths(tree: &Tree, notices: &Notices) -> Vec<(Mention, BString)> {
    let files = one_and(tree, SYSTEM_CRONTABS).into_iter();
    let files = files.chain(one_and(tree, SSHD)).chain(units(tree));
    files.flat_map(|file| with_path(tree, &file, notices)).collect()
}

/// The lines of a user's own crontabs that have a path.
pub(crate) fn of_own_crontabs(
    tree: &Tree,
    user: &BStr,
    notices: &Notices,
) -> Vec<(Mention, BString)> {
    let own = CRONTABS.iter().map(|directory| format!("{directory}/{user}"));
    own.flat_map(|file| with_path(tree, &file, notices)).collect()
}

fn with_path(tree: &Tree, file: &str, notices: &Notices) -> Vec<(Mention, BString)> {
    let Some(text) = read(tree, file, notices) else { return Vec::new() };
    let lines = said(&text).filter(|(_, line)| line.contains(&b'/'));
    let mention = |at| Mention { file: file.to_owned(), line: at + 1 };
    lines.map(|(at, line)| (mention(at), line.into())).collect()
}

/// Of these lines those that run or keep something at a path.
pub(crate) fn of_path(lines: &[(Mention, BString)], path: &BStr) -> Vec<Mention> {
    let held = lines.iter().filter(|(_, line)| holds_path(line, path));
    held.map(|(mention, _)| mention.clone()).collect()
}

/// Whether a line holds a path, or one below it.
fn holds_path(line: &[u8], path: &[u8]) -> bool {
    let goes_on =
        |byte: &u8| byte.is_ascii_alphanumeric() || b"_-.".contains(byte) || *byte >= 0x80;
    line.find_iter(path).any(|at| {
        let before = at.checked_sub(1).and_then(|before| line.get(before));
        let after = line.get(at + path.len());
        !before.is_some_and(goes_on) && !after.is_some_and(goes_on)
    })
}

/// Files are read once, however many names are asked for.
struct Index<'a> {
    tree: &'a Tree,
    notices: &'a Notices,
    found: Mentions,
}

impl<'a> Index<'a> {
    fn new(tree: &'a Tree, notices: &'a Notices) -> Self {
        Index { tree, notices, found: Mentions::new() }
    }

    /// Takes each name that the lines of a file say, once a line.
    fn take(&mut self, file: &str, names: impl Fn(&[u8]) -> Vec<&[u8]>) {
        let Some(text) = read(self.tree, file, self.notices) else { return };
        for (at, line) in said(&text) {
            let here = Mention { file: file.to_owned(), line: at + 1 };
            for name in names(line).into_iter().filter(|name| !name.is_empty()) {
                let known = self.found.entry(name.into()).or_default();
                if known.last() != Some(&here) {
                    known.push(here.clone());
                }
            }
        }
    }
}

/// The names that a line of a service gives to one of these settings.
fn set_by<'l>(settings: &[&str], line: &'l [u8]) -> Vec<&'l [u8]> {
    let value = settings.iter().find_map(|setting| line.strip_prefix(setting.as_bytes()));
    value.into_iter().flat_map(words).collect()
}

/// A file of configuration. One that is there and can't be read is told.
fn read(tree: &Tree, file: &str, notices: &Notices) -> Option<Vec<u8>> {
    match read_configuration(tree, file) {
        Ok(text) => Some(text),
        Err(unreadable) => {
            // Without root much of it is closed to everybody; and a service that is masked is
            // a link to a device.
            let masked = UNITS.iter().any(|units| file.starts_with(units))
                && matches!(unreadable, Unreadable::NotAFile(FileKind::Device));
            if !unreadable.is_missing() && !masked && rustix::process::geteuid().is_root() {
                notices.note([PassedOver::new(file, &unreadable)]);
            }
            None
        }
    }
}

/// The lines that are no comments, with how many come before each.
fn said(text: &[u8]) -> impl Iterator<Item = (usize, &[u8])> {
    text.lines().enumerate().filter(|(_, line)| !line.trim_ascii_start().starts_with(b"#"))
}

/// What could be names on a line.
fn words(line: &[u8]) -> impl Iterator<Item = &[u8]> {
    line.split(|byte| {
        !(byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-' | b'.') || *byte >= 0x80)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree() -> (tempfile::TempDir, Tree) {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in [
            (
                "etc/sudoers",
                "# maren may not\nmaren ALL=(ALL) ALL\n%pilots, odile ALL=(maren) ALL\n",
            ),
            ("etc/sudoers.d/harbour", "\nodile,maren HOST=ALL\nmaren maren\n"),
            ("etc/sudoers.d/.hidden", "maren ALL\n"),
            ("etc/ssh/sshd_config", "AllowUsers s\u{f8}ren tavish.r\n"),
            ("etc/aliases", "postmaster: maren\n"),
            ("etc/systemd/system/tides.service", "[Service]\nUser=maren\nGroup=pilots\n"),
            (
                "etc/systemd/system/fog.service.d/crew.conf",
                "[Service]\nUser=maren\nWorkingDirectory=/home/maren/fog\n",
            ),
            ("etc/cron.d/tides", "# maren\n7 * * * * maren /home/marenka/t\n@daily root x maren\n"),
            (
                "etc/security/limits.d/crew.conf",
                "maren hard nproc 90\n@pilots - nice 0\n* soft maren\n",
            ),
            (
                "var/spool/cron/crontabs/maren",
                "# /home/maren\n1 2 * * * (cd /home/maren; ./tides)\n* * * * * /srv/home/maren\n",
            ),
        ] {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        let tree = Tree::open(folder.path()).unwrap();
        (folder, tree)
    }

    fn told(mentions: &[Mention]) -> Vec<String> {
        mentions.iter().map(|mention| format!("{}:{}", mention.file, mention.line)).collect()
    }

    #[test]
    fn every_word_of_a_grant_is_found_on_its_line_once() {
        let (_folder, tree) = tree();
        let granted = granted(&tree, &Notices::default());
        let of = |name: &str| granted.get(name.as_bytes()).map(|found| told(found));
        assert_eq!(
            of("maren").unwrap(),
            [
                "etc/sudoers:2",
                "etc/sudoers:3",
                "etc/sudoers.d/harbour:2",
                "etc/sudoers.d/harbour:3",
                "etc/cron.d/tides:2"
            ]
        );
        assert_eq!(of("tavish.r").unwrap(), ["etc/ssh/sshd_config:1"]);
        assert_eq!(of("s\u{f8}ren").unwrap(), ["etc/ssh/sshd_config:1"]);
        assert_eq!((of("may"), of("tavish"), of("")), (None, None, None));
    }

    #[test]
    fn the_users_that_a_line_names_are_told_from_all_else() {
        let names = |words: Vec<&[u8]>| {
            words.into_iter().map(|word| word.to_str_lossy().into_owned()).collect::<Vec<_>>()
        };
        let sshd = |line: &str| names(users_of_sshd(line.as_bytes()));
        assert_eq!(sshd("AllowUsers maren odalys@10.0.0.* pilot*"), ["maren", "odalys"]);
        assert_eq!(sshd("Match User maren,!tavish Address 10.0.0.0/8"), ["maren"]);
        assert_eq!(sshd("AllowGroups pilots"), [""; 0]);
        let cron = |line: &str| {
            user_of_crontab(line.as_bytes()).map(|name| name.to_str_lossy().into_owned())
        };
        assert_eq!(cron("17 * * * * tidegauge  run"), Some("tidegauge".into()));
        assert_eq!(cron("@reboot maren run"), Some("maren".into()));
        assert_eq!(cron("MAILTO=maren a b c d e f"), None);
    }

    #[test]
    fn what_would_dangle_is_more_than_what_is_granted() {
        let (_folder, tree) = tree();
        let notices = Notices::default();
        let users = of_users(&tree, &notices);
        assert_eq!(
            told(&users[BStr::new("maren")]),
            [
                "etc/aliases:1",
                "etc/security/limits.d/crew.conf:1",
                "etc/systemd/system/tides.service:2",
                "etc/systemd/system/fog.service.d/crew.conf:2"
            ]
        );
        assert!(!users.contains_key(BStr::new("User")) && !users.contains_key(BStr::new("perrin")));
        assert_eq!(
            told(&of_groups(&tree, &notices)[BStr::new("pilots")]),
            [
                "etc/sudoers:3",
                "etc/security/limits.d/crew.conf:2",
                "etc/systemd/system/tides.service:3"
            ]
        );
        let mut lines = of_own_crontabs(&tree, "maren".into(), &notices);
        lines.extend(with_paths(&tree, &notices));
        assert_eq!(
            told(&of_path(&lines, "/home/maren".into())),
            ["var/spool/cron/crontabs/maren:2", "etc/systemd/system/fog.service.d/crew.conf:3"]
        );
    }
}
