//! Small checked values: each knows how it is written in an account file and
//! refuses what the file could not carry.

mod author;
mod day;
pub mod escaped;
mod file_kind;
mod gecos;
mod id;
mod id_set;
mod id_span;
mod id_spans;
mod member_list;
mod name;
mod password_field;
mod password_hash;
mod plain_name;
mod severity;
mod size;
mod ssh_key;
mod strength;
mod tree_path;
mod unseen;
mod user_or_group;

pub use author::Author;
pub use day::{Day, DayFault, Expiry, ExpiryFault};
pub use escaped::{escape, escaped, unescape};
pub use file_kind::FileKind;
pub use gecos::{GecosParts, unfit};
pub use id::{
    Gid, NotANumber, Uid, is_reserved, read_id, read_plain_id, read_signed, reserved_for,
    reserved_spans,
};
pub use id_set::IdSet;
pub use id_span::IdSpan;
pub use id_spans::IdSpans;
pub use member_list::{
    members, replace_member, with_member, with_member_once, with_members, without_member,
};
pub use name::{GroupName, MAX_BYTES, NameFault, NameStyle, UserName, check_name, nearest};
pub use password_field::{FieldFault, PasswordField, Scheme};
pub use password_hash::{
    NewScheme, PasswordFault, SALT, check_hash, check_password, hash_password, is_lock,
};
pub use plain_name::{NotPlain, PlainName, is_component, is_relative_path};
pub use severity::Severity;
pub use size::bytes_in_words;
pub use ssh_key::{KeyCount, KeyFault, KeyLine, check_keys, key_lines, usable_keys};
pub use strength::{Strength, strength};
pub use tree_path::{TreePath, join, parent_of, path_fault, tidy};
pub use unseen::is_unseen;
pub use user_or_group::UserOrGroup;
