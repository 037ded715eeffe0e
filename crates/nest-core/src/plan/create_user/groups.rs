//! Finding groups, and joining them.

use bstr::{BStr, BString};

use super::Planner;
use crate::plan::find::{find_admin_group, find_group};
use crate::plan::lists::Lists;
use crate::plan::{Ground, Refusal};
use crate::table::Group;

impl<'a> Planner<'a> {
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
        let Ground { policy, .. } = self.ground;
        let mut wanted: Vec<BString> = self.request.join.clone();
        if !self.request.service {
            wanted.extend(policy.people_groups.iter().map(|group| group.as_str().into()));
        }
        if self.request.admin {
            let group = find_admin_group(self.ground, &format!("{name} was not created"))?;
            wanted.push(group.name.into());
        }
        let mut joined: Vec<BString> = Vec::new();
        for wanted in wanted {
            let group = self.find_group(name, wanted.as_ref())?;
            if joined.iter().any(|joined| joined == group.name) || group.gid() == Some(primary) {
                continue;
            }
            joined.push(group.name.into());
            let (ground, draft) = (self.ground, &mut self.draft);
            let cautions = &mut self.plan.cautions;
            Lists { ground, draft, cautions }.join(group.name, name);
        }
        Ok(joined)
    }
}
