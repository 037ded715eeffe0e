//! Printing, where nobody may be listening any more. Whatever is printed passes here: no
//! hash gets out, whatever line it had slipped into.

use std::fmt::Arguments;
use std::io::{BufWriter, ErrorKind, IsTerminal, Stdout, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

use anstream::AutoStream;
use nest_core::secret::without_hashes;
use nest_core::words::without_error_numbers;

/// Whether something that was to be printed could not be.
static LOST: AtomicBool = AtomicBool::new(false);

/// Whether something is printed that can't be had again: then nobody's listening is
/// told.
static PRECIOUS: AtomicBool = AtomicBool::new(false);

/// Prints a line on stdout.
macro_rules! outln {
    () => { $crate::output::print(format_args!("")) };
    ($($words:tt)*) => { $crate::output::print(format_args!($($words)*)) };
}

/// Prints a line on stderr.
macro_rules! errln {
    ($($words:tt)*) => { $crate::output::print_trouble(format_args!($($words)*)) };
}

/// What is printed on stdout, gathered: a hundred thousand lines are not to be a
/// hundred thousand calls of the system.
struct Printed {
    to: BufWriter<AutoStream<Stdout>>,
    /// The line that is printed.
    line: String,
    /// Whether a person looks on, and wants each line at once.
    at_once: bool,
    /// Whether something could not be handed on: nothing is tried again then.
    broken: bool,
}

impl Printed {
    fn open() -> Mutex<Printed> {
        let stdout = std::io::stdout();
        let at_once = stdout.is_terminal();
        let to = BufWriter::new(AutoStream::auto(stdout));
        Mutex::new(Printed { to, line: String::new(), at_once, broken: false })
    }
}

static PRINTED: OnceLock<Mutex<Printed>> = OnceLock::new();

/// Prints a line on stdout. A reader that has gone away (`| head`) ends the
/// program quietly; what else stands in the way is told once.
pub fn print(line: Arguments<'_>) {
    let printed = PRINTED.get_or_init(Printed::open);
    let mut printed = printed.lock().unwrap_or_else(PoisonError::into_inner);
    if printed.broken {
        return;
    }
    let Printed { to, line: text, .. } = &mut *printed;
    text.clear();
    // Into memory: that does not fail.
    let _ = std::fmt::Write::write_fmt(text, line);
    let mut written = writeln!(to, "{}", without_hashes(text));
    if written.is_ok() && printed.at_once {
        written = printed.to.flush();
    }
    printed.broken = written.is_err();
    drop(printed);
    judge(written);
}

/// Prints whole lines on stdout in which nothing is coloured.
pub fn print_lines(lines: &str) {
    flush();
    let printed = PRINTED.get_or_init(Printed::open);
    let mut printed = printed.lock().unwrap_or_else(PoisonError::into_inner);
    if printed.broken {
        return;
    }
    // Without going through them for colours to be taken out.
    let mut stdout = std::io::stdout();
    let written = stdout.write_all(without_hashes(lines).as_bytes()).and_then(|()| stdout.flush());
    printed.broken = written.is_err();
    drop(printed);
    judge(written);
}

/// Passes on what was printed so far: before anybody else writes to the same
/// place, and at the end.
pub fn flush() {
    let Some(printed) = PRINTED.get() else { return };
    let mut printed = printed.lock().unwrap_or_else(PoisonError::into_inner);
    let flushed = if printed.broken { Ok(()) } else { printed.to.flush() };
    printed.broken |= flushed.is_err();
    drop(printed);
    judge(flushed);
}

fn judge(written: std::io::Result<()>) {
    let Err(error) = written else { return };
    if error.kind() == ErrorKind::BrokenPipe && !PRECIOUS.load(Ordering::Relaxed) {
        std::process::exit(0);
    }
    if !LOST.swap(true, Ordering::Relaxed) {
        let _ = writeln!(anstream::stderr(), "what was to be printed could not be: {error}");
    }
}

/// Prints a line on stderr, if anybody takes it.
pub fn print_trouble(line: Arguments<'_>) {
    flush();
    let _ = writeln!(
        anstream::stderr(),
        "{}",
        without_hashes(&without_error_numbers(&line.to_string()))
    );
}

/// From now on a reader that has gone away does not end the program quietly.
pub fn insist() {
    PRECIOUS.store(true, Ordering::Relaxed);
}

/// Whether nothing can be printed any more.
pub fn is_broken() -> bool {
    flush();
    let printed = PRINTED.get().map(|printed| printed.lock());
    printed.is_some_and(|printed| printed.unwrap_or_else(PoisonError::into_inner).broken)
}

/// Whether output was lost.
pub fn was_lost() -> bool {
    flush();
    LOST.load(Ordering::Relaxed)
}

/// A change that was made counts as made, also when its receipt was lost.
pub fn forgive() {
    flush();
    LOST.store(false, Ordering::Relaxed);
}
