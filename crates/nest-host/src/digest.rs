//! Digests of files as they stand on the disk, see [`nest_core::drift::digest`].

use std::ffi::OsStr;
use std::os::fd::OwnedFd;

use rustix::io::Errno;

use crate::place::Place;
use crate::untrusted::open_entry;

/// The digest of a file; `None` when it is not there.
///
/// # Errors
/// The system's, and one for what is no regular file.
pub fn digest_of(place: &Place, name: &OsStr) -> std::io::Result<Option<String>> {
    match open_entry(&place.directory, name) {
        Ok((file, _)) => Ok(Some(digest_of_file(&file)?)),
        Err(error) if error.is_missing() => Ok(None),
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
/// The system's, where the file can't be read to its end.
pub fn digest_of_file(file: &OwnedFd) -> std::io::Result<String> {
    let mut hasher = xxhash_rust::xxh3::Xxh3::new();
    let mut piece = vec![0; crate::read::PIECE];
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
