//! Looking a skeleton directory over before a home is made from it.

use bstr::{BStr, ByteSlice};
use nest_core::surroundings::{Kind, Skeleton, SkeletonFault};
use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, Stat};
use rustix::io::Errno;

use crate::surroundings::kind_of;
use crate::tree::{Tree, path_of};

/// Whether the directory can be copied as a home, and how many files it has.
pub(crate) fn look(tree: &Tree, path: &BStr) -> Result<Skeleton, SkeletonFault> {
    let unreadable = |error: Errno| SkeletonFault::Unreadable(error.to_string());
    let stat = match tree.stat(path_of(path)) {
        Ok(stat) => stat,
        Err(Errno::NOENT | Errno::NOTDIR) => return Err(SkeletonFault::Missing),
        Err(error) => return Err(unreadable(error)),
    };
    if kind_of(&stat) != Kind::Directory {
        return Err(SkeletonFault::NotADirectory(kind_of(&stat)));
    }
    let directory = tree.open_file(path_of(path), OFlags::RDONLY | OFlags::DIRECTORY);
    let directory = directory.map_err(unreadable)?;
    let mut files = 0;
    let mut fault = None;
    let walked = each_below(&directory, b"", &mut |path, directory, stat| {
        let kind = kind_of(stat);
        match kind {
            Kind::Directory => return Ok(()),
            Kind::File => {}
            Kind::Link => {
                let name = path.rsplit_str("/").next().unwrap_or(path);
                let target = rustix::fs::readlinkat(directory, path_of(name), Vec::new())?;
                if leads_out(path, target.as_bytes()) {
                    let target = target.into_bytes().into();
                    fault = Some(SkeletonFault::LinkOutward { path: path.into(), target });
                    return Err(Errno::CANCELED);
                }
            }
            kind => {
                fault = Some(SkeletonFault::Special { path: path.into(), kind });
                return Err(Errno::CANCELED);
            }
        }
        files += 1;
        Ok(())
    });
    match (fault, walked) {
        (Some(fault), _) => Err(fault),
        (None, Err(error)) => Err(unreadable(error)),
        (None, Ok(())) => Ok(Skeleton { files }),
    }
}

/// Is told the path, the directory and the status of an entry.
pub(crate) type Tell<'a> = dyn FnMut(&[u8], &std::os::fd::OwnedFd, &Stat) -> Result<(), Errno> + 'a;

/// Calls `tell` with the path, the directory and the status of everything below
/// a directory, links not followed.
pub(crate) fn each_below(
    directory: &std::os::fd::OwnedFd,
    path: &[u8],
    tell: &mut Tell<'_>,
) -> Result<(), Errno> {
    for entry in Dir::read_from(directory)? {
        let entry = entry?;
        let name = entry.file_name();
        if name == c"." || name == c".." {
            continue;
        }
        let mut below = path.to_vec();
        if !below.is_empty() {
            below.push(b'/');
        }
        below.extend_from_slice(name.to_bytes());
        let stat = rustix::fs::statat(directory, name, AtFlags::SYMLINK_NOFOLLOW)?;
        tell(&below, directory, &stat)?;
        if FileType::from_raw_mode(stat.st_mode) == FileType::Directory {
            let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            each_below(&rustix::fs::openat(directory, name, flags, Mode::empty())?, &below, tell)?;
        }
    }
    Ok(())
}

/// Whether a link, at `path` below a directory, leads out of that directory when
/// read as text: absolute, or climbing above it.
fn leads_out(path: &[u8], target: &[u8]) -> bool {
    if target.starts_with(b"/") {
        return true;
    }
    let mut depth = path.split_str("/").count() - 1;
    for part in target.split_str("/") {
        match part {
            b"" | b"." => {}
            b".." if depth == 0 => return true,
            b".." => depth -= 1,
            _ => depth += 1,
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_that_lead_out_of_a_skeleton_are_told() {
        assert!(leads_out(b"link", b"/etc/passwd"));
        assert!(leads_out(b"link", b"../x"));
        assert!(leads_out(b"a/link", b"../../x"));
        assert!(leads_out(b"a/link", b"b/../../../x"));
        assert!(!leads_out(b"a/link", b"../x"));
        assert!(!leads_out(b"link", b"./a/../b"));
    }
}
