//! The columns of the account files, so that one that does not exist can't be named.

use bstr::ByteSlice;

/// A column of an account file, as one of the enums below names it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Column(u8);

impl Column {
    /// The name that a line is about: the first column of every file.
    pub const NAME: Column = Column(0);
    /// The password or its hash, in every file but those of ranges.
    pub const PASSWORD: Column = Column(1);

    /// How many columns stand before it.
    pub fn index(self) -> usize {
        usize::from(self.0)
    }

    /// What stands in it; nothing in a line that is too short. White space before the
    /// record is not part of it.
    pub fn of(self, line: &[u8]) -> &[u8] {
        line.trim_ascii_start().split_str(":").nth(self.index()).unwrap_or_default()
    }
}

macro_rules! columns {
    ($($(#[$doc:meta])* $name:ident { $($(#[$column_doc:meta])* $column:ident),* $(,)? })*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum $name { $($(#[$column_doc])* $column),* }

        impl $name {
            /// How many columns the file has.
            pub const COUNT: usize = [$($name::$column),*].len();
        }

        impl From<$name> for Column {
            fn from(column: $name) -> Self {
                Column(column as u8)
            }
        }
    )*};
}

columns! {
    /// The columns of `etc/passwd`, passwd(5).
    PasswdField {
        /// The login name.
        Name,
        /// `x` where the hash is in shadow.
        Password,
        /// The uid.
        Uid,
        /// The gid of the primary group.
        Gid,
        /// The full name and more.
        Gecos,
        /// The home directory.
        Home,
        /// The login shell.
        Shell,
    }
    /// The columns of `etc/shadow`, shadow(5).
    ShadowField {
        /// The login name.
        Name,
        /// The hash.
        Password,
        /// The day of the last change.
        Changed,
        /// Days before it may be changed.
        Hold,
        /// Days until it must be changed.
        Renew,
        /// Days of reminding before that.
        Remind,
        /// Days of grace after that.
        Late,
        /// The day of expiry.
        Expires,
        /// Of no use yet.
        Reserved,
    }
    /// The columns of `etc/group`, group(5).
    GroupField {
        /// The name.
        Name,
        /// `x` where the hash is in gshadow.
        Password,
        /// The gid.
        Gid,
        /// The members.
        Members,
    }
    /// The columns of `etc/gshadow`.
    GshadowField {
        /// The name.
        Name,
        /// The hash.
        Password,
        /// Who administers the group.
        Admins,
        /// The members.
        Members,
    }
    /// The columns of `etc/subuid` and `etc/subgid`.
    SubIdField {
        /// The user, by name or uid.
        Owner,
        /// The first id.
        First,
        /// How many there are.
        Count,
    }
}
