//! The columns of rosters.

use strum::{Display, EnumIter, EnumString, IntoEnumIterator, IntoStaticStr};

use crate::value::UserOrGroup;

/// A column of a CSV file, or a key of a JSON or TOML table. They are named as the
/// options of `create user` and `create group`.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    Display,
    EnumIter,
    EnumString,
    IntoStaticStr,
)]
#[strum(serialize_all = "snake_case")]
#[allow(missing_docs)] // each is the option of its name
pub enum Column {
    Name,
    FullName,
    Room,
    PhoneWork,
    PhoneHome,
    Other,
    Gecos,
    Uid,
    ShareId,
    Gid,
    Primary,
    Join,
    Admin,
    Home,
    Shell,
    Service,
    Expires,
    Suspended,
    Ranges,
    Changed,
    MustChange,
    Hold,
    Renew,
    Remind,
    Late,
    PasswordHash,
    SshKey,
    Hours,
    Places,
    Member,
    GroupAdmin,
}

impl Column {
    /// A title as columns are called: in lower case, with `_` for blanks and hyphens.
    pub fn plain_title(title: &str) -> String {
        let sign = |sign: char| if sign == '-' || sign.is_whitespace() { '_' } else { sign };
        title.trim().to_lowercase().chars().map(sign).collect()
    }

    /// The column of a title, however that is spelled: `Full Name`.
    pub fn of_title(title: &str) -> Option<Self> {
        Column::plain_title(title).parse().ok()
    }

    /// The columns of users or of groups, in the order in which they are written.
    pub fn of(thing: UserOrGroup) -> impl Iterator<Item = Column> {
        Column::iter().filter(move |column| column.belongs_to(thing))
    }

    /// Whether rows about such a thing have it.
    pub fn belongs_to(self, thing: UserOrGroup) -> bool {
        match self {
            Column::Name | Column::Service | Column::ShareId | Column::PasswordHash => true,
            Column::Gid | Column::Member | Column::GroupAdmin => thing == UserOrGroup::Group,
            _ => thing == UserOrGroup::User,
        }
    }

    /// What a set of columns is about: groups, when one is theirs alone.
    pub fn about(columns: impl IntoIterator<Item = Column>) -> UserOrGroup {
        let of_groups = |column: Column| !column.belongs_to(UserOrGroup::User);
        if columns.into_iter().any(of_groups) { UserOrGroup::Group } else { UserOrGroup::User }
    }

    /// What it means and how it is written, for the documentation and for faults.
    pub fn meaning(self) -> &'static str {
        match self {
            Column::Name => "the name; of a user it may be left out where full_name is there",
            Column::FullName => "the full name, without commas and colons",
            Column::Room => "the room; none for none",
            Column::PhoneWork => "the telephone at work; none for none",
            Column::PhoneHome => "the telephone at home; none for none",
            Column::Other => "what else the GECOS field holds; none for nothing",
            Column::Gecos => {
                "the GECOS field as it is, where its parts in other columns would not give it back"
            }
            Column::ShareId => "yes where the number may be somebody else's too",
            Column::Uid => "the uid, a whole number; the next free one where it is left out",
            Column::Gid => "the gid, a whole number; the next free one where it is left out",
            Column::Primary => {
                "the primary group, by name or gid; a group of its own where it is left out"
            }
            Column::Join => {
                "groups to join, separated by semicolons; none among them for these and no others"
            }
            Column::Admin => "yes makes an administrator of the machine",
            Column::Home => "the path of the home; none for no home",
            Column::Shell => "the path of the login shell",
            Column::Service => "yes for a service",
            Column::Expires => {
                "the first day on which it no longer works: 2027-03-31, +90d, or never; of \
                 accounts that are made it may be over"
            }
            Column::Suspended => "why it is suspended, or yes; no where it is not",
            Column::Changed => {
                "the day on which the password was last changed: 2026-11-02, or none; of accounts \
                 that are made"
            }
            Column::Hold => "days for which a password can't be changed again, or none",
            Column::Renew => "days after which a password must be changed, or none",
            Column::Remind => "days of reminder before that, or none",
            Column::Late => "days of grace after that, or none",
            Column::Ranges => {
                "how many subordinate ids, or which: 65536, none, 2001207296-2001272831"
            }
            Column::MustChange => "yes when the first password must be changed at once",
            Column::PasswordHash => {
                "the hash of a first password, made elsewhere; of a group its own"
            }
            Column::SshKey => "public keys for signing in, one a line; the keys, not a path",
            Column::Hours => "when it may sign in: mon-fri 08:00-18:00, sat 09:00-12:00, or any",
            Column::Places => "from where it may: 10.20.0.0/16, console, host.example, or anywhere",
            Column::Member => "who is in the group, separated by semicolons",
            Column::GroupAdmin => "who administers the group, separated by semicolons",
        }
    }
}

impl Column {
    /// Whether any text can stand in it, as far as can be told without looking at
    /// accounts: a list too, where no comma can be in it.
    pub(super) fn takes_any_text(self) -> bool {
        use Column::{FullName, Home, Hours, Join, Name, Places, Primary, Shell, SshKey};
        use Column::{Gecos, Other, PhoneHome, PhoneWork, Room, Suspended};
        let a_word = matches!(self, Name | FullName | Primary | Join | Home | Shell | SshKey);
        let of_gecos = matches!(self, Room | PhoneWork | PhoneHome | Other | Gecos);
        a_word || of_gecos || matches!(self, Hours | Places | Suspended)
    }
}

/// A set of columns.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Columns(u64);

impl Columns {
    /// Puts one in; returns whether it is new.
    pub fn insert(&mut self, column: Column) -> bool {
        let bit = 1 << column as u32;
        let new = self.0 & bit == 0;
        self.0 |= bit;
        new
    }

    /// Whether one is in it.
    pub fn contains(self, column: Column) -> bool {
        self.0 & (1 << column as u32) != 0
    }
}
