//! A file system of which it is known what is on the disk: what a program did to it,
//! call by call, and what may be left of that when the power goes.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt, lchown, symlink};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use super::trace::Call;

type Inode = usize;
type Bytes = Rc<Vec<u8>>;

/// The root directory.
const ROOT: Inode = 0;

#[derive(Debug, Clone, PartialEq, Eq)]
enum Kind {
    Directory(BTreeMap<Vec<u8>, Inode>),
    File(Bytes),
    Link(Vec<u8>),
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Node {
    kind: Kind,
    mode: u32,
    owner: (u32, u32),
}

/// A tree at some moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Disk(Vec<Node>);

/// What a call alters, as a whole: nobody ever sees a part of it.
#[derive(Debug, Clone)]
enum Change {
    /// Names in directories, and what each is of from then on.
    Names(Vec<(Inode, Vec<u8>, Option<Inode>)>),
    Contents(Inode, Bytes),
    Access(Inode, u32, (u32, u32)),
}

/// What a call makes sure is on the disk.
#[derive(Debug, Clone, Copy)]
enum Flush {
    Of(Inode),
    Everything,
}

#[derive(Debug)]
enum Event {
    Change(Change),
    Flush(Flush),
}

/// How a file system keeps its promises.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Promise {
    /// Names, owners and modes reach the disk in the order in which they were altered, and
    /// each flush takes all before it along; contents of files only when those are flushed.
    Ordered,
    /// Each directory by itself, in order; flushing a file keeps its own name.
    Weak,
    /// Any of what was altered in a directory, unless that was flushed.
    Strict,
    /// As it should be, but the contents of one file are lost although they were flushed.
    Liar,
}

/// What a command did.
pub struct Run {
    before: Disk,
    events: Vec<Event>,
    /// Nodes that come with the run, as they are when they have no contents yet.
    nodes: Vec<Node>,
    /// Files that were written to wait for their names.
    staged: BTreeSet<Inode>,
}

impl Disk {
    /// A tree as it is.
    pub fn of(root: &Path) -> Self {
        let mut disk = Disk(Vec::new());
        let mut known = HashMap::new();
        disk.add(root, &mut known);
        disk
    }

    fn add(&mut self, path: &Path, known: &mut HashMap<u64, Inode>) -> Inode {
        let metadata = path.symlink_metadata().unwrap();
        if let Some(inode) = known.get(&metadata.ino()) {
            return *inode;
        }
        let inode = self.0.len();
        known.insert(metadata.ino(), inode);
        let (mode, owner) = (metadata.mode() & 0o7777, (metadata.uid(), metadata.gid()));
        self.0.push(Node { kind: Kind::Directory(BTreeMap::new()), mode, owner });
        let kind = if metadata.is_dir() {
            let mut paths: Vec<_> =
                std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()).collect();
            paths.sort();
            let entry = |path: PathBuf| {
                let name = path.file_name().unwrap().as_bytes().to_vec();
                (name, self.add(&path, known))
            };
            Kind::Directory(paths.into_iter().map(entry).collect())
        } else if metadata.is_symlink() {
            Kind::Link(std::fs::read_link(path).unwrap().as_os_str().as_bytes().to_vec())
        } else {
            Kind::File(Rc::new(std::fs::read(path).unwrap()))
        };
        self.0[inode].kind = kind;
        inode
    }

    /// Lays the tree out in a directory, in the place of what is there. The directory
    /// itself stays: it is what a tree is recognised by.
    pub fn lay(&self, root: &Path) {
        for entry in std::fs::read_dir(root).unwrap() {
            let path = entry.unwrap().path();
            match path.symlink_metadata().unwrap().is_dir() {
                true => std::fs::remove_dir_all(path).unwrap(),
                false => std::fs::remove_file(path).unwrap(),
            }
        }
        self.fill(ROOT, root, &mut HashMap::new());
    }

    fn fill(&self, inode: Inode, path: &Path, known: &mut HashMap<Inode, PathBuf>) {
        let node = &self.0[inode];
        let Kind::Directory(entries) = &node.kind else { unreachable!() };
        for (name, inode) in entries {
            let path = path.join(std::ffi::OsStr::from_bytes(name));
            let node = &self.0[*inode];
            if let Some(first) = known.get(inode) {
                std::fs::hard_link(first, &path).unwrap();
                continue;
            }
            match &node.kind {
                Kind::Directory(_) => {
                    std::fs::create_dir(&path).unwrap();
                    self.fill(*inode, &path, known);
                    continue;
                }
                Kind::File(contents) => std::fs::write(&path, &**contents).unwrap(),
                Kind::Link(to) => symlink(std::ffi::OsStr::from_bytes(to), &path).unwrap(),
            }
            known.insert(*inode, path.clone());
            node.dress(&path);
        }
        node.dress(path);
    }

    /// The same tree, with its nodes in the order in which they are reached: two trees that
    /// look the same are the same then.
    fn tidy(&self) -> Self {
        let (mut order, mut place) = (vec![ROOT], HashMap::from([(ROOT, 0)]));
        let mut at = 0;
        while at < order.len() {
            if let Kind::Directory(entries) = &self.0[order[at]].kind {
                for inode in entries.values() {
                    if !place.contains_key(inode) {
                        place.insert(*inode, order.len());
                        order.push(*inode);
                    }
                }
            }
            at += 1;
        }
        let node = |inode: &Inode| {
            let mut node = self.0[*inode].clone();
            if let Kind::Directory(entries) = &mut node.kind {
                entries.values_mut().for_each(|inode| *inode = place[inode]);
            }
            node
        };
        Disk(order.iter().map(node).collect())
    }

    /// What a tree holds, path by path.
    pub fn listed(&self) -> BTreeMap<PathBuf, String> {
        let (mut all, mut batch) = (BTreeMap::new(), vec![(PathBuf::from("/"), ROOT)]);
        while let Some((path, inode)) = batch.pop() {
            let node = &self.0[inode];
            let what = match &node.kind {
                Kind::Directory(entries) => {
                    batch.extend(entries.iter().map(|(name, inode)| {
                        (path.join(std::ffi::OsStr::from_bytes(name)), *inode)
                    }));
                    String::new()
                }
                Kind::File(contents) => String::from_utf8_lossy(contents).into_owned(),
                Kind::Link(to) => String::from_utf8_lossy(to).into_owned(),
            };
            all.insert(path, format!("{:o} {:?} {what}", node.mode, node.owner));
        }
        all
    }

    /// Something that is the same for two trees that look the same.
    pub fn print(&self) -> u64 {
        use std::hash::{Hash, Hasher};
        let mut hasher = std::hash::DefaultHasher::new();
        format!("{:?}", self.tidy()).hash(&mut hasher);
        hasher.finish()
    }

    fn apply(&mut self, change: &Change) {
        match change {
            Change::Names(names) => {
                for (directory, name, inode) in names {
                    let Kind::Directory(entries) = &mut self.0[*directory].kind else {
                        unreachable!()
                    };
                    match inode {
                        Some(inode) => entries.insert(name.clone(), *inode),
                        None => entries.remove(name),
                    };
                }
            }
            Change::Contents(inode, contents) => self.0[*inode].kind = Kind::File(contents.clone()),
            Change::Access(inode, mode, owner) => {
                (self.0[*inode].mode, self.0[*inode].owner) = (*mode, *owner);
            }
        }
    }

    /// What a path leads to, and where it lies: the directory and the name.
    fn find(&self, from: Inode, path: &[u8], follow: bool) -> (Inode, Vec<u8>, Option<Inode>) {
        let mut above = vec![if path.starts_with(b"/") { ROOT } else { from }];
        let parts: Vec<&[u8]> =
            path.split(|byte| *byte == b'/').filter(|part| !part.is_empty()).collect();
        let mut found = (ROOT, b".".to_vec(), above.last().copied());
        for (at, part) in parts.iter().enumerate() {
            if *part == b"." {
                continue;
            }
            let here = *above.last().unwrap();
            let Kind::Directory(entries) = &self.0[here].kind else { panic!("no directory") };
            let inode = entries.get(*part).copied();
            let last = at + 1 == parts.len();
            if let Some(Kind::Link(to)) = inode.map(|inode| &self.0[inode].kind)
                && (follow || !last)
            {
                let rest = [to.clone(), parts[at + 1..].join(&b'/')].join(&b'/');
                return self.find(here, &rest, follow);
            }
            found = (here, part.to_vec(), inode);
            above.extend(inode);
        }
        found
    }
}

impl Node {
    fn dress(&self, path: &Path) {
        let (uid, gid) = self.owner;
        lchown(path, Some(uid), Some(gid)).unwrap();
        if !matches!(self.kind, Kind::Link(_)) {
            std::fs::set_permissions(path, PermissionsExt::from_mode(self.mode)).unwrap();
        }
    }
}

/// An open file: what it is of, and where writing goes on.
#[derive(Clone)]
struct Open {
    inode: Inode,
    at: usize,
}

/// Follows a command call by call.
struct Follower<'r> {
    root: &'r [u8],
    disk: Disk,
    open: HashMap<i64, Open>,
    events: Vec<Event>,
    nodes: Vec<Node>,
    staged: BTreeSet<Inode>,
}

impl Run {
    /// What a command did to a tree, from its calls.
    pub fn of(before: Disk, root: &Path, calls: &[Call]) -> Self {
        let (root, disk) = (root.as_os_str().as_bytes(), before.clone());
        let (open, events, staged) = (HashMap::new(), Vec::new(), BTreeSet::new());
        let nodes = disk.0.clone();
        let mut follower = Follower { root, disk, open, events, nodes, staged };
        calls.iter().for_each(|call| follower.follow(call));
        let Follower { events, nodes, staged, .. } = follower;
        Run { before, events, nodes, staged }
    }

    /// How many moments there are at which the power may go.
    pub fn moments(&self) -> usize {
        self.events.len() + 1
    }

    /// The tree as all of it left it.
    pub fn after(&self) -> Disk {
        self.state(self.events.len(), |_, _| true, None)
    }

    /// The tree after the first events, of which those changes were kept that are chosen.
    fn state(
        &self,
        moment: usize,
        kept: impl Fn(usize, &Change) -> bool,
        lost: Option<Inode>,
    ) -> Disk {
        let mut disk = Disk(self.nodes.clone());
        disk.0[..self.before.0.len()].clone_from_slice(&self.before.0);
        for (at, event) in self.events[..moment].iter().enumerate() {
            match event {
                Event::Change(change) if kept(at, change) => disk.apply(change),
                _ => {}
            }
        }
        if let Some(lost) = lost {
            disk.0[lost].kind = Kind::File(Rc::default());
        }
        disk
    }

    /// A tree as it may be found when the power went at a moment.
    pub fn cut(
        &self,
        promise: Promise,
        moment: usize,
        choose: &mut impl FnMut(usize) -> usize,
    ) -> Disk {
        let safe = self.safe(promise, moment);
        let open: Vec<usize> = (0..moment)
            .filter(|at| matches!(self.events[*at], Event::Change(_)) && !safe.contains(at))
            .collect();
        if promise == Promise::Liar {
            let staged: Vec<Inode> = self.staged.iter().copied().collect();
            let lost = staged[choose(staged.len())];
            let written = |event: &Event| matches!(event, Event::Change(Change::Contents(inode, _)) if *inode == lost);
            let lost = self.events[..moment].iter().any(written).then_some(lost);
            return self.state(moment, |_, _| true, lost);
        }
        let kept: BTreeSet<usize> = match choose(6) {
            _ if open.is_empty() => BTreeSet::new(),
            0 => BTreeSet::new(),
            1 => open.iter().copied().collect(),
            2 => BTreeSet::from([open[choose(open.len())]]),
            3 => {
                let lost = open[choose(open.len())];
                open.iter().copied().filter(|at| *at != lost).collect()
            }
            _ => open.iter().copied().filter(|_| choose(2) == 0).collect(),
        };
        let kept = self.in_order(promise, &open, kept);
        self.state(moment, |at, _| safe.contains(&at) || kept.contains(&at), None)
    }

    /// Of what may be lost, that which is kept, so that the promise is.
    fn in_order(
        &self,
        promise: Promise,
        open: &[usize],
        mut kept: BTreeSet<usize>,
    ) -> BTreeSet<usize> {
        let change = |at: &usize| match &self.events[*at] {
            Event::Change(change) => change,
            Event::Flush(_) => unreachable!(),
        };
        let is_data = |at: &usize| matches!(change(at), Change::Contents(..));
        match promise {
            Promise::Ordered => {
                // Up to the last one that is kept, all but contents.
                let last = kept.iter().copied().filter(|at| !is_data(at)).max();
                let before = |at: &usize| last.is_some_and(|last| *at <= last);
                kept.extend(open.iter().copied().filter(|at| !is_data(at) && before(at)));
            }
            Promise::Weak => {
                // In each directory all before one that is kept.
                let touched = |at: &usize| -> BTreeSet<Inode> {
                    match change(at) {
                        Change::Names(names) => names.iter().map(|name| name.0).collect(),
                        _ => BTreeSet::new(),
                    }
                };
                loop {
                    let more: Vec<usize> = open
                        .iter()
                        .copied()
                        .filter(|at| !kept.contains(at))
                        .filter(|at| {
                            let mine = touched(at);
                            kept.range(at..).any(|later| !mine.is_disjoint(&touched(later)))
                        })
                        .collect();
                    if more.is_empty() {
                        break;
                    }
                    kept.extend(more);
                }
            }
            Promise::Strict | Promise::Liar => {}
        }
        kept
    }

    /// The changes that are on the disk for certain.
    fn safe(&self, promise: Promise, moment: usize) -> BTreeSet<usize> {
        let mut safe = BTreeSet::new();
        for (at, event) in self.events[..moment].iter().enumerate() {
            let Event::Flush(flush) = event else { continue };
            for (earlier, event) in self.events[..at].iter().enumerate() {
                let Event::Change(change) = event else { continue };
                let is_safe = match (flush, change) {
                    (Flush::Everything, _) => true,
                    (Flush::Of(flushed), Change::Contents(inode, _)) => inode == flushed,
                    (Flush::Of(flushed), Change::Access(inode, ..)) => {
                        inode == flushed || promise == Promise::Ordered
                    }
                    (Flush::Of(flushed), Change::Names(names)) => {
                        promise == Promise::Ordered
                            || names.iter().any(|(directory, _, inode)| {
                                directory == flushed
                                    || promise == Promise::Weak && *inode == Some(*flushed)
                            })
                    }
                };
                if is_safe {
                    safe.insert(earlier);
                }
            }
        }
        safe
    }
}

impl Follower<'_> {
    fn follow(&mut self, call: &Call) {
        match call.name.as_str() {
            "open" => self.opened(call, -100, call.text(0), 2),
            "openat" | "openat2" => self.opened(call, call.number(0), call.text(1), 3),
            "close" => drop(self.open.remove(&call.number(0))),
            "dup" => self.again(call),
            "fcntl" if call.has("F_DUPFD_CLOEXEC") || call.has("F_DUPFD") => self.again(call),
            "mkdirat" => {
                let Some((parent, name, None)) = self.at(call.number(0), call.text(1), false)
                else {
                    return;
                };
                // The mask of the tests is an ordinary one.
                let mode = u32::try_from(call.number(2)).unwrap() & !0o022;
                self.make(parent, name, Kind::Directory(BTreeMap::new()), mode);
            }
            "symlinkat" => {
                if let Some((parent, name, _)) = self.at(call.number(1), call.text(2), false) {
                    self.make(parent, name, Kind::Link(call.text(0).to_vec()), 0o777);
                }
            }
            "linkat" => {
                let from = self.at(call.number(0), call.text(1), false);
                let to = self.at(call.number(2), call.text(3), false);
                if let (Some((_, _, from)), Some((parent, name, _))) = (from, to) {
                    self.change(Change::Names(vec![(parent, name, from)]));
                }
            }
            "unlinkat" => {
                if let Some((parent, name, _)) = self.at(call.number(0), call.text(1), false) {
                    self.change(Change::Names(vec![(parent, name, None)]));
                }
            }
            "renameat" | "renameat2" => self.renamed(call),
            "write" | "pwrite64" => self.written(call),
            "ftruncate" => {
                if let Some(open) = self.open.get(&call.number(0)).cloned() {
                    let mut contents = self.contents(open.inode);
                    contents.resize(usize::try_from(call.number(1)).unwrap(), 0);
                    self.change(Change::Contents(open.inode, Rc::new(contents)));
                }
            }
            "fchmod" => {
                if let Some(Open { inode, .. }) = self.open.get(&call.number(0)) {
                    let (inode, mode) = (*inode, u32::try_from(call.number(1)).unwrap());
                    self.change(Change::Access(inode, mode, self.disk.0[inode].owner));
                }
            }
            "fchown" => {
                if let Some(Open { inode, .. }) = self.open.get(&call.number(0)) {
                    self.owned(*inode, call.number(1), call.number(2));
                }
            }
            "fchownat" => {
                let found = match call.has("AT_EMPTY_PATH") {
                    true => self.open.get(&call.number(0)).map(|open| open.inode),
                    false => self.at(call.number(0), call.text(1), false).and_then(|at| at.2),
                };
                if let Some(inode) = found {
                    self.owned(inode, call.number(2), call.number(3));
                }
            }
            "fsync" | "fdatasync" => {
                if let Some(open) = self.open.get(&call.number(0)) {
                    self.events.push(Event::Flush(Flush::Of(open.inode)));
                }
            }
            "syncfs" => {
                if self.open.contains_key(&call.number(0)) {
                    self.events.push(Event::Flush(Flush::Everything));
                }
            }
            // Of the owner that is there, or the mode of what a link leads to.
            "fcntl" => {}
            other => panic!("{other} is not followed"),
        }
    }

    /// A place in the tree; nothing for one outside.
    fn at(
        &self,
        directory: i64,
        path: &[u8],
        follow: bool,
    ) -> Option<(Inode, Vec<u8>, Option<Inode>)> {
        if path.starts_with(b"/") {
            if let Some(number) = path.strip_prefix(b"/proc/self/fd/") {
                let number = std::str::from_utf8(number).unwrap().parse().unwrap();
                return self.open.get(&number).map(|open| (ROOT, Vec::new(), Some(open.inode)));
            }
            let inside = path.strip_prefix(self.root)?;
            return (inside.is_empty() || inside.starts_with(b"/"))
                .then(|| self.disk.find(ROOT, inside, follow));
        }
        let from = self.open.get(&directory)?.inode;
        Some(self.disk.find(from, path, follow))
    }

    fn opened(&mut self, call: &Call, directory: i64, path: &[u8], mode: usize) {
        self.open.remove(&call.result);
        let follow = !call.has("O_NOFOLLOW") && !call.has("RESOLVE_NO_SYMLINKS");
        let found = match call.has("RESOLVE_IN_ROOT") {
            // Only the root of the tree is ever opened so.
            true => self.open.get(&directory).map(|_| self.disk.find(ROOT, path, follow)),
            false => self.at(directory, path, follow),
        };
        let Some((parent, name, found)) = found else { return };
        let inode = match found {
            Some(inode) => {
                if call.has("O_TRUNC") {
                    self.change(Change::Contents(inode, Rc::default()));
                }
                inode
            }
            None => {
                let mode = match call.name.as_str() {
                    "openat2" => mode_of_how(call),
                    _ => u32::try_from(call.number(mode)).unwrap(),
                };
                self.make(parent, name, Kind::File(Rc::default()), mode & !0o022)
            }
        };
        let at = if call.has("O_APPEND") { self.contents(inode).len() } else { 0 };
        self.open.insert(call.result, Open { inode, at });
    }

    fn again(&mut self, call: &Call) {
        match self.open.get(&call.number(0)).cloned() {
            Some(open) => drop(self.open.insert(call.result, open)),
            None => drop(self.open.remove(&call.result)),
        }
    }

    fn make(&mut self, parent: Inode, name: Vec<u8>, kind: Kind, mode: u32) -> Inode {
        let inode = self.disk.0.len();
        let node = Node { kind, mode, owner: (0, 0) };
        self.disk.0.push(node.clone());
        self.nodes.push(node);
        self.change(Change::Names(vec![(parent, name, Some(inode))]));
        inode
    }

    fn change(&mut self, change: Change) {
        self.disk.apply(&change);
        self.events.push(Event::Change(change));
    }

    fn contents(&self, inode: Inode) -> Vec<u8> {
        match &self.disk.0[inode].kind {
            Kind::File(contents) => contents.to_vec(),
            _ => Vec::new(),
        }
    }

    fn written(&mut self, call: &Call) {
        let Some(open) = self.open.get(&call.number(0)).cloned() else { return };
        let count = usize::try_from(call.result).unwrap();
        let positioned = call.name == "pwrite64";
        let at = if positioned { usize::try_from(call.number(3)).unwrap() } else { open.at };
        let mut contents = self.contents(open.inode);
        contents.resize(contents.len().max(at + count), 0);
        contents[at..at + count].copy_from_slice(&call.text(1)[..count]);
        self.change(Change::Contents(open.inode, Rc::new(contents)));
        if !positioned {
            self.open.insert(call.number(0), Open { at: at + count, ..open });
        }
    }

    fn owned(&mut self, inode: Inode, uid: i64, gid: i64) {
        let Node { owner, mode, kind } = &self.disk.0[inode];
        let new = |new: i64, old: u32| u32::try_from(new).unwrap_or(old);
        let owner = (new(uid, owner.0), new(gid, owner.1));
        // The kernel takes set-id bits away.
        let mode = if matches!(kind, Kind::File(_)) { mode & 0o1777 } else { *mode };
        self.change(Change::Access(inode, mode, owner));
    }

    fn renamed(&mut self, call: &Call) {
        let from = self.at(call.number(0), call.text(1), false);
        let to = self.at(call.number(2), call.text(3), false);
        let (Some((from, name, moved)), Some((to, new, there))) = (from, to) else { return };
        if let Some(moved) = moved {
            // Files that wait for their names; the journal itself, and the mark that tells
            // where it is, are not among them.
            let file = matches!(self.disk.0[moved].kind, Kind::File(_));
            let journal = [&b"begun.json"[..], b"ready.json", b".copper-nest-state"];
            let journal = journal.iter().any(|name| new == *name);
            if file && !journal && name.starts_with(b".") {
                self.staged.insert(moved);
            }
        }
        let names = match call.has("RENAME_EXCHANGE") {
            true => vec![(from, name, there), (to, new, moved)],
            false => vec![(from, name, None), (to, new, moved)],
        };
        self.change(Change::Names(names));
    }
}

/// The mode in what openat2 is given: `{flags=…, mode=0600, resolve=…}`.
fn mode_of_how(call: &Call) -> u32 {
    let how = format!("{:?}", call.arguments);
    let mode = how.split("mode=").nth(1).unwrap_or("0");
    let digits: String = mode.chars().take_while(char::is_ascii_digit).collect();
    u32::from_str_radix(&digits, 8).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(text: &str) -> Bytes {
        Rc::new(text.as_bytes().to_vec())
    }

    /// A directory with one file, and a run that replaces it: written beside, flushed,
    /// renamed, the directory flushed.
    fn run() -> Run {
        let node = |kind| Node { kind, mode: 0o644, owner: (0, 0) };
        let names = BTreeMap::from([(b"passwd".to_vec(), 1)]);
        let before = Disk(vec![node(Kind::Directory(names)), node(Kind::File(file("old")))]);
        let mut nodes = before.0.clone();
        nodes.push(node(Kind::File(Rc::default())));
        let name = |name: &str, inode| (ROOT, name.as_bytes().to_vec(), inode);
        let events = vec![
            Event::Change(Change::Names(vec![name("new", Some(2))])),
            Event::Change(Change::Contents(2, file("new"))),
            Event::Flush(Flush::Of(2)),
            Event::Change(Change::Names(vec![name("new", None), name("passwd", Some(2))])),
            Event::Flush(Flush::Of(ROOT)),
        ];
        Run { before, events, nodes, staged: BTreeSet::from([2]) }
    }

    fn seen(promise: Promise, moment: usize) -> BTreeSet<String> {
        let (run, mut at) = (run(), 0_usize);
        let mut choose = |most: usize| {
            at = at.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (at >> 33) % most
        };
        let look = |disk: Disk| {
            let Kind::Directory(entries) = &disk.0[ROOT].kind else { unreachable!() };
            let text = |inode: &Inode| match &disk.0[*inode].kind {
                Kind::File(text) => String::from_utf8(text.to_vec()).unwrap(),
                _ => unreachable!(),
            };
            let told = |(name, inode): (&Vec<u8>, &Inode)| {
                format!("{}={}", String::from_utf8_lossy(name), text(inode))
            };
            entries.iter().map(told).collect::<Vec<_>>().join(" ")
        };
        (0..400).map(|_| look(run.cut(promise, moment, &mut choose))).collect()
    }

    #[test]
    fn each_promise_leaves_what_it_may_leave() {
        let states = |promise, moment| seen(promise, moment).into_iter().collect::<Vec<_>>();
        // Before anything is flushed the new file may be there, empty.
        for promise in [Promise::Ordered, Promise::Weak, Promise::Strict] {
            let expected = ["new= passwd=old", "new=new passwd=old", "passwd=old"];
            assert_eq!(states(promise, 2), expected, "{promise:?}");
        }
        // Flushing the file keeps its name, or it does not.
        assert_eq!(states(Promise::Weak, 3), ["new=new passwd=old"]);
        assert_eq!(states(Promise::Strict, 3), ["new=new passwd=old", "passwd=old"]);
        // The renaming is all or nothing, and certain once its directory is flushed.
        assert_eq!(states(Promise::Ordered, 4), ["new=new passwd=old", "passwd=new"]);
        for promise in [Promise::Ordered, Promise::Weak, Promise::Strict] {
            assert_eq!(states(promise, 5), ["passwd=new"], "{promise:?}");
        }
        assert_eq!(states(Promise::Liar, 5), ["passwd="]);
    }
}
