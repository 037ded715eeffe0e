//! What is in a file or directory, by handles, no link followed.

use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use nest_core::surroundings::Inventory;
use rustix::fs::{FileType, Mode, OFlags, SeekFrom};
use rustix::io::Errno;
use xxhash_rust::xxh3::Xxh3;

use crate::interrupt::Patience;
use crate::read::fill;
use crate::walk::{At, Visitor, descend};

/// Takes the inventory of an entry of a directory; `None` when it is not there.
/// Contents are read only where numbers and sizes are those of `like`, or where
/// there is nothing to be like.
///
/// # Errors
/// The system's; `EXDEV` where something is mounted in it.
pub fn take_inventory(
    directory: impl AsFd,
    name: &std::ffi::OsStr,
    like: Option<&Inventory>,
) -> Result<Option<Inventory>, Errno> {
    let directory = directory.as_fd();
    let mut counting = FileCounter { files: 0, bytes: 0 };
    match descend(directory, name, Patience::Ends, &mut counting) {
        Err(Errno::NOENT) => return Ok(None),
        counted => counted?,
    }
    let FileCounter { files, bytes } = counting;
    let mut count = Inventory { files, bytes, digest: String::new() };
    if like.is_some_and(|like| (like.files, like.bytes) != (count.files, count.bytes)) {
        return Ok(Some(count));
    }
    let mut hashing = ContentHasher { hasher: Xxh3::new(), piece: Vec::new() };
    descend(directory, name, Patience::Ends, &mut hashing)?;
    count.digest = format!("{:032x}", hashing.hasher.digest128());
    Ok(Some(count))
}

/// Counts files and bytes.
struct FileCounter {
    files: u64,
    bytes: u64,
}

impl Visitor for FileCounter {
    type Error = Errno;

    fn file(&mut self, at: &At<'_>) -> Result<(), Errno> {
        self.files += 1;
        self.bytes += at.stat.st_size.cast_unsigned();
        Ok(())
    }

    fn enter(&mut self, _: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
        Ok(true)
    }
}

/// Takes the digest of everything.
struct ContentHasher {
    hasher: Xxh3,
    piece: Vec<u8>,
}

/// How much is read at a time, and how much of nothing but zeros counts as a hole.
const PIECE: usize = 64 << 10;
const BLOCK: usize = 4 << 10;

impl ContentHasher {
    fn status(&mut self, at: &At<'_>) {
        self.hasher.update(at.path);
        for number in [at.stat.st_mode, at.stat.st_uid, at.stat.st_gid] {
            self.hasher.update(&number.to_le_bytes());
        }
    }

    /// The contents of a file. Blocks of zeros are passed over, be they holes or not:
    /// a copy may have its holes elsewhere, and a hole of terabytes takes no time.
    fn contents(&mut self, file: &OwnedFd) -> Result<(), Errno> {
        self.piece.resize(PIECE, 0);
        let size = rustix::fs::fstat(file)?.st_size.cast_unsigned();
        let mut skipped_to = None;
        for part in DataParts::of(file, size) {
            let (start, length) = part?;
            // Whole blocks, so that what is passed over is the same in every copy.
            let mut at = start - start % BLOCK as u64;
            let end = (start + length).next_multiple_of(BLOCK as u64).min(size);
            while at < end {
                Patience::Ends.check()?;
                let room = usize::try_from(end - at).unwrap_or(PIECE).min(PIECE);
                let count = fill(file, at as usize, &mut self.piece[..room])
                    .map_err(|error| Errno::from_io_error(&error).unwrap_or(Errno::IO))?;
                if count == 0 {
                    break;
                }
                for (number, block) in self.piece[..count].chunks(BLOCK).enumerate() {
                    if is_empty(block) {
                        continue;
                    }
                    let place = at + (number * BLOCK) as u64;
                    if skipped_to.unwrap_or(0) != place {
                        self.hasher.update(b"hole");
                        self.hasher.update(&place.to_le_bytes());
                    }
                    self.hasher.update(block);
                    skipped_to = Some(place + block.len() as u64);
                }
                at += count as u64;
            }
        }
        if skipped_to.unwrap_or(0) != size {
            self.hasher.update(b"hole");
            self.hasher.update(&size.to_le_bytes());
        }
        Ok(())
    }
}

fn is_empty(block: &[u8]) -> bool {
    block.iter().fold(0, |any, byte| any | byte) == 0
}

impl Visitor for ContentHasher {
    type Error = Errno;

    fn file(&mut self, at: &At<'_>) -> Result<(), Errno> {
        self.status(at);
        match FileType::from_raw_mode(at.stat.st_mode) {
            FileType::RegularFile => self.contents(&open_met(at)?),
            FileType::Symlink => {
                let target = rustix::fs::readlinkat(at.parent, at.name, Vec::new())?;
                self.hasher.update(target.as_bytes());
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn enter(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
        self.status(at);
        Ok(true)
    }
}

/// Opens a regular file that was met, for reading.
///
/// # Errors
/// The system's; `ESTALE` where something else is in its place by now.
pub(crate) fn open_met(at: &At<'_>) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let file = rustix::fs::openat(at.parent, at.name, flags, Mode::empty())?;
    let opened = rustix::fs::fstat(&file)?;
    let same = (opened.st_dev, opened.st_ino) == (at.stat.st_dev, at.stat.st_ino);
    if same { Ok(file) } else { Err(Errno::STALE) }
}

/// The parts of a file that hold data: start and length, from the first to the last.
/// What lies between is a hole, and takes no time.
pub(crate) struct DataParts<'f> {
    file: &'f OwnedFd,
    size: u64,
    at: u64,
}

impl<'f> DataParts<'f> {
    /// Those of the first `size` bytes of a file.
    pub(crate) fn of(file: &'f OwnedFd, size: u64) -> Self {
        DataParts { file, size, at: 0 }
    }
}

impl Iterator for DataParts<'_> {
    type Item = Result<(u64, u64), Errno>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.at >= self.size {
            return None;
        }
        let start = match rustix::fs::seek(self.file, SeekFrom::Data(self.at)) {
            Ok(start) => start,
            Err(Errno::NXIO) => return None,
            // No holes are told here: all of it is data.
            Err(Errno::INVAL | Errno::NOTSUP) => self.at,
            Err(error) => return Some(Err(error)),
        };
        let end = rustix::fs::seek(self.file, SeekFrom::Hole(start)).unwrap_or(self.size);
        let end = end.min(self.size);
        self.at = end.max(start + 1);
        (start < self.size && start < end).then(|| Ok((start, end - start)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn any_alteration_shows() {
        let place = tempfile::tempdir().unwrap();
        let home = place.path().join("home");
        std::fs::create_dir_all(home.join("bin")).unwrap();
        std::fs::write(home.join("bin/x"), "one").unwrap();
        let open = || std::fs::File::open(place.path()).unwrap();
        let taken = |like: Option<&Inventory>| {
            take_inventory(open(), "home".as_ref(), like).unwrap().unwrap()
        };
        let first = taken(None);
        assert_eq!((first.files, first.bytes), (1, 3));
        assert_eq!(taken(Some(&first)), first);
        std::fs::write(home.join("bin/x"), "two").unwrap();
        assert_ne!(taken(Some(&first)).digest, first.digest);
        std::fs::write(home.join("bin/x"), "three").unwrap();
        assert_eq!(taken(Some(&first)).digest, "", "not read: it can't be the same");
        std::fs::write(home.join("bin/x"), "one").unwrap();
        assert_eq!(taken(Some(&first)), first);
        std::os::unix::fs::symlink("x", home.join("bin/y")).unwrap();
        assert_ne!(taken(Some(&first)), first);
        assert_eq!(take_inventory(open(), "gone".as_ref(), None).unwrap(), None);
    }

    #[test]
    fn a_hole_takes_no_time_and_is_the_same_as_zeros() {
        let place = tempfile::tempdir().unwrap();
        let open = || std::fs::File::open(place.path()).unwrap();
        let digest =
            |name: &str| take_inventory(open(), name.as_ref(), None).unwrap().unwrap().digest;
        let write = |name: &str, at: u64, size: u64| {
            let file = std::fs::File::create(place.path().join(name)).unwrap();
            std::os::unix::fs::FileExt::write_all_at(&file, b"data", at).unwrap();
            file.set_len(size).unwrap();
        };
        write("hole", 70_000, 200_001);
        let mut zeros = vec![0; 200_001];
        zeros[70_000..70_004].copy_from_slice(b"data");
        std::fs::write(place.path().join("zeros"), &zeros).unwrap();
        assert_eq!(digest("hole"), digest("zeros"));
        for (at, size) in [(69_999, 200_001), (70_000, 200_002), (74_096, 200_001)] {
            write("other", at, size);
            assert_ne!(digest("hole"), digest("other"), "{at} {size}");
        }
        write("terabytes", 5 << 40, 8 << 40);
        let began = std::time::Instant::now();
        digest("terabytes");
        assert!(began.elapsed().as_secs() < 20);
    }
}
