//! The effects of Copper Nest on a real tree.
//!
//! - [`tree`]: the opened root; every path is resolved inside it.
//! - [`lock`]: the account-file lock that the C library's programs take too.
//! - [`store`]: loading a book.
//! - [`stage`]: new versions of files, beside the old ones.
//! - [`home`]: making home directories.
//! - [`commit`]: carrying a plan out, whole or not at all.
//! - [`surroundings`]: what planners and rules ask about the world.
//! - [`retired`]: the numbers of deleted accounts.
//!
//! Nothing here knows what a user or a group is: plans come from `nest-core`,
//! and are made of edits and steps.

pub mod commit;
pub mod home;
pub mod lock;
pub mod retired;
pub mod stage;
pub mod store;
pub mod surroundings;
pub mod tree;
