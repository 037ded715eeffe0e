//! Rows of groups.

use std::collections::{HashMap, HashSet};

use bstr::BStr;

use super::{Chosen, PasswordHashes, WrittenRoster, WrittenRow, written};
use crate::book::Book;
use crate::group_account::{GroupAccount, GroupIndex, GroupKind};
use crate::policy::Policy;
use crate::roster::{Column, Form};
use crate::table::File;
use crate::value::{UserOrGroup, members};

/// How groups are written.
pub struct GroupWriting<'w> {
    /// The form.
    pub form: Form,
    /// Whether the hashes of their passwords are.
    pub hashes: PasswordHashes,
    /// Whether members and administrators are: without them it can be taken in before the users
    /// are there.
    pub with_members: bool,
    /// The files.
    pub book: &'w Book,
}

/// The groups that are made with their users and need no row: of one user alone,
/// with its name and its number, and as new ones are.
pub fn made_with_users<'b>(book: &'b Book, policy: &'b Policy) -> HashSet<&'b [u8]> {
    let groups = GroupIndex::new(book, policy);
    let mut own: HashMap<&[u8], Option<u32>> = HashMap::new();
    for group in groups.groups() {
        let alone = group.kind == GroupKind::Private && group.listed.is_empty();
        if alone && group.admins.is_empty() && is_as_new(book, &group) {
            own.insert(group.group.name, group.group.gid().map(|id| id.0));
        }
    }
    let users = book.users.records().map(|(_, user)| user);
    let same = users
        .filter(|user| own.get(user.name).is_some_and(|gid| *gid == user.uid().map(|id| id.0)));
    same.map(|user| user.name).collect()
}

/// Whether a group without anybody in it has no password that is its own.
fn is_as_new(book: &Book, group: &GroupAccount<'_>) -> bool {
    match book.gshadow(group.group.name) {
        Some((_, line)) => line.password == b"!" && line.members.is_empty(),
        None => true,
    }
}

/// Writes groups.
pub fn written_groups<'b>(
    groups: impl Iterator<Item = GroupAccount<'b>>,
    writing: &GroupWriting<'_>,
) -> WrittenRoster {
    let (mut rows, mut chosen) = (Vec::new(), Chosen::default());
    for account in groups {
        let gid = account.group.gid().map(|gid| gid.0);
        rows.extend(chosen.takes(account.group.name, gid).map(|it| writing.row(&account, it)));
    }
    let columns = Column::of(UserOrGroup::Group).filter(|column| match column {
        Column::Member | Column::GroupAdmin => writing.with_members,
        Column::ShareId | Column::PasswordHash => {
            rows.iter().any(|row| row.values.iter().any(|(has, _)| has == column))
        }
        _ => true,
    });
    let columns: Vec<Column> = columns.collect();
    chosen.before(written(UserOrGroup::Group, &columns, rows, writing.form))
}

impl GroupWriting<'_> {
    fn row<'b>(&self, account: &GroupAccount<'b>, shares: bool) -> WrittenRow<'b> {
        let group = &account.group;
        let mut row = WrittenRow::new(group.name);
        let name = row.name();
        match group.gid() {
            Some(gid) => row.put(Column::Gid, gid.0),
            None => row.leave_out(format_args!("the gid of {name}, which is unreadable")),
        }
        if shares {
            row.put(Column::ShareId, true);
        }
        if account.kind == GroupKind::Services {
            row.put(Column::Service, true);
        }
        if self.with_members {
            let listed: Vec<&[u8]> = group.members().collect();
            self.users(Column::Member, &listed, &mut row);
            self.users(Column::GroupAdmin, &account.admins, &mut row);
        }
        self.secret(account, &mut row);
        row
    }

    /// Puts those in who are users.
    fn users(&self, column: Column, names: &[&[u8]], row: &mut WrittenRow<'_>) {
        let (known, strangers): (Vec<&[u8]>, Vec<&[u8]>) =
            names.iter().copied().partition(|name| self.book.user(name).is_some());
        for stranger in strangers {
            let (of, name) = (row.name(), BStr::new(stranger));
            row.leave_out(format_args!("{name} in the {column} of {of}: there is no such user"));
        }
        row.list(column, known.into_iter());
    }

    /// What gshadow says.
    fn secret(&self, account: &GroupAccount<'_>, row: &mut WrittenRow<'_>) {
        let group = &account.group;
        let name = row.name();
        let Some((_, line)) = self.book.gshadow(group.name) else {
            if self.book.lines(File::Gshadow).is_some() {
                row.leave_out(format_args!("that {name} has no line in etc/gshadow: it gets one"));
            }
            return;
        };
        let listed: Vec<&[u8]> = members(group.members).collect();
        if self.with_members && listed != line.members().collect::<Vec<_>>() {
            row.leave_out(format_args!(
                "who is in {name} by etc/gshadow, which differs from etc/group"
            ));
        }
        if self.hashes == PasswordHashes::LeftOut {
            return;
        }
        match line.password {
            b"!" => {}
            b"" => row.put(Column::PasswordHash, "none"),
            field => row.password(field),
        }
    }
}
