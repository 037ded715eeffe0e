//! Lines of `etc/passwd`, passwd(5).

use super::column::record;
use crate::value::{Gid, Uid, read_id};

record! {
    /// A user.
    Passwd, PasswdField {
        /// The login name.
        name Name,
        /// `x` where the hash is in shadow.
        password Password,
        /// The uid as written.
        uid Uid,
        /// The primary gid as written.
        gid Gid,
        /// The full name and up to four more parts, separated by commas.
        gecos Gecos,
        /// The home directory.
        home Home,
        /// The login shell; empty means `/bin/sh`.
        shell Shell,
    }
}

impl<'a> Passwd<'a> {
    /// The uid, as the C library reads it.
    pub fn uid(&self) -> Option<Uid> {
        read_id(self.uid).map(Uid)
    }

    /// The primary gid, as the C library reads it.
    pub fn gid(&self) -> Option<Gid> {
        read_id(self.gid).map(Gid)
    }

    /// The full name: the first part of the GECOS field.
    pub fn full_name(&self) -> &'a [u8] {
        self.gecos.split(|&byte| byte == b',').next().unwrap_or_default()
    }

    /// The shell that signing in starts.
    pub fn effective_shell(&self) -> &'a [u8] {
        if self.shell.is_empty() { b"/bin/sh" } else { self.shell }
    }

    /// Whether the password is looked up in shadow.
    pub fn is_shadowed(&self) -> bool {
        self.password == b"x"
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::Record;

    #[test]
    fn a_user_is_seven_fields() {
        let user = Passwd::read(b"maren:x:1004:1004:Maren Solvik,Pier 2,,:/home/maren:").unwrap();
        assert_eq!((user.uid(), user.gid()), (Some(Uid(1004)), Some(Gid(1004))));
        assert_eq!(user.full_name(), b"Maren Solvik");
        assert_eq!(user.effective_shell(), b"/bin/sh");
        assert!(user.is_shadowed());
        assert!(Passwd::read(b"maren:x:1004:1004::/home/maren").is_none());
        assert!(Passwd::read(b"maren:x:1004:1004::/home/maren:/bin/sh:").is_none());
    }
}
