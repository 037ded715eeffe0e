//! Tests that were passed over: each says so at once, and the last program of the suite counts
//! them.

use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};

/// Where a run of the suite, which has one parent for all its programs, notes them.
pub fn notes() -> PathBuf {
    let target = Path::new(env!("CARGO_TARGET_TMPDIR"));
    let suite = rustix::process::getppid().map_or(0, |parent| parent.as_raw_nonzero().get());
    target.join(format!("passed-over.{suite}"))
}

/// Says that a test was passed over, and what it needs, where the test harness does not swallow
/// it.
#[allow(dead_code)]
pub fn passed_over(test: &str, needs: &str) {
    let line = format!("{test} needs {needs}\n");
    let _ = write!(std::io::stderr(), "\nPASSED OVER: {line}");
    let notes = OpenOptions::new().create(true).append(true).open(notes());
    let noted = notes.and_then(|mut notes| notes.write_all(line.as_bytes()));
    assert!(noted.is_ok(), "{test} was passed over, and that can't be noted: {noted:?}");
}
