//! Unpacking an archive to where nothing is.

use std::ffi::OsStr;
use std::io::{Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;

use nest_core::retired::{PackedFile, RetiredAccount, VERSION};
use rustix::fs::{AtFlags, Gid, Mode, OFlags, Timespec, Timestamps, Uid, XattrFlags};
use rustix::io::Errno;

use super::PackProgress;
use super::entry::{ArchiveEntry, EntryKind, damaged, each};
use crate::interrupt::Patience;
use crate::journal::Renumbered;
use crate::kept::ACCOUNT;
use crate::state::{Folder, parse};
use crate::walk::{Ladder, split_last};

/// Unpacks a file of a folder as the entry `to` of a directory; what carries a number that
/// becomes another gets that. The caller flushes it: each of its files alone would take longer
/// than the file system as a whole.
///
/// # Errors
/// The system's, and one for an archive that is not the one that was packed. An
/// interrupt ends it (`ECANCELED`). What was unpacked so far is left for the caller to
/// remove.
pub fn unpack(
    folder: &Folder,
    file: PackedFile,
    (directory, to): (&OwnedFd, &OsStr),
    other: Renumbered,
    progress: &PackProgress<'_>,
) -> std::io::Result<()> {
    let account = folder.read(&ACCOUNT)?.ok_or(std::io::ErrorKind::NotFound)?;
    let account: RetiredAccount =
        parse(&account, VERSION).map_err(|fault| damaged(&fault.to_string()))?;
    if account.digests.get(&file) != folder.digest(&file.name())?.as_ref() {
        return Err(damaged("it is not the one that was packed"));
    }
    let packed = folder.open_file(&file.name())?;
    let all = packed.metadata()?.len();
    let mut archive = tar::Archive::new(zstd::Decoder::new(packed)?);
    let ladder = || Ok::<_, std::io::Error>(Ladder::new(directory.try_clone()?));
    let (ladder, links) = (ladder()?, ladder()?);
    let (path, directories) = Default::default();
    let mut unpacking = Unpacking { ladder, links, to, path, directories };
    let mut done = 0;
    each(&mut archive, &mut |mut entry, data| {
        Patience::Ends.check()?;
        entry.uid =
            other.uid.filter(|(from, _)| from.0 == entry.uid).map_or(entry.uid, |uid| uid.1.0);
        entry.gid =
            other.gid.filter(|(from, _)| from.0 == entry.gid).map_or(entry.gid, |gid| gid.1.0);
        unpacking.entry(entry, data)?;
        // The compressed size is what is known in all.
        let at = data.raw_file_position().min(all);
        progress(all, at.saturating_sub(done));
        done = at.max(done);
        Ok(())
    })?;
    unpacking.leave_for(b"")
}

struct Unpacking<'a> {
    /// The directory that is being filled.
    ladder: Ladder,
    /// Where the first of a file's names was found last.
    links: Ladder,
    to: &'a OsStr,
    /// Where the directory that is being filled is, from where all of it is unpacked.
    path: Vec<u8>,
    /// Directories that were gone into, by their names alone: they get their times when
    /// everything is in them.
    directories: Vec<ArchiveEntry>,
}

impl Unpacking<'_> {
    /// An entry's path below the directory that all of it is unpacked in.
    fn whole(&self, path: &[u8]) -> Vec<u8> {
        let between: &[u8] = if path.is_empty() { b"" } else { b"/" };
        [self.to.as_bytes(), between, path].concat()
    }

    /// Leaves directories until what is next is in the one that is left, and gives each its owner,
    /// attributes, mode and times.
    fn leave_for(&mut self, parent: &[u8]) -> std::io::Result<()> {
        while let Some(entry) = self.directories.last() {
            let rest = parent.strip_prefix(&self.path[..]);
            if rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/")) {
                break;
            }
            dress(&self.ladder.up()?, entry)?;
            // The name, and the slash before it.
            let left = self.path.len() - entry.path.len();
            self.path.truncate(left.saturating_sub(1));
            self.directories.pop();
        }
        Ok(())
    }

    fn entry(&mut self, entry: ArchiveEntry, data: &mut impl Read) -> std::io::Result<()> {
        let whole = self.whole(&entry.path);
        let (parent, name) = split_last(&whole);
        // Everything below a directory comes right after it.
        self.leave_for(parent)?;
        if self.path != parent {
            return Err(damaged("an entry comes before the directory it is in"));
        }
        let name = OsStr::from_bytes(name);
        let directory = self.ladder.here();
        match &entry.kind {
            EntryKind::Directory => {
                rustix::fs::mkdirat(directory, name, Mode::RWXU)?;
                self.ladder.down(name)?;
                // Its name alone: whole paths of many nested ones would fill the memory.
                let path = name.as_bytes().to_vec();
                self.path = whole;
                self.directories.push(ArchiveEntry { path, ..entry });
                return Ok(());
            }
            EntryKind::File(size, parts) => {
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
            EntryKind::Link(first) => {
                // Another name for something unpacked before; no link on the way is
                // followed.
                let first = self.whole(first);
                let (parent, last) = split_last(&first);
                self.links.go(parent)?;
                let (from, last) = (self.links.here(), OsStr::from_bytes(last));
                let to = self.ladder.here();
                return Ok(rustix::fs::linkat(from, last, to, name, AtFlags::empty())?);
            }
            EntryKind::Symlink(target) => {
                rustix::fs::symlinkat(OsStr::from_bytes(target), directory, name)?
            }
            EntryKind::Fifo => {
                let (kind, mode) = (rustix::fs::FileType::Fifo, Mode::from_raw_mode(entry.mode));
                rustix::fs::mknodat(directory, name, kind, mode, 0)?;
            }
            EntryKind::Device(kind, number) => {
                let mode = Mode::from_raw_mode(entry.mode);
                rustix::fs::mknodat(directory, name, *kind, mode, *number)?;
            }
        }
        let here = AtFlags::SYMLINK_NOFOLLOW;
        let (uid, gid) = (Uid::from_raw(entry.uid), Gid::from_raw(entry.gid));
        rustix::fs::chownat(directory, name, Some(uid), Some(gid), here)?;
        if !matches!(entry.kind, EntryKind::Symlink(_)) {
            let mode = Mode::from_raw_mode(entry.mode);
            rustix::fs::chmodat(directory, name, mode, AtFlags::empty())?;
        }
        Ok(rustix::fs::utimensat(directory, name, &times(&entry), here)?)
    }
}

fn fill(file: &std::fs::File, start: u64, data: &mut impl Read) -> std::io::Result<()> {
    let mut piece = vec![0; 128 << 10];
    let mut at = start;
    loop {
        Patience::Ends.check()?;
        match data.read(&mut piece)? {
            0 => return Ok(()),
            count => {
                file.write_all_at(&piece[..count], at)?;
                at += count as u64;
            }
        }
    }
}

fn times(entry: &ArchiveEntry) -> Timestamps {
    let time = |(seconds, nanoseconds): (i64, u32)| Timespec {
        tv_sec: seconds,
        tv_nsec: nanoseconds.into(),
    };
    Timestamps { last_access: time(entry.accessed), last_modification: time(entry.modified) }
}

/// Owner, then attributes, then mode (a change of owner clears set-id bits), then
/// times.
fn dress(to: impl AsFd, entry: &ArchiveEntry) -> std::io::Result<()> {
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
        let packed =
            pack(&directory, "home".as_ref(), &folder, PackedFile::Home, &|_, _| {}).unwrap();
        assert_eq!((packed.files, packed.bytes), (6, 4 + 4 + 3 + (16 << 20)));
        assert!(packed.size < 4096, "{packed:?}");
        let account = |digest: &str| {
            format!(
                r#"{{"version": 1, "change": 1, "time": "", "by": {{"uid": 0, "name": null}},
                "kept": {{"thing": "user", "name": "x", "id": 1, "lines": []}},
                "digests": {{"home.tar.zst": "{digest}"}}}}"#
            )
        };
        folder.write(&ACCOUNT, account("0").as_bytes()).unwrap();
        let unpack = |to: &str| {
            let to = (&directory, to.as_ref());
            unpack(&folder, PackedFile::Home, to, Renumbered::default(), &|_, _| {})
        };
        let error = unpack("no").unwrap_err().to_string();
        assert!(error.contains("is not the one that was packed") && !at("no").exists(), "{error}");
        folder.write(&ACCOUNT, account(&packed.digest).as_bytes()).unwrap();
        unpack("copy").unwrap();
        let inventory =
            |name: &str| crate::inventory::take_inventory(&directory, name.as_ref(), None);
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
