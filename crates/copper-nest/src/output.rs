//! Printing, where nobody may be listening any more.

use std::fmt::Arguments;
use std::io::{ErrorKind, Write};
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether something that was to be printed could not be.
static LOST: AtomicBool = AtomicBool::new(false);

/// Prints a line on stdout.
macro_rules! outln {
    () => { $crate::output::print(format_args!("")) };
    ($($words:tt)*) => { $crate::output::print(format_args!($($words)*)) };
}

/// Prints a line on stderr.
macro_rules! errln {
    ($($words:tt)*) => { $crate::output::print_trouble(format_args!($($words)*)) };
}

/// Prints a line on stdout. A reader that has gone away (`| head`) ends the
/// program quietly; what else stands in the way is told once.
pub fn print(line: Arguments<'_>) {
    let Err(error) = writeln!(anstream::stdout(), "{line}") else { return };
    if error.kind() == ErrorKind::BrokenPipe {
        std::process::exit(0);
    }
    if !LOST.swap(true, Ordering::Relaxed) {
        print_trouble(format_args!("what was to be printed could not be: {error}"));
    }
}

/// Prints a line on stderr, if anybody takes it.
pub fn print_trouble(line: Arguments<'_>) {
    let _ = writeln!(anstream::stderr(), "{line}");
}

/// Whether output was lost.
pub fn was_lost() -> bool {
    LOST.load(Ordering::Relaxed)
}

/// A change that was made counts as made, also when its receipt was lost.
pub fn forgive() {
    LOST.store(false, Ordering::Relaxed);
}
