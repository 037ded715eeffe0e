//! Finding groups, and joining them.

use bstr::{BStr, BString};

use super::{CreateUser, Making};
use crate::plan::Refusal;
use crate::plan::find::{find_admin_group, find_group, gid_of};

/// A group that there is, or will be.
pub(in crate::plan) struct Target {
    pub name: BString,
    pub gid: u32,
}

impl Making<'_> {
    /// A group by name or by gid, whether it is there already or made by this plan.
    ///
    /// # Errors
    /// The [`Refusal`], of `what`.
    pub fn find_group(&self, wanted: &BStr, what: &str) -> Result<Target, Box<Refusal>> {
        if let Some((name, gid)) = self.made.get_key_value(wanted) {
            return Ok(Target { name: name.clone(), gid: *gid });
        }
        let group = find_group(self.ground, wanted, what)?;
        Ok(Target { name: group.name.into(), gid: gid_of(self.ground, &group, what)? })
    }

    /// Notes that the user joins groups; returns their names.
    pub(super) fn join_groups(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        primary: u32,
        wrong: &mut Vec<Refusal>,
    ) -> Vec<BString> {
        let what = format!("{name} was not created");
        let mut wanted: Vec<BString> = request.join.clone();
        if !request.service {
            let policy = self.ground.policy;
            wanted.extend(policy.people_groups.iter().map(|group| group.as_str().into()));
        }
        if request.admin {
            let group = find_admin_group(self.ground, &what).map(|group| group.name.into());
            wanted.extend(super::keep(wrong, group));
        }
        let mut joined: Vec<BString> = Vec::new();
        for wanted in wanted {
            let found = self.find_group(wanted.as_ref(), &what);
            let Some(group) = super::keep(wrong, found) else { continue };
            if !joined.contains(&group.name) && group.gid != primary {
                joined.push(group.name);
            }
        }
        for group in &joined {
            self.join(group, name);
        }
        joined
    }

    /// Notes that somebody joins a group.
    pub fn join(&mut self, group: &BString, name: &BStr) {
        match self.joins.get_mut(group) {
            Some(names) => names.push(name.to_owned()),
            None => _ = self.joins.insert(group.clone(), vec![name.to_owned()]),
        }
    }
}
