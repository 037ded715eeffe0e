//! Digests of files as they stand on the disk, see [`nest_core::drift::digest`].

use std::ffi::OsStr;
use std::os::fd::OwnedFd;

use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;

use crate::effect::Place;

/// The digest of a file; `None` when it is not there.
///
/// # Errors
/// The system's.
pub fn digest_of(place: &Place, name: &OsStr) -> std::io::Result<Option<String>> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    match rustix::fs::openat(&place.directory, name, flags, Mode::empty()) {
        Ok(file) => Ok(Some(digest_of_file(&file)?)),
        Err(Errno::NOENT) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// A digest as it is written.
pub(crate) fn in_hexadecimal(hasher: &xxhash_rust::xxh3::Xxh3) -> String {
    format!("{:032x}", hasher.digest128())
}

/// The digest of an opened file, see [`nest_core::drift::digest`].
///
/// # Errors
/// The system's.
pub fn digest_of_file(file: &OwnedFd) -> std::io::Result<String> {
    let mut hasher = xxhash_rust::xxh3::Xxh3::new();
    let mut piece = vec![0; crate::store::PIECE];
    let mut at = 0;
    loop {
        match rustix::io::pread(file, &mut piece[..], at) {
            Ok(0) => return Ok(in_hexadecimal(&hasher)),
            Ok(count) => {
                hasher.update(&piece[..count]);
                at += count as u64;
            }
            Err(Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
    }
}
