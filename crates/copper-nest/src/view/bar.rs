//! A bar for slow work, on a terminal and after half a second only.

use std::io::IsTerminal;
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use nest_host::commit::Watcher;

/// Work that is shorter needs no bar.
const A_MOMENT: Duration = Duration::from_millis(500);

const BYTES: &str = "{msg}  {wide_bar:.208}  {bytes} of {total_bytes}, {eta} left";
const THINGS: &str = "{msg}  {wide_bar:.208}  {pos} of {len}, {eta} left";

/// Shows how far slow work is.
#[derive(Default)]
pub struct Bar {
    work: Mutex<Option<Work>>,
    /// Whether anybody sees it.
    seen: OnceLock<bool>,
}

struct Work {
    what: String,
    began: Instant,
    done: u64,
    bar: Option<ProgressBar>,
}

impl Bar {
    /// Takes the bar off the screen.
    pub fn clear(&self) {
        let work = self.work.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(bar) = work.and_then(|work| work.bar) {
            bar.finish_and_clear();
        }
    }
}

impl Watcher for Bar {
    fn copied(&self, what: &str, all: u64, more: u64) {
        self.show(BYTES, what, all, more);
    }

    fn made(&self, what: &str, all: u64, more: u64) {
        self.show(THINGS, what, all, more);
    }
}

impl Bar {
    fn show(&self, style: &str, what: &str, all: u64, more: u64) {
        if !self.seen.get_or_init(|| std::io::stderr().is_terminal()) {
            return;
        }
        let mut work = self.work.lock().unwrap_or_else(PoisonError::into_inner);
        if work.as_ref().is_none_or(|work| work.what != what) {
            let (what, began) = (what.to_owned(), Instant::now());
            *work = Some(Work { what, began, done: 0, bar: None });
        }
        let Some(work) = work.as_mut() else { return };
        work.done += more;
        if work.bar.is_none() && work.began.elapsed() >= A_MOMENT {
            let bar = ProgressBar::new(all);
            if let Ok(style) = ProgressStyle::with_template(style) {
                bar.set_style(style.progress_chars("━━─"));
            }
            bar.set_message(super::visible(work.what.as_bytes()));
            work.bar = Some(bar);
        }
        if let Some(bar) = &work.bar {
            bar.set_position(work.done);
        }
    }
}
