//! Planners for what was done before: taking it back, and letting it go.

#![deny(clippy::wildcard_enum_match_arm)]

pub(crate) mod find_kept;
mod purge;
mod undo;

pub use purge::{Purge, kept_until, purge};
pub use undo::{Undo, undo};
