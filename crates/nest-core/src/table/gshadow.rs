//! Lines of `etc/gshadow`, gshadow(5).

use super::Record;
use super::fields::split;
use crate::value::members;

/// A group's password, administrators and members.
#[derive(Debug, Clone, Copy)]
pub struct Gshadow<'a> {
    /// The group's name.
    pub name: &'a [u8],
    /// The hash, or a marker.
    pub password: &'a [u8],
    /// The list of group administrators as written.
    pub admins: &'a [u8],
    /// The list of members as written.
    pub members: &'a [u8],
}

impl<'a> Record<'a> for Gshadow<'a> {
    #[inline]
    fn read(line: &'a [u8]) -> Option<Self> {
        let [name, password, admins, members] = split(line)?;
        Some(Gshadow { name, password, admins, members })
    }
}

impl<'a> Gshadow<'a> {
    /// The names in the list of members.
    pub fn members(&self) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        members(self.members)
    }
}
