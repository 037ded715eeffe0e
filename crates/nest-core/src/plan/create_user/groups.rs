//! Finding groups, and joining them.

use bstr::{BStr, BString};

use super::Planner;
use crate::account::admin_group;
use crate::plan::find::{find_group, list_member};
use crate::plan::{Caution, Ground, Reason, Refusal};
use crate::table::Group;

impl<'a> Planner<'a> {
    pub(super) fn group_line(&self, name: &[u8]) -> usize {
        let book = self.ground.book;
        book.group(name).map_or(0, |(line, _)| book.groups.lines().number(line.start))
    }

    /// A group by name, or by gid.
    pub(super) fn find_group(&self, name: &BStr, wanted: &BStr) -> Result<Group<'a>, Box<Refusal>> {
        find_group(self.ground, wanted, &format!("{name} was not created"))
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

    fn list_member(&mut self, group: Group<'a>, name: &BStr) {
        let tidied = list_member(self.ground, &mut self.draft, group.name, name);
        self.note_tidied(tidied, group.name);
    }

    pub(super) fn note_tidied(&mut self, tidied: bool, group: &[u8]) {
        let caution = Caution::ListTidied { group: group.into() };
        if tidied && !self.plan.cautions.contains(&caution) {
            self.plan.cautions.push(caution);
        }
    }
}
