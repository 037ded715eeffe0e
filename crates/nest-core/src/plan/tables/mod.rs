//! Planners for whole tables of accounts.

mod intake;

pub use intake::{Among, Existing, Intake, Others, OthersBecome, TakenIn, intake};
