//! Standard input, which one command may have to read for several trees.

use std::io::Read;
use std::sync::{Mutex, PoisonError};

use zeroize::Zeroizing;

/// What was read, where it will be wanted again.
static KEPT: Mutex<Option<Zeroizing<Vec<u8>>>> = Mutex::new(None);

/// Whether it will be.
static AGAIN: std::sync::atomic::AtomicBool = std::sync::atomic::AtomicBool::new(false);

/// From now on what is read is kept: the same command runs on several trees.
pub fn read_again() {
    AGAIN.store(true, std::sync::atomic::Ordering::Relaxed);
}

/// Reads at most so many bytes onto a buffer.
///
/// # Errors
/// The system's.
pub fn read_onto(buffer: &mut Vec<u8>, most: u64) -> std::io::Result<()> {
    if !AGAIN.load(std::sync::atomic::Ordering::Relaxed) {
        return std::io::stdin().take(most).read_to_end(buffer).map(|_| ());
    }
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    if kept.is_none() {
        let mut text = Zeroizing::new(Vec::new());
        std::io::stdin().take(most).read_to_end(&mut text)?;
        *kept = Some(text);
    }
    buffer.extend_from_slice(kept.as_ref().map_or(&[][..], |text| text));
    Ok(())
}
