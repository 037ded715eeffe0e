//! Which of the two kinds of thing that account files hold.

use serde::{Deserialize, Serialize};

/// Whether something is a user or a group. Displays as `user` or `group`.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, strum::Display,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum UserOrGroup {
    /// A user, with what is the user's alone.
    User,
    /// A group.
    Group,
}
