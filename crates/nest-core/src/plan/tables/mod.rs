//! Planners for whole tables of accounts.

mod intake;

pub use intake::{Existing, Intake, TakenIn, intake};
