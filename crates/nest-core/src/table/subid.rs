//! Lines of `etc/subuid` and `etc/subgid`, subuid(5) and subgid(5).

use super::column::record;
use crate::value::{IdSpan, Uid, read_plain_id};

record! {
    /// A range of subordinate ids.
    SubId, SubIdField {
        /// Whose it is: a user name, or a uid in digits.
        owner Owner,
        /// The first id as written.
        first First,
        /// How many ids, as written.
        count Count,
    }
}

impl SubId<'_> {
    /// The ids of the range; `None` when a number is none, the count is 0, or
    /// the range would run past the largest id.
    pub fn span(&self) -> Option<IdSpan> {
        IdSpan::counted(read_plain_id(self.first)?, u64::from(read_plain_id(self.count)?))
    }

    /// The uid, when the owner is written as a number.
    pub fn owner_uid(&self) -> Option<Uid> {
        read_plain_id(self.owner).map(Uid)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::Record;

    #[test]
    fn owners_are_names_or_numbers() {
        let range = SubId::read(b"1004:200000:65536").unwrap();
        assert_eq!(range.span(), IdSpan::new(200_000, 265_535));
        assert_eq!(range.owner_uid(), Some(Uid(1004)));
        assert_eq!(SubId::read(b"maren:1:1").unwrap().owner_uid(), None);
        assert_eq!(SubId::read(b"maren:4294967295:2").unwrap().span(), None);
        assert_eq!(SubId::read(b"maren:10:0").unwrap().span(), None);
    }
}
