//! New versions of account files, written beside the old ones.

use std::ffi::{OsStr, OsString};
use std::io::Read;
use std::os::fd::{AsFd, OwnedFd};

use nest_core::change::TextEdit;
use nest_core::ownership::Owner;
use nest_core::table::{File, Piece, Rewrite};
use nest_core::value::FileKind;
use rustix::fs::{Gid, Mode, OFlags, Stat, Uid, XattrFlags};
use rustix::io::Errno;

use crate::digest::{digest_of_file, in_hexadecimal};
use crate::labels::Labeller;
use crate::place::{NEW, Place};
use crate::read::{LARGE, PIECE};
use crate::store::Original;
use crate::tree::{Located, Tree};
use crate::undone::Undone;
use crate::untrusted;

/// A new version of a file, beside the old one under a name of its own, flushed.
#[derive(Debug)]
pub struct Staged {
    /// Which file.
    pub file: File,
    /// Where it will stand.
    pub located: Located,
    /// Its name until then.
    pub name: OsString,
    /// The digest of what is in it.
    pub digest: String,
    /// How long it is, in bytes.
    pub size: u64,
    /// Owners and attributes that could not be set, in words.
    pub left_undone: Vec<Undone>,
}

/// Writes the new version of a file. Owner, mode and extended attributes are
/// those of the old one and are set before the first byte; it is never more open
/// than the old one.
///
/// # Errors
/// The system's. Nothing is left behind then.
pub fn stage(
    tree: &Tree,
    file: File,
    original: Option<&Original>,
    rewrite: &Rewrite,
    name: &OsStr,
) -> std::io::Result<Staged> {
    let located = tree.locate(file.path())?;
    let name = name.to_owned();
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let open = || rustix::fs::openat(&located.directory, &name, flags, Mode::RUSR | Mode::WUSR);
    let descriptor = match open() {
        Err(Errno::EXIST) => {
            // We hold the lock: this is what a killed run left.
            rustix::fs::unlinkat(&located.directory, &name, rustix::fs::AtFlags::empty())?;
            open()?
        }
        opened => opened?,
    };
    let (digest, left_undone) = (String::new(), Vec::new());
    let size = rewrite.len() as u64;
    let mut staged = Staged { file, located, name, digest, size, left_undone };
    let like = original.map(|original| (&original.descriptor, &original.stat));
    let outfit = Outfit { name: file.path(), secret: file.is_secret(), like };
    let path = std::os::unix::ffi::OsStrExt::as_bytes(staged.located.path.as_os_str());
    let labeller = Labeller::below(tree, path);
    let filled = dress(&descriptor, &outfit, tree.is_live(), &mut staged.left_undone)
        .and_then(|()| {
            let at = (path, FileKind::File);
            Ok(labeller.set(&descriptor, at, file.path(), &mut staged.left_undone)?)
        })
        .and_then(|()| fill(&descriptor, original, rewrite));
    match filled {
        Ok(digest) => {
            staged.digest = digest;
            Ok(staged)
        }
        Err(error) => {
            staged.discard();
            Err(error)
        }
    }
}

impl Staged {
    /// Drops the new version.
    pub fn discard(&self) {
        let flags = rustix::fs::AtFlags::empty();
        let _ = rustix::fs::unlinkat(&self.located.directory, &self.name, flags);
    }
}

/// A new version of a file that is no account file.
#[derive(Debug)]
pub struct StagedText {
    /// The digest of the old version; nothing where there is none.
    pub before: Option<String>,
    /// The digest of the new one.
    pub after: String,
}

/// Writes the new version of a file that is no account file beside the old one, flushed.
/// Neither on the way to it nor at its end a link is followed; it looks like the old one.
///
/// # Errors
/// The system's, and one for a file that is not as it was when the edit was planned.
pub fn stage_text(
    tree: &Tree,
    edit: &TextEdit,
    left_undone: &mut Vec<Undone>,
) -> std::io::Result<StagedText> {
    let place = Place::of(tree, &edit.path)?;
    let old = match untrusted::open_entry(&place.directory, &place.name) {
        Ok(found) => Some(found),
        Err(missing) if missing.is_missing() => None,
        Err(fault) => return Err(std::io::Error::other(format!("{} {fault}", edit.path))),
    };
    let mut text = Vec::new();
    if let Some((descriptor, stat)) = &old {
        // Whoever owns the directory could have linked a file of somebody else's there.
        if stat.st_nlink > 1 {
            let message = format!("{} has another name too, and stays as it is", edit.path);
            return Err(std::io::Error::other(message));
        }
        let most = untrusted::CONFIGURATION + 1;
        std::fs::File::from(descriptor.try_clone()?).take(most).read_to_end(&mut text)?;
        if text.len() as u64 >= most {
            return Err(std::io::Error::other(format!("{} is too long", edit.path)));
        }
    }
    let new = edit.apply(&text).map_err(std::io::Error::other)?;
    let name = place.beside(NEW);
    // We hold the lock: this is what a killed run left.
    place.unlink(&name);
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let mode = Mode::RUSR | Mode::WUSR;
    let descriptor = rustix::fs::openat(&place.directory, &name, flags, mode)?;
    let path = edit.path.to_string();
    let outfit = Outfit {
        name: path.trim_start_matches('/'),
        secret: true,
        like: old.as_ref().map(|(descriptor, stat)| (descriptor, stat)),
    };
    let live = tree.is_live();
    let filled = dress(&descriptor, &outfit, live, left_undone)
        .and_then(|()| match &old {
            Some(_) => Ok(()),
            None => give(&descriptor, edit, live, left_undone),
        })
        .and_then(|()| {
            let at = (&edit.path[..], FileKind::File);
            let labeller = Labeller::below(tree, &edit.path);
            Ok(labeller.set(&descriptor, at, &edit.path.to_string(), left_undone)?)
        })
        .and_then(|()| crate::stage::write_all(&descriptor, &new))
        .and_then(|()| Ok(rustix::fs::fsync(&descriptor)?));
    if let Err(error) = filled {
        place.unlink(&name);
        return Err(error);
    }
    let before = old.is_some().then(|| nest_core::drift::digest(&text));
    Ok(StagedText { before, after: nest_core::drift::digest(&new) })
}

/// Gives a file that there was none of its owner and mode.
fn give(
    descriptor: &OwnedFd,
    edit: &TextEdit,
    live: bool,
    left_undone: &mut Vec<Undone>,
) -> std::io::Result<()> {
    let Owner { uid, gid } = edit.owner;
    let (uid, gid) = (Uid::from_raw(uid.0), Gid::from_raw(gid.0));
    match rustix::fs::fchown(descriptor, Some(uid), Some(gid)) {
        Ok(()) => {}
        Err(Errno::PERM | Errno::INVAL) if !live => {
            let what = format!("{}: owner {}:{}", edit.path, uid.as_raw(), gid.as_raw());
            left_undone.push(Undone::Right(what));
        }
        Err(error) => return Err(error.into()),
    }
    Ok(rustix::fs::fchmod(descriptor, Mode::from_raw_mode(edit.mode))?)
}

/// What a fresh file is to look like.
struct Outfit<'o> {
    /// What the file is called, for messages.
    name: &'o str,
    /// Whether nobody but its owner may read it.
    secret: bool,
    /// The file that it replaces.
    like: Option<(&'o OwnedFd, &'o Stat)>,
}

/// Gives a fresh file the owner, attributes and mode of the one it replaces.
fn dress(
    descriptor: &OwnedFd,
    outfit: &Outfit<'_>,
    live: bool,
    left_undone: &mut Vec<Undone>,
) -> std::io::Result<()> {
    let Outfit { name, secret, like } = outfit;
    let Some((like, stat)) = like else {
        let mode = if *secret { 0o600 } else { 0o644 };
        return Ok(rustix::fs::fchmod(descriptor, Mode::from_raw_mode(mode))?);
    };
    let mut mode = Mode::from_raw_mode(stat.st_mode);
    let (uid, gid) = (stat.st_uid, stat.st_gid);
    let fresh = rustix::fs::fstat(descriptor)?;
    if (fresh.st_uid, fresh.st_gid) != (uid, gid) {
        match rustix::fs::fchown(descriptor, Some(Uid::from_raw(uid)), Some(Gid::from_raw(gid))) {
            Ok(()) => {}
            Err(Errno::PERM | Errno::INVAL) if !live => {
                left_undone.push(Undone::Right(format!("{name}: owner {uid}:{gid}")));
                if *secret {
                    mode = Mode::RUSR | Mode::WUSR;
                }
            }
            Err(error) => return Err(error.into()),
        }
    }
    copy_attributes(like, descriptor, name, left_undone)?;
    // Last: until now it was 0600, and so never more open than the old one.
    Ok(rustix::fs::fchmod(descriptor, mode)?)
}

/// Copies extended attributes: security labels, access lists, the user's own.
/// Those that seal the contents themselves are left out.
fn copy_attributes(
    from: &OwnedFd,
    to: &OwnedFd,
    path: &str,
    left_undone: &mut Vec<Undone>,
) -> std::io::Result<()> {
    let mut names = vec![0; 65536];
    let length = match rustix::fs::flistxattr(from, &mut names[..]) {
        Ok(length) => length,
        Err(Errno::NOTSUP) => return Ok(()),
        Err(error) => return Err(error.into()),
    };
    for name in names[..length].split(|&byte| byte == 0).filter(|name| !name.is_empty()) {
        if matches!(name, b"security.ima" | b"security.evm") {
            continue;
        }
        let mut value = vec![0; 65536];
        let length = rustix::fs::fgetxattr(from, name, &mut value[..])?;
        match rustix::fs::fsetxattr(to, name, &value[..length], XattrFlags::empty()) {
            Ok(()) => {}
            Err(error @ (Errno::PERM | Errno::NOTSUP)) => {
                let what = format!("{path}: attribute {}", String::from_utf8_lossy(name));
                left_undone.push(match error {
                    Errno::PERM => Undone::Right(what),
                    _ => Undone::FileSystem(what),
                });
            }
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}

/// Writes the pieces and flushes them; returns the digest of them all. What is kept comes from the old file, by
/// the descriptor it was read by; whether that is still what was read is looked
/// at before anything is renamed.
fn fill(to: &OwnedFd, original: Option<&Original>, rewrite: &Rewrite) -> std::io::Result<String> {
    // Of a large file it is taken from what is written, while that is flushed.
    let large = original.is_some_and(Original::is_large);
    let mut hashed = (!large).then(xxhash_rust::xxh3::Xxh3::new);
    let mut note = |bytes: &[u8]| hashed.iter_mut().for_each(|hashed| hashed.update(bytes));
    for piece in &rewrite.pieces {
        match (piece, original) {
            (Piece::New(bytes), _) => {
                write_all(to, bytes)?;
                note(bytes);
            }
            (Piece::Keep(range), Some(original)) => {
                let (start, length) = (range.start as u64, range.len());
                let copied = match length as u64 >= LARGE {
                    true => copy_range(&original.descriptor, to, start, length)?,
                    false => 0,
                };
                let mut rest = vec![0; (length - copied).min(PIECE)];
                let mut at = start + copied as u64;
                while at < range.end as u64 {
                    let most = rest.len().min(range.end - at as usize);
                    match rustix::io::pread(&original.descriptor, &mut rest[..most], at)? {
                        0 => return Err(std::io::ErrorKind::UnexpectedEof.into()),
                        count => {
                            write_all(to, &rest[..count])?;
                            note(&rest[..count]);
                            at += count as u64;
                        }
                    }
                }
            }
            (Piece::Keep(_), None) => return Err(std::io::ErrorKind::NotFound.into()),
        }
    }
    let known = original.and_then(|original| original.digest_after(rewrite));
    flush(to, original, known.or(hashed.as_ref().map(in_hexadecimal)))
}

/// Flushes the new version, and takes its digest while that waits for the disk.
/// The kernel throws the old one's pages out of its cache meanwhile: it would have
/// to when the old one goes, and for a large file that takes longer than all the
/// rest of a change.
fn flush(
    to: &OwnedFd,
    original: Option<&Original>,
    known: Option<String>,
) -> std::io::Result<String> {
    let large = original.filter(|original| original.is_large());
    if large.is_none() {
        rustix::fs::fsync(to)?;
        return known.map_or_else(|| digest_of_file(to), Ok);
    }
    std::thread::scope(|scope| {
        let digest = scope.spawn(|| {
            let digest = known.map_or_else(|| digest_of_file(to), Ok);
            if let Some(original) = large {
                let advice = rustix::fs::Advice::DontNeed;
                // Advice: without it the pages go later.
                let _ = rustix::fs::fadvise(&original.descriptor, 0, None, advice);
            }
            digest
        });
        rustix::fs::fsync(to)?;
        digest.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

/// Lets the kernel copy; returns how many bytes it did before it would not.
fn copy_range(from: &OwnedFd, to: &OwnedFd, start: u64, length: usize) -> std::io::Result<usize> {
    let mut offset = start;
    let mut copied = 0;
    while copied < length {
        match rustix::fs::copy_file_range(from, Some(&mut offset), to, None, length - copied) {
            Ok(0) | Err(Errno::XDEV | Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => break,
            Ok(count) => copied += count,
            Err(Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(copied)
}

/// Writes all of the bytes.
pub(crate) fn write_all(to: impl AsFd, mut bytes: &[u8]) -> std::io::Result<()> {
    while !bytes.is_empty() {
        match rustix::io::write(&to, bytes) {
            Ok(0) => return Err(std::io::ErrorKind::WriteZero.into()),
            Ok(count) => bytes = &bytes[count..],
            Err(Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}
