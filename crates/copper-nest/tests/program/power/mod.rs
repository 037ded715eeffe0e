//! The power goes at any moment of a command, and the file system has kept no more than it
//! promised: what recovery makes of that is all before or all after, with nothing left
//! over, and the next command works.

mod model;
mod trace;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use model::{Disk, Promise, Run as Doings};

use crate::harness::{TestTree, has_program, is_root, passed_over};

/// So many states of each command are looked at; `scripts/power-loss` asks for more.
const STATES: usize = 20;

/// What is in a tree besides the state folder, and what is in that.
type Contents = BTreeMap<PathBuf, (u32, u32, u32, Vec<u8>)>;

fn contents(tree: &TestTree) -> Contents {
    let all = tree.snapshot().into_iter();
    all.map(|(path, what)| (path.strip_prefix(tree.root()).unwrap().to_owned(), what)).collect()
}

/// The state folder: what it holds, but of the note about the files as they were left only
/// that it is there, as that tells inodes and times.
fn state(tree: &TestTree) -> BTreeMap<PathBuf, Vec<u8>> {
    let folder = tree.path("var/lib/copper-nest");
    let mut all = tree.snapshot_with_state();
    all.retain(|path, _| path.starts_with(&folder));
    let text = |path: &PathBuf, text: Vec<u8>| match path.ends_with("left.json") {
        true => Vec::new(),
        false => text,
    };
    let short = |path: PathBuf| path.strip_prefix(tree.root()).unwrap().to_owned();
    all.into_iter().map(|(path, what)| (short(path.clone()), text(&path, what.3))).collect()
}

fn differences<T: PartialEq>(one: &BTreeMap<PathBuf, T>, other: &BTreeMap<PathBuf, T>) -> String {
    let paths: BTreeSet<&PathBuf> = one.keys().chain(other.keys()).collect();
    let differ: Vec<String> = paths
        .into_iter()
        .filter(|path| one.get(*path) != other.get(*path))
        .map(|path| {
            let how = match (one.contains_key(path), other.contains_key(path)) {
                (true, true) => "",
                (true, false) => " (missing)",
                _ => " (left over)",
            };
            format!("{}{how}", path.display())
        })
        .collect();
    differ.join(", ")
}

/// A tree and a command on it, and what it did.
struct Scene {
    tree: TestTree,
    words: Vec<String>,
    run: Doings,
    /// Contents and state before and after it.
    wanted: [(Contents, BTreeMap<PathBuf, Vec<u8>>); 2],
    seed: u64,
    counts: BTreeMap<Promise, usize>,
}

impl Scene {
    fn new(tree: TestTree, words: &str) -> Option<Self> {
        if !is_root() || !has_program("strace") {
            passed_over(&format!("power loss during {words}"), "root and strace");
            return None;
        }
        let words: Vec<String> = words.split(' ').map(str::to_owned).collect();
        let before = (contents(&tree), state(&tree));
        let disk = Disk::of(tree.root());
        let (told, calls) = trace::record(tree.root(), &words);
        let run = Doings::of(disk, tree.root(), &calls);
        // The model has to know better than anybody what was done.
        let (model, real) = (run.after().listed(), Disk::of(tree.root()).listed());
        for path in model.keys().chain(real.keys()) {
            let (model, real) = (model.get(path), real.get(path));
            assert_eq!(model, real, "{words:?}: {} is not followed: {told}", path.display());
        }
        let wanted = [before, (contents(&tree), state(&tree))];
        assert_ne!(wanted[0].0, wanted[1].0);
        Some(Scene { tree, words, run, wanted, seed: 1, counts: BTreeMap::new() })
    }

    /// Looks at states, each of them once, until there are enough or no more are found.
    fn cut(&mut self) {
        let wanted = std::env::var("NEST_POWER_STATES").ok().and_then(|text| text.parse().ok());
        let wanted = wanted.unwrap_or(STATES);
        let mut seen = BTreeSet::new();
        let promises = [Promise::Ordered, Promise::Weak, Promise::Strict, Promise::Liar];
        let mut vain = 0;
        while seen.len() < wanted && vain < 4 * wanted + 400 {
            let promise = promises[(seen.len() + vain) % promises.len()];
            let moment = self.choose(self.run.moments());
            let mut seed = self.seed;
            let mut choose = |most: usize| next(&mut seed, most);
            let disk = self.run.cut(promise, moment, &mut choose);
            self.seed = seed;
            if !seen.insert(disk.print()) {
                vain += 1;
                continue;
            }
            disk.lay(self.tree.root());
            self.judge(promise, &disk, &format!("{:?}, {promise:?} at {moment}", self.words));
            *self.counts.entry(promise).or_default() += 1;
        }
    }

    fn choose(&mut self, most: usize) -> usize {
        next(&mut self.seed, most)
    }

    fn judge(&self, promise: Promise, disk: &Disk, place: &str) {
        let found = self.tree.snapshot_with_state();
        let run = self.tree.run("recover");
        let told = format!("{place}\n{}{}", run.stdout, run.stderr);
        if promise == Promise::Liar && run.status == 3 {
            // What is lost after half of it was seen: then nothing is touched.
            let stops = run.stderr.contains("is half done and can't be finished")
                || run.stderr.contains("was edited after the crash");
            assert!(stops && found == self.tree.snapshot_with_state(), "{told}");
            return;
        }
        assert_eq!(run.status, 0, "{told}");
        let (now, kept) = (contents(&self.tree), state(&self.tree));
        let [(before, state_before), (after, state_after)] = &self.wanted;
        let (happened, state_wanted) = match (now == *before, now == *after) {
            (true, _) => (false, state_before),
            (_, true) => (true, state_after),
            // The contents of what had its name already are beyond recovery.
            _ if promise == Promise::Liar && run.stdout.contains("nothing stands") => return,
            _ if promise == Promise::Liar && is_but_for_one_empty_file(&now, after) => return,
            _ => panic!(
                "neither before ({}) nor after ({}): {told}",
                differences(before, &now),
                differences(after, &now)
            ),
        };
        // The same goes for what was kept when all was done.
        if promise == Promise::Liar && run.stdout.contains("nothing stands") {
            return;
        }
        let differs = differences(state_wanted, &kept);
        assert!(kept == *state_wanted, "{happened}: {differs}: {told}");
        let again = self.tree.run("recover");
        assert_eq!(again.stdout, "nothing stands unfinished\n", "{told}");
        self.go_on(&told);
        // Whoever does not recover by hand gets the same from the next command.
        disk.lay(self.tree.root());
        self.go_on(&told);
        let mut now = contents(&self.tree);
        let mut wanted = self.wanted[usize::from(happened)].0.clone();
        for file in ["etc/group", "etc/gshadow"] {
            let text = |all: &mut Contents| {
                let what = all.get_mut(Path::new(file)).unwrap();
                let text = String::from_utf8(std::mem::take(&mut what.3)).unwrap();
                text.lines()
                    .filter(|line| !line.starts_with("ferries:"))
                    .map(str::to_owned)
                    .collect::<Vec<_>>()
            };
            assert_eq!(text(&mut now), text(&mut wanted), "{file}: {told}");
        }
        // Where it was missing it is made again, for the record of the next command.
        if !wanted.contains_key(Path::new("var/lib")) {
            now.remove(Path::new("var/lib"));
        }
        assert!(now == wanted, "{}: {told}", differences(&wanted, &now));
    }

    /// The next command works, and blames nobody.
    fn go_on(&self, told: &str) {
        let next = self.tree.run("create group ferries");
        let next_told = format!("{told}\nnext: {}{}", next.stdout, next.stderr);
        assert_eq!(next.status, 0, "{next_told}");
        assert!(!next.stdout.contains("other hands"), "{next_told}");
    }
}

/// Whether all is as it should be but one file of a user's, which is empty.
fn is_but_for_one_empty_file(now: &Contents, wanted: &Contents) -> bool {
    let differ: Vec<_> =
        now.iter().filter(|(path, what)| wanted.get(*path) != Some(*what)).collect();
    now.len() == wanted.len()
        && matches!(differ[..], [(path, what)] if what.3.is_empty() && !path.starts_with("etc"))
}

/// The next of a row of numbers that look like chance and are the same each time.
fn next(seed: &mut u64, most: usize) -> usize {
    *seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
    ((*seed >> 33) as usize) % most.max(1)
}

impl Drop for Scene {
    fn drop(&mut self) {
        eprintln!("states: {:?}: {}", self.counts, self.words.join(" "));
    }
}

fn with_maren() -> TestTree {
    let tree = TestTree::new();
    tree.done("create user maren --join pilots");
    tree.write("home/maren/letters/one", "dear\n");
    std::fs::hard_link(tree.path("home/maren/letters/one"), tree.path("home/maren/two")).unwrap();
    std::os::unix::fs::symlink("../tavish", tree.path("home/maren/link")).unwrap();
    tree.write("var/mail/maren", "From odalys\n");
    if is_root() {
        for mine in ["letters", "letters/one", "link"] {
            tree.chown(&format!("home/maren/{mine}"), 1002, 1002);
        }
        tree.chown("var/mail/maren", 1002, 8);
    }
    tree
}

fn cut(tree: TestTree, words: &str) {
    if let Some(mut scene) = Scene::new(tree, words) {
        scene.cut();
        assert!(scene.counts.len() == 4, "{:?}", scene.counts);
    }
}

#[test]
fn while_a_user_is_made_where_nothing_was_kept() {
    let tree = TestTree::new();
    std::fs::remove_dir(tree.path("var/lib")).unwrap();
    cut(tree, "create user perrin --join pilots,slipway");
}

#[test]
fn while_a_user_is_renamed() {
    cut(with_maren(), "rename user maren marlo");
}

#[test]
fn while_a_user_is_deleted() {
    cut(with_maren(), "delete user maren --yes");
    cut(with_maren(), "delete user maren --files archive --yes");
}

#[test]
fn while_a_user_is_restored() {
    for files in ["set-aside", "archive"] {
        let tree = with_maren();
        tree.done(&format!("delete user maren --files {files} --yes"));
        cut(tree, "restore user maren");
    }
}

#[test]
fn while_groups_are_joined_and_left() {
    cut(with_maren(), "regroup maren --join slipway --leave pilots");
}

#[test]
fn while_a_password_is_set_and_an_account_suspended() {
    cut(with_maren(), "password user sunniva --none --even-last-admin --yes");
    cut(with_maren(), "suspend user maren --reason leave --yes");
}

#[test]
fn while_a_crew_comes_aboard() {
    let folder = crate::harness::folder();
    let file = folder.path().join("crew.csv");
    std::fs::write(&file, "name,join\nperrin,pilots\nodalys,slipway\nbrannoc,\n").unwrap();
    cut(with_maren(), &format!("intake {}", file.display()));
}

#[test]
fn while_a_change_is_taken_back() {
    let tree = with_maren();
    tree.done("delete user maren --files archive --yes");
    cut(tree, "undo --yes");
    let tree = TestTree::new();
    tree.done("create user maren --join pilots");
    cut(tree, "undo --yes");
}

#[test]
fn while_files_change_hands() {
    cut(with_maren(), "change user maren --uid 1500");
    let tree = with_maren();
    tree.write("srv/log", "");
    tree.write("srv/old", "");
    if is_root() {
        tree.chown("srv/log", 1777, 1777);
        tree.chown("srv/old", 1777, 0);
    }
    cut(tree, "reassign user 1777 maren --yes");
    let tree = with_maren();
    tree.write("srv/log", "");
    if is_root() {
        tree.chown("srv/log", 1001, 1002);
    }
    let folder = crate::harness::folder();
    let file = folder.path().join("numbers.csv");
    std::fs::write(&file, "kind,name,id\nuser,maren,1001\nuser,tavish,1002\n").unwrap();
    cut(tree, &format!("renumber {} --yes", file.display()));
}

#[test]
fn while_a_home_is_moved_and_keys_are_added() {
    let tree = with_maren();
    std::fs::create_dir(tree.path("srv")).unwrap();
    cut(tree, "change user maren --home /srv/maren");
}

#[test]
fn while_the_files_are_repaired() {
    let tree = with_maren();
    tree.append("etc/group", "deck:x:300:tavish,tavish\n");
    tree.append("etc/gshadow", "deck:!::tavish\n");
    tree.chmod("etc/passwd", 0o664);
    // Here other hands have been at work: that was told.
    tree.done("create group harbour");
    cut(tree, "repair --yes");
}

/// Recovery is a command like any other: the power may go again while it is at work.
#[test]
fn while_a_crash_is_recovered_from() {
    for (call, at) in [("renameat2", 1), ("renameat2", 4)] {
        let tree = with_maren();
        if !crate::killed::leave_torn(&tree, "delete user maren --yes", call, at) {
            return passed_over("power loss during recover", "strace");
        }
        if let Some(mut scene) = Scene::new(tree, "recover") {
            scene.finish_of_before();
            scene.cut();
        }
    }
}

impl Scene {
    /// Of a recovery there is no before: the rest of the change is done whenever it ends.
    fn finish_of_before(&mut self) {
        self.wanted[0] = self.wanted[1].clone();
    }
}

/// Several at once: there is more that may be lost, and more ways in which it may.
mod several {
    use super::*;

    fn with_a_crew() -> TestTree {
        let tree = with_maren();
        tree.done("create user odalys perrin --join pilots,slipway");
        for name in ["odalys", "perrin"] {
            tree.write(&format!("home/{name}/letter"), "dear\n");
            if is_root() {
                let uid = if name == "odalys" { 1003 } else { 1004 };
                tree.chown(&format!("home/{name}/letter"), uid, uid);
            }
        }
        tree
    }

    #[test]
    fn come() {
        cut(TestTree::new(), "create user maren odalys perrin brannoc --join pilots,slipway");
        let folder = crate::harness::folder();
        let file = folder.path().join("crew.toml");
        let mut text = "[[group]]\nname = 'divers'\nmember = ['maren', 'crew0']\n".to_owned();
        text += "[[user]]\nname = 'maren'\njoin = ['slipway']\nshell = '/bin/sh'\n";
        for at in 0..6 {
            text += &format!("[[user]]\nname = 'crew{at}'\njoin = ['pilots']\n");
        }
        std::fs::write(&file, text).unwrap();
        cut(with_maren(), &format!("intake {} --existing update", file.display()));
    }

    #[test]
    fn go() {
        cut(with_a_crew(), "delete user maren odalys perrin --yes");
        cut(with_a_crew(), "delete user maren odalys perrin --files archive --yes");
        cut(with_a_crew(), "delete user maren odalys --files erase --yes");
        cut(with_a_crew(), "delete user maren --files give:odalys --yes");
    }

    /// More than are flushed one by one.
    #[test]
    fn go_in_crowds() {
        let tree = TestTree::new();
        let names: Vec<String> = (10..30).map(|at| format!("deck{at}")).collect();
        let names = names.join(" ");
        tree.done(&format!("create user {names} --no-home"));
        cut(tree, &format!("delete user {names} --files keep --yes"));
    }

    #[test]
    fn come_back() {
        for files in ["set-aside", "archive"] {
            let tree = with_a_crew();
            tree.done(&format!("delete user maren odalys perrin --files {files} --yes"));
            cut(tree, "restore user maren odalys perrin");
        }
        let tree = with_a_crew();
        tree.done("delete user maren odalys perrin --yes");
        cut(tree, "undo --yes");
    }

    #[test]
    fn are_renamed_and_given_back() {
        let tree = with_a_crew();
        tree.done("rename user maren marlo");
        cut(tree, "undo --yes");
        let tree = TestTree::new();
        tree.done("create user maren odalys perrin");
        cut(tree, "undo --yes");
        let tree = with_a_crew();
        tree.done("delete group slipway --even-service --yes");
        cut(tree, "restore group slipway");
    }
}
