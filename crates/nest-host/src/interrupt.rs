//! Being told to stop: by `^C`, by a service manager, by a terminal that went away.

use std::sync::atomic::AtomicBool;
use std::sync::{Arc, LazyLock};

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

static INTERRUPTED: LazyLock<Arc<AtomicBool>> = LazyLock::new(|| {
    let interrupted = Arc::new(AtomicBool::new(false));
    for signal in [SIGHUP, SIGINT, SIGTERM] {
        if let Err(error) = signal_hook::flag::register(signal, Arc::clone(&interrupted)) {
            tracing::debug!(signal, %error, "the signal can't be caught");
        }
    }
    interrupted
});

/// From now on such a signal ends nothing by itself: it is noted, and whoever has
/// something to put back looks for it.
pub fn catch() -> &'static AtomicBool {
    &INTERRUPTED
}
