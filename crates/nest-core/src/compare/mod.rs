//! Many machines held against each other: who is called the same and is not the same, who has
//! another number, and who is here and not there.
//!
//! - `tally`: what is said of each name, and by which sides; each side is forgotten once it is in
//! - `judge`: in what they differ
//! - `shared`: numbers and ranges that several names have
//! - `roster`: a table as a side
//! - `dump`: a dump of a directory as a side
//! - `across`: each user across the sides, and what there is on each
//! - `agree`: numbers by which the fewest files change hands
//! - `write`: tables by which machines are lined up

mod across;
mod agree;
mod dump;
mod judge;
mod roster;
mod shared;
mod tally;
#[cfg(test)]
mod tests;
mod write;

use std::fmt;

pub use self::across::{Across, OnSide, across};
pub use self::agree::{Agreed, Agreement, agree};
pub use self::dump::of_dump;
pub use self::judge::compare;
pub use self::roster::of_roster;
pub use self::tally::Tally;
pub use self::write::{WrittenPeople, written_numbers, written_people};

/// One of those that are compared: a machine, a table, a directory.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Side {
    /// What it is called.
    pub name: String,
    /// Whether it says who there is; a table of groups does not.
    pub tells_users: bool,
    /// Whether it says which groups there are.
    pub tells_groups: bool,
}

/// What is compared.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct CompareOptions {
    /// Services too.
    pub services: bool,
    /// Homes are shared among all, whatever the snapshots say.
    pub shared_homes: bool,
    /// The side that is as it should be.
    pub against: Option<u32>,
}

/// In what sides can differ.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, strum::Display, strum::IntoStaticStr,
)]
#[strum(serialize_all = "kebab-case")]
pub enum Field {
    /// Whether it is there at all.
    Present,
    /// The user number.
    Uid,
    /// The group number.
    Gid,
    /// The primary group.
    Primary,
    /// The full name.
    FullName,
    /// The home.
    Home,
    /// The shell.
    Shell,
    /// The groups that list the user.
    Groups,
    /// By what a user can become root.
    Root,
    /// Whether a user can sign in.
    SignIn,
    /// When the account is over.
    Expires,
    /// The keys that let the user in.
    Keys,
    /// Who administers a group.
    Admins,
    /// Whom a number belongs to.
    Name,
    /// Ranges of subordinate ids that overlap.
    Ranges,
    /// The settings.
    Policy,
}

impl Field {
    /// What it is called in text.
    pub fn title(self) -> &'static str {
        match self {
            Field::Present => "present",
            Field::FullName => "full name",
            Field::SignIn => "sign-in",
            Field::Root => "root by",
            Field::Name => "belongs to",
            Field::Expires => "expires",
            other => other.into(),
        }
    }
}

/// About what sides differ.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum About {
    /// A user.
    User(String),
    /// A group.
    Group(String),
    /// A user number.
    Uid(u32),
    /// A group number.
    Gid(u32),
    /// Subordinate uids, from the first to the last.
    Uids(u32, u32),
    /// Subordinate gids.
    Gids(u32, u32),
    /// The settings.
    Policy,
}

impl About {
    /// What kind of thing it is.
    pub fn kind(&self) -> &'static str {
        match self {
            About::User(_) => "user",
            About::Group(_) => "group",
            About::Uid(_) => "uid",
            About::Gid(_) => "gid",
            About::Uids(..) => "uids",
            About::Gids(..) => "gids",
            About::Policy => "policy",
        }
    }

    /// Which one of that kind; empty of what there is one of.
    pub fn name(&self) -> String {
        match self {
            About::User(name) | About::Group(name) => name.clone(),
            About::Uid(id) | About::Gid(id) => id.to_string(),
            About::Uids(first, last) | About::Gids(first, last) => format!("{first}-{last}"),
            About::Policy => String::new(),
        }
    }
}

impl fmt::Display for About {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.kind(), self.name())
    }
}

/// Something in which sides differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Differing {
    /// What it is about.
    pub about: About,
    /// The sides that it is on.
    pub on: Vec<u32>,
    /// How many say whether they have it.
    pub of: usize,
    /// In what, in the order of the fields.
    pub fields: Vec<Difference>,
}

/// One field, and what the sides say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// Which field.
    pub field: Field,
    /// What they say: what should be first, then what most say.
    pub values: Vec<SaidBy>,
}

/// A value, and who says so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SaidBy {
    /// The value; lists with commas.
    pub value: String,
    /// The sides that say so, in their order.
    pub sides: Vec<u32>,
    /// Whether it is what it should be.
    pub expected: bool,
}

/// All in which sides differ.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Comparison {
    /// In the order of their names.
    pub all: Vec<Differing>,
    /// How many users were compared.
    pub users: usize,
    /// How many groups.
    pub groups: usize,
}
