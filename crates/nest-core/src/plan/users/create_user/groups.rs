//! Finding groups, and joining them.

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashMap;

use crate::drafting::{find_admin_group, find_group, gid_of};
use crate::plan::users::create_user::AccountBatch;
use crate::plan::users::create_user::batch::keep;
use crate::refusal::{Refusal, Result};
use crate::request::CreateUser;
use crate::value::{Gid, members, with_members};

/// A group that there is, or will be.
pub(crate) struct Target {
    pub name: BString,
    pub gid: Gid,
}

impl AccountBatch<'_> {
    /// A group by name or by gid, whether it is there already or made by this plan.
    ///
    /// # Errors
    /// The [`Refusal`], of `what`.
    pub fn find_group(&self, wanted: &BStr, what: &str) -> Result<Target> {
        if let Some(gid) = self.made.get(wanted) {
            return Ok(Target { name: wanted.to_owned(), gid: Gid(gid) });
        }
        let group = find_group(self.builder.context, wanted, what)?;
        Ok(Target {
            name: group.name.into(),
            gid: Gid((gid_of(self.builder.context, &group, what)?).0),
        })
    }

    /// Notes that the user joins groups; returns which of the joins they are.
    pub(crate) fn join_groups(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        primary: u32,
        wrong: &mut Vec<Refusal>,
    ) -> Vec<usize> {
        let context = self.builder.context;
        let what = || format!("{name} was not created");
        let alone = request.service || request.no_groups;
        let of_all = if alone { &[][..] } else { &context.policy.people_groups };
        let admin = request.admin.then(|| find_admin_group(context, &what()));
        let admin = admin.and_then(|admin| keep(wrong, admin));
        let wanted = request.join.iter().map(|group| group.as_bstr());
        let wanted = wanted.chain(of_all.iter().map(BStr::new));
        let mut joined: Vec<usize> = Vec::new();
        for wanted in wanted.chain(admin.iter().map(|group| BStr::new(group.name))) {
            let found = self.joins.known.get(wanted).copied().map_or_else(
                || {
                    let group = self.find_group(wanted, "")?;
                    Ok(self.joins.know(wanted, group))
                },
                Ok,
            );
            let found = found.map_err(|refusal: Box<Refusal>| Refusal { what: what(), ..*refusal });
            let Some((at, gid)) = keep(wrong, found.map_err(Box::new)) else { continue };
            if !joined.contains(&at) && gid != Gid(primary) {
                joined.push(at);
            }
        }
        for at in &joined {
            self.joins.groups[*at].add(name);
        }
        joined
    }

    /// Notes that somebody joins a group.
    pub fn join(&mut self, group: &BString, name: &BStr) {
        let at = self.joins.at(group);
        self.joins.groups[at].add(name);
        self.joins.groups[at].repeats = true;
    }
}

/// Who joins which group.
#[derive(Default)]
pub(crate) struct Joins {
    pub groups: Vec<Joined>,
    by_name: HashMap<BString, usize>,
    /// Groups as they were asked for, by name or gid: where they are above, and
    /// their gids.
    known: HashMap<BString, (usize, Gid)>,
}

/// Those who join a group, in the order of the accounts.
pub(crate) struct Joined {
    pub group: BString,
    /// As a list of members.
    names: Vec<u8>,
    /// Whether somebody may be in it twice.
    repeats: bool,
}

impl Joins {
    fn at(&mut self, group: &BString) -> usize {
        if let Some(at) = self.by_name.get(group) {
            return *at;
        }
        self.by_name.insert(group.clone(), self.groups.len());
        self.groups.push(Joined { group: group.clone(), names: Vec::new(), repeats: false });
        self.groups.len() - 1
    }

    fn know(&mut self, wanted: &BStr, group: Target) -> (usize, Gid) {
        let found = (self.at(&group.name), group.gid);
        self.known.insert(wanted.to_owned(), found);
        found
    }
}

impl Joined {
    fn add(&mut self, name: &[u8]) {
        if !self.names.is_empty() {
            self.names.push(b',');
        }
        self.names.extend_from_slice(name);
    }

    /// A list of members with these after them, each once, and whether it had to be
    /// tidied for that; nothing where all are in it already.
    pub fn after(&self, list: &[u8]) -> Option<(Vec<u8>, bool)> {
        match self.repeats || !list.is_empty() {
            true => with_members(list, &members(&self.names).collect::<Vec<_>>()),
            false => Some((self.names.clone(), false)),
        }
    }
}
