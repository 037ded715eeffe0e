//! Lines of configuration that name a user.

use std::collections::HashMap;

use bstr::{BStr, BString, ByteSlice};
use nest_core::surroundings::{FileKind, Mention};
use rustix::fs::{Dir, FileType, OFlags};
use rustix::io::Errno;

use crate::state::{Notices, PassedOver};
use crate::tree::Tree;
use crate::untrusted::{Unreadable, read_configuration};

/// Files that grant something by name.
const GRANTING: [&str; 4] =
    ["etc/sudoers", "etc/ssh/sshd_config", "etc/security/access.conf", "etc/cron.allow"];
/// Directories of such files.
const GRANTING_DIRECTORIES: [&str; 2] = ["etc/sudoers.d", "etc/ssh/sshd_config.d"];
/// Where services are told which user they run as.
const UNITS: [&str; 2] = ["etc/systemd/system", "usr/lib/systemd/system"];

/// Every word on a line that may grant something, and where it stands.
pub(crate) fn granted(tree: &Tree, notices: &Notices) -> HashMap<BString, Vec<Mention>> {
    let mut granted: HashMap<BString, Vec<Mention>> = HashMap::new();
    let below = GRANTING_DIRECTORIES.iter().flat_map(|directory| files_in(tree, directory));
    for file in GRANTING.map(str::to_owned).into_iter().chain(below) {
        let Some(text) = read(tree, &file, notices) else { continue };
        for (at, line) in said(&text) {
            let here = Mention { file: file.clone(), line: at + 1 };
            for word in words(line).filter(|word| !word.is_empty()) {
                let known = granted.entry(word.into()).or_default();
                if known.last() != Some(&here) {
                    known.push(here.clone());
                }
            }
        }
    }
    granted
}

/// Whether each file of sudoers can be read.
///
/// # Errors
/// The first that can't, and why not.
pub(crate) fn sudoers_is_known(tree: &Tree) -> Result<(), String> {
    const BELOW: &str = "etc/sudoers.d";
    match tree.open_file(BELOW, OFlags::RDONLY | OFlags::DIRECTORY) {
        Ok(_) | Err(Errno::NOENT) => {}
        Err(error) => return Err(format!("{BELOW} can't be looked through: {error}")),
    }
    for file in std::iter::once("etc/sudoers".to_owned()).chain(files_in(tree, BELOW)) {
        match read_configuration(tree, &file) {
            Ok(_) => {}
            Err(unreadable) if unreadable.is_missing() => {}
            Err(unreadable) => return Err(format!("{file} {unreadable}")),
        }
    }
    Ok(())
}

/// Lines that would dangle if the name went: grants, mail aliases, the users that
/// services run as.
pub(crate) fn of_user(tree: &Tree, name: &BStr, notices: &Notices) -> Vec<Mention> {
    let place = MentionSearch { tree, name, notices };
    let mut mentions = granted(tree, notices).remove(name.as_bytes()).unwrap_or_default();
    place.in_file("etc/aliases", &mut mentions, |_| true);
    for directory in UNITS {
        for file in files_in(tree, directory) {
            place.in_file(&file, &mut mentions, |line| line.starts_with(b"User="));
        }
    }
    mentions
}

/// Where device files get their groups.
const DEVICE_RULES: [&str; 2] = ["etc/udev/rules.d", "usr/lib/udev/rules.d"];

/// Lines that would dangle if the name of a group went: grants to `%name` and the
/// like, the groups that services run with, the groups of devices.
pub(crate) fn of_group(tree: &Tree, name: &BStr, notices: &Notices) -> Vec<Mention> {
    let place = MentionSearch { tree, name, notices };
    let mut mentions = Vec::new();
    let percent = [b"%", name.as_bytes()].concat();
    let of_sudoers = |line: &[u8]| line.contains_str(&percent);
    place.in_file("etc/sudoers", &mut mentions, of_sudoers);
    for file in files_in(tree, "etc/sudoers.d") {
        place.in_file(&file, &mut mentions, of_sudoers);
    }
    let of_sshd = |line: &[u8]| line.to_ascii_lowercase().contains_str("group");
    place.in_file("etc/ssh/sshd_config", &mut mentions, of_sshd);
    for file in files_in(tree, "etc/ssh/sshd_config.d") {
        place.in_file(&file, &mut mentions, of_sshd);
    }
    place.in_file("etc/security/access.conf", &mut mentions, |_| true);
    for file in UNITS.iter().flat_map(|directory| files_in(tree, directory)) {
        let of_unit =
            |line: &[u8]| line.starts_with(b"Group=") || line.starts_with(b"SupplementaryGroups=");
        place.in_file(&file, &mut mentions, of_unit);
    }
    for file in DEVICE_RULES.iter().flat_map(|directory| files_in(tree, directory)) {
        place.in_file(&file, &mut mentions, |line| line.contains_str("GROUP"));
    }
    mentions
}

/// What is looked for, and where.
struct MentionSearch<'a> {
    tree: &'a Tree,
    name: &'a BStr,
    notices: &'a Notices,
}

impl MentionSearch<'_> {
    fn in_file(&self, file: &str, mentions: &mut Vec<Mention>, counts: impl Fn(&[u8]) -> bool) {
        let Some(text) = read(self.tree, file, self.notices) else { return };
        for (at, line) in said(&text) {
            if counts(line) && words(line).any(|word| word == self.name) {
                mentions.push(Mention { file: file.to_owned(), line: at + 1 });
            }
        }
    }
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

/// The paths of what is in a directory, sorted; hidden files are left out.
pub(crate) fn files_in(tree: &Tree, directory: &str) -> Vec<String> {
    let opened = tree.open_file(directory, OFlags::RDONLY | OFlags::DIRECTORY);
    let Ok(entries) = opened.and_then(Dir::new) else { return Vec::new() };
    let mut files: Vec<String> = entries
        .filter_map(Result::ok)
        .filter(|entry| entry.file_type() != FileType::Directory)
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .filter(|file| !file.starts_with('.'))
        .map(|file| format!("{directory}/{file}"))
        .collect();
    files.sort();
    files
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
                "etc/sudoers.d/harbour:3"
            ]
        );
        assert_eq!(of("tavish.r").unwrap(), ["etc/ssh/sshd_config:1"]);
        assert_eq!(of("s\u{f8}ren").unwrap(), ["etc/ssh/sshd_config:1"]);
        assert_eq!((of("may"), of("tavish"), of("")), (None, None, None));
    }

    #[test]
    fn what_would_dangle_is_more_than_what_is_granted() {
        let (_folder, tree) = tree();
        let all = told(&of_user(&tree, "maren".into(), &Notices::default()));
        assert_eq!(all.len(), 6, "{all:?}");
        assert_eq!(all[4..], ["etc/aliases:1", "etc/systemd/system/tides.service:2"]);
        let group = told(&of_group(&tree, "pilots".into(), &Notices::default()));
        assert_eq!(group, ["etc/sudoers:3", "etc/systemd/system/tides.service:3"]);
        assert_eq!(told(&of_user(&tree, "perrin".into(), &Notices::default())), [""; 0]);
    }
}
