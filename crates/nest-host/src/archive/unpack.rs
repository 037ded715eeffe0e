//! Unpacking an archive to where nothing is.

use std::ffi::OsStr;
use std::io::{Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;

use rustix::fs::{AtFlags, Gid, Mode, OFlags, Timespec, Timestamps, Uid, XattrFlags};
use rustix::io::Errno;

use super::entry::{Entry, Kind, damaged, each};
use super::{Progress, digest_of};
use crate::inventory::DIRECTORY;
use crate::journal::Renumbered;
use crate::kept::{ACCOUNT, parse};
use crate::state::Folder;

/// Unpacks a file of a folder as the entry `to` of a directory, flushed; what
/// carries a number that becomes another gets that.
///
/// # Errors
/// The system's, and one for an archive that is not the one that was packed. What
/// was unpacked so far is left for the caller to remove.
pub fn unpack(
    folder: &Folder,
    file: &str,
    (directory, to): (&OwnedFd, &OsStr),
    other: Renumbered,
    progress: &Progress<'_>,
) -> std::io::Result<()> {
    let account = folder.read(ACCOUNT)?.ok_or(std::io::ErrorKind::NotFound)?;
    let account = parse(&account).map_err(|fault| damaged(&fault))?;
    if account.digests.get(file) != Some(&digest_of(folder, file)?) {
        return Err(damaged("it is not the one that was packed"));
    }
    let all = folder.open_file(file)?.metadata()?.len();
    let mut archive = tar::Archive::new(zstd::Decoder::new(folder.open_file(file)?)?);
    let mut unpacking = Unpacking { directory, to, parents: None, directories: Vec::new() };
    let mut done = 0;
    each(&mut archive, &mut |mut entry, data| {
        entry.uid = other.uid.filter(|(from, _)| *from == entry.uid).map_or(entry.uid, |uid| uid.1);
        entry.gid = other.gid.filter(|(from, _)| *from == entry.gid).map_or(entry.gid, |gid| gid.1);
        unpacking.entry(entry, data)?;
        // The compressed size is what is known in all.
        let at = data.raw_file_position().min(all);
        progress(all, at.saturating_sub(done));
        done = at.max(done);
        Ok(())
    })?;
    unpacking.finish()?;
    Ok(rustix::fs::syncfs(directory)?)
}

struct Unpacking<'a> {
    directory: &'a OwnedFd,
    to: &'a OsStr,
    /// The directory that was worked in last, and its path.
    parents: Option<(Vec<u8>, OwnedFd)>,
    /// Directories get their times when everything is in them.
    directories: Vec<Entry>,
}

impl Unpacking<'_> {
    /// The directory that an entry is in, and its name there.
    fn place<'e>(&mut self, path: &'e [u8]) -> std::io::Result<(&OwnedFd, &'e OsStr)>
    where
        Self: 'e,
    {
        if path.is_empty() {
            // Set apart from everything below: it has the name it waits under.
            return Ok((self.directory, OsStr::from_bytes(b"")));
        }
        let (parent, name) = match path.iter().rposition(|&byte| byte == b'/') {
            Some(at) => (&path[..at], &path[at + 1..]),
            None => (&b""[..], path),
        };
        let known = self.parents.as_ref().is_some_and(|(known, _)| known == parent);
        if !known {
            let mut here = rustix::fs::openat(self.directory, self.to, DIRECTORY, Mode::empty())?;
            for part in parent.split(|&byte| byte == b'/').filter(|part| !part.is_empty()) {
                here = rustix::fs::openat(&here, part, DIRECTORY, Mode::empty())?;
            }
            self.parents = Some((parent.to_vec(), here));
        }
        match &self.parents {
            Some((_, here)) => Ok((here, OsStr::from_bytes(name))),
            None => Err(damaged("a path")),
        }
    }

    fn entry(&mut self, entry: Entry, data: &mut impl Read) -> std::io::Result<()> {
        let to = self.to;
        let (directory, name) = self.place(&entry.path)?;
        let directory = directory.as_fd();
        let name = if entry.path.is_empty() { to } else { name };
        match &entry.kind {
            Kind::Directory => {
                rustix::fs::mkdirat(directory, name, Mode::RWXU)?;
                self.directories.push(entry);
                return Ok(());
            }
            Kind::File(size, parts) => {
                let flags = OFlags::WRONLY
                    | OFlags::CREATE
                    | OFlags::EXCL
                    | OFlags::NOFOLLOW
                    | OFlags::CLOEXEC;
                let file = rustix::fs::openat(directory, name, flags, Mode::RUSR | Mode::WUSR)?;
                let file = std::fs::File::from(file);
                for (start, length) in parts {
                    fill(&file, *start, &mut data.take(*length))?;
                }
                file.set_len(*size)?;
                (&file).flush()?;
                return dress(&file, &entry);
            }
            Kind::Link(first) => {
                let first = first.clone();
                let root = rustix::fs::openat(self.directory, self.to, DIRECTORY, Mode::empty())?;
                let (directory, name) = self.place(&entry.path)?;
                return link(&root, &first, directory, name);
            }
            Kind::Symlink(target) => {
                rustix::fs::symlinkat(OsStr::from_bytes(target), directory, name)?
            }
            Kind::Fifo => {
                let (kind, mode) = (rustix::fs::FileType::Fifo, Mode::from_raw_mode(entry.mode));
                rustix::fs::mknodat(directory, name, kind, mode, 0)?;
            }
            Kind::Device(kind, number) => {
                let mode = Mode::from_raw_mode(entry.mode);
                rustix::fs::mknodat(directory, name, *kind, mode, *number)?;
            }
        }
        let here = AtFlags::SYMLINK_NOFOLLOW;
        let (uid, gid) = (Uid::from_raw(entry.uid), Gid::from_raw(entry.gid));
        rustix::fs::chownat(directory, name, Some(uid), Some(gid), here)?;
        if !matches!(entry.kind, Kind::Symlink(_)) {
            let mode = Mode::from_raw_mode(entry.mode);
            rustix::fs::chmodat(directory, name, mode, AtFlags::empty())?;
        }
        Ok(rustix::fs::utimensat(directory, name, &times(&entry), here)?)
    }

    /// Owners, attributes, modes and times of directories, innermost first.
    fn finish(&mut self) -> std::io::Result<()> {
        for entry in std::mem::take(&mut self.directories).iter().rev() {
            let (directory, name) = match entry.path.as_slice() {
                b"" => (self.directory, self.to),
                path => self.place(path)?,
            };
            let directory = rustix::fs::openat(directory, name, DIRECTORY, Mode::empty())?;
            dress(&directory, entry)?;
        }
        Ok(())
    }
}

/// Another name for something unpacked before; no link on the way is followed.
fn link(root: &OwnedFd, first: &[u8], directory: &OwnedFd, name: &OsStr) -> std::io::Result<()> {
    let (parent, last) = match first.iter().rposition(|&byte| byte == b'/') {
        Some(at) => (&first[..at], &first[at + 1..]),
        None => (&b""[..], first),
    };
    let mut here = root.try_clone()?;
    for part in parent.split(|&byte| byte == b'/').filter(|part| !part.is_empty()) {
        here = rustix::fs::openat(&here, part, DIRECTORY, Mode::empty())?;
    }
    Ok(rustix::fs::linkat(&here, OsStr::from_bytes(last), directory, name, AtFlags::empty())?)
}

fn fill(file: &std::fs::File, start: u64, data: &mut impl Read) -> std::io::Result<()> {
    let mut piece = vec![0; 128 << 10];
    let mut at = start;
    loop {
        match data.read(&mut piece)? {
            0 => return Ok(()),
            count => {
                file.write_all_at(&piece[..count], at)?;
                at += count as u64;
            }
        }
    }
}

fn times(entry: &Entry) -> Timestamps {
    let time = |(seconds, nanoseconds): (i64, u32)| Timespec {
        tv_sec: seconds,
        tv_nsec: nanoseconds.into(),
    };
    Timestamps { last_access: time(entry.accessed), last_modification: time(entry.modified) }
}

/// Owner, then attributes, then mode (a change of owner clears set-id bits), then
/// times.
fn dress(to: impl AsFd, entry: &Entry) -> std::io::Result<()> {
    let (uid, gid) = (Uid::from_raw(entry.uid), Gid::from_raw(entry.gid));
    rustix::fs::fchown(&to, Some(uid), Some(gid))?;
    for (name, value) in &entry.attributes {
        match rustix::fs::fsetxattr(&to, name.as_slice(), value, XattrFlags::empty()) {
            Err(Errno::NOTSUP) => {}
            set => set?,
        }
    }
    rustix::fs::fchmod(&to, Mode::from_raw_mode(entry.mode))?;
    Ok(rustix::fs::futimens(&to, &times(entry))?)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};

    use super::super::pack;
    use super::*;
    use crate::state::State;
    use crate::tree::Tree;

    #[test]
    fn what_is_unpacked_is_what_was_packed_or_nothing() {
        let place = tempfile::tempdir().unwrap();
        let at = |path: &str| place.path().join(path);
        std::fs::create_dir_all(at("home/inner/deep")).unwrap();
        std::fs::write(at("home/inner/deep/file"), "text").unwrap();
        std::fs::hard_link(at("home/inner/deep/file"), at("home/again")).unwrap();
        symlink("../../etc/passwd", at("home/link")).unwrap();
        let odd = OsStr::from_bytes(b"S\xf8lvi\n");
        std::fs::write(place.path().join("home").join(odd), "odd").unwrap();
        let sparse = std::fs::File::create(at("home/sparse")).unwrap();
        sparse.write_all_at(b"end", 8 << 20).unwrap();
        sparse.set_len(16 << 20).unwrap();
        std::fs::set_permissions(at("home/sparse"), PermissionsExt::from_mode(0o4711)).unwrap();
        sparse
            .set_modified(std::time::UNIX_EPOCH - std::time::Duration::from_millis(1500))
            .unwrap();
        let fifo = rustix::fs::FileType::Fifo;
        rustix::fs::mknodat(rustix::fs::CWD, at("home/fifo"), fifo, Mode::RUSR, 0).unwrap();
        let socket = std::os::unix::net::UnixListener::bind(at("socket")).unwrap();
        std::fs::set_permissions(at("home/inner"), PermissionsExt::from_mode(0o500)).unwrap();
        let file = std::fs::File::open(at("home/again")).unwrap();
        let attribute =
            rustix::fs::fsetxattr(&file, "user.tide", b"high", XattrFlags::empty()).is_ok();
        let tree = Tree::open(place.path()).unwrap();
        let folder = State::At(at("state")).open_or_make(&tree).unwrap();
        let directory = OwnedFd::from(std::fs::File::open(place.path()).unwrap());
        let packed = pack(&directory, "home".as_ref(), &folder, "h.tar.zst", &|_, _| {}).unwrap();
        assert_eq!((packed.files, packed.bytes), (6, 4 + 4 + 3 + (16 << 20)));
        assert!(packed.size < 4096, "{packed:?}");
        let account = |digest: &str| {
            format!(
                r#"{{"version": 1, "change": 1, "time": "", "by": {{"uid": 0, "name": null}},
                "kept": {{"thing": "user", "name": "x", "id": 1, "lines": []}},
                "digests": {{"h.tar.zst": "{digest}"}}}}"#
            )
        };
        folder.write("account.json", account("0").as_bytes()).unwrap();
        let unpack = |to: &str| {
            let to = (&directory, to.as_ref());
            unpack(&folder, "h.tar.zst", to, Renumbered::default(), &|_, _| {})
        };
        let error = unpack("no").unwrap_err().to_string();
        assert!(error.contains("is not the one that was packed") && !at("no").exists(), "{error}");
        folder.write("account.json", account(&packed.digest).as_bytes()).unwrap();
        unpack("copy").unwrap();
        let inventory = |name: &str| crate::inventory::take(&directory, name.as_ref(), None);
        assert_eq!(inventory("home").unwrap(), inventory("copy").unwrap());
        let stat = |path: &str| at(path).symlink_metadata().unwrap();
        for path in ["", "/sparse", "/inner", "/link", "/fifo"] {
            let (was, is) = (stat(&format!("home{path}")), stat(&format!("copy{path}")));
            assert_eq!((was.mtime(), was.mtime_nsec()), (is.mtime(), is.mtime_nsec()), "{path}");
        }
        assert_eq!(stat("copy/sparse").mode() & 0o7777, 0o4711);
        assert!(stat("copy/sparse").blocks() <= stat("home/sparse").blocks());
        assert_eq!(stat("copy/again").ino(), stat("copy/inner/deep/file").ino());
        let copy = std::fs::File::open(at("copy/again")).unwrap();
        let mut value = [0; 8];
        let length = rustix::fs::fgetxattr(&copy, "user.tide", &mut value[..]).unwrap_or(0);
        assert_eq!(length, if attribute { 4 } else { 0 });
        drop(socket);
    }
}
