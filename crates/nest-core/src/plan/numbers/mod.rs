//! Planners for numbers.

mod reassign;

pub use reassign::{Reassign, reassign};
