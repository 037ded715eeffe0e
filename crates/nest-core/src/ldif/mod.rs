//! Accounts as entries of a directory: LDIF (RFC 2849) with the classes of RFC 2307.
//!
//! - `read`: entries of a text
//! - `name`: names of entries (RFC 4514)
//! - `accounts`: what entries say of users and groups
//! - `entry`: users and groups as entries
//! - `changes`: what makes a directory the same
//! - `write`: entries and changes as text

mod accounts;
mod changes;
mod entry;
mod name;
mod read;
#[cfg(test)]
mod tests;
mod write;

pub use self::accounts::{DirectoryAccounts, DirectoryGroup, DirectoryUser};
pub use self::changes::{Changes, Scope, changes};
pub use self::entry::{Directory, Entries, Entry, Schema, containers, group_entries, user_entries};
pub use self::read::{LdifFault, ReadEntry, read};
pub use self::write::{changes_text, entries_text, users_text};
