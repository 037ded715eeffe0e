//! Packing a file or directory into one file, and unpacking it: a tar archive,
//! compressed with zstd, with owners, modes, times, links, holes and extended
//! attributes. By handles, no link followed.

mod entry;
mod unpack;

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsStr;
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::{BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::sync::mpsc;

use bstr::BStr;
use entry::{ArchiveEntry, EntryKind, damaged, each};
use nest_core::retired::PackedFile;
use nest_core::value::bytes_in_words;
use rustix::fs::{FileType, Stat};
use rustix::io::Errno;
use xxhash_rust::xxh3::Xxh3;

use crate::copy::attributes_of;
use crate::digest::in_hexadecimal;
use crate::interrupt::Patience;
use crate::inventory::{DataParts, open_met};
use crate::state::Folder;
use crate::walk::{At, Visitor, descend};
use nest_core::words::counted;

pub use unpack::unpack;

/// How hard is compressed: zstd's own default.
const LEVEL: i32 = 3;

/// Is told how many bytes there are in all, and how many more were done.
pub type PackProgress<'a> = dyn Fn(u64, u64) + 'a;

/// What was packed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packed {
    /// Files, links and the like; directories are not counted.
    pub files: u64,
    /// The bytes in them.
    pub bytes: u64,
    /// Sockets, which mean nothing without the program that made them.
    pub sockets: u64,
    /// The size of the archive.
    pub size: u64,
    /// Its digest.
    pub digest: String,
}

impl Packed {
    /// What was packed, as a sentence.
    pub fn told(&self, path: &BStr) -> String {
        let files = counted(self.files, "file", "files");
        let sockets = match self.sockets {
            0 => String::new(),
            count => {
                let sockets = counted(count, "socket in it was", "sockets in it were");
                format!("; {sockets} left out")
            }
        };
        format!(
            "{path} ({files}, {}) was packed into {}, and the archive compared with it{sockets}",
            bytes_in_words(self.bytes),
            bytes_in_words(self.size)
        )
    }
}

/// Packs an entry of a directory into a file of a folder, flushed; unpacks again what
/// is written and compares it with what was packed, and the file with what was
/// written.
///
/// # Errors
/// The system's, and one for what was altered meanwhile, does not come back from
/// the disk the same, or has something mounted in it (`EXDEV`). An interrupt ends it
/// (`ECANCELED`).
pub fn pack(
    directory: &OwnedFd,
    name: &OsStr,
    folder: &Folder,
    file: PackedFile,
    progress: &PackProgress<'_>,
) -> std::io::Result<Packed> {
    let mut before = Survey::default();
    descend(directory, name, Patience::Ends, &mut before)?;
    // What is written is unpacked again at once, side by side, and compared with
    // what was read.
    let (sender, receiver) = mpsc::sync_channel(PIECES);
    let comparing =
        std::thread::spawn(move || contents_of(Received { receiver, piece: Vec::new(), at: 0 }));
    let target = folder.create(&file.name())?;
    let tee = Tee { inner: Written { file: target, sender }, hasher: Xxh3::new(), count: 0 };
    let mut encoder = zstd::Encoder::new(tee, LEVEL)?;
    let threads = std::thread::available_parallelism().map_or(1, |count| count.get() as u32);
    encoder.multithread(threads)?;
    let progress = |more| progress(before.bytes, more);
    let builder = tar::Builder::new(encoder);
    let (linked, hasher) = (HashMap::new(), Xxh3::new());
    let mut packing = Packing { builder, linked, hasher, progress: &progress };
    descend(directory, name, Patience::Ends, &mut packing)?;
    let Packing { builder, hasher, .. } = packing;
    let Tee { inner: Written { file: target, sender }, hasher: written, count: size } =
        builder.into_inner()?.finish()?;
    drop(sender);
    target.sync_all()?;
    drop(target);
    let unpacked = comparing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
    let digest = in_hexadecimal(&written);
    if unpacked != in_hexadecimal(&hasher) || folder.digest(&file.name())? != Some(digest.clone()) {
        return Err(damaged("it does not come back as it was written"));
    }
    let mut after = Survey::default();
    descend(directory, name, Patience::Ends, &mut after)?;
    if in_hexadecimal(&before.hasher) != in_hexadecimal(&after.hasher) {
        return Err(std::io::Error::other("it was altered while it was packed"));
    }
    let Survey { files, bytes, sockets, .. } = before;
    Ok(Packed { files, bytes, sockets, size, digest })
}

/// Counts what there is, and takes a digest of what tells whether it is altered.
#[derive(Default)]
struct Survey {
    files: u64,
    bytes: u64,
    sockets: u64,
    hasher: Xxh3,
}

impl Survey {
    fn note(&mut self, at: &At<'_>) {
        self.hasher.update(at.name.as_bytes());
        for number in [at.stat.st_ino, at.stat.st_ctime.cast_unsigned(), at.stat.st_ctime_nsec] {
            self.hasher.update(&number.to_le_bytes());
        }
    }
}

impl Visitor for Survey {
    type Error = Errno;

    fn file(&mut self, at: &At<'_>) -> Result<(), Errno> {
        self.note(at);
        match FileType::from_raw_mode(at.stat.st_mode) {
            FileType::Socket => self.sockets += 1,
            FileType::RegularFile => self.bytes += at.stat.st_size.cast_unsigned(),
            _ => {}
        }
        self.files += 1;
        Ok(())
    }

    fn enter(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
        self.note(at);
        Ok(true)
    }
}

struct Packing<'a, W: Write> {
    builder: tar::Builder<W>,
    /// Files with more than one name: inode, and the path of the first.
    linked: HashMap<u64, Vec<u8>>,
    hasher: Xxh3,
    progress: &'a dyn Fn(u64),
}

impl<W: Write> Visitor for Packing<'_, W> {
    type Error = std::io::Error;

    fn file(&mut self, at: &At<'_>) -> std::io::Result<()> {
        let (stat, path) = (at.stat, at.path.strip_prefix(b"/").unwrap_or(at.path));
        let kind = FileType::from_raw_mode(stat.st_mode);
        if stat.st_nlink > 1 && kind != FileType::Socket {
            if let Some(first) = self.linked.get(&stat.st_ino) {
                let link = of(stat, path, EntryKind::Link(first.clone()), BTreeMap::new());
                return self.append(&link, &[][..]);
            }
            self.linked.insert(stat.st_ino, path.to_vec());
        }
        match kind {
            FileType::RegularFile => {
                let file = open_met(at)?;
                let stat = rustix::fs::fstat(&file)?;
                let size = stat.st_size.cast_unsigned();
                let parts = DataParts::of(&file, size).collect::<Result<Vec<_>, _>>()?;
                let kind = EntryKind::File(size, parts.clone());
                let entry = of(&stat, path, kind, attributes_of(&file)?);
                let parts = parts.into_iter();
                let data = Data { file: &file, parts, current: (0, 0), progress: self.progress };
                self.append(&entry, data)
            }
            FileType::Symlink => {
                let to = rustix::fs::readlinkat(at.parent, at.name, Vec::new())?.into_bytes();
                self.append(&of(stat, path, EntryKind::Symlink(to), BTreeMap::new()), &[][..])
            }
            FileType::Socket => Ok(()),
            FileType::Fifo => {
                self.append(&of(stat, path, EntryKind::Fifo, BTreeMap::new()), &[][..])
            }
            kind => {
                let device = EntryKind::Device(kind, stat.st_rdev);
                self.append(&of(stat, path, device, BTreeMap::new()), &[][..])
            }
        }
    }

    fn enter(&mut self, at: &At<'_>, inside: BorrowedFd<'_>) -> std::io::Result<bool> {
        let path = at.path.strip_prefix(b"/").unwrap_or(at.path);
        let entry = of(at.stat, path, EntryKind::Directory, attributes_of(inside)?);
        self.append(&entry, &[][..])?;
        Ok(true)
    }
}

impl<W: Write> Packing<'_, W> {
    fn append(&mut self, entry: &ArchiveEntry, data: impl Read) -> std::io::Result<()> {
        let (pax, header) = entry.headers();
        let mut extended = tar::Header::new_ustar();
        extended.set_entry_type(tar::EntryType::XHeader);
        extended.set_size(pax.len() as u64);
        extended.set_mode(0o644);
        extended.set_cksum();
        self.builder.append(&extended, &pax[..])?;
        entry.hash_into(&mut self.hasher);
        let map = entry.map();
        let data = HashingReader { inner: data, hasher: &mut self.hasher };
        // A file that shrinks meanwhile would make the rest of the archive
        // unreadable.
        let most = entry.stored() - map.len() as u64;
        let padded = data.chain(std::io::repeat(0)).take(most);
        self.builder.append(&header, (&map[..]).chain(padded))
    }
}

fn of(
    stat: &Stat,
    path: &[u8],
    kind: EntryKind,
    attributes: BTreeMap<Vec<u8>, Vec<u8>>,
) -> ArchiveEntry {
    ArchiveEntry {
        path: path.to_vec(),
        kind,
        mode: stat.st_mode & 0o7777,
        uid: stat.st_uid,
        gid: stat.st_gid,
        modified: (stat.st_mtime, stat.st_mtime_nsec as u32),
        accessed: (stat.st_atime, stat.st_atime_nsec as u32),
        attributes,
    }
}

/// The data of a file, part by part.
struct Data<'a> {
    file: &'a OwnedFd,
    parts: std::vec::IntoIter<(u64, u64)>,
    /// Where the part that is being read goes on, and how much of it is left.
    current: (u64, u64),
    progress: &'a dyn Fn(u64),
}

impl Read for Data<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        loop {
            Patience::Ends.check()?;
            let (at, left) = self.current;
            if left == 0 {
                let Some(next) = self.parts.next() else { return Ok(0) };
                self.current = next;
                continue;
            }
            let most = buffer.len().min(usize::try_from(left).unwrap_or(usize::MAX));
            let count = match rustix::io::pread(self.file, &mut buffer[..most], at) {
                Err(Errno::INTR) => continue,
                count => count?,
            };
            self.current = (at + count as u64, left - count as u64);
            (self.progress)(count as u64);
            return Ok(count);
        }
    }
}

/// Hashes what is read.
struct HashingReader<'a, R> {
    inner: R,
    hasher: &'a mut Xxh3,
}

impl<R: Read> Read for HashingReader<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.hasher.update(&buffer[..count]);
        Ok(count)
    }
}

/// Hashes and counts what passes through.
struct Tee<T> {
    inner: T,
    hasher: Xxh3,
    count: u64,
}

impl<W: Write> Write for Tee<W> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let count = self.inner.write(bytes)?;
        self.hasher.update(&bytes[..count]);
        self.count += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

impl<R: Read> Read for Tee<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.inner.read(buffer)?;
        self.hasher.update(&buffer[..count]);
        self.count += count as u64;
        Ok(count)
    }
}

/// So many pieces may wait to be compared.
const PIECES: usize = 64;

/// Writes to a file, and hands on what was written.
struct Written {
    file: File,
    sender: mpsc::SyncSender<Vec<u8>>,
}

impl Write for Written {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let count = self.file.write(bytes)?;
        // Whoever compares has found something wrong, and will say so.
        let _ = self.sender.send(bytes[..count].to_vec());
        Ok(count)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.file.flush()
    }
}

/// What was handed on, as one stream.
struct Received {
    receiver: mpsc::Receiver<Vec<u8>>,
    piece: Vec<u8>,
    at: usize,
}

impl Read for Received {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        while self.at == self.piece.len() {
            match self.receiver.recv() {
                Ok(piece) => (self.piece, self.at) = (piece, 0),
                Err(mpsc::RecvError) => return Ok(0),
            }
        }
        let count = buffer.len().min(self.piece.len() - self.at);
        buffer[..count].copy_from_slice(&self.piece[self.at..self.at + count]);
        self.at += count;
        Ok(count)
    }
}

/// A digest of everything in an archive: what is known of each entry, and its data.
fn contents_of(archive: impl Read) -> std::io::Result<String> {
    let mut archive = tar::Archive::new(zstd::Decoder::new(archive)?);
    let mut hasher = Xxh3::new();
    let mut piece = vec![0; 128 << 10];
    each(&mut archive, &mut |entry, data| {
        entry.hash_into(&mut hasher);
        loop {
            match data.read(&mut piece)? {
                0 => return Ok(()),
                count => hasher.update(&piece[..count]),
            }
        }
    })?;
    Ok(in_hexadecimal(&hasher))
}
