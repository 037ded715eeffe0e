//! Lines of `etc/gshadow`, gshadow(5).

use super::column::record;
use crate::value::members;

record! {
    /// A group's password, administrators and members.
    Gshadow, GshadowField {
        /// The group's name.
        name Name,
        /// The hash, or a marker.
        password Password,
        /// The list of group administrators as written.
        admins Admins,
        /// The list of members as written.
        members Members,
    }
}

impl<'a> Gshadow<'a> {
    /// The names in the list of members.
    pub fn members(&self) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        members(self.members)
    }
}
