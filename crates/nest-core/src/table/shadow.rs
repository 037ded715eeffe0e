//! Lines of `etc/shadow`, shadow(5). Days are counted from 1970-01-01.

use super::column::record;
use crate::value::{Day, PasswordField, read_signed};

record! {
    /// A user's password hash and its aging.
    Shadow, ShadowField {
        /// The login name.
        name Name,
        /// The hash, or a marker.
        password Password,
        /// The day of the last change, as written; 0 means it must be changed at
        /// the next sign-in.
        changed Changed,
        /// Days for which it can't be changed again.
        hold Hold,
        /// Days after which it must be changed.
        renew Renew,
        /// Days of reminder before that.
        remind Remind,
        /// Days of grace after that.
        late Late,
        /// The first day on which the account no longer works.
        expires Expires,
        /// Kept for later use by the format.
        reserved Reserved,
    }
}

/// The numbers of a shadow line; `None` where a field sets no limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Aging {
    /// The day of the last change.
    pub changed: Option<i64>,
    /// Days for which the password can't be changed again.
    pub hold: Option<i64>,
    /// Days after which it must be changed; 99999 and more are read as never.
    pub renew: Option<i64>,
    /// Days of reminder before that.
    pub remind: Option<i64>,
    /// Days of grace after that.
    pub late: Option<i64>,
    /// The first day on which the account no longer works.
    pub expires: Option<Day>,
}

impl Shadow<'_> {
    /// What the password field means.
    pub fn field(&self) -> PasswordField {
        PasswordField::read(self.password)
    }

    /// Whether the C library reads the line: it passes one over that has a
    /// number it can't read.
    pub fn is_readable(&self) -> bool {
        self.numbers().into_iter().all(|(.., text)| read_signed(text).is_ok())
    }

    /// The six numbers with their fields and the names of those, as written.
    pub fn numbers(&self) -> [(ShadowField, &'static str, &[u8]); 6] {
        [
            (ShadowField::Changed, "day of the last change", self.changed),
            (ShadowField::Hold, "days to hold", self.hold),
            (ShadowField::Renew, "days to renew", self.renew),
            (ShadowField::Remind, "days to remind", self.remind),
            (ShadowField::Late, "days late", self.late),
            (ShadowField::Expires, "day of expiry", self.expires),
        ]
    }

    /// The numbers; a field that is no number counts as empty, since the C
    /// library then passes the whole line over.
    pub fn aging(&self) -> Aging {
        let read = |field| read_signed(field).unwrap_or(None);
        Aging {
            changed: read(self.changed),
            hold: read(self.hold),
            renew: read(self.renew).filter(|days| *days < 99999),
            remind: read(self.remind),
            late: read(self.late),
            expires: read(self.expires).map(Day),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::Record;

    #[test]
    fn empty_and_very_large_fields_set_no_limit() {
        let aging = Shadow::read(b"maren:!:20781:0:99999:7::4294967295:").unwrap().aging();
        assert_eq!((aging.changed, aging.hold, aging.renew), (Some(20781), Some(0), None));
        assert_eq!((aging.late, aging.expires), (None, None));
        assert!(!Shadow::read(b"maren:!:20781:0:::-1::").unwrap().is_readable());
        let aging = Shadow::read(b"maren:!:20781::365:7:14:20900:").unwrap().aging();
        assert_eq!((aging.hold, aging.renew, aging.late), (None, Some(365), Some(14)));
        assert_eq!(aging.expires, Some(Day(20900)));
    }
}
