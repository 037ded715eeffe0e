//! What is mounted in a tree, from `/proc/self/mountinfo`, proc_pid_mountinfo(5).

use std::collections::HashSet;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};

use bstr::{BString, ByteSlice};
use rustix::fs::{AtFlags, StatxFlags};

use crate::tree::Tree;

/// File systems without files of their own, or with somebody else's: the kernel's
/// and those of the network. The numbers are those of statfs(2).
const NOT_LOCAL: [u32; 22] = [
    0x9fa0,
    0x6265_6572,
    0x1cd1,
    0x6462_6720,
    0x7472_6163,
    0x0027_e0eb,
    0x6367_7270,
    0x7363_6673,
    0xf97c_ff8c,
    0xcafe_4a11,
    0x6165_676c,
    0x1980_0202,
    0x9584_58f6,
    0x6e73_6673,
    0x6969,
    0xff53_4d42,
    0xfe53_4d42,
    0x517b,
    0x6573_5546,
    0x0102_1997,
    0x5346_414f,
    0x00c3_6400,
];

/// File systems that are another machine's, by the names that the kernel gives them.
const FROM_ELSEWHERE: [&str; 10] = [
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "ceph",
    "fuse.ceph",
    "fuse.glusterfs",
    "afs",
    "lustre",
    "beegfs",
];

/// One mount, seen from the tree.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Mount {
    /// Its device, as the kernel writes it.
    device: Vec<u8>,
    /// The directory of the file system that shows here.
    root: Vec<u8>,
    /// Where, as a path in the tree; empty for its root.
    point: Vec<u8>,
    /// The kind of file system.
    kind: String,
    /// What it is mounted from, as it was given.
    source: Vec<u8>,
}

/// Whether the file system that a directory is on has files of its own, and on this
/// machine.
pub(crate) fn is_local(directory: &OwnedFd) -> bool {
    let kind = rustix::fs::fstatfs(directory).map(|stat| stat.f_type as u32);
    kind.is_ok_and(|kind| !NOT_LOCAL.contains(&kind))
}

/// Whether nothing can be written to the file system that a directory is on, as it is mounted
/// there.
pub(crate) fn is_read_only(directory: &OwnedFd) -> bool {
    let stat = rustix::fs::fstatvfs(directory);
    stat.is_ok_and(|stat| stat.f_flag.contains(rustix::fs::StatVfsMountFlags::RDONLY))
}

/// The mount that an opened file or directory is on: two of the same file system are
/// two. `None` where the kernel tells it in no way (before 3.15).
pub(crate) fn mount_id(handle: impl AsFd) -> Option<u64> {
    let handle = handle.as_fd();
    let flags = AtFlags::EMPTY_PATH | AtFlags::NO_AUTOMOUNT;
    if let Ok(stat) = rustix::fs::statx(handle, "", flags, StatxFlags::MNT_ID)
        && stat.stx_mask & StatxFlags::MNT_ID.bits() != 0
    {
        return Some(stat.stx_mnt_id);
    }
    // Before 5.8.
    let told = std::fs::read_to_string(format!("/proc/self/fdinfo/{}", handle.as_raw_fd()));
    let told = told.ok()?;
    told.lines().find_map(|line| line.strip_prefix("mnt_id:")?.trim().parse().ok())
}

/// What is mounted in a tree.
#[derive(Debug, Default)]
pub(crate) struct Mounts {
    all: Vec<Mount>,
}

impl Mounts {
    /// Reads them. Where they can't be read nothing is known of them.
    pub fn below(tree: &Tree) -> Self {
        let text = std::fs::read("/proc/self/mountinfo").unwrap_or_default();
        let root = std::fs::canonicalize(tree.path());
        let root = root.map(|root| root.into_os_string().into_encoded_bytes());
        let root = root.unwrap_or_else(|_| b"/".to_vec());
        Mounts { all: parse(&text, root.strip_suffix(b"/").unwrap_or(&root)) }
    }

    /// The kind of file system mounted at a path.
    pub fn kind_of(&self, path: &[u8]) -> Option<&str> {
        // The last one is on top.
        self.all.iter().rev().find(|mount| mount.point == path).map(|mount| mount.kind.as_str())
    }

    /// Where what is at a path comes from, if that is another machine.
    pub fn comes_from(&self, path: &[u8]) -> Option<Vec<u8>> {
        let rest_of = |mount: &Mount| {
            let rest = path.strip_prefix(&mount.point[..])?;
            (rest.is_empty() || rest.starts_with(b"/")).then(|| rest.to_vec())
        };
        let holding = self.all.iter().filter_map(|mount| Some((mount, rest_of(mount)?)));
        // Of two at one place the last one is on top.
        let (mount, rest) = holding.max_by_key(|(mount, _)| mount.point.len())?;
        FROM_ELSEWHERE.contains(&mount.kind.as_str()).then(|| {
            let source = mount.source.strip_suffix(b"/").unwrap_or(&mount.source);
            [source, &rest].concat()
        })
    }

    /// The mount points below a path.
    pub fn inside(&self, path: &[u8]) -> Vec<BString> {
        let inside = |point: &&Mount| {
            point.point.strip_prefix(path).is_some_and(|rest| rest.starts_with(b"/"))
        };
        self.all.iter().filter(inside).map(|mount| mount.point.clone().into()).collect()
    }

    /// The first mount point that is a path, or lies below it.
    pub fn at_or_inside(&self, path: &[u8]) -> Option<BString> {
        let here = |mount: &&Mount| !path.is_empty() && mount.point == path;
        let here = self.all.iter().find(here).map(|mount| mount.point.clone().into());
        here.or_else(|| self.inside(path).into_iter().next())
    }

    /// Mount points that show what shows elsewhere in the tree too: of a directory
    /// of a file system that is mounted with more of it.
    pub fn doubled(&self) -> HashSet<Vec<u8>> {
        let covers = |more: &Mount, mount: &Mount| {
            let rest = mount.root.strip_prefix(&more.root[..]);
            let inside = rest.is_some_and(|rest| {
                rest.is_empty() || rest.starts_with(b"/") || more.root.ends_with(b"/")
            });
            inside && more.device == mount.device
        };
        let doubled = self.all.iter().enumerate().filter(|(at, mount)| {
            self.all.iter().enumerate().any(|(other, more)| {
                // Of two that show the same the first counts.
                let same = more.root == mount.root;
                other != *at && covers(more, mount) && (!same || other < *at)
            })
        });
        doubled.map(|(_, mount)| mount.point.clone()).filter(|point| !point.is_empty()).collect()
    }
}

fn parse(text: &[u8], tree: &[u8]) -> Vec<Mount> {
    let mut all: Vec<Mount> = Vec::new();
    let mut around: Option<Mount> = None;
    for line in text.lines() {
        let fields: Vec<&[u8]> = line.split_str(" ").collect();
        let dash = fields.iter().position(|field| *field == b"-");
        let (Some(dash), true) = (dash, fields.len() > 5) else { continue };
        let kind = fields.get(dash + 1).map(|kind| String::from_utf8_lossy(kind).into_owned());
        let (root, point) = (plain(fields[3]), plain(fields[4]));
        let mount = Mount {
            device: fields[2].to_vec(),
            root,
            point: point.strip_suffix(b"/").unwrap_or(&point).to_vec(),
            kind: kind.unwrap_or_default(),
            source: fields.get(dash + 2).map(|source| plain(source)).unwrap_or_default(),
        };
        let below = |outer: &[u8], inner: &[u8]| {
            inner.strip_prefix(outer).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
        };
        if below(tree, &mount.point) {
            let point = mount.point[tree.len()..].to_vec();
            all.push(Mount { point, ..mount });
        } else if below(&mount.point, tree)
            && around.as_ref().is_none_or(|known| known.point.len() <= mount.point.len())
        {
            around = Some(mount);
        }
    }
    // The file system that the root of the tree is on shows in it from there on.
    if let Some(mount) = around.filter(|_| !all.iter().any(|mount| mount.point.is_empty())) {
        let root = mount.root.strip_suffix(b"/").unwrap_or(&mount.root);
        let root = [root, &tree[mount.point.len()..]].concat();
        all.insert(0, Mount { root, point: Vec::new(), ..mount });
    }
    all
}

/// Spaces and the like are written as `\NNN`.
fn plain(field: &[u8]) -> Vec<u8> {
    let mut plain = Vec::with_capacity(field.len());
    let mut at = 0;
    while at < field.len() {
        let digits = field.get(at + 1..at + 4).filter(|_| field[at] == b'\\');
        let number = digits
            .and_then(|digits| std::str::from_utf8(digits).ok())
            .and_then(|digits| u8::from_str_radix(digits, 8).ok());
        match number {
            Some(byte) => {
                plain.push(byte);
                at += 4;
            }
            None => {
                plain.push(field[at]);
                at += 1;
            }
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &[u8] = b"22 1 8:1 / / rw - ext4 /dev/sda1 rw
30 22 8:2 / /srv\\040x rw shared:1 - xfs /dev/sdb rw
31 22 8:1 /var/lib /srv\\040x/lib rw - ext4 /dev/sda1 rw
32 22 0:5 / /proc rw - proc proc rw
33 22 8:2 /a /mnt rw - xfs /dev/sdb rw
34 22 0:40 / /home rw - nfs4 harbour:/export/home/ rw
broken line
";

    #[test]
    fn what_shows_twice_is_known() {
        let mounts = |tree: &[u8]| Mounts { all: parse(TEXT, tree) };
        let points = |tree: &[u8]| {
            let mut doubled: Vec<_> = mounts(tree).doubled().into_iter().collect();
            doubled.sort();
            doubled
        };
        assert_eq!(points(b""), [b"/mnt".to_vec(), b"/srv x/lib".to_vec()]);
        assert_eq!(mounts(b"").kind_of(b"/proc"), Some("proc"));
        assert_eq!(mounts(b"").inside(b"/srv x"), ["/srv x/lib"]);
        let from = |path: &[u8]| mounts(b"").comes_from(path);
        assert_eq!(from(b"/home/maren").unwrap(), b"harbour:/export/home/maren");
        assert_eq!((from(b"/homes/maren"), from(b"/srv x/lib")), (None, None));
        // From inside the second file system only what lies there is seen.
        assert_eq!(points(b"/srv x"), [b""; 0]);
        assert_eq!(mounts(b"/srv x").all.len(), 2);
        let inner = mounts(b"/var");
        assert_eq!((inner.all.len(), &inner.all[0].root[..]), (1, &b"/var"[..]));
    }
}
