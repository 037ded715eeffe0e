//! Lines of `etc/group`, group(5).

use super::Record;
use super::fields::split;
use crate::value::{Gid, members, read_id};

/// A group.
#[derive(Debug, Clone, Copy)]
pub struct Group<'a> {
    /// The group's name.
    pub name: &'a [u8],
    /// `x` where the password is in gshadow.
    pub password: &'a [u8],
    /// The gid as written.
    pub gid: &'a [u8],
    /// The list of members as written.
    pub members: &'a [u8],
}

impl<'a> Record<'a> for Group<'a> {
    #[inline]
    fn read(line: &'a [u8]) -> Option<Self> {
        let [name, password, gid, members] = split(line)?;
        Some(Group { name, password, gid, members })
    }
}

impl<'a> Group<'a> {
    /// The gid, as the C library reads it.
    pub fn gid(&self) -> Option<Gid> {
        read_id(self.gid).map(Gid)
    }

    /// The names in the list of members.
    pub fn members(&self) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        members(self.members)
    }
}
