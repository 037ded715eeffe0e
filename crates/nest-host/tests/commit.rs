//! Carrying plans out on trees in temporary folders, also when something comes
//! in between.

use std::collections::BTreeMap;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::time::Duration;

use nest_core::book::Lookups;
use nest_core::change::Plan;
use nest_core::change::{NewFile, Step};
use nest_core::ownership::Owner;
use nest_core::table::{Edit, File};
use nest_core::value::{Author, TreePath};
use nest_core::value::{Day, Gid, Uid};
use nest_core::words::in_full;
use nest_host::commit::{Circumstances, CommitError, Outcome, commit};
use nest_host::lock::Lock;
use nest_host::state::State;
use nest_host::store::{Loaded, load};
use nest_host::tree::Tree;

struct Place {
    folder: tempfile::TempDir,
    tree: Tree,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        for (name, text) in [
            ("etc/passwd", "root:x:0:0::/root:/bin/sh\n"),
            ("etc/shadow", "root:*:1::::::\n"),
            ("etc/group", "root:x:0:\npilots:x:210:\n"),
            ("etc/gshadow", "root:*::\npilots:!::\n"),
            ("etc/skel/.profile", "x\n"),
        ] {
            let path = folder.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        std::fs::create_dir(folder.path().join("home")).unwrap();
        let tree = Tree::open(folder.path()).unwrap();
        Place { folder, tree }
    }

    fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    fn read(&self, path: &str) -> String {
        std::fs::read_to_string(self.path(path)).unwrap()
    }

    fn load(&self) -> Loaded {
        load(&self.tree, &Lookups::whole(), false).unwrap()
    }

    fn commit(&self, loaded: &Loaded, plan: &Plan) -> Result<Outcome, CommitError> {
        let lock = Lock::acquire(&self.tree, Duration::from_secs(5), &mut |_| {}).unwrap();
        commit(&lock, &self.tree, &State::InTree, loaded, plan, &circumstances(), &())
    }

    /// Every path with mode, owner and contents; not the lock file and the state.
    fn snapshot(&self) -> BTreeMap<PathBuf, (u32, u32, u32, Vec<u8>)> {
        fn visit(path: &Path, all: &mut BTreeMap<PathBuf, (u32, u32, u32, Vec<u8>)>) {
            let metadata = path.symlink_metadata().unwrap();
            let contents =
                if metadata.is_file() { std::fs::read(path).unwrap() } else { Vec::new() };
            if path.ends_with("var") {
                return;
            }
            if !path.ends_with(".pwd.lock") {
                all.insert(
                    path.to_owned(),
                    (metadata.mode(), metadata.uid(), metadata.gid(), contents),
                );
            }
            if metadata.is_dir() {
                for entry in path.read_dir().unwrap() {
                    visit(&entry.unwrap().path(), all);
                }
            }
        }
        let mut all = BTreeMap::new();
        visit(self.folder.path(), &mut all);
        all
    }
}

fn circumstances() -> Circumstances {
    Circumstances {
        earlier: Default::default(),
        by: Author { uid: Uid(1000), name: Some("sunniva".into()) },
        time: "2026-11-24T06:00:00+00:00".into(),
        today: Day(20781),
        arguments: vec!["create".into(), "user".into(), "maren".into()],
        note: None,
        other_hands: Vec::new(),
        keep_days: 400,
        retired: Default::default(),
        suspended: Vec::new(),
    }
}

/// An edit that adds a line at the end of a file.
fn adding(loaded: &Loaded, file: File, line: &str) -> Edit {
    let (at, number) = loaded.book.lines(file).map_or((0, 1), |lines| lines.insertion());
    Edit { file, line: number, before: None, after: Some(line.into()), range: at..at }
}

/// A plan that touches four files and makes a home.
fn plan(loaded: &Loaded) -> Plan {
    let me = rustix::process::geteuid().as_raw();
    let owner = Owner { uid: Uid(me), gid: Gid(rustix::process::getegid().as_raw()) };
    Plan {
        summary: "create user maren".into(),
        edits: vec![
            adding(loaded, File::Passwd, "maren:x:1004:1004::/home/maren:/bin/sh"),
            adding(loaded, File::Shadow, "maren:!:1::::::"),
            adding(loaded, File::Group, "maren:x:1004:"),
            adding(loaded, File::Subuid, "maren:1:1"),
        ],
        steps: vec![Step::MakeDirectory {
            path: TreePath::judged(b"/home/maren"),
            skeleton: Some(TreePath::judged(b"/etc/skel")),
            files: vec![NewFile {
                path: ".ssh/authorized_keys".into(),
                contents: "k\n".into(),
                mode: 0o600,
            }],
            owner,
            mode: 0o750,
        }],
        ..Plan::default()
    }
}

#[test]
fn a_plan_is_carried_out_whole() {
    let place = Place::new();
    let loaded = place.load();
    let outcome = place.commit(&loaded, &plan(&loaded)).unwrap();
    assert!(outcome.left_undone.is_empty() && outcome.in_place.is_empty());
    assert!(place.read("etc/passwd").ends_with("sh\nmaren:x:1004:1004::/home/maren:/bin/sh\n"));
    assert_eq!(place.read("etc/subuid"), "maren:1:1\n");
    assert_eq!(place.read("home/maren/.ssh/authorized_keys"), "k\n");
    let mode = |path: &str| place.path(path).metadata().unwrap().mode() & 0o7777;
    assert_eq!((mode("home/maren"), mode("home/maren/.ssh")), (0o750, 0o700));
    let names: Vec<_> =
        place.snapshot().into_keys().map(|path| path.display().to_string()).collect();
    assert!(!names.iter().any(|name| name.contains("copper-nest")), "{names:?}");
}

#[test]
fn an_edit_by_somebody_without_the_lock_stays_and_stops_the_change() {
    for (file, name) in [(File::Passwd, "etc/passwd"), (File::Gshadow, "etc/gshadow")] {
        let place = Place::new();
        let loaded = place.load();
        // Of the same length, so that only the times and the inode tell.
        let edited = place.read(name).replace("root", "ROOT");
        std::fs::write(place.path(name), &edited).unwrap();
        let before = place.snapshot();
        let error = place.commit(&loaded, &plan(&loaded)).unwrap_err();
        assert!(
            matches!(error, CommitError::ChangedMeanwhile(changed) if changed == file),
            "{error}"
        );
        assert_eq!(place.snapshot(), before);
        assert_eq!(place.read(name), edited);
    }
}

#[test]
fn a_file_that_was_replaced_by_another_is_noticed_too() {
    let place = Place::new();
    let loaded = place.load();
    std::fs::copy(place.path("etc/shadow"), place.path("etc/shadow+")).unwrap();
    std::fs::rename(place.path("etc/shadow+"), place.path("etc/shadow")).unwrap();
    let error = place.commit(&loaded, &plan(&loaded)).unwrap_err();
    assert!(error.to_string().contains("etc/shadow was changed by somebody else in the meantime"));
    assert!(!place.path("home/maren").exists());
}

#[test]
fn what_became_visible_is_taken_back_when_a_later_part_fails() {
    // gshadow, shadow and the home are in place by the time subuid turns out to
    // exist after all.
    let place = Place::new();
    let loaded = place.load();
    std::fs::write(place.path("etc/subuid"), "somebody:1:1\n").unwrap();
    let before = place.snapshot();
    let inode = place.path("etc/shadow").metadata().unwrap().ino();
    let error = place.commit(&loaded, &plan(&loaded)).unwrap_err();
    assert!(in_full(&error).starts_with("replacing etc/subuid: File exists"), "{error}");
    assert!(matches!(error, CommitError::Failed { .. }), "all is as it was: {error}");
    assert_eq!(place.snapshot(), before);
    assert_eq!(place.path("etc/shadow").metadata().unwrap().ino(), inode, "the very same file");
}

#[test]
fn a_home_that_came_to_be_there_is_not_touched() {
    let place = Place::new();
    let loaded = place.load();
    std::fs::create_dir(place.path("home/maren")).unwrap();
    std::fs::write(place.path("home/maren/letter"), "mine\n").unwrap();
    let before = place.snapshot();
    let error = place.commit(&loaded, &plan(&loaded)).unwrap_err();
    assert!(in_full(&error).starts_with("making /home/maren: File exists"), "{error}");
    assert_eq!(place.snapshot(), before);
}

#[test]
fn a_parent_that_became_a_link_leads_nowhere() {
    let place = Place::new();
    let loaded = place.load();
    let outside = tempfile::tempdir().unwrap();
    std::fs::remove_dir(place.path("home")).unwrap();
    symlink(outside.path(), place.path("home")).unwrap();
    let before = place.snapshot();
    let error = place.commit(&loaded, &plan(&loaded)).unwrap_err();
    assert!(matches!(error, CommitError::Failed { .. }), "{error}");
    assert_eq!(place.snapshot(), before);
    assert_eq!(outside.path().read_dir().unwrap().count(), 0);
}

#[test]
fn something_special_in_the_skeleton_stops_the_copy() {
    let place = Place::new();
    let loaded = place.load();
    let _socket = std::os::unix::net::UnixListener::bind(place.path("etc/skel/socket")).unwrap();
    let before = place.snapshot();
    assert!(place.commit(&loaded, &plan(&loaded)).is_err());
    assert_eq!(place.snapshot(), before);
}

#[test]
fn a_directory_is_given_away_only_if_it_is_still_whose_it_was() {
    let place = Place::new();
    let loaded = place.load();
    let before = place.snapshot();
    let me = rustix::process::geteuid().as_raw();
    let mut plan = plan(&loaded);
    let (from, to) = (Owner { uid: Uid(me + 1), gid: Gid(7) }, Owner { uid: Uid(me), gid: Gid(7) });
    plan.steps.push(Step::GiveDirectory { path: TreePath::judged(b"/home"), from, to });
    let error = place.commit(&loaded, &plan).unwrap_err();
    assert!(error.to_string().starts_with("giving /home away"), "{error}");
    assert_eq!(place.snapshot(), before);
}

#[test]
fn a_file_is_made_below_a_directory_without_following_links() {
    let place = Place::new();
    let loaded = place.load();
    let owner = Owner {
        uid: Uid(rustix::process::geteuid().as_raw()),
        gid: Gid(rustix::process::getegid().as_raw()),
    };
    let step = |below: &str| Step::MakeFile {
        below: TreePath::judged(below.as_bytes()),
        file: NewFile { path: ".ssh/authorized_keys".into(), contents: "k\n".into(), mode: 0o600 },
        owner,
    };
    std::fs::create_dir(place.path("home/perrin")).unwrap();
    let plan = Plan { steps: vec![step("/home/perrin")], ..Plan::default() };
    place.commit(&loaded, &plan).unwrap();
    assert_eq!(place.read("home/perrin/.ssh/authorized_keys"), "k\n");

    let outside = tempfile::tempdir().unwrap();
    std::fs::create_dir(place.path("home/odalys")).unwrap();
    symlink(outside.path(), place.path("home/odalys/.ssh")).unwrap();
    let plan = Plan { steps: vec![step("/home/odalys")], ..Plan::default() };
    assert!(place.commit(&loaded, &plan).is_err());
    assert_eq!(outside.path().read_dir().unwrap().count(), 0);
}

#[test]
fn nothing_staged_is_more_open_than_what_it_replaces() {
    let place = Place::new();
    let shadow = place.path("etc/shadow");
    std::fs::set_permissions(&shadow, PermissionsExt::from_mode(0o640)).unwrap();
    // A large file, so that staging takes long enough to be watched.
    std::fs::write(&shadow, "root:*:1::::::\n".repeat(400_000)).unwrap();
    let loaded = place.load();
    let staged = place.path("etc/.shadow.copper-nest-new");
    let done = std::sync::atomic::AtomicBool::new(false);
    let seen = std::thread::scope(|scope| {
        let watcher = scope.spawn(|| {
            let mut seen = Vec::new();
            while !done.load(std::sync::atomic::Ordering::Relaxed) {
                seen.extend(staged.metadata().map(|metadata| metadata.mode() & 0o7777));
            }
            seen
        });
        let result = place.commit(&loaded, &plan(&loaded));
        done.store(true, std::sync::atomic::Ordering::Relaxed);
        result.unwrap();
        watcher.join().unwrap()
    });
    assert!(!seen.is_empty(), "the staged file was never seen");
    assert!(seen.iter().all(|mode| mode & !0o640 == 0), "{seen:?}");
}
