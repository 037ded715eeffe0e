//! A home whose owner swaps directories for links while it is walked, copied,
//! re-owned and removed: nothing outside is ever touched.

mod passed_over;

use std::ffi::OsStr;
use std::os::unix::fs::{MetadataExt, chown, symlink};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use nest_core::ownership::{IdMapping, Reown};
use nest_core::retired::PackedFile;
use nest_core::value::TreePath;
use nest_host::interrupt::Patience;
use nest_host::state::State;
use nest_host::tree::Tree;
use nest_host::{archive, copy, home, inventory, reown, walk};

const ROUNDS: usize = 3000;
const OLD: u32 = 1_004;
const NEW: u32 = 1_500;

struct Stage {
    folder: tempfile::TempDir,
    tree: Tree,
}

impl Stage {
    /// A home with a directory in it, and one outside that looks just the same;
    /// what is in either carries the old number.
    fn set() -> Option<Self> {
        if !rustix::process::geteuid().is_root() {
            passed_over::passed_over("a hostile home", "root");
            return None;
        }
        let folder = tempfile::tempdir().unwrap();
        for (file, text) in [
            ("home/maren/notes/file", "own"),
            ("outside/file", "foreign"),
            ("elsewhere/linked", "foreign"),
        ] {
            let path = folder.path().join(file);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        for path in [
            "home/maren",
            "home/maren/notes",
            "home/maren/notes/file",
            "outside/file",
            "elsewhere/linked",
        ] {
            chown(folder.path().join(path), Some(OLD), Some(OLD)).unwrap();
        }
        let linked = folder.path().join("elsewhere/linked");
        std::fs::hard_link(linked, folder.path().join("home/maren/linked")).unwrap();
        let tree = Tree::open(folder.path()).unwrap();
        Some(Stage { folder, tree })
    }

    fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    /// Does `work` again and again while the owner of the home swaps `notes` for
    /// a link to the directory outside, and back.
    fn while_swapped(&self, work: impl Fn(usize)) {
        let (done, swaps) = (AtomicBool::new(false), AtomicUsize::new(0));
        std::thread::scope(|scope| {
            scope.spawn(|| {
                let (notes, away) = (self.path("home/maren/notes"), self.path("home/maren/away"));
                while !done.load(Ordering::Relaxed) {
                    swap(&notes, &away, &self.path("outside"));
                    swaps.fetch_add(1, Ordering::Relaxed);
                }
            });
            (0..ROUNDS).for_each(work);
            done.store(true, Ordering::Relaxed);
        });
        assert!(swaps.into_inner() > ROUNDS / 100, "the home was hardly swapped");
        for outside in ["outside/file", "elsewhere/linked"].map(|path| self.path(path)) {
            assert_eq!(std::fs::read_to_string(&outside).unwrap(), "foreign");
            assert_eq!(outside.metadata().unwrap().uid(), OLD, "a file outside was re-owned");
        }
    }
}

fn swap(notes: &Path, away: &Path, outside: &Path) {
    let _ = std::fs::rename(notes, away);
    let _ = symlink(outside, notes);
    let _ = std::fs::remove_file(notes);
    let _ = std::fs::rename(away, notes);
}

#[test]
fn re_owning_stays_inside() {
    let Some(stage) = Stage::set() else { return };
    let paths = vec![TreePath::judged(b"/home/maren")];
    stage.while_swapped(|round| {
        let (from, to) = if round % 2 == 0 { (OLD, NEW) } else { (NEW, OLD) };
        let uids = IdMapping::single(from, to);
        let reown = Reown { paths: paths.clone(), uids, follows: true, ..Reown::default() };
        let list = std::sync::Mutex::default();
        let sink = |part: &[u8]| {
            let list: &std::sync::Mutex<Vec<u8>> = &list;
            list.lock().unwrap().extend_from_slice(part);
            Ok(())
        };
        let search = reown::Search { list: Some(&sink), ..reown::Search::default() };
        reown::find(&stage.tree, &reown, search).unwrap();
        let giving = reown::Giving {
            tree: &stage.tree,
            reown: &reown,
            back: false,
            recovering: false,
            patience: Patience::Ends,
            progress: &|_| {},
        };
        let list = list.into_inner().unwrap();
        giving.give(&list[..], 0, &|_| Ok(())).unwrap();
    });
}

#[test]
fn copying_stays_inside() {
    let Some(stage) = Stage::set() else { return };
    let home_directory = std::fs::File::open(stage.path("home")).unwrap();
    let (from, to) = (OsStr::new("maren"), OsStr::new(".copy"));
    stage.while_swapped(|_| {
        // What vanishes while it is copied stops the copy; that is no harm.
        let _ = copy::copy(&home_directory, from, &home_directory, to, &|_| ());
        let copied = stage.path("home/.copy/notes/file");
        let text = std::fs::read_to_string(&copied).unwrap_or_default();
        let followed = copied.parent().unwrap().is_symlink();
        assert!(followed || text != "foreign", "a link was followed");
        home::remove_all(&home_directory, to, Patience::Ends).unwrap();
    });
}

#[test]
fn looking_and_removing_stay_inside() {
    let Some(stage) = Stage::set() else { return };
    let home_directory = std::fs::File::open(stage.path("home/maren")).unwrap();
    stage.while_swapped(|_| {
        let _ = inventory::take_inventory(&home_directory, OsStr::new("notes"), None);
        if let Err(error) = home::remove_all(&home_directory, OsStr::new("notes"), Patience::Ends) {
            assert!(error != rustix::io::Errno::FAULT, "{error}");
        }
        let _ = std::fs::create_dir(stage.path("home/maren/notes"));
        let _ = std::fs::write(stage.path("home/maren/notes/own"), "own");
    });
}

#[test]
fn packing_and_walking_stay_inside() {
    let Some(stage) = Stage::set() else { return };
    let home_directory =
        std::os::fd::OwnedFd::from(std::fs::File::open(stage.path("home")).unwrap());
    let state = State::At(stage.path("state")).open_or_make(&stage.tree).unwrap();
    let paths = [TreePath::judged(b"/home/maren")];
    let packed = AtomicUsize::new(0);
    stage.while_swapped(|round| {
        let scope = walk::WalkScope { paths: &paths, ..walk::WalkScope::default() };
        let outside = |met: &walk::Met<'_>| {
            let inside = met.path().starts_with(b"/home/maren");
            assert!(inside, "{:?}", String::from_utf8_lossy(&met.path()));
        };
        walk::walk(&stage.tree, scope, &outside).unwrap();
        // Packing flushes, and takes longer than all the rest.
        if round % 50 != 0 {
            return;
        }
        // What is swapped while it is packed stops it; that is no harm.
        let name = OsStr::new("maren");
        if let Ok(all) = archive::pack(&home_directory, name, &state, PackedFile::Home, &|_, _| ())
        {
            packed.fetch_add(1, Ordering::Relaxed);
            let most = "own".len() + "foreign".len();
            assert!(all.bytes <= most as u64, "something outside was packed: {all:?}");
        }
    });
    println!("{} packed whole", packed.into_inner());
}
