//! Loading the account files of a tree.

use std::collections::BTreeMap;
use std::os::fd::OwnedFd;
use std::sync::Arc;

use nest_core::book::{Book, Extent, Lookups, Texts};
use nest_core::table::{Excerpter, File, Lines, Piece, Rewrite};
use rustix::fs::{FileType, Mode, OFlags, Stat};
use rustix::io::Errno;
use xxhash_rust::xxh3::Xxh3;

use crate::digest::{digest_of_file, in_hexadecimal};
use crate::read::{LARGE, read_excerpt, read_text};
use crate::tree::{Located, Tree};
use crate::unread::Unread;
use crate::words::why;

/// Line tables count bytes in 32 bits.
const MOST: u64 = u32::MAX as u64;

/// A file may be replaced while we read it; then it is read again, this often.
const ATTEMPTS: usize = 5;

/// The account files of a tree, loaded.
#[derive(Debug)]
pub struct Loaded {
    /// The book.
    pub book: Book,
    /// The files it was read from, where they exist.
    pub originals: BTreeMap<File, Original>,
}

/// A file as it was when it was read.
pub struct Original {
    /// Where it is, with every link followed.
    pub located: Located,
    /// Held open: its cached pages then survive being replaced.
    pub descriptor: OwnedFd,
    /// What to recognise it by.
    pub identity: FileIdentity,
    /// Owner and mode.
    pub stat: Stat,
    /// The state of its digest after the last byte, where it was taken while the
    /// file was read: with it the digest of a file that only grew costs nothing.
    hashed: Option<Box<Xxh3>>,
    /// What reads it, where it is read as it is wanted.
    unread: Option<Arc<Unread>>,
    /// Whether it was altered so shortly before it was read that a second
    /// alteration, after the reading, could carry the same times.
    fresh: bool,
}

impl std::fmt::Debug for Original {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Original").field("path", &self.located.path).finish_non_exhaustive()
    }
}

/// What tells whether a file is still the one that was read: device, inode,
/// size, and the times of the last change of contents and of inode.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct FileIdentity {
    identity: (u64, u64),
    size: i64,
    changed: (i64, u64),
    touched: (i64, u64),
}

/// Why no book could be loaded.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum LoadError {
    /// A file without which there is no tree.
    #[error("there is no {} in {tree}: is that the root directory of a system?", .file.path())]
    NoSuchFile { file: File, tree: String },
    /// A file that can't be read.
    #[error("{} can't be read: {why}", .file.path())]
    Unreadable { file: File, why: String },
}

impl FileIdentity {
    /// In bytes.
    pub(crate) fn size(&self) -> u64 {
        self.size.unsigned_abs()
    }

    pub(crate) fn of(stat: &Stat) -> Self {
        FileIdentity {
            identity: (stat.st_dev, stat.st_ino),
            size: stat.st_size,
            changed: (stat.st_mtime, stat.st_mtime_nsec),
            touched: (stat.st_ctime, stat.st_ctime_nsec),
        }
    }
}

impl Original {
    /// The digest of the file as it was read, see [`nest_core::drift::digest`].
    ///
    /// # Errors
    /// The system's, where the file can't be read to its end.
    pub fn digest(&self) -> std::io::Result<String> {
        match &self.hashed {
            Some(hashed) => Ok(in_hexadecimal(hashed)),
            None => digest_of_file(&self.descriptor),
        }
    }

    /// The digest of what a rewrite makes of the file, where that can be told
    /// without reading: when all of the old is kept and the new comes after it.
    pub fn digest_after(&self, rewrite: &Rewrite) -> Option<String> {
        let mut hashed = self.hashed.clone()?;
        let (first, rest) = rewrite.pieces.split_first()?;
        if *first != Piece::Keep(0..self.identity.size as usize) {
            return None;
        }
        for piece in rest {
            match piece {
                Piece::New(bytes) => hashed.update(bytes),
                Piece::Keep(_) => return None,
            }
        }
        Some(in_hexadecimal(&hashed))
    }

    /// Whether it is read and copied as large files are.
    pub fn is_large(&self) -> bool {
        self.stat.st_size as u64 >= LARGE
    }

    /// Whether the file at that place is still the one that was read.
    pub fn is_unchanged(&self) -> bool {
        let flags = rustix::fs::AtFlags::SYMLINK_NOFOLLOW;
        rustix::fs::statat(&self.located.directory, &self.located.name, flags)
            .is_ok_and(|stat| FileIdentity::of(&stat) == self.identity)
    }
}

/// The clock of file times ticks this coarsely, at worst, in nanoseconds.
const TICK: i128 = 20_000_000;

/// Whether a file of this identity was altered within a tick of now.
fn is_fresh(identity: &FileIdentity) -> bool {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let now = now.map_or(0, |now| now.as_nanos() as i128);
    let touched = i128::from(identity.touched.0) * 1_000_000_000 + i128::from(identity.touched.1);
    touched >= now - TICK
}

impl Loaded {
    /// Lets go of the files and the memory. The kernel throws the pages of a
    /// replaced file out when its last descriptor is closed, which takes longer
    /// than all the rest of a change: side by side it takes half of that. To be
    /// called when the receipt is out.
    pub fn release(self) {
        std::thread::scope(|scope| {
            scope.spawn(|| drop(self.book));
            for original in self.originals.into_values() {
                scope.spawn(|| drop(original));
            }
        });
    }

    /// Whether what is read only when it is wanted was there, and still is what it was
    /// when loading began.
    pub fn is_as_it_was(&self) -> bool {
        self.originals.values().all(|original| match &original.unread {
            None => true,
            Some(unread) => {
                let stat = rustix::fs::fstat(&original.descriptor);
                !unread.has_failed()
                    && stat.is_ok_and(|stat| FileIdentity::of(&stat) == original.identity)
            }
        })
    }

    /// Whether every file is still the one that was read, none has come since,
    /// and none was so fresh that its times prove nothing.
    pub fn is_current(&self, tree: &Tree) -> bool {
        File::ALL.iter().all(|file| match self.originals.get(file) {
            Some(original) => original.is_unchanged() && !original.fresh,
            None => tree.stat(file.path()).is_err(),
        })
    }
}

/// Loads the account files of a tree. A file that can't be read is noted in the
/// book, unless it is `passwd` or `group`. Of a large file only the lines are kept
/// that will be looked up: memory for the rest would cost more time than
/// reading it. With `digests` those of the files are taken on the way, since they
/// will be replaced.
///
/// # Errors
/// [`LoadError`] when there is no `passwd` or `group`, or they can't be read.
pub fn load(tree: &Tree, lookups: &Lookups, digests: bool) -> Result<Loaded, LoadError> {
    let mut loaded = load_as(tree, |file| match lookups.extent(file) {
        Extent::Whole => Manner::Whole,
        Extent::Lines { words, numbers } => Manner::Lines { words, numbers, digests },
    })?;
    loaded.book.set_lookups(lookups.clone());
    Ok(loaded)
}

/// Loads the account files to be gone through once. Large ones are read then, in pieces,
/// and held in memory only if much is wanted of them after that. When all is done, ask
/// [`Loaded::is_as_it_was`]; if not, it is to be done again on all that [`load`] loads.
///
/// # Errors
/// As [`load`].
pub fn load_in_passing(tree: &Tree) -> Result<Loaded, LoadError> {
    load_as(tree, |_| Manner::Unread)
}

/// How a file is loaded, if it is large.
enum Manner {
    Whole,
    /// The lines that hold one of these words, and more.
    Lines {
        words: Vec<Vec<u8>>,
        numbers: bool,
        digests: bool,
    },
    Unread,
}

fn load_as(tree: &Tree, manner: impl Fn(File) -> Manner + Sync) -> Result<Loaded, LoadError> {
    let read = |file: File| (file, read_file(tree, file, manner(file)));
    let large = |file: &File| tree.stat(file.path()).is_ok_and(|stat| stat.st_size as u64 >= LARGE);
    let (large, small): (Vec<File>, Vec<File>) = File::ALL.iter().partition(|file| large(file));
    let mut results = Vec::new();
    std::thread::scope(|scope| {
        let threads: Vec<_> =
            large.into_iter().map(|file| scope.spawn(move || read(file))).collect();
        results.extend(small.into_iter().map(read));
        // A thread that panicked has nothing to hand over but its panic.
        results.extend(
            threads.into_iter().map(|thread| {
                thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            }),
        );
    });
    let mut texts = Texts::default();
    let mut originals = BTreeMap::new();
    for (file, result) in results {
        let needed = matches!(file, File::Passwd | File::Group);
        match result {
            Ok(Some((lines, original))) => {
                texts.set_lines(lines);
                originals.insert(file, original);
            }
            Ok(None) if needed => {
                let tree = tree.path().display().to_string();
                return Err(LoadError::NoSuchFile { file, tree });
            }
            Ok(None) => {}
            Err(why) if needed => return Err(LoadError::Unreadable { file, why }),
            Err(why) => texts.set_unreadable(file, why),
        }
    }
    tracing::debug!(files = originals.len(), "loaded the account files");
    Ok(Loaded { book: Book::new(texts), originals })
}

fn read_file(tree: &Tree, file: File, manner: Manner) -> Result<Option<(Lines, Original)>, String> {
    let located = match tree.locate(file.path()) {
        Ok(located) => located,
        Err(Errno::NOENT | Errno::NOTDIR) => return Ok(None),
        Err(error) => return Err(why(error)),
    };
    for _ in 0..ATTEMPTS {
        let flags =
            OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
        let descriptor =
            match rustix::fs::openat(&located.directory, &located.name, flags, Mode::empty()) {
                Ok(descriptor) => descriptor,
                Err(Errno::NOENT) => return Ok(None),
                Err(error) => return Err(why(error)),
            };
        let stat = rustix::fs::fstat(&descriptor).map_err(why)?;
        match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => {}
            FileType::Directory => return Err("it is a directory".into()),
            _ => return Err("it is not a plain file".into()),
        }
        let size = stat.st_size as u64;
        if size > MOST {
            return Err(format!("it has {size} bytes, and 4 GB are the most"));
        }
        let identity = FileIdentity::of(&stat);
        let fresh = is_fresh(&identity);
        let mut hashed = None;
        let mut unread = None;
        let lines = match &manner {
            Manner::Lines { words, .. } if size >= LARGE && words.is_empty() => {
                let lines = Excerpter::new(file, &[], false).finish();
                let original =
                    Original { located, descriptor, identity, stat, hashed, unread, fresh };
                return Ok(Some((lines, original)));
            }
            Manner::Lines { words, numbers, digests } if size >= LARGE => {
                hashed = digests.then(Box::default);
                let excerpter = Excerpter::new(file, words, *numbers);
                read_excerpt(&descriptor, excerpter, hashed.as_deref_mut())
            }
            // Of a fresh one it could not be told whether it is altered meanwhile.
            Manner::Unread if size >= LARGE && !fresh => descriptor
                .try_clone()
                .map(|again| Arc::new(Unread::new(again, size as usize)))
                .map(|file| unread.insert(file).clone())
                .map(|source| Lines::unread(file, source)),
            _ => read_text(&descriptor, size).map(|text| Lines::new(file, text)),
        }
        .map_err(why)?;
        let after = rustix::fs::fstat(&descriptor).map_err(why)?;
        if FileIdentity::of(&after) == identity && lines.file_length() as u64 == size {
            let original = Original { located, descriptor, identity, stat, hashed, unread, fresh };
            return Ok(Some((lines, original)));
        }
    }
    Err("it keeps changing while it is read".into())
}
