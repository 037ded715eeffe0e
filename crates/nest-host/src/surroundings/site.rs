//! Whether something new can be made at a path: judged without following links.

use std::path::{Path, PathBuf};

use bstr::BStr;
use nest_core::surroundings::Site;
use nest_core::value::FileKind;
use rustix::fs::{AtFlags, Mode, OFlags};
use rustix::io::Errno;

use super::{bytes, facts_of};
use crate::tree::{Tree, kind_of, path_of};
use crate::words::why;

pub(super) fn judge_site(tree: &Tree, path: &BStr) -> Site {
    let unknown = |error: Errno| Site::Unknown(why(error));
    let mut here = match tree.open_directory_strictly("/") {
        Ok(root) => root,
        Err(error) => return unknown(error),
    };
    let mut walked = PathBuf::from("/");
    let mut parts = path_of(path).components().skip(1).peekable();
    while let Some(part) = parts.next() {
        walked.push(part);
        let last = parts.peek().is_none();
        let stat = match rustix::fs::statat(&here, part.as_os_str(), AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => stat,
            Err(Errno::NOENT) if last => return Site::Free,
            Err(Errno::NOENT) => return Site::NoParent(bytes(&walked)),
            Err(error) => return unknown(error),
        };
        match (kind_of(&stat), last) {
            (FileKind::Link, _) => {
                let target = rustix::fs::readlinkat(&here, part.as_os_str(), Vec::new());
                let target = target.map(|target| target.into_bytes()).unwrap_or_default();
                let mut real = walked.parent().unwrap_or(Path::new("/")).join(path_of(&target));
                real.extend(parts);
                return Site::ThroughLink { link: bytes(&walked), real: bytes(&tidy(&real)) };
            }
            (_, true) => return Site::Taken(facts_of(&stat)),
            (FileKind::Directory, false) => {
                let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                here = match rustix::fs::openat(&here, part.as_os_str(), flags, Mode::empty()) {
                    Ok(next) => next,
                    Err(error) => return unknown(error),
                };
            }
            _ => return Site::ParentIsNoDirectory(bytes(&walked)),
        }
    }
    match tree.stat("/") {
        Ok(stat) => Site::Taken(facts_of(&stat)),
        Err(error) => unknown(error),
    }
}

/// Takes `.` and `..` out of a path as far as they can be without looking.
fn tidy(path: &Path) -> PathBuf {
    let mut tidy = PathBuf::new();
    for part in path.components() {
        match part {
            std::path::Component::ParentDir => {
                tidy.pop();
            }
            std::path::Component::CurDir => {}
            part => tidy.push(part),
        }
    }
    tidy
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_site_is_judged_without_following_links() {
        let folder = tempfile::tempdir().unwrap();
        let at = |path: &str| folder.path().join(path);
        std::fs::create_dir_all(at("srv/home/maren")).unwrap();
        std::fs::write(at("srv/file"), "").unwrap();
        std::os::unix::fs::symlink("srv/home", at("home")).unwrap();
        let tree = Tree::open(folder.path()).unwrap();
        assert_eq!(judge_site(&tree, "/srv/home/tavish".into()), Site::Free);
        assert!(matches!(judge_site(&tree, "/srv/home/maren".into()), Site::Taken(_)));
        assert_eq!(
            judge_site(&tree, "/srv/none/tavish".into()),
            Site::NoParent("/srv/none".into())
        );
        let through = Site::ThroughLink { link: "/home".into(), real: "/srv/home/tavish".into() };
        assert_eq!(judge_site(&tree, "/home/tavish".into()), through);
        let parent = Site::ParentIsNoDirectory("/srv/file".into());
        assert_eq!(judge_site(&tree, "/srv/file/tavish".into()), parent);
    }
}
