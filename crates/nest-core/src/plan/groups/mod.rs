//! Planners for groups.

mod change_group;
pub(crate) mod create_group;
pub(crate) mod delete_group;
mod group_password;
mod rename_group;
pub(crate) mod restore_group;

pub use change_group::{ChangeGroup, change_group};
pub use create_group::create_group;
pub use delete_group::{DeleteGroup, delete_group};
pub use group_password::{GroupPassword, check_group_password, group_password};
pub use rename_group::{RenameGroup, rename_group};
pub use restore_group::{RestoreGroup, restore_group};
