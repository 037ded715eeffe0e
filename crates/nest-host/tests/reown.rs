//! Giving files other numbers: what others do meanwhile, what a crash leaves, and lists that are
//! too long for one go.

use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, symlink};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use nest_core::ownership::{IdMapping, Reown};
use nest_core::value::TreePath;
use nest_host::interrupt::Patience;
use nest_host::reown::{Given, Giving, Search, find};
use nest_host::tree::Tree;

struct Stage {
    folder: tempfile::TempDir,
    tree: Tree,
    reown: Reown,
}

impl Stage {
    /// A tree in which uids 5001 and 5002 are to be exchanged; nothing without the right to.
    fn set() -> Option<Self> {
        if !rustix::process::geteuid().is_root() {
            println!("passed over: giving files away needs root");
            return None;
        }
        let folder = tempfile::tempdir().unwrap();
        let tree = Tree::open(folder.path()).unwrap();
        let reown = Reown {
            paths: vec![TreePath::root()],
            uids: IdMapping::from(vec![(5001, 5002), (5002, 5001)]),
            follows: true,
            everywhere: true,
            hard_links: true,
            ..Reown::default()
        };
        Some(Stage { folder, tree, reown })
    }

    fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    fn write(&self, path: &str, uid: u32) {
        let path = self.path(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, "chart").unwrap();
        chown(&path, Some(uid), Some(0)).unwrap();
    }

    fn list(&self) -> Vec<u8> {
        let list = Mutex::new(Vec::new());
        let sink = |part: &[u8]| {
            list.lock().unwrap().extend_from_slice(part);
            Ok(())
        };
        find(&self.tree, &self.reown, Search { list: Some(&sink), ..Search::default() }).unwrap();
        list.into_inner().unwrap()
    }

    fn give(&self, list: &[u8], back: bool, recovering: bool) -> Given {
        self.giving(back, recovering).give(list, 0, &|_| Ok(())).unwrap()
    }

    fn giving(&self, back: bool, recovering: bool) -> Giving<'_> {
        let (tree, reown, patience) = (&self.tree, &self.reown, Patience::Ends);
        Giving { tree, reown, back, recovering, patience, progress: &|_| {} }
    }

    fn owners(&self, paths: &[&str]) -> Vec<u32> {
        let owner = |path: &&str| self.path(path).symlink_metadata().unwrap().uid();
        paths.iter().map(owner).collect()
    }
}

fn set_mode(path: &Path, mode: u32) {
    std::fs::set_permissions(path, PermissionsExt::from_mode(mode)).unwrap();
}

#[test]
fn what_others_do_meanwhile_is_not_undone() {
    let Some(stage) = Stage::set() else { return };
    for path in ["a/one", "a/gone", "a/given", "b/two", "c/three"] {
        stage.write(path, 5001);
    }
    stage.write("a/other", 5002);
    let list = stage.list();
    std::fs::remove_file(stage.path("a/gone")).unwrap();
    chown(stage.path("a/given"), Some(77), None).unwrap();
    // A directory is swapped for a link out of the tree, and another one into it.
    let outside = tempfile::tempdir().unwrap();
    std::fs::write(outside.path().join("two"), "").unwrap();
    chown(outside.path().join("two"), Some(5001), None).unwrap();
    std::fs::rename(stage.path("b"), stage.path("moved")).unwrap();
    symlink(outside.path(), stage.path("b")).unwrap();
    let given = stage.give(&list, false, false);
    assert_eq!(given.refused, 0, "{given:?}");
    assert_eq!(stage.owners(&["a/one", "a/given", "a/other", "c/three"]), [5002, 77, 5001, 5002]);
    assert_eq!(outside.path().join("two").metadata().unwrap().uid(), 5001);
    // Once more changes nothing, and back all is as it was.
    stage.give(&list, false, false);
    assert_eq!(stage.owners(&["a/one", "a/other"]), [5002, 5001]);
    stage.give(&list, true, false);
    assert_eq!(stage.owners(&["a/one", "a/given", "a/other"]), [5001, 77, 5002]);
}

#[test]
fn what_a_crash_kept_from_being_put_back_is_put_back_if_nobody_has_touched_it() {
    let Some(stage) = Stage::set() else { return };
    for path in ["tool", "altered", "other"] {
        stage.write(path, 5001);
        set_mode(&stage.path(path), 0o4755);
    }
    let list = stage.list();
    for path in ["tool", "altered", "other"] {
        // As the kernel leaves it.
        chown(stage.path(path), Some(5002), None).unwrap();
        assert_eq!(stage.path(path).metadata().unwrap().mode() & 0o7777, 0o755);
    }
    std::fs::write(stage.path("altered"), "wreck").unwrap();
    stage.write("another", 5002);
    set_mode(&stage.path("another"), 0o755);
    std::fs::rename(stage.path("another"), stage.path("other")).unwrap();
    let mode = |path: &str| stage.path(path).metadata().unwrap().mode() & 0o7777;
    stage.give(&list, false, false);
    assert_eq!(mode("tool"), 0o755, "without a crash somebody has taken it off");
    stage.give(&list, false, true);
    assert_eq!([mode("tool"), mode("altered"), mode("other")], [0o4755, 0o755, 0o755]);
}

#[test]
fn a_file_that_is_longer_than_a_disk_holds_nobody_up() {
    let Some(stage) = Stage::set() else { return };
    stage.write("endless", 5001);
    let file = std::fs::File::options().write(true).open(stage.path("endless")).unwrap();
    if file.set_len(1 << 43).is_err() {
        println!("passed over: the file system holds no such file");
        return;
    }
    set_mode(&stage.path("endless"), 0o4755);
    let began = std::time::Instant::now();
    let list = stage.list();
    stage.give(&list, false, false);
    assert!(began.elapsed().as_secs() < 20, "it was read");
    let metadata = stage.path("endless").metadata().unwrap();
    assert_eq!((metadata.uid(), metadata.mode() & 0o7777), (5002, 0o4755));
}

#[test]
fn a_long_list_is_gone_through_from_where_it_was() {
    let Some(stage) = Stage::set() else { return };
    stage.write("first", 5001);
    stage.write("last", 5001);
    let entry = |path: &str| format!("5001.0 0:/{path}\0");
    // What has gone meanwhile is passed over.
    let gone: String = (0..400_000).map(|at| entry(&format!("gone/{at:06}"))).collect();
    let list = format!("{}{gone}{}", entry("first"), entry("last"));
    let reached = Mutex::new(Vec::new());
    let note = |at| {
        assert_eq!(stage.owners(&["first"]), [5002], "noted before it was done");
        reached.lock().unwrap().push(at);
        Ok(())
    };
    stage.giving(false, false).give(list.as_bytes(), 0, &note).unwrap();
    let reached = reached.into_inner().unwrap();
    assert!(!reached.is_empty() && reached.is_sorted(), "{reached:?}");
    assert_eq!(stage.owners(&["first", "last"]), [5002, 5002]);
    // From there on the first is not looked at again.
    for path in ["first", "last"] {
        chown(stage.path(path), Some(5001), None).unwrap();
    }
    let at = *reached.last().unwrap();
    let rest = &list.as_bytes()[at as usize..];
    stage.giving(false, true).give(rest, at, &|_| Ok(())).unwrap();
    assert_eq!(stage.owners(&["first", "last"]), [5001, 5002]);
}

#[test]
fn files_that_had_the_new_number_before_keep_it_when_it_is_taken_back() {
    let Some(mut stage) = Stage::set() else { return };
    stage.reown.uids = IdMapping::single(5001, 6001);
    stage.write("hers", 5001);
    stage.write("found", 6001);
    let there = Mutex::new(Vec::new());
    let sink = |part: &[u8]| {
        there.lock().unwrap().extend_from_slice(part);
        Ok(())
    };
    let search = Search { there: Some(&sink), ..Search::default() };
    let carried = find(&stage.tree, &stage.reown, search).unwrap().carried;
    assert_eq!((carried.uids[&5001], carried.uids_there[&6001]), (1, 1));
    let list = stage.list();
    stage.give(&list, false, false);
    stage.write("later", 6001);
    let there = there.into_inner().unwrap();
    let back = stage.reown.back();
    let list = Mutex::new(Vec::new());
    let sink = |part: &[u8]| {
        list.lock().unwrap().extend_from_slice(part);
        Ok(())
    };
    find(&stage.tree, &back, Search { list: Some(&sink), but: &there, there: None }).unwrap();
    stage.reown = back;
    let list = list.into_inner().unwrap();
    stage.give(&list, false, false);
    assert_eq!(stage.owners(&["hers", "found", "later"]), [5001, 6001, 5001]);
}
