//! Planners for users.

mod change_user;
pub(crate) mod create_user;
mod delete_user;
mod regroup;
mod rename_user;
mod restore_user;
mod set_password;
mod suspend;

pub(crate) use change_user::change_into;
pub use change_user::{AgingRequest, ChangeUser, ChangeUsers, change_user, change_users};
pub use create_user::create_user;
pub(crate) use delete_user::delete_into;
pub use delete_user::{DeleteUser, FilesDisposition, delete_user};
pub use regroup::{Regroup, regroup};
pub use rename_user::{RenameUser, rename_user};
pub(crate) use restore_user::restore_into;
pub use restore_user::{RestoreUser, restore_user};
pub use set_password::{SetPassword, check_password_holders, set_password};
pub use suspend::{Resume, Suspend, resume, suspend};
pub(crate) use suspend::{is_out, resume_into, suspend_into, suspended_field};
