//! Watching slow work.

/// Watches slow work, to show how far it is.
pub trait Watcher: Sync {
    /// So many `more` bytes of `all` were copied for `what`.
    fn copied(&self, what: &str, all: u64, more: u64);
    /// So many `more` things of `all` were made.
    fn made(&self, what: &str, all: u64, more: u64);
}

/// Watches nothing.
impl Watcher for () {
    fn copied(&self, _: &str, _: u64, _: u64) {}
    fn made(&self, _: &str, _: u64, _: u64) {}
}
