//! One entry of an archive: a pax header, POSIX.1-2001, before an ordinary one.
//! Sparse files are written as GNU tar's sparse format 1.0 has it.

use std::collections::BTreeMap;
use std::io::{Error, Read};

use rustix::fs::FileType;
use xxhash_rust::xxh3::Xxh3;

/// What is known of an entry besides its contents.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct ArchiveEntry {
    /// The path below what is packed; empty for that itself.
    pub path: Vec<u8>,
    pub kind: EntryKind,
    pub mode: u32,
    pub uid: u32,
    pub gid: u32,
    /// Seconds and nanoseconds.
    pub modified: (i64, u32),
    pub accessed: (i64, u32),
    pub attributes: BTreeMap<Vec<u8>, Vec<u8>>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum EntryKind {
    Directory,
    /// Its size, and where its data is: start and length.
    File(u64, Vec<(u64, u64)>),
    /// Another name for an entry before it.
    Link(Vec<u8>),
    Symlink(Vec<u8>),
    Fifo,
    /// Character or block, with its number.
    Device(FileType, u64),
}

/// An attribute's key in a pax header.
const ATTRIBUTE: &str = "SCHILY.xattr.";
/// The most bytes that a pax header may have: the longest path that a walk came by, and
/// more.
const LONGEST_HEADER: u64 = 64 << 20;
/// Paths up to this long stand in the ordinary header.
const SHORT: usize = 99;

impl ArchiveEntry {
    /// Everything but the contents, into a digest.
    pub fn hash_into(&self, hasher: &mut Xxh3) {
        let mut part = |bytes: &[u8]| {
            hasher.update(&(bytes.len() as u64).to_le_bytes());
            hasher.update(bytes);
        };
        part(&self.path);
        part(format!("{:?}", self.kind).as_bytes());
        let ArchiveEntry { mode, uid, gid, modified, .. } = self;
        part(format!("{mode:o} {uid} {gid} {modified:?}").as_bytes());
        for (name, value) in &self.attributes {
            part(name);
            part(value);
        }
    }

    /// The length of what follows the header.
    pub fn stored(&self) -> u64 {
        match &self.kind {
            EntryKind::File(size, parts) if is_whole(*size, parts) => *size,
            EntryKind::File(size, parts) => {
                sparse_map(*size, parts).len() as u64
                    + parts.iter().map(|(_, length)| length).sum::<u64>()
            }
            _ => 0,
        }
    }

    /// The map of a sparse file, which comes before its data.
    pub fn map(&self) -> Vec<u8> {
        match &self.kind {
            EntryKind::File(size, parts) if !is_whole(*size, parts) => sparse_map(*size, parts),
            _ => Vec::new(),
        }
    }

    /// The pax header and the ordinary one.
    pub fn headers(&self) -> (Vec<u8>, tar::Header) {
        let mut pax = Pax::default();
        let path = match self.path.as_slice() {
            b"" => b"./".to_vec(),
            path => [b"./", path].concat(),
        };
        let mut header = tar::Header::new_gnu();
        header.set_mode(self.mode);
        header.set_uid(self.uid.into());
        header.set_gid(self.gid.into());
        header.set_mtime(self.modified.0.max(0).cast_unsigned());
        header.set_size(self.stored());
        let sparse = !self.map().is_empty();
        let kind = match &self.kind {
            EntryKind::Directory => tar::EntryType::Directory,
            EntryKind::File(..) => tar::EntryType::Regular,
            EntryKind::Link(to) => {
                set_long(to, "linkpath", &mut header.as_old_mut().linkname, &mut pax);
                tar::EntryType::Link
            }
            EntryKind::Symlink(to) => {
                set_long(to, "linkpath", &mut header.as_old_mut().linkname, &mut pax);
                tar::EntryType::Symlink
            }
            EntryKind::Fifo => tar::EntryType::Fifo,
            EntryKind::Device(kind, number) => {
                let (major, minor) = (rustix::fs::major(*number), rustix::fs::minor(*number));
                // Both are there in a header of this form.
                let _ = header.set_device_major(major);
                let _ = header.set_device_minor(minor);
                match kind {
                    FileType::BlockDevice => tar::EntryType::Block,
                    _ => tar::EntryType::Char,
                }
            }
        };
        header.set_entry_type(kind);
        if sparse {
            let EntryKind::File(size, _) = &self.kind else { return (pax.0, header) };
            pax.add("GNU.sparse.major", b"1");
            pax.add("GNU.sparse.minor", b"0");
            pax.add("GNU.sparse.name", &path);
            pax.add("GNU.sparse.realsize", size.to_string().as_bytes());
            let name = b"GNUSparseFile.0/sparse";
            header.as_old_mut().name[..name.len()].copy_from_slice(name);
        } else {
            set_long(&path, "path", &mut header.as_old_mut().name, &mut pax);
        }
        pax.add("mtime", time(self.modified).as_bytes());
        pax.add("atime", time(self.accessed).as_bytes());
        for (name, value) in &self.attributes {
            pax.add(&format!("{ATTRIBUTE}{}", String::from_utf8_lossy(name)), value);
        }
        header.set_cksum();
        (pax.0, header)
    }

    /// An entry as it was read, given the pax header before it; its data, after the
    /// map of a sparse file, is left in the reader.
    fn read(entry: &mut tar::Entry<'_, impl Read>, pax: &Pairs) -> std::io::Result<Self> {
        let header = entry.header().clone();
        let number = |number: u64| u32::try_from(number).map_err(|_| damaged("a number"));
        let path = match pax.get(&b"GNU.sparse.name"[..]) {
            Some(name) => name.clone(),
            None => match pax.get(&b"path"[..]) {
                Some(path) => path.clone(),
                None => header.path_bytes().into_owned(),
            },
        };
        let link = || match pax.get(&b"linkpath"[..]) {
            Some(path) => Ok(path.clone()),
            None => {
                let name = header.link_name_bytes().map(|name| name.into_owned());
                name.ok_or_else(|| damaged("a link"))
            }
        };
        let kind = match header.entry_type() {
            tar::EntryType::Directory => EntryKind::Directory,
            tar::EntryType::Link => EntryKind::Link(below(&link()?)?),
            tar::EntryType::Symlink => EntryKind::Symlink(link()?),
            tar::EntryType::Fifo => EntryKind::Fifo,
            kind @ (tar::EntryType::Char | tar::EntryType::Block) => {
                let device = header.device_major()?.zip(header.device_minor()?);
                let (major, minor) = device.ok_or_else(|| damaged("a device"))?;
                let number = rustix::fs::makedev(major, minor);
                let block = kind == tar::EntryType::Block;
                let kind = if block { FileType::BlockDevice } else { FileType::CharacterDevice };
                EntryKind::Device(kind, number)
            }
            tar::EntryType::Regular => match pax.get(&b"GNU.sparse.realsize"[..]) {
                None => {
                    let size = header.size()?;
                    EntryKind::File(size, if size == 0 { vec![] } else { vec![(0, size)] })
                }
                Some(size) => EntryKind::File(decimal(size)?, read_sparse_map(entry)?),
            },
            _ => return Err(damaged("an entry of an unknown kind")),
        };
        let attributes = pax.iter().filter_map(|(key, value)| {
            Some((key.strip_prefix(ATTRIBUTE.as_bytes())?.to_vec(), value.clone()))
        });
        let seconds = header.mtime()?.cast_signed();
        Ok(ArchiveEntry {
            path: below(&path)?,
            kind,
            mode: header.mode()?,
            uid: number(header.uid()?)?,
            gid: number(header.gid()?)?,
            modified: pax
                .get(&b"mtime"[..])
                .and_then(|text| read_time(text))
                .unwrap_or((seconds, 0)),
            accessed: pax
                .get(&b"atime"[..])
                .and_then(|text| read_time(text))
                .unwrap_or((seconds, 0)),
            attributes: attributes.collect(),
        })
    }
}

type Pairs = BTreeMap<Vec<u8>, Vec<u8>>;

/// Calls `visit` for each entry of an archive, with its data.
///
/// # Errors
/// The system's, those of `visit`, and one for what makes no sense.
pub(super) fn each<R: Read>(
    archive: &mut tar::Archive<R>,
    visit: &mut dyn FnMut(ArchiveEntry, &mut tar::Entry<'_, R>) -> std::io::Result<()>,
) -> std::io::Result<()> {
    let mut pax = Pairs::new();
    for entry in archive.entries()?.raw(true) {
        let mut entry = entry?;
        if entry.header().entry_type() == tar::EntryType::XHeader {
            if entry.header().size()? > LONGEST_HEADER {
                return Err(damaged("a header that is too long"));
            }
            let mut text = Vec::new();
            entry.read_to_end(&mut text)?;
            pax = read_pax(&text).ok_or_else(|| damaged("a header"))?;
            continue;
        }
        let known = ArchiveEntry::read(&mut entry, &std::mem::take(&mut pax))?;
        visit(known, &mut entry)?;
    }
    Ok(())
}

/// The records of a pax header: each begins with its own length, so that a value
/// may hold anything.
fn read_pax(mut text: &[u8]) -> Option<Pairs> {
    let mut pairs = Pairs::new();
    while !text.is_empty() {
        let space = text.iter().position(|&byte| byte == b' ')?;
        let length: usize = std::str::from_utf8(&text[..space]).ok()?.parse().ok()?;
        let record = text.get(space + 1..length)?.strip_suffix(b"\n")?;
        let equals = record.iter().position(|&byte| byte == b'=')?;
        pairs.insert(record[..equals].to_vec(), record[equals + 1..].to_vec());
        text = &text[length..];
    }
    Some(pairs)
}

/// Whether a file has no holes.
fn is_whole(size: u64, parts: &[(u64, u64)]) -> bool {
    matches!((size, parts), (0, []) | (_, [(0, _)]))
        && parts.first().map_or(0, |part| part.1) == size
}

/// The map, padded to whole blocks. A hole at the end is told by an empty part.
fn sparse_map(size: u64, parts: &[(u64, u64)]) -> Vec<u8> {
    let ends = parts.last().is_some_and(|(start, length)| start + length == size);
    let count = parts.len() + usize::from(!ends);
    let mut map = format!("{count}\n");
    for (start, length) in parts {
        map += &format!("{start}\n{length}\n");
    }
    if !ends {
        map += &format!("{size}\n0\n");
    }
    let mut map = map.into_bytes();
    map.resize(map.len().div_ceil(512) * 512, 0);
    map
}

fn read_sparse_map(entry: &mut tar::Entry<'_, impl Read>) -> std::io::Result<Vec<(u64, u64)>> {
    let mut taken = 0;
    let mut number = || -> std::io::Result<u64> {
        let mut digits = Vec::new();
        loop {
            let mut byte = [0];
            entry.read_exact(&mut byte)?;
            taken += 1;
            match byte[0] {
                b'\n' => return decimal(&digits),
                byte if digits.len() < 20 => digits.push(byte),
                _ => return Err(damaged("the map of a sparse file")),
            }
        }
    };
    let count = number()?;
    let mut parts = Vec::new();
    for _ in 0..count {
        let part = (number()?, number()?);
        if part.1 > 0 {
            parts.push(part);
        }
    }
    let rest: usize = usize::div_ceil(taken, 512) * 512 - taken;
    entry.read_exact(&mut vec![0; rest])?;
    Ok(parts)
}

#[derive(Default)]
struct Pax(Vec<u8>);

impl Pax {
    /// A record is its own length, a key and a value.
    fn add(&mut self, key: &str, value: &[u8]) {
        let rest = key.len() + value.len() + 3;
        let mut digits = 1;
        while (rest + digits).to_string().len() > digits {
            digits += 1;
        }
        self.0.extend_from_slice(format!("{} {key}=", rest + digits).as_bytes());
        self.0.extend_from_slice(value);
        self.0.push(b'\n');
    }
}

fn set_long(text: &[u8], key: &str, field: &mut [u8; 100], pax: &mut Pax) {
    let short = text.len().min(SHORT);
    field[..short].copy_from_slice(&text[..short]);
    if text.len() > SHORT {
        pax.add(key, text);
    }
}

fn time((seconds, nanoseconds): (i64, u32)) -> String {
    // Before 1970 the fraction counts from the second below.
    match seconds < 0 && nanoseconds > 0 {
        false => format!("{seconds}.{nanoseconds:09}"),
        true => {
            let sign = if seconds == -1 { "-" } else { "" };
            format!("{sign}{}.{:09}", seconds + 1, 1_000_000_000 - nanoseconds)
        }
    }
}

fn read_time(text: &[u8]) -> Option<(i64, u32)> {
    let text = std::str::from_utf8(text).ok()?;
    let (whole, fraction) = text.split_once('.').unwrap_or((text, "0"));
    let seconds: i64 = whole.parse().ok()?;
    let nanoseconds: u32 = format!("{fraction:0<9}").get(..9)?.parse().ok()?;
    match text.starts_with('-') && nanoseconds > 0 {
        true => Some((seconds - 1, 1_000_000_000 - nanoseconds)),
        false => Some((seconds, nanoseconds)),
    }
}

fn decimal(text: &[u8]) -> std::io::Result<u64> {
    let text = std::str::from_utf8(text).ok().and_then(|text| text.parse().ok());
    text.ok_or_else(|| damaged("a number"))
}

/// The path below what was packed. Nothing in an archive leads out of it.
fn below(path: &[u8]) -> std::io::Result<Vec<u8>> {
    let path = path.strip_prefix(b"./").unwrap_or(path);
    let path = path.strip_suffix(b"/").unwrap_or(path);
    let odd = |part: &[u8]| part.is_empty() || part == b"." || part == b"..";
    match !path.is_empty() && path.split(|&byte| byte == b'/').any(odd) {
        true => Err(damaged("a path that leads out of it")),
        false => Ok(path.to_vec()),
    }
}

pub(super) fn damaged(what: &str) -> Error {
    Error::other(format!("the archive is damaged: {what}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read() {
        let long = [b'x'; 300].to_vec();
        let kinds = [
            EntryKind::Directory,
            EntryKind::File(0, vec![]),
            EntryKind::File(5, vec![(0, 5)]),
            EntryKind::File(1 << 40, vec![(4096, 3)]),
            EntryKind::File(4099, vec![(4096, 3)]),
            EntryKind::Link(long.clone()),
            EntryKind::Symlink(b"/../elsewhere\xff".to_vec()),
            EntryKind::Fifo,
            EntryKind::Device(FileType::CharacterDevice, rustix::fs::makedev(1, 3)),
        ];
        for (at, kind) in kinds.into_iter().enumerate() {
            let attributes = BTreeMap::from([(b"user.tide".to_vec(), b"a\0=\n\xff".to_vec())]);
            let path = if at % 2 == 0 { long.clone() } else { b"S\xf8lvi/x".to_vec() };
            let entry = ArchiveEntry {
                path,
                kind,
                mode: 0o4755,
                uid: 2_001_010_688,
                gid: 7,
                modified: (-5 + at as i64 * 3, 120_000_000),
                accessed: (9, 0),
                attributes,
            };
            let (pax, header) = entry.headers();
            let mut builder = tar::Builder::new(Vec::new());
            let mut extended = tar::Header::new_ustar();
            extended.set_entry_type(tar::EntryType::XHeader);
            extended.set_size(pax.len() as u64);
            extended.set_cksum();
            builder.append(&extended, &pax[..]).unwrap();
            let data = vec![7; (entry.stored() as usize) - entry.map().len()];
            builder.append(&header, &[entry.map(), data].concat()[..]).unwrap();
            let bytes = builder.into_inner().unwrap();
            let mut archive = tar::Archive::new(&bytes[..]);
            let mut seen = Vec::new();
            each(&mut archive, &mut |read, _| {
                seen.push(read);
                Ok(())
            })
            .unwrap();
            assert_eq!(seen, [entry]);
        }
    }

    #[test]
    fn no_path_leads_out() {
        for path in ["/etc", "../x", "a/../b", "a//b", "./."] {
            assert!(below(path.as_bytes()).is_err(), "{path}");
        }
        assert_eq!(below(b"./a/b/").unwrap(), b"a/b");
    }
}
