//! Lines of `etc/group`, group(5).

use super::column::record;
use crate::value::{Gid, members, read_id};

record! {
    /// A group.
    Group, GroupField {
        /// The group's name.
        name Name,
        /// `x` where the password is in gshadow.
        password Password,
        /// The gid as written.
        gid Gid,
        /// The list of members as written.
        members Members,
    }
}

impl<'a> Group<'a> {
    /// The gid, as the C library reads it.
    pub fn gid(&self) -> Option<Gid> {
        read_id(self.gid).map(Gid)
    }

    /// Whether it is the same group under another name, or of another line: programs tell
    /// groups apart by either.
    pub fn is_same(&self, other: &Group<'_>) -> bool {
        self.name == other.name || self.gid().is_some_and(|gid| other.gid() == Some(gid))
    }

    /// The names in the list of members.
    pub fn members(&self) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        members(self.members)
    }
}
