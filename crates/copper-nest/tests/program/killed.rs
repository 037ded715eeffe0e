//! Killed at any system call, or refused by the kernel at any: the next command
//! finds the tree wholly before or wholly after the change.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::process::Stdio;

use nix::mount::{MntFlags, MsFlags, mount, umount2};

use crate::harness::{
    KEY, TestTree, access_list, has_program, is_root, is_sampled, passed_over, set_attribute,
    under_strace, with_mounts_of_its_own,
};

/// The system calls that can change a file.
const CHANGING: [&str; 18] = [
    "openat",
    "mkdirat",
    "write",
    "pwrite64",
    "copy_file_range",
    "fsync",
    "fchmod",
    "fchmodat",
    "setxattr",
    "fchown",
    "fchownat",
    "symlinkat",
    "linkat",
    "renameat",
    "renameat2",
    "unlinkat",
    "ftruncate",
    "utimensat",
];

/// Those that change nothing; killing there too takes long, see
/// `scripts/kill-everywhere`.
const HARMLESS: [&str; 9] =
    ["openat", "openat2", "read", "pread64", "newfstatat", "statx", "getdents64", "close", "fcntl"];

/// One of so many calls of a kind, in the suite; `scripts/kill-everywhere` asks for more.
const EVERY: usize = 12;

/// What is in a tree, by paths below it; not the lock file and the state.
type Contents = BTreeMap<PathBuf, (u32, u32, u32, Vec<u8>)>;

fn contents(tree: &TestTree) -> Contents {
    let all = tree.snapshot().into_iter();
    all.map(|(path, what)| (path.strip_prefix(tree.root()).unwrap().to_owned(), what)).collect()
}

/// A tree and a command on it.
pub struct Scene {
    base: TestTree,
    /// What in the tree is a mount point of its own.
    mounted: Mounted,
    words: Vec<String>,
    before: Contents,
    after: Contents,
    /// How often the command was killed or hindered.
    pub points: usize,
    /// How often it had happened all the same.
    pub happened: usize,
    /// One of so many calls of a kind is met.
    step: usize,
}

/// What is mounted in a tree.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Mounted {
    Nothing,
    /// `srv` is a file system of its own.
    Srv,
    /// `etc/shadow` is a mount point, onto which nothing can be renamed.
    Shadow,
}

/// What is done to the command at a system call.
#[derive(Clone, Copy)]
pub enum FilesDisposition {
    Killed,
    Fails(&'static str),
}

impl Scene {
    pub fn new(base: TestTree, words: &str) -> Option<Self> {
        Self::on(base, words, Mounted::Nothing)
    }

    fn on(base: TestTree, words: &str, mounted: Mounted) -> Option<Self> {
        if !has_program("strace") {
            passed_over(words, "strace");
            return None;
        }
        let words: Vec<String> = words.split(' ').map(str::to_owned).collect();
        let before = contents(&base);
        let step = std::env::var("NEST_KILL_EVERY").ok().and_then(|text| text.parse().ok());
        let everywhere = std::env::var_os("NEST_KILL_EVERYWHERE").is_some();
        let step = if everywhere { 1 } else { step.unwrap_or(EVERY) };
        let after = Contents::new();
        let mut scene = Scene { base, mounted, words, before, after, points: 0, happened: 0, step };
        let whole = scene.copy();
        let run = whole.run_words(&scene.words);
        assert_eq!(run.status, 0, "{words:?}: {}{}", run.stdout, run.stderr, words = scene.words);
        scene.after = contents(&whole);
        scene.unmount(&whole);
        assert_ne!(scene.before, scene.after);
        Some(scene)
    }

    /// Meets the fate at the first and the last call of each kind and at some of the others, or at
    /// all of them where that is asked for; and looks at what is left.
    pub fn at_every_call(&mut self, calls: &[&str], fate: FilesDisposition) {
        let everywhere = std::env::var_os("NEST_KILL_EVERYWHERE").is_some();
        let killed = matches!(fate, FilesDisposition::Killed);
        let more = HARMLESS.iter().filter(|call| everywhere && killed && !calls.contains(call));
        let calls: Vec<&str> = calls.iter().chain(more).copied().collect();
        let counts = self.counts(&calls);
        for (kind, call) in calls.into_iter().enumerate() {
            let count = counts.get(call).copied().unwrap_or(0);
            // Of each kind, and in each scene, others.
            let first = 1 + (kind + self.words.len()) % self.step;
            let some = (first..count).step_by(self.step).filter(|at| *at > 1);
            // How many there are may differ by a few from run to run.
            let last = if self.step == 1 { count + 3 } else { count };
            let mut points: Vec<usize> = [1].into_iter().chain(some).chain([count]).collect();
            points.extend(count + 1..=last);
            points.retain(|at| *at <= last && count > 0);
            points.dedup();
            for at in points {
                let tree = self.copy();
                let met = self.run(&tree, call, at, fate);
                self.unmount(&tree);
                self.points += usize::from(met);
            }
        }
    }

    /// How often the command makes each call.
    fn counts(&self, calls: &[&str]) -> BTreeMap<String, usize> {
        let tree = self.copy();
        let trace = tree.root().join("../trace");
        let trace_of = format!("trace={}", calls.join(","));
        let mut command = under_strace(&tree.command(&self.words), &["-e", &trace_of], &trace);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        assert!(command.status().unwrap().success(), "{:?}", self.words);
        self.unmount(&tree);
        let mut counts = BTreeMap::new();
        for line in std::fs::read_to_string(trace).unwrap().lines() {
            // The number of the process, then the call.
            let Some((_, call)) = line.split_once(' ') else { continue };
            if let Some((name, _)) = call.trim_start().split_once('(') {
                *counts.entry(name.to_owned()).or_default() += 1;
            }
        }
        counts
    }

    /// That it was killed or hindered at so many places, where it is at every one; and had happened
    /// so often.
    #[track_caller]
    pub fn assert_enough(&self, points: usize, happened: usize) {
        let enough = self.points * self.step >= points && self.happened * self.step >= happened;
        assert!(enough, "{} places, {} times it had happened", self.points, self.happened);
        assert!(self.happened < self.points || happened == 0);
    }

    fn copy(&self) -> TestTree {
        let tree = copy(&self.base);
        let none: Option<&str> = None;
        match self.mounted {
            Mounted::Nothing => {}
            Mounted::Srv => {
                let srv = tree.path("srv");
                mount(Some("none"), &srv, Some("tmpfs"), MsFlags::empty(), none).unwrap();
                tree.chmod("srv", 0o755);
            }
            Mounted::Shadow => {
                let shadow = tree.path("etc/shadow");
                mount(Some(&shadow), &shadow, none, MsFlags::MS_BIND, none).unwrap();
            }
        }
        tree
    }

    fn unmount(&self, tree: &TestTree) {
        match self.mounted {
            Mounted::Nothing => {}
            Mounted::Srv => umount2(&tree.path("srv"), MntFlags::MNT_DETACH).unwrap(),
            Mounted::Shadow => umount2(&tree.path("etc/shadow"), MntFlags::MNT_DETACH).unwrap(),
        }
    }

    /// Returns whether the fate was met.
    fn run(&mut self, tree: &TestTree, call: &str, at: usize, fate: FilesDisposition) -> bool {
        let place = format!("{:?} at {call} {at}", self.words);
        let status = traced(tree, &self.words, call, at, fate);
        // What is rewritten in place may be torn for a moment; the receipt says so.
        if self.mounted != Mounted::Shadow {
            assert_sound(tree, &place);
        }
        assert_closed(tree, &place);
        let met = match fate {
            FilesDisposition::Killed => status.is_none(),
            FilesDisposition::Fails(_) => hindered(tree),
        };
        if met && let FilesDisposition::Killed = fate {
            let run = tree.run("recover");
            assert_eq!(run.status, 0, "{place}: {}{}", run.stdout, run.stderr);
        }
        let now = contents(tree);
        let after = now == self.after;
        if !after {
            assert_same(&self.before, &now, &place);
        }
        if let FilesDisposition::Fails(_) = fate {
            assert_eq!(status == Some(0), after, "{place}: status {status:?}");
            assert_ne!(status, Some(7), "{place}");
        }
        self.happened += usize::from(after && met);
        assert!(!tree.exists("var/lib/copper-nest/journal"), "{place}: the journal is left");
        assert!(!tree.run("check").stdout.contains("unfinished-change"), "{place}");
        met
    }
}

/// Nothing staged is more open than what it replaces, and nothing of the state is
/// open to anybody but root.
fn assert_closed(tree: &TestTree, place: &str) {
    for (path, (mode, ..)) in tree.snapshot_with_state() {
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        if path.starts_with(tree.path("var/lib/copper-nest")) || name == ".copper-nest-journal" {
            assert_eq!(mode & 0o077, 0, "{place}: {}", path.display());
        }
        let staged = name.strip_prefix('.').and_then(|name| name.split_once(".copper-nest-"));
        if let Some((name, _)) = staged.filter(|_| path.starts_with(tree.path("etc"))) {
            let open = tree.mode(&format!("etc/{name}"));
            assert_eq!(mode & 0o7777 & !open, 0, "{place}: {}", path.display());
        }
    }
}

impl Drop for Scene {
    fn drop(&mut self) {
        let (words, points, happened) = (self.words.join(" "), self.points, self.happened);
        eprintln!("places: {points}, of which {happened} had happened: {words}");
    }
}

/// Runs the program under strace; returns its status, nothing if it was killed.
fn traced(
    tree: &TestTree,
    words: &[String],
    call: &str,
    at: usize,
    fate: FilesDisposition,
) -> Option<i32> {
    let what = match fate {
        FilesDisposition::Killed => "signal=SIGKILL".to_owned(),
        FilesDisposition::Fails(error) => format!("error={error}"),
    };
    let trace = tree.root().join("../trace");
    let options =
        ["-e", &format!("trace={call}"), "-e", &format!("inject={call}:{what}:when={at}")];
    let mut command = under_strace(&tree.command(words), &options, &trace);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command.status().unwrap().code()
}

/// Whether an error was put in.
fn hindered(tree: &TestTree) -> bool {
    let trace = std::fs::read(tree.root().join("../trace")).unwrap();
    bstr::ByteSlice::contains_str(&trace[..], "(INJECTED)")
}

/// A copy of a tree, owners and all, in a folder of its own.
/// A change that a crash cuts off, once it has happened.
pub fn leave_unfinished(tree: &TestTree) {
    let words = ["create".to_owned(), "user".to_owned(), "maren".to_owned()];
    assert_eq!(traced(tree, &words, "renameat2", 2, FilesDisposition::Killed), None);
}

/// A command that is killed at a call; whether it could be.
pub fn leave_torn(tree: &TestTree, words: &str, call: &str, at: usize) -> bool {
    let words: Vec<String> = words.split(' ').map(str::to_owned).collect();
    let traced =
        has_program("strace").then(|| traced(tree, &words, call, at, FilesDisposition::Killed));
    traced.inspect(|status| assert_eq!(*status, None, "{words:?}")).is_some()
}

fn copy(base: &TestTree) -> TestTree {
    base.copy()
}

fn assert_same(wanted: &Contents, found: &Contents, place: &str) {
    let paths: BTreeSet<&PathBuf> = wanted.keys().chain(found.keys()).collect();
    let differ: Vec<&PathBuf> =
        paths.into_iter().filter(|path| wanted.get(*path) != found.get(*path)).collect();
    assert!(differ.is_empty(), "{place}: neither before nor after, {differ:?} differ");
}

/// No reader may ever meet a torn line, or a user without group or shadow line.
pub fn assert_sound(tree: &TestTree, place: &str) {
    let read = |name: &str| std::fs::read_to_string(tree.path(name)).unwrap_or_default();
    // passwd first, as a reader does; see harness::Reader for the order.
    let (passwd, shadow, group) = (read("etc/passwd"), read("etc/shadow"), read("etc/group"));
    let fault = fault_in(&passwd, &shadow, &group);
    assert_eq!(fault, None, "{place}");
}

/// What is wrong with three files that were read one after the other.
pub fn fault_in(passwd: &str, shadow: &str, group: &str) -> Option<String> {
    let fields = |text: &'_ str, at: usize| -> BTreeSet<String> {
        text.lines().filter_map(|line| Some(line.split(':').nth(at)?.to_owned())).collect()
    };
    let (names, gids) = (fields(shadow, 0), fields(group, 2));
    for (text, colons) in [(passwd, 6), (shadow, 8), (group, 3)] {
        let torn = text.lines().find(|line| line.matches(':').count() != colons);
        if let Some(line) = torn.filter(|_| !text.is_empty()) {
            return Some(format!("the line {line:?} is torn"));
        }
        if text.is_empty() || !text.ends_with('\n') {
            return Some("a file is torn".into());
        }
    }
    passwd.lines().find_map(|line| {
        let field = |at: usize| line.split(':').nth(at).unwrap_or_default();
        if !names.contains(field(0)) {
            Some(format!("{} has no shadow line", field(0)))
        } else if !gids.contains(field(3)) {
            Some(format!("{} has no group", field(0)))
        } else {
            None
        }
    })
}

fn with_maren() -> TestTree {
    let tree = TestTree::new();
    tree.done("create user maren --join pilots");
    tree
}

/// A user with a home with something in it, and `srv` to move it to.
fn with_a_full_home() -> TestTree {
    let tree = with_maren();
    std::fs::create_dir(tree.path("srv")).unwrap();
    tree.write("home/maren/letters/one", "dear\n");
    tree.write("home/maren/theirs", "not maren's\n");
    std::fs::hard_link(tree.path("home/maren/letters/one"), tree.path("home/maren/two")).unwrap();
    std::os::unix::fs::symlink("../tavish", tree.path("home/maren/link")).unwrap();
    for mine in ["letters", "letters/one", "link"] {
        tree.chown(&format!("home/maren/{mine}"), 1002, 1002);
    }
    tree.chown("home/maren/theirs", 1001, 1001);
    tree
}

#[test]
fn a_home_moved_to_another_file_system_killed_anywhere() {
    with_mounts_of_its_own("killing where something is mounted", || {
        let words = "change user maren --home /srv/maren";
        let Some(mut scene) = Scene::on(with_a_full_home(), words, Mounted::Srv) else { return };
        scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
        scene.assert_enough(50, 5);
        for (call, error) in [("write", "ENOSPC"), ("fsync", "EIO"), ("mkdirat", "EACCES")] {
            scene.at_every_call(&[call], FilesDisposition::Fails(error));
        }
    });
}

#[test]
fn a_file_rewritten_in_place_killed_anywhere() {
    with_mounts_of_its_own("killing where something is mounted", || {
        let words = "create user maren";
        let Some(mut scene) = Scene::on(TestTree::new(), words, Mounted::Shadow) else { return };
        scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
        scene.assert_enough(50, 5);
        scene.at_every_call(&["ftruncate"], FilesDisposition::Fails("EIO"));
    });
}

#[test]
fn a_home_that_is_re_owned_killed_anywhere() {
    if !is_root() {
        return passed_over("a_home_that_is_re_owned_killed_anywhere", "root");
    }
    let words = "change user maren --uid 1500";
    let Some(mut scene) = Scene::new(with_a_full_home(), words) else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(30, 5);
    for (call, error) in [("write", "ENOSPC"), ("fsync", "EIO"), ("fchownat", "EIO")] {
        scene.at_every_call(&[call], FilesDisposition::Fails(error));
    }
}

/// Numbers are exchanged, so that nothing but the list tells what is done already.
#[test]
fn an_exchange_of_numbers_killed_anywhere() {
    if !is_root() {
        return passed_over("an_exchange_of_numbers_killed_anywhere", "root");
    }
    let tree = with_a_full_home();
    tree.write("srv/tool", "tool");
    tree.chown("srv/tool", 1002, 1001);
    tree.chmod("srv/tool", 0o6755);
    let list = access_list(&[1001, 1002], &[]);
    if !set_attribute(&tree.path("srv"), "system.posix_acl_access", &list) {
        return passed_over("an_exchange_of_numbers_killed_anywhere", "access control lists");
    }
    let folder = crate::harness::folder();
    let file = folder.path().join("numbers.csv");
    std::fs::write(&file, "kind,name,id\nuser,maren,1001\nuser,tavish,1002\n").unwrap();
    let Some(mut scene) = Scene::new(tree, &format!("renumber {} --yes", file.display())) else {
        return;
    };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(40, 8);
    for (call, error) in [
        ("write", "ENOSPC"),
        ("fsync", "EIO"),
        ("fchownat", "EIO"),
        ("fchmodat", "EIO"),
        ("setxattr", "ENOSPC"),
        ("getdents64", "EIO"),
    ] {
        scene.at_every_call(&[call], FilesDisposition::Fails(error));
    }
}

#[test]
fn a_renaming_killed_anywhere() {
    let tree = with_maren();
    tree.write("var/mail/maren", "");
    let Some(mut scene) = Scene::new(tree, "rename user maren marlo") else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(40, 5);
    for (call, error) in [("write", "ENOSPC"), ("fsync", "EIO"), ("renameat2", "EIO")] {
        scene.at_every_call(&[call], FilesDisposition::Fails(error));
    }
}

#[test]
fn making_a_user_killed_anywhere() {
    let Some(mut scene) = Scene::new(TestTree::new(), "create user maren --join pilots") else {
        return;
    };
    scene.at_every_call(&CHANGING, FilesDisposition::Killed);
    scene.assert_enough(60, 5);
}

#[test]
fn making_a_user_without_state_killed_anywhere() {
    let words = "--state none create user maren";
    let Some(mut scene) = Scene::new(TestTree::new(), words) else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(40, 0);
}

#[test]
fn an_undo_killed_anywhere() {
    let Some(mut scene) = Scene::new(with_maren(), "undo --yes") else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(50, 5);
}

#[test]
fn an_undo_that_sets_aside_killed_anywhere() {
    let tree = with_maren();
    tree.write("home/maren/letter", "dear\n");
    let Some(mut scene) = Scene::new(tree, "undo --yes") else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(40, 0);
}

#[test]
fn making_a_user_hindered_anywhere() {
    let Some(mut scene) = Scene::new(TestTree::new(), "create user maren --join pilots") else {
        return;
    };
    for (call, error) in [
        ("write", "ENOSPC"),
        ("fsync", "EIO"),
        ("renameat2", "EIO"),
        ("renameat", "EACCES"),
        ("openat", "EACCES"),
        ("mkdirat", "ENOSPC"),
        ("fchown", "EIO"),
        ("fchmod", "EPERM"),
    ] {
        scene.at_every_call(&[call], FilesDisposition::Fails(error));
    }
    scene.assert_enough(60, 0);
}

#[test]
fn an_undo_hindered_anywhere() {
    let Some(mut scene) = Scene::new(with_maren(), "undo --yes") else { return };
    for (call, error) in [("write", "ENOSPC"), ("fsync", "EIO"), ("renameat2", "EIO")] {
        scene.at_every_call(&[call], FilesDisposition::Fails(error));
    }
    scene.assert_enough(15, 0);
}

/// Recovery is itself killed at every call, again and again.
#[test]
fn recovery_killed_anywhere() {
    let Some(scene) = Scene::new(TestTree::new(), "create user maren --join pilots") else {
        return;
    };
    let mut points = 0;
    // Torn before the moment it happened, and at several places after it.
    let torn = [("fchmod", 2), ("renameat2", 3), ("renameat2", 1), ("renameat2", 6)];
    for (kind, (call, at)) in torn.into_iter().enumerate() {
        if kind > 1 && !is_sampled(1, 2) {
            continue;
        }
        let torn = copy(&scene.base);
        assert_eq!(
            traced(&torn, &scene.words, call, at, FilesDisposition::Killed),
            None,
            "{call} {at}"
        );
        let whole = copy(&torn);
        // A copy of a tree is another tree: there recovery has to be asked for.
        whole.done("recover --yes");
        let wanted = contents(&whole);
        assert!(wanted == scene.before || wanted == scene.after);
        for call in &CHANGING[1..] {
            for at in 1.. {
                let tree = copy(&torn);
                let recover = ["recover", "--yes"].map(str::to_owned);
                if traced(&tree, &recover, call, at, FilesDisposition::Killed).is_some() {
                    break;
                }
                points += 1;
                let run = tree.run("recover --yes");
                assert_eq!(run.status, 0, "{call} {at}: {}", run.stderr);
                assert_same(&wanted, &contents(&tree), &format!("recover killed at {call} {at}"));
            }
        }
    }
    assert!(points >= 30, "{points}");
}

/// A disk that is full, or broken, when a crash is to be mended.
#[test]
fn recovery_hindered_anywhere() {
    let Some(scene) = Scene::new(TestTree::new(), "create user maren --join pilots") else {
        return;
    };
    let torn = copy(&scene.base);
    assert_eq!(traced(&torn, &scene.words, "renameat2", 3, FilesDisposition::Killed), None);
    let mut points = 0;
    for (call, error) in [("write", "ENOSPC"), ("fsync", "EIO"), ("renameat2", "EIO")] {
        for at in 1.. {
            let tree = copy(&torn);
            let recover = ["recover", "--yes"].map(str::to_owned);
            let status = traced(&tree, &recover, call, at, FilesDisposition::Fails(error));
            if !hindered(&tree) {
                break;
            }
            points += 1;
            assert!(matches!(status, Some(0 | 6 | 7)), "{call} {at}: {status:?}");
            tree.done("recover --yes");
            assert_eq!(contents(&tree), scene.after, "{call} {at}");
        }
    }
    assert!(points >= 8, "{points}");
}

/// In between the calls, by a clock.
#[test]
fn killed_by_a_timer() {
    let base = TestTree::new();
    let before = contents(&base);
    let whole = copy(&base);
    whole.done("create user maren --join pilots");
    let after = contents(&whole);
    for at in 0..40u64 {
        let tree = copy(&base);
        let mut command = tree.command(&["create", "user", "maren", "--join", "pilots"]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_micros(500 * at));
        let _ = child.kill();
        child.wait().unwrap();
        assert_sound(&tree, &format!("killed after {at} half milliseconds"));
        tree.done("recover");
        let now = contents(&tree);
        if now != after {
            assert_same(&before, &now, &format!("killed after {at} half milliseconds"));
        }
    }
}

#[test]
fn the_next_change_recovers_by_itself_and_says_so() {
    let Some(scene) = Scene::new(TestTree::new(), "create user maren") else { return };
    for (call, at, says, would, next) in [
        (
            "renameat2",
            2,
            "recovered: change 1 (create user maren), which a crash had cut off, is now finished\n",
            "would be finished",
            "done: change 2.",
        ),
        // What did not happen has no number.
        (
            "fchmod",
            3,
            "which a crash had cut off before it happened, was rolled back\n",
            "would be rolled back",
            "done: change 1.",
        ),
    ] {
        let tree = copy(&scene.base);
        assert_eq!(traced(&tree, &scene.words, call, at, FilesDisposition::Killed), None);
        let shown = tree.done("show user tavish");
        assert!(
            shown.stderr.contains("change 1 (create user maren) stands unfinished"),
            "{}",
            shown.stderr
        );
        tree.run("check").says("error unfinished-change: change 1 (create user maren)");
        tree.done("recover --dry-run").says(would).says("  replacing etc/passwd\n");
        let run = tree.done("create user perrin");
        assert!(run.stderr.contains(says), "{}", run.stderr);
        assert_sound(&tree, call);
        run.says(next);
        let again = tree.done("recover");
        assert_eq!(again.stdout, "nothing stands unfinished\n");
    }
}

#[test]
fn an_edit_after_a_crash_is_never_overwritten() {
    let Some(scene) = Scene::new(TestTree::new(), "create user maren") else { return };
    let tree = copy(&scene.base);
    assert_eq!(traced(&tree, &scene.words, "renameat2", 4, FilesDisposition::Killed), None);
    tree.append("etc/passwd", "guest:x:1500:100::/:/bin/sh\n");
    let refused = tree.refused("recover", 3, "etc/passwd was edited after the crash");
    for says in ["etc/passwd before", "etc/passwd after", "etc/passwd now", "guest:x:1500:100"] {
        assert!(refused.stderr.contains(says), "{says}: {}", refused.stderr);
    }
    tree.refused("create user perrin", 3, "etc/passwd was edited after the crash");
    let passwd = tree.read("etc/passwd").replace("guest:x:1500:100::/:/bin/sh\n", "");
    tree.write("etc/passwd", passwd);
    tree.done("recover");
    assert_eq!(contents(&tree), scene.after);
}

#[test]
fn journals_that_make_no_sense_are_refused() {
    let Some(scene) = Scene::new(TestTree::new(), "create user maren") else { return };
    let tree = copy(&scene.base);
    assert_eq!(traced(&tree, &scene.words, "renameat2", 2, FilesDisposition::Killed), None);
    let path = "var/lib/copper-nest/journal/ready.json";
    let sound = tree.read(path);
    for (text, says) in [
        (sound[..sound.len() - 9].to_owned(), "ready.json is damaged (EOF"),
        (
            sound.replace("\"version\":1,\"tree", "\"version\":2,\"tree"),
            "written by a newer version",
        ),
        (sound.replace("\"effects\"", "\"effect\""), "ready.json is damaged"),
    ] {
        tree.write(path, text);
        tree.refused("recover", 3, says);
        tree.refused("create user perrin", 3, says);
    }
    tree.write(path, sound);
    tree.done("recover");
    assert_eq!(contents(&tree), scene.after);
}

#[test]
fn a_state_folder_of_another_tree_is_refused() {
    let (one, other) = (TestTree::new(), TestTree::new());
    let state = crate::harness::folder();
    let words = format!("--state {} create user maren", state.path().display());
    let words: Vec<String> = words.split(' ').map(str::to_owned).collect();
    if !has_program("strace") {
        return passed_over("a_state_folder_of_another_tree_is_refused", "strace");
    }
    assert_eq!(traced(&one, &words, "renameat2", 2, FilesDisposition::Killed), None);
    let says = format!("about another tree, {}", one.root().display());
    other.refused(&words.join(" "), 3, &says);
    one.done(&format!("--state {} recover", state.path().display()));
    other.done(&words.join(" "));
}

#[test]
fn a_deletion_and_its_undoing_killed_anywhere() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "a_deletion_and_its_undoing_killed_anywhere",
            "root, to give files owners",
        );
    }
    for (files, least) in [("set-aside", 50), ("archive", 60)] {
        let words = format!("delete user maren --files {files} --yes");
        let Some(mut scene) = Scene::new(with_a_full_home(), &words) else { return };
        scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
        scene.assert_enough(least, 5);
        for (call, error) in [("write", "ENOSPC"), ("fsync", "EIO"), ("mkdirat", "ENOSPC")] {
            scene.at_every_call(&[call], FilesDisposition::Fails(error));
        }
    }
    let tree = with_a_full_home();
    tree.done("delete user maren --files archive --yes");
    let Some(mut scene) = Scene::new(tree, "undo --yes") else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(50, 5);
}

#[test]
fn a_restoring_killed_anywhere() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "a_restoring_killed_anywhere",
            "root, to give files owners",
        );
    }
    let tree = with_a_full_home();
    tree.done("delete user maren --files archive --yes");
    let Some(mut scene) = Scene::new(tree, "restore user maren") else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(40, 5);
    for (call, error) in [("write", "ENOSPC"), ("renameat", "EIO"), ("fchown", "EIO")] {
        scene.at_every_call(&[call], FilesDisposition::Fails(error));
    }
}

#[test]
fn groups_coming_and_going_killed_anywhere() {
    let tree = with_maren();
    tree.done("delete group slipway --even-service --yes");
    for words in ["delete group pilots --even-service --yes", "restore group slipway"] {
        let Some(mut scene) = Scene::new(copy(&tree), words) else { return };
        scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
        scene.assert_enough(25, 3);
    }
}

#[test]
fn an_intake_killed_anywhere() {
    let folder = crate::harness::folder();
    let file = folder.path().join("crew.toml");
    let mut text = "[[group]]\nname = 'divers'\nmember = ['maren', 'crew0']\n".to_owned();
    text += "[[user]]\nname = 'maren'\njoin = ['slipway']\nshell = '/bin/sh'\n";
    // So many homes that they are flushed at once.
    for at in 0..17 {
        text += &format!("[[user]]\nname = 'crew{at}'\njoin = ['pilots']\n");
    }
    std::fs::write(&file, text).unwrap();
    let words = format!("intake {} --existing update --skeleton none", file.display());
    let Some(mut scene) = Scene::new(with_maren(), &words) else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(80, 3);
}

/// So many lines that the record waits beside the journal's mark, and is moved.
#[test]
fn a_long_intake_killed_anywhere() {
    let folder = crate::harness::folder();
    let file = folder.path().join("crew.csv");
    let rows: String = (0..180).map(|at| format!("crew{at},pilots\n")).collect();
    std::fs::write(&file, format!("name,join\n{rows}")).unwrap();
    let words = format!("intake {} --no-home", file.display());
    let Some(mut scene) = Scene::new(with_maren(), &words) else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(25, 3);
    for (call, error) in [("fsync", "EIO"), ("write", "ENOSPC")] {
        scene.at_every_call(&[call], FilesDisposition::Fails(error));
    }
}

#[test]
fn keys_and_their_undoing_killed_anywhere() {
    let tree = with_maren();
    let keys = "home/sunniva/.ssh/authorized_keys";
    tree.write(keys, format!("# by hand\n{KEY}"));
    tree.write("root/more.pub", KEY.replace("maren@harbour", "maren@quay").replace("ILM", "IOM"));
    let more = tree.path("root/more.pub").display().to_string();
    let words = format!("change user sunniva tavish --add-key {more} --drop-key maren@harbour");
    let only =
        format!("change user sunniva --add-key {more} --drop-key maren@harbour --shell /bin/sh");
    tree.refused(&words, 3, "tavish has no key");
    let Some(mut scene) = Scene::new(copy(&tree), &only) else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(25, 3);
    for (call, error) in [("write", "ENOSPC"), ("fsync", "EIO"), ("renameat2", "EIO")] {
        scene.at_every_call(&[call], FilesDisposition::Fails(error));
    }
    tree.done(&only);
    let Some(mut scene) = Scene::new(tree, "undo --yes") else { return };
    scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
    scene.assert_enough(25, 3);
}

#[test]
fn a_repair_and_its_undoing_killed_anywhere() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "a_repair_and_its_undoing_killed_anywhere",
            "root, to give files owners",
        );
    }
    let tree = with_maren();
    tree.append("etc/group", "deck:x:300:tavish,tavish \n");
    tree.append("etc/gshadow", "deck:!::tavish\nlost:!::\n");
    tree.chmod("etc/passwd", 0o664);
    tree.chown("etc/group", 1000, 0);
    for words in ["repair --yes", "undo --yes"] {
        let Some(mut scene) = Scene::new(copy(&tree), words) else { return };
        scene.at_every_call(&CHANGING[1..], FilesDisposition::Killed);
        scene.assert_enough(25, 3);
        for (call, error) in [("fchmod", "EIO"), ("fchown", "EIO"), ("fsync", "EIO")] {
            scene.at_every_call(&[call], FilesDisposition::Fails(error));
        }
        tree.done("repair --yes");
    }
}
