//! Errors of the system, in words.

use std::fmt::Display;

use nest_core::words::without_error_numbers;

/// What an error says, without the number that the system has for it.
pub(crate) fn why(error: impl Display) -> String {
    without_error_numbers(&error.to_string())
}
