//! A table as a side: what its rows say, and nothing of what they don't.

use super::Side;
use crate::order;
use crate::roster::{Column, Roster, RosterRow, RowBuffer, RowRequest};
use crate::snapshot::{GroupsSaid, Snapshot, SnapshotGroup, SnapshotUser, Text, VERSION};
use crate::value::{Day, Expiry};

/// What a table says. A user without a primary group in it has one of its own.
pub fn of_roster(roster: &Roster, name: String, today: Day) -> (Side, Snapshot<'static>) {
    let mut snapshot = Snapshot { version: VERSION, ..Snapshot::default() };
    let mut buffer = RowBuffer::default();
    for row in &roster.rows {
        match &row.what {
            RowRequest::Group(_) => snapshot.groups.extend(group_of(row)),
            RowRequest::User(_) => {
                roster.user_onto(row, &mut buffer);
                snapshot.users.extend(user_of(row, &buffer, today));
            }
        }
    }
    if !snapshot.groups.is_empty() {
        // Who is in which group is said by the rows of the groups.
        let unsaid = snapshot.users.iter_mut().filter(|user| user.groups == GroupsSaid::Nothing);
        unsaid.for_each(|user| user.groups = GroupsSaid::ByGroups);
    }
    let side = Side {
        name,
        tells_users: !snapshot.users.is_empty(),
        tells_groups: !snapshot.groups.is_empty(),
    };
    (side, snapshot)
}

fn text(bytes: &[u8]) -> Text<'static> {
    Text::of(bytes).into_owned()
}

fn user_of(row: &RosterRow, buffer: &RowBuffer, today: Day) -> Option<SnapshotUser<'static>> {
    let user = &buffer.user;
    let says = |column| row.given.contains(column);
    // Without a name it is nobody yet.
    let name = user.names.first()?;
    let mut groups: Vec<Text<'_>> = user.join.iter().map(|group| text(group)).collect();
    order::sort(&mut groups);
    groups.dedup();
    let expires = user.expires.as_deref().and_then(|expires| Expiry::parse(expires, today).ok());
    let home = match user.no_home {
        true => Some(text(crate::account::NO_HOME.as_bytes())),
        false => user.home.as_ref().map(|home| text(home)),
    };
    Some(SnapshotUser {
        name: text(name),
        uid: user.uid.map(u32::from),
        primary: user.primary.as_ref().map(|group| text(group)),
        full_name: user.full_name.as_ref().map(|name| text(name)),
        home,
        shell: user.shell.as_ref().map(|shell| text(shell)),
        kind: says(Column::Service)
            .then(|| if user.service { "service" } else { "person" }.to_owned().into()),
        expires: expires.map(|expires| match expires {
            Expiry::Never => "never".to_owned().into(),
            Expiry::On(day) => day.to_string().into(),
        }),
        groups: match says(Column::Join) {
            true => GroupsSaid::Named(groups),
            false => GroupsSaid::Nothing,
        },
        ..SnapshotUser::default()
    })
}

fn group_of(row: &RosterRow) -> Option<SnapshotGroup<'static>> {
    let RowRequest::Group(group) = &row.what else { return None };
    let names = |all: &[crate::value::UserName]| {
        let mut names: Vec<Text<'_>> = all.iter().map(|name| text(name)).collect();
        names.sort();
        names
    };
    let says = |column| row.given.contains(column);
    Some(SnapshotGroup {
        name: text(&group.name),
        gid: group.gid.map(u32::from),
        kind: says(Column::Service)
            .then(|| if group.service { "services" } else { "people" }.to_owned().into()),
        members: names(&group.members),
        admins: says(Column::GroupAdmin).then(|| names(&group.admins)),
        files: None,
    })
}
