//! Being told to stop: by `^C`, by a service manager, by a terminal that went away.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};

use rustix::io::Errno;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};

/// Set by a signal; not there before signals are caught.
static INTERRUPTED: OnceLock<Arc<AtomicBool>> = OnceLock::new();

/// From now on such a signal ends nothing by itself: it is noted, and whoever has
/// something to put back looks for it.
pub fn catch() -> &'static AtomicBool {
    INTERRUPTED.get_or_init(|| {
        let interrupted = Arc::new(AtomicBool::new(false));
        for signal in [SIGHUP, SIGINT, SIGTERM] {
            if let Err(error) = signal_hook::flag::register(signal, Arc::clone(&interrupted)) {
                tracing::debug!(signal, %error, "the signal can't be caught");
            }
        }
        interrupted
    })
}

/// From now on writing more than the process may (`setrlimit(2)`) is an error like
/// any other, and does not end the process in the middle of a change.
pub fn survive_size_limits() {
    if let Err(error) = signal_hook::flag::register(SIGXFSZ, Arc::default()) {
        tracing::debug!(%error, "the signal can't be caught");
    }
}

/// Whether long work heeds an interrupt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Patience {
    /// It stops, for what was begun can be dropped.
    Ends,
    /// It goes on: it is what puts things right.
    Endless,
}

impl Patience {
    /// To be called in every loop that may take long.
    ///
    /// # Errors
    /// `ECANCELED` once the program was told to stop, where that is heeded: readers and
    /// writers try again after an `EINTR`.
    pub fn check(self) -> Result<(), Errno> {
        let told = || INTERRUPTED.get().is_some_and(|told| told.load(Ordering::Relaxed));
        match self == Patience::Ends && told() {
            true => Err(Errno::CANCELED),
            false => Ok(()),
        }
    }
}
