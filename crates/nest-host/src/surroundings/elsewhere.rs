//! Users and groups that other files of the tree than the account files know.

use bstr::{BString, ByteSlice};
use nest_core::surroundings::Elsewhere;
use nest_core::table::{File, Group, Lines, Passwd, Record};
use nest_core::value::{Gid, Uid};
use rustix::fs::OFlags;
use rustix::io::Errno;
use serde::Deserialize;

use crate::tree::Tree;
use crate::untrusted::{self, LastLink, STATE, Unreadable};
use crate::words::why;

/// Lists in the form of passwd and group: those an image brings, nss-altfiles(8), and those of
/// an overlay over a read-only system.
const LISTS: [(&str, File); 4] = [
    ("usr/lib/passwd", File::Passwd),
    ("usr/lib/group", File::Group),
    ("var/lib/extrausers/passwd", File::Passwd),
    ("var/lib/extrausers/group", File::Group),
];

/// Directories of records, nss-systemd(8): a file for each user and group.
const RECORDS: [&str; 4] = ["etc/userdb", "run/userdb", "run/host/userdb", "usr/lib/userdb"];

/// Where the identities of homes that carry their account with them are known.
const IDENTITIES: &str = "var/lib/systemd/home";

/// Where a container manager is told whose ranges it takes, containers-storage.conf(5).
const STORAGE: [&str; 2] = ["etc/containers/storage.conf", "usr/share/containers/storage.conf"];

/// The owner of the ranges that containers get which ask for one of their own.
const RANGE_OWNER: &str = "containers";

/// The fields of a user's or a group's record that are needed here, see
/// <https://systemd.io/USER_RECORD> and <https://systemd.io/GROUP_RECORD>.
#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct UserDatabaseRecord {
    user_name: Option<String>,
    group_name: Option<String>,
    uid: Option<u32>,
    gid: Option<u32>,
}

/// Reads them all.
pub(super) fn read(tree: &Tree) -> Elsewhere {
    let mut elsewhere = Elsewhere::default();
    for (path, file) in LISTS {
        match untrusted::read(tree, path, LastLink::Followed, STATE) {
            Ok(text) => take_list(&mut elsewhere, file, text),
            Err(error) => note(&mut elsewhere, path, &error),
        }
    }
    for folder in RECORDS {
        for name in names(tree, folder, &mut elsewhere) {
            take_record(tree, folder, &name, &mut elsewhere);
        }
    }
    for name in names(tree, IDENTITIES, &mut elsewhere) {
        if let Some(user) = name.strip_suffix(".identity") {
            elsewhere.users.insert(user.into(), None);
        }
    }
    elsewhere.range_owners.insert(RANGE_OWNER.into());
    for path in STORAGE {
        let text = untrusted::read_configuration(tree, path).unwrap_or_default();
        elsewhere.range_owners.extend(range_owner(&text));
    }
    elsewhere
}

/// What can't be read may know anybody.
fn note(elsewhere: &mut Elsewhere, path: &str, error: &Unreadable) {
    if !error.is_missing() {
        elsewhere
            .unread
            .get_or_insert_with(|| format!("{path}, which may know more users, {}", why(error)));
    }
}

fn take_list(elsewhere: &mut Elsewhere, file: File, text: Vec<u8>) {
    let lines = Lines::new(file, std::sync::Arc::new(text));
    for line in lines.iter().filter(|line| line.is_record()) {
        match file {
            File::Group => {
                let group = Group::read(line.record());
                group.map(|group| elsewhere.groups.insert(group.name.into(), group.gid()));
            }
            _ => {
                let user = Passwd::read(line.record());
                user.map(|user| elsewhere.users.insert(user.name.into(), user.uid()));
            }
        }
    }
}

/// The names of what is in a folder.
fn names(tree: &Tree, folder: &str, elsewhere: &mut Elsewhere) -> Vec<String> {
    let opened = match tree.open_file(folder, OFlags::RDONLY | OFlags::DIRECTORY) {
        Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return Vec::new(),
        opened => opened.and_then(|folder| crate::tree::names(&folder)),
    };
    match opened {
        Ok(names) => names.into_iter().filter_map(|name| name.into_string().ok()).collect(),
        Err(error) => {
            note(elsewhere, folder, &error.into());
            Vec::new()
        }
    }
}

/// Takes in one record. It is called after its name, and, by a link, after its number.
fn take_record(tree: &Tree, folder: &str, name: &str, elsewhere: &mut Elsewhere) {
    let (stem, is_user) = match (name.strip_suffix(".user"), name.strip_suffix(".group")) {
        (Some(stem), _) => (stem, true),
        (_, Some(stem)) => (stem, false),
        _ => return,
    };
    let path = format!("{folder}/{name}");
    let record = untrusted::read_configuration(tree, &path)
        .inspect_err(|error| note(elsewhere, &path, error))
        .ok()
        .and_then(|text| serde_json::from_slice::<UserDatabaseRecord>(&text).ok());
    let (named, uid, gid) = match record {
        Some(record) if is_user => (record.user_name, record.uid.map(Uid), None),
        Some(record) => (record.group_name, None, record.gid.map(Gid)),
        None => (None, None, None),
    };
    // Even where it can't be understood its name says whose it is.
    let name: BString = named.unwrap_or_else(|| stem.to_owned()).into();
    if is_user {
        elsewhere.users.insert(name, uid);
    } else {
        elsewhere.groups.insert(name, gid);
    }
}

/// Whose ranges a container manager takes: `root-auto-userns-user = "NAME"`.
fn range_owner(text: &[u8]) -> Option<BString> {
    let owner = text.lines().find_map(|line| {
        let (key, value) = line.split_once_str("=")?;
        (key.trim_ascii() == b"root-auto-userns-user")
            .then(|| value.trim_ascii().trim_with(|c| c == '"'))
    })?;
    (!owner.is_empty()).then(|| owner.into())
}
