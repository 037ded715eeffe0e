//! The drawings of a page, as places and lengths in the units of SVG; the templates make the shapes.
//!
//! - `bars`: how many there are of each age
//! - `calendar`: what ends on which day
//! - `map`: the numbers, to scale
//! - `time_line`: changes and users, week by week

mod bars;
mod calendar;
mod map;
mod time_line;

use std::fmt;

pub use self::bars::{Bars, bars};
pub use self::calendar::{Calendar, calendar};
pub use self::map::{MapDrawn, maps};
pub use self::time_line::{TimeLine, time_line};

/// A place or a length, written to a tenth.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct Px(pub f64);

impl fmt::Display for Px {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let tenths = (self.0 * 10.0).round();
        match tenths % 10.0 == 0.0 {
            true => write!(f, "{:.0}", tenths / 10.0),
            false => write!(f, "{:.1}", tenths / 10.0),
        }
    }
}
