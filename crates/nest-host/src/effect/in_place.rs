//! Rewriting a file that is a mount point of its own, onto which nothing can be
//! renamed. Both texts are in the journal, so that a crash half-way is mended.

use std::ffi::OsStr;
use std::io::Error;
use std::os::fd::OwnedFd;
use std::path::Path;

use nest_core::value::escaped::Escaped;
use nest_core::value::{NotPlain, PlainName};
use rustix::fs::{Mode, OFlags};

use super::{EffectRunner, Place, Published};
use crate::stage::write_all;
use crate::untrusted::{open_entry, read_opened};

impl EffectRunner<'_> {
    /// For a file that is a mount point of its own: both texts go into the
    /// journal, then the new one into the file. When that fails half-way the old
    /// text is written back at once.
    pub(super) fn rewrite_in_place(
        &self,
        place: &Place,
        staged: &OsStr,
    ) -> std::io::Result<Published> {
        let (new, old) = (read(place, staged)?, read(place, &place.name)?);
        self.journal.keep(&before_name(&place.name).map_err(Error::other)?, &old)?;
        self.journal.keep(&after_name(&place.name).map_err(Error::other)?, &new)?;
        let target = open_in_place(place)?;
        overwrite(&target, &new).or_else(|error| {
            overwrite(&target, &old)?;
            Err(error)
        })?;
        Ok(Published::InPlace)
    }

    /// Finishes rewriting a file in place, if that is what a crash tore: the file
    /// then begins with the new text, of this digest, and goes on with the old one.
    ///
    /// # Errors
    /// The system's, where the file or the journal can't be read, or the file not be written.
    pub fn mend_torn(&self, path: &Escaped, after: &str) -> std::io::Result<bool> {
        let place = self.place(&path.0)?;
        let (Ok(before_name), Ok(after_name)) = (before_name(&place.name), after_name(&place.name))
        else {
            return Ok(false);
        };
        let (Some(old), Some(new)) =
            (self.journal.kept(&before_name)?, self.journal.kept(&after_name)?)
        else {
            return Ok(false);
        };
        if nest_core::drift::digest(&new) != after {
            return Ok(false);
        }
        if !is_torn(&read(&place, &place.name)?, &old, &new) {
            return Ok(false);
        }
        overwrite(&open_in_place(&place)?, &new)?;
        Ok(true)
    }
}

/// Whether a text is what writing `new` over `old` may have left half-way.
fn is_torn(text: &[u8], old: &[u8], new: &[u8]) -> bool {
    let same = text.iter().zip(new).take_while(|(one, other)| one == other).count();
    if same == new.len() {
        // Only cutting off what was longer is missing.
        return text.len() == old.len() && text[same..] == old[same..];
    }
    text.len() == old.len().max(same) && (same >= old.len() || text[same..] == old[same..])
}

/// The name under which the journal keeps the text of a file before the change.
///
/// # Errors
/// [`NotPlain`], for a file that has no plain name.
pub(super) fn before_name(name: &OsStr) -> Result<PlainName, NotPlain> {
    PlainName::parse(format!("{}.before", Path::new(name).display()))
}

fn after_name(name: &OsStr) -> Result<PlainName, NotPlain> {
    PlainName::parse(format!("{}.after", Path::new(name).display()))
}

fn read(place: &Place, name: &OsStr) -> std::io::Result<Vec<u8>> {
    Ok(read_opened(open_entry(&place.directory, name)?, u64::from(u32::MAX))?)
}

pub(super) fn open_in_place(place: &Place) -> std::io::Result<OwnedFd> {
    let flags = OFlags::WRONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(&place.directory, &place.name, flags, Mode::empty())?)
}

pub(super) fn overwrite(target: &OwnedFd, text: &[u8]) -> std::io::Result<()> {
    rustix::fs::seek(target, rustix::fs::SeekFrom::Start(0))?;
    write_all(target, text)?;
    rustix::fs::ftruncate(target, text.len() as u64)?;
    Ok(rustix::fs::fsync(target)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_we_tore_counts_as_torn() {
        let (old, new) = (b"one\ntwo\n".as_slice(), b"one\nthree\nfour\n".as_slice());
        for written in 0..new.len() {
            let mut text = new[..written].to_vec();
            text.extend_from_slice(old.get(written..).unwrap_or_default());
            assert!(is_torn(&text, old, new), "{written}");
        }
        assert!(!is_torn(b"one\ntwo\nmore\n", old, new));
        assert!(!is_torn(b"one\n", old, new));
        assert!(!is_torn(b"other", old, new));
    }

    #[test]
    fn a_shorter_text_over_a_longer_one_is_torn_at_every_byte() {
        let (old, new) = (b"one\ntwo\nthree\n".as_slice(), b"one\n2\n".as_slice());
        for written in 0..=new.len() {
            let text = [&new[..written], &old[written..]].concat();
            assert!(is_torn(&text, old, new), "{written}");
        }
        assert!(!is_torn(b"one\n", old, new));
    }
}
