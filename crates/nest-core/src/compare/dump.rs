//! A dump of a directory as a side.

use std::collections::HashMap;

use super::Side;
use crate::ldif::{DirectoryAccounts, DirectoryGroup, DirectoryUser};
use crate::snapshot::{GroupsSaid, Snapshot, SnapshotGroup, SnapshotUser, Text, VERSION};

/// What a directory says.
pub fn of_dump(accounts: &DirectoryAccounts, name: String) -> (Side, Snapshot<'static>) {
    let text = |text: &[u8]| Text::of(text).into_owned();
    let groups: HashMap<u32, &DirectoryGroup> =
        accounts.groups.iter().rev().map(|group| (group.gid, group)).collect();
    let user = |user: &DirectoryUser| SnapshotUser {
        name: text(&user.name),
        uid: Some(user.uid),
        gid: Some(user.gid),
        primary: groups.get(&user.gid).map(|group| text(&group.name)),
        full_name: Some(text(&user.full_name)),
        home: Some(text(&user.home)),
        shell: user.shell.as_ref().map(|shell| text(shell)),
        expires: user.says_aging.then(|| match user.expires {
            Some(day) => day.to_string().into(),
            None => "never".to_owned().into(),
        }),
        groups: match accounts.groups.is_empty() {
            true => GroupsSaid::Nothing,
            false => GroupsSaid::ByGroups,
        },
        ..SnapshotUser::default()
    };
    let group = |(group, own): (&DirectoryGroup, bool)| SnapshotGroup {
        name: text(&group.name),
        gid: Some(group.gid),
        kind: own.then(|| "private".to_owned().into()),
        members: group.members.iter().map(|member| text(member)).collect(),
        admins: None,
        files: None,
    };
    let side = Side {
        name,
        tells_users: !accounts.users.is_empty(),
        tells_groups: !accounts.groups.is_empty(),
    };
    let snapshot = Snapshot {
        version: VERSION,
        users: accounts.users.iter().map(user).collect(),
        groups: accounts.told_apart().into_iter().map(group).collect(),
        ..Snapshot::default()
    };
    (side, snapshot)
}
