//! What a report adds up beside what the lists tell: how old things are, what is due when, who is
//! in which group, and where the numbers are.
//!
//! - `ages`: how many fall between two ages
//! - `due`: what ends on which day
//! - `history`: how many users there were after each change
//! - `matrix`: people against groups
//! - `number_map`: what holds which numbers, and which parts of them are worth a closer look

mod ages;
mod due;
mod history;
mod matrix;
mod number_map;

pub use self::ages::{Age, AgeBar, by_age};
pub use self::due::{Due, DueKind, Dues, dues};
pub use self::history::{Moment, history};
pub use self::matrix::{Matrix, MatrixRow, matrix};
pub use self::number_map::{Lane, LaneKind, Mark, NumberMap, number_map};
