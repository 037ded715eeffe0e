//! Finding groups, and joining them.

use bstr::{BStr, BString};

use super::Planner;
use super::name::damaged;
use crate::account::admin_group;
use crate::plan::{Caution, Ground, Reason, Refusal};
use crate::table::{File, Group, Gshadow, Record};
use crate::value::{nearest, with_member};

impl<'a> Planner<'a> {
    pub(super) fn group_line(&self, name: &[u8]) -> usize {
        let book = self.ground.book;
        book.group(name).map_or(0, |(line, _)| book.groups.lines().number(line.start))
    }

    /// A group by name, or by gid.
    pub(super) fn find_group(&self, name: &BStr, wanted: &BStr) -> Result<Group<'a>, Box<Refusal>> {
        let book = self.ground.book;
        let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
        let by_name = book.named(File::Group, wanted);
        if by_name.len() > 1 {
            let lines = book.groups.lines();
            return Err(refuse(Reason::Damaged {
                file: File::Group,
                line: lines.number(by_name[1].start),
                fault: format!(
                    "says {wanted} again, after line {}",
                    lines.number(by_name[0].start)
                ),
            }));
        }
        let found = match by_name.first() {
            Some(line) => Group::read(line.record()).ok_or_else(|| {
                refuse(damaged(File::Group, book.groups.lines().number(line.start)))
            })?,
            None => {
                let gid = crate::value::read_plain_id(wanted);
                let by_gid = gid.and_then(|gid| book.group_by_gid(gid));
                by_gid.map(|(_, group)| group).ok_or_else(|| {
                    let names = book.groups.records().map(|(_, group)| group.name);
                    let near = nearest(wanted, names).map(ToOwned::to_owned);
                    refuse(Reason::NoGroup { name: wanted.to_owned(), near })
                })?
            }
        };
        Ok(found)
    }

    /// Puts the user into the lists of the groups it joins; returns their names.
    pub(super) fn join_groups(
        &mut self,
        name: &'a BStr,
        primary: u32,
    ) -> Result<Vec<BString>, Box<Refusal>> {
        let Ground { book, policy, .. } = self.ground;
        let mut wanted: Vec<BString> = self.request.join.clone();
        if !self.request.service {
            wanted.extend(policy.people_groups.iter().map(|group| group.as_str().into()));
        }
        if self.request.admin {
            let Some(group) = admin_group(book, policy) else {
                let refusal = Refusal::new(
                    format!("{name} was not created"),
                    Reason::NoAdminGroup {
                        groups: policy.admins_groups.join(", "),
                        setting: policy.origin("admins.groups"),
                    },
                );
                return Err(refusal.or_else(
                    "name the one there is",
                    "admins.groups in etc/copper-nest/policy.toml",
                ));
            };
            wanted.push(group.name.into());
        }
        let mut joined: Vec<BString> = Vec::new();
        for wanted in wanted {
            let group = self.find_group(name, wanted.as_ref())?;
            if joined.iter().any(|joined| joined == group.name) || group.gid() == Some(primary) {
                continue;
            }
            joined.push(group.name.into());
            self.list_member(group, name);
        }
        Ok(joined)
    }

    /// Adds the user to a group's list in group, and in gshadow where the group
    /// has a line.
    pub(super) fn list_member(&mut self, group: Group<'a>, name: &BStr) {
        let book = self.ground.book;
        if let Some((line, _)) = book.group(group.name) {
            let current = self.draft.current(File::Group, line);
            if let Some(now) = Group::read(current.trim_ascii_start())
                && let Some((list, tidied)) = with_member(now.members, name)
            {
                let after = [now.name, now.password, now.gid, &list].join(&b':');
                self.draft.alter(File::Group, line, after);
                self.note_tidied(tidied, group.name);
            }
        }
        if let Some((line, _)) = book.gshadow(group.name) {
            let current = self.draft.current(File::Gshadow, line);
            if let Some(now) = Gshadow::read(current.trim_ascii_start())
                && let Some((list, tidied)) = with_member(now.members, name)
            {
                let after = [now.name, now.password, now.admins, &list].join(&b':');
                self.draft.alter(File::Gshadow, line, after);
                self.note_tidied(tidied, group.name);
            }
        }
    }

    pub(super) fn note_tidied(&mut self, tidied: bool, group: &[u8]) {
        let caution = Caution::ListTidied { group: group.into() };
        if tidied && !self.plan.cautions.contains(&caution) {
            self.plan.cautions.push(caution);
        }
    }
}
