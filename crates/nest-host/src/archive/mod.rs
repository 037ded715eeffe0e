//! Packing a file or directory into one file, and unpacking it: a tar archive,
//! compressed with zstd, with owners, modes, times, links, holes and extended
//! attributes. By handles, no link followed.

mod entry;
mod unpack;

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsStr;
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::sync::mpsc;

use bstr::BStr;
use nest_core::value::bytes_in_words;
use rustix::fs::{AtFlags, FileType, Mode, OFlags, SeekFrom, Stat};
use rustix::io::Errno;
use xxhash_rust::xxh3::Xxh3;

use crate::copy::attributes_of;
use crate::digest::in_hexadecimal;
use crate::inventory::{DIRECTORY, names};
use crate::state::Folder;
use entry::{Entry, Kind, damaged, each};
pub use unpack::unpack;

/// How hard is compressed: zstd's own default.
const LEVEL: i32 = 3;

/// Is told how many bytes there are in all, and how many more were done.
pub type Progress<'a> = dyn Fn(u64, u64) + 'a;

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
        let files =
            if self.files == 1 { "1 file".to_owned() } else { format!("{} files", self.files) };
        let sockets = match self.sockets {
            0 => String::new(),
            1 => "; 1 socket in it was left out".to_owned(),
            count => format!("; {count} sockets in it were left out"),
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
/// the disk the same, or has another file system mounted in it (`EXDEV`).
pub fn pack(
    directory: &OwnedFd,
    name: &OsStr,
    folder: &Folder,
    file: &str,
    progress: &Progress<'_>,
) -> std::io::Result<Packed> {
    let stat = rustix::fs::statat(directory, name, AtFlags::SYMLINK_NOFOLLOW)?;
    let mut before = Survey::default();
    survey(directory.as_fd(), name, stat.st_dev, &mut before)?;
    // What is written is unpacked again at once, side by side, and compared with
    // what was read.
    let (sender, receiver) = mpsc::sync_channel(PIECES);
    let comparing =
        std::thread::spawn(move || contents_of(Received { receiver, piece: Vec::new(), at: 0 }));
    let target = folder.create(file)?;
    let tee = Tee { inner: Written { file: target, sender }, hasher: Xxh3::new(), count: 0 };
    let mut encoder = zstd::Encoder::new(tee, LEVEL)?;
    let threads = std::thread::available_parallelism().map_or(1, |count| count.get() as u32);
    encoder.multithread(threads)?;
    let (device, linked, hasher) = (stat.st_dev, HashMap::new(), Xxh3::new());
    let progress = |more| progress(before.bytes, more);
    let builder = tar::Builder::new(encoder);
    let mut packing = Packing { builder, device, linked, hasher, progress: &progress };
    packing.entry(directory.as_fd(), name, b"")?;
    let Packing { builder, hasher, .. } = packing;
    let Tee { inner: Written { file: target, sender }, hasher: written, count: size } =
        builder.into_inner()?.finish()?;
    drop(sender);
    target.sync_all()?;
    drop(target);
    let unpacked = comparing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
    let digest = in_hexadecimal(&written);
    if unpacked != in_hexadecimal(&hasher) || digest_of(folder, file)? != digest {
        return Err(damaged("it does not come back as it was written"));
    }
    let mut after = Survey::default();
    survey(directory.as_fd(), name, stat.st_dev, &mut after)?;
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

fn survey(
    directory: BorrowedFd<'_>,
    name: &OsStr,
    device: u64,
    found: &mut Survey,
) -> std::io::Result<()> {
    let stat = rustix::fs::statat(directory, name, AtFlags::SYMLINK_NOFOLLOW)?;
    if stat.st_dev != device {
        return Err(Errno::XDEV.into());
    }
    found.hasher.update(name.as_bytes());
    for number in [stat.st_ino, stat.st_ctime.cast_unsigned(), stat.st_ctime_nsec] {
        found.hasher.update(&number.to_le_bytes());
    }
    match FileType::from_raw_mode(stat.st_mode) {
        FileType::Directory => {
            let inside = rustix::fs::openat(directory, name, DIRECTORY, Mode::empty())?;
            for name in names(&inside)? {
                survey(inside.as_fd(), &name, device, found)?;
            }
            return Ok(());
        }
        FileType::Socket => found.sockets += 1,
        FileType::RegularFile => found.bytes += stat.st_size as u64,
        _ => {}
    }
    found.files += 1;
    Ok(())
}

struct Packing<'a, W: Write> {
    builder: tar::Builder<W>,
    device: u64,
    /// Files with more than one name: inode, and the path of the first.
    linked: HashMap<u64, Vec<u8>>,
    hasher: Xxh3,
    progress: &'a dyn Fn(u64),
}

impl<W: Write> Packing<'_, W> {
    fn entry(
        &mut self,
        directory: BorrowedFd<'_>,
        name: &OsStr,
        path: &[u8],
    ) -> std::io::Result<()> {
        let stat = rustix::fs::statat(directory, name, AtFlags::SYMLINK_NOFOLLOW)?;
        if stat.st_dev != self.device {
            return Err(Errno::XDEV.into());
        }
        let kind = FileType::from_raw_mode(stat.st_mode);
        if kind != FileType::Directory && stat.st_nlink > 1 && kind != FileType::Socket {
            if let Some(first) = self.linked.get(&stat.st_ino) {
                let link = of(&stat, path, Kind::Link(first.clone()), BTreeMap::new());
                return self.append(&link, &[][..]);
            }
            self.linked.insert(stat.st_ino, path.to_vec());
        }
        match kind {
            FileType::Directory => {
                let inside = rustix::fs::openat(directory, name, DIRECTORY, Mode::empty())?;
                let entry = of(&stat, path, Kind::Directory, attributes_of(&inside)?);
                self.append(&entry, &[][..])?;
                for name in names(&inside)? {
                    let below = match path {
                        b"" => name.as_bytes().to_vec(),
                        path => [path, b"/", name.as_bytes()].concat(),
                    };
                    self.entry(inside.as_fd(), &name, &below)?;
                }
                Ok(())
            }
            FileType::RegularFile => {
                let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
                let file = rustix::fs::openat(directory, name, flags, Mode::empty())?;
                let stat = rustix::fs::fstat(&file)?;
                let size = stat.st_size as u64;
                let parts = parts_with_data(&file, size)?;
                let kind = Kind::File(size, parts.clone());
                let entry = of(&stat, path, kind, attributes_of(&file)?);
                let data = Data { file: &file, parts, at: 0, progress: self.progress };
                self.append(&entry, data)
            }
            FileType::Symlink => {
                let to = rustix::fs::readlinkat(directory, name, Vec::new())?.into_bytes();
                self.append(&of(&stat, path, Kind::Symlink(to), BTreeMap::new()), &[][..])
            }
            FileType::Socket => Ok(()),
            FileType::Fifo => self.append(&of(&stat, path, Kind::Fifo, BTreeMap::new()), &[][..]),
            kind => {
                let device = Kind::Device(kind, stat.st_rdev);
                self.append(&of(&stat, path, device, BTreeMap::new()), &[][..])
            }
        }
    }

    fn append(&mut self, entry: &Entry, data: impl Read) -> std::io::Result<()> {
        let (pax, header) = entry.headers();
        let mut extended = tar::Header::new_ustar();
        extended.set_entry_type(tar::EntryType::XHeader);
        extended.set_size(pax.len() as u64);
        extended.set_mode(0o644);
        extended.set_cksum();
        self.builder.append(&extended, &pax[..])?;
        entry.hash_into(&mut self.hasher);
        let map = entry.map();
        let data = Hashing { inner: data, hasher: &mut self.hasher };
        // A file that shrinks meanwhile would make the rest of the archive
        // unreadable.
        let most = entry.stored() - map.len() as u64;
        let padded = data.chain(std::io::repeat(0)).take(most);
        self.builder.append(&header, (&map[..]).chain(padded))
    }
}

fn of(stat: &Stat, path: &[u8], kind: Kind, attributes: BTreeMap<Vec<u8>, Vec<u8>>) -> Entry {
    Entry {
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

/// The parts of a file that hold data: start and length.
fn parts_with_data(file: &OwnedFd, size: u64) -> std::io::Result<Vec<(u64, u64)>> {
    let (mut parts, mut at) = (Vec::new(), 0);
    while at < size {
        let start = match rustix::fs::seek(file, SeekFrom::Data(at)) {
            Ok(start) => start,
            Err(Errno::NXIO) => break,
            // No holes are told here: all of it is data.
            Err(_) => at,
        };
        let end = rustix::fs::seek(file, SeekFrom::Hole(start)).unwrap_or(size).min(size);
        if end <= start {
            break;
        }
        parts.push((start, end - start));
        at = end;
    }
    Ok(parts)
}

/// The data of a file, part by part.
struct Data<'a> {
    file: &'a OwnedFd,
    parts: Vec<(u64, u64)>,
    /// How much of the first part is read.
    at: u64,
    progress: &'a dyn Fn(u64),
}

impl Read for Data<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        while let Some((start, length)) = self.parts.first().copied() {
            let left = length - self.at;
            if left == 0 {
                self.parts.remove(0);
                self.at = 0;
                continue;
            }
            let most = buffer.len().min(usize::try_from(left).unwrap_or(usize::MAX));
            let count = rustix::io::pread(self.file, &mut buffer[..most], start + self.at)?;
            self.at += count as u64;
            (self.progress)(count as u64);
            return Ok(count);
        }
        Ok(0)
    }
}

/// Hashes what is read.
struct Hashing<'a, R> {
    inner: R,
    hasher: &'a mut Xxh3,
}

impl<R: Read> Read for Hashing<'_, R> {
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

/// The digest of a file as it comes back from the disk.
fn digest_of(folder: &Folder, file: &str) -> std::io::Result<String> {
    let mut whole = Tee { inner: folder.open_file(file)?, hasher: Xxh3::new(), count: 0 };
    let mut piece = vec![0; 128 << 10];
    while whole.read(&mut piece)? > 0 {}
    Ok(in_hexadecimal(&whole.hasher))
}
