//! What comes, as rows of a table.

use std::collections::HashMap;

use bstr::{BStr, BString};

use super::decisions::{Action, Decided};
use super::merging::Merging;
use super::{Coming, Merge};
use crate::account::Account;
use crate::group_account::GroupKind;
use crate::request::{CreateGroup, CreateUser};
use crate::roster::{
    Column, Form, PasswordHashes, RosterRow, RowRequest, UserWriting, made_with_users,
};
use crate::value::{Gid, GroupName, Uid, UserName, UserOrGroup, members};

impl<'a> Merging<'a> {
    /// The rows of what comes, and as whom it comes.
    pub fn rows(&self, request: &Merge<'_>) -> (Vec<RosterRow>, Vec<Coming>) {
        let policy = self.context.policy;
        let mut coming = Vec::new();
        let mut called: HashMap<&[u8], BString> = HashMap::new();
        for account in &self.users {
            let decided = self.decided(account);
            let name = BStr::new(account.user.name);
            if decided.action != Action::Skip {
                called.insert(account.user.name, decided.name_of(name).to_owned());
            }
        }
        let (mut rows, mut groups) = (Vec::new(), HashMap::new());
        for (number, group) in self.groups.iter().enumerate() {
            let decided = self.decided_group(group);
            let name = BStr::new(group.group.name);
            let here = decided.name_of(name).to_owned();
            coming.push(Coming {
                thing: UserOrGroup::Group,
                there: name.to_owned(),
                here: here.clone(),
                action: decided.action,
            });
            if decided.action == Action::Skip {
                continue;
            }
            groups.insert(group.group.name, GroupName::from(here.clone()));
            // By one that administers here people come by decisions of their own.
            let administers = self.gives_root_here(&here);
            let of = |names: &mut dyn Iterator<Item = &'a [u8]>| -> Vec<UserName> {
                let names = names.take_while(|_| !administers);
                names.filter_map(|name| called.get(name).cloned()).map(UserName::from).collect()
            };
            let is_new = decided.action == Action::Create;
            let gid = decided.id.map(Gid).or(group.group.gid()).filter(|_| is_new);
            let secret = self.there.gshadow(group.group.name).map(|(_, line)| line);
            let password = secret.map(|line| BString::from(line.password));
            let what = CreateGroup {
                name: here.into(),
                gid,
                service: is_new && group.kind == GroupKind::Services,
                members: of(&mut members(group.group.members)),
                admins: of(&mut group.admins.iter().copied()),
                password: password.filter(|field| is_new && field != "!"),
                share_id: false,
                ..CreateGroup::default()
            };
            let line = self.there.group(group.group.name).map_or(0, |(line, _)| line.start);
            let given = [Column::Name, Column::Gid, Column::Member, Column::GroupAdmin];
            let what = RowRequest::Group(Box::new(what));
            rows.push(RosterRow::of_line((1, number + 1, line), &given, what));
        }
        let own = made_with_users(self.there, policy);
        let writing = UserWriting {
            form: Form::Toml,
            hashes: PasswordHashes::Included,
            own: &own,
            policy,
            windows: request.windows,
            suspended: request.suspended,
            has_shadow: self.there.shadow.is_some(),
            keys: None,
        };
        for (number, account) in self.users.iter().enumerate() {
            let decided = self.decided(account);
            let there = BStr::new(account.user.name);
            let here = decided.name_of(there).to_owned();
            coming.push(Coming {
                thing: UserOrGroup::User,
                there: there.to_owned(),
                here: here.clone(),
                action: decided.action,
            });
            let groups = self.joined(account, &decided, &groups);
            let line = self.there.user(account.user.name).map_or(0, |(line, _)| line.start);
            let at = (0, number + 1, line);
            let mut given = vec![Column::Name, Column::Join];
            let user = match decided.action {
                Action::Skip => continue,
                Action::Same => CreateUser {
                    names: vec![here.into()],
                    join: groups,
                    admin: decided.admin,
                    ..CreateUser::default()
                },
                Action::Create => {
                    given.extend([Column::Uid, Column::Home, Column::Shell, Column::Ranges]);
                    let (user, _) = writing.asked_of(account, self.shares_on(account));
                    self.made(account, &decided, user, here, groups)
                }
            };
            rows.push(RosterRow::of_line(at, &given, RowRequest::User(Some(Box::new(user)))));
        }
        (rows, coming)
    }

    /// The groups that a user joins here: those that it is in there, by what they are here.
    fn joined(
        &self,
        account: &Account<'a>,
        decided: &Decided,
        groups: &HashMap<&[u8], GroupName>,
    ) -> Vec<GroupName> {
        let names = account.groups.iter().map(|group| group.name);
        let primary = account.primary.filter(|_| decided.action == Action::Same);
        let names =
            names.chain(primary).filter(|name| Some(*name) != account.primary || primary.is_some());
        let mut joined: Vec<GroupName> =
            names.filter_map(|name| groups.get(name).cloned()).collect();
        joined.retain(|name| decided.admin || !self.gives_root_here(name));
        if decided.admin {
            let book = self.context.book;
            let admins = self.admin_groups_of(account).into_iter();
            joined.extend(
                admins
                    .filter(|name| book.group(name).is_some())
                    .map(|name| GroupName::from(name.to_owned())),
            );
        }
        joined
    }

    /// A user as it is made here.
    fn made(
        &self,
        account: &Account<'a>,
        decided: &Decided,
        user: CreateUser,
        here: BString,
        join: Vec<GroupName>,
    ) -> CreateUser {
        let primary = match self.has_own_group(account) {
            true => None,
            false => user.primary.clone(),
        };
        let primary = primary.map(|primary| {
            let found = self.groups.iter().find(|group| *primary == *group.group.name);
            found.map_or(primary, |group| {
                self.decided_group(group).name_of(BStr::new(group.group.name)).to_owned().into()
            })
        });
        // Nor is a primary group a way to become administrator.
        let primary =
            primary.filter(|name: &GroupName| decided.admin || !self.gives_root_here(name));
        let spans = decided.ranges.clone().unwrap_or_else(|| user.spans.clone());
        let ranges = match spans.is_empty() {
            true => Some(0),
            false => None,
        };
        CreateUser {
            names: vec![here.into()],
            uid: decided.id.map(Uid).or(user.uid),
            share_id: user.share_id,
            primary,
            join,
            // What the policy gives new people is not what these have.
            no_groups: true,
            admin: decided.admin && self.administers(account),
            home: decided.home.clone().or(user.home),
            spans,
            ranges,
            ..user
        }
    }
}
