//! How changes reach the disk: the lock, modes and owners, mount points, a full
//! disk, no rights.

use std::os::unix::fs::MetadataExt;
use std::os::unix::process::CommandExt;
use std::process::Command;
use std::time::{Duration, Instant};

use rustix::fs::{FlockOperation, XattrFlags};

use crate::harness::{Run, TestTree, has_program, is_root, passed_over, program};

/// Takes the account-file lock, as the C library's call does.
fn hold_lock(tree: &TestTree) -> std::fs::File {
    let path = tree.path("etc/.pwd.lock");
    let file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(false).open(path).unwrap();
    rustix::fs::fcntl_lock(&file, FlockOperation::LockExclusive).unwrap();
    file
}

#[test]
fn a_held_lock_makes_us_wait_and_then_fail_naming_the_holder() {
    let tree = TestTree::new();
    let lock = hold_lock(&tree);
    let began = Instant::now();
    let pid = std::process::id();
    let run = tree.refused(
        "--wait 1 create user maren",
        4,
        &format!("the account files are locked by process {pid} ("),
    );
    assert!(began.elapsed() >= Duration::from_secs(1));
    assert!(run.stderr.contains("waiting for the account files"), "{}", run.stderr);
    // Looking needs no lock, and neither does a request that will be refused.
    tree.done("show user tavish");
    tree.done("create user maren --dry-run");
    tree.refused("create user tavish", 3, "already has a user");
    assert_eq!(tree.json("--wait 0 create user maren")["error"]["kind"], "locked");
    drop(lock);
    tree.done("--wait 0 create user maren");
}

#[test]
fn a_lock_that_comes_free_is_taken() {
    let tree = TestTree::new();
    let lock = hold_lock(&tree);
    let mut child =
        tree.command(&["--wait", "20", "create", "user", "maren", "-q"]).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(300));
    assert!(child.try_wait().unwrap().is_none(), "it did not wait");
    // Somebody else's change, made under the lock: the plan is made anew.
    tree.append("etc/passwd", "perrin:x:1002:1002::/nonexistent:/bin/sh\n");
    drop(lock);
    assert!(child.wait().unwrap().success());
    assert_eq!(tree.line("etc/passwd", 8), "maren:x:1003:1003::/home/maren:/bin/bash");
}

/// The lock is the one that the C library's own call takes.
#[test]
fn a_program_that_holds_the_c_librarys_lock_makes_us_wait() {
    if !has_program("python3") {
        return passed_over("a_program_that_holds_the_c_librarys_lock", "python3");
    }
    let tree = TestTree::new();
    let at = tree.root().display();
    let script = format!(
        "mount --bind {at}/etc /etc
         python3 -c 'import ctypes, time; print(ctypes.CDLL(None).lckpwdf(), flush=True); time.sleep(3)' > {at}/locked &
         while [ ! -s {at}/locked ]; do sleep 0.05; done
         status=0; $NEST --tree {at} --wait 1 create user maren || status=$?
         wait; $NEST --tree {at} --wait 0 -q create user maren; exit $status"
    );
    let Some(run) = in_namespace("a_program_that_holds_the_c_librarys_lock", &script) else {
        return;
    };
    assert_eq!(tree.read("locked"), "0\n");
    assert_eq!(run.status, 4, "{}", run.stderr);
    assert!(
        run.stderr.contains("locked by process") && run.stderr.contains("(python3)"),
        "{}",
        run.stderr
    );
    assert!(tree.read("etc/passwd").contains("\nmaren:"));
}

#[test]
fn eight_at_once_lose_nothing_and_share_nothing() {
    let tree = TestTree::new();
    let children: Vec<_> = (0..8)
        .map(|at| {
            let name = format!("crew{at}");
            tree.command(&["--wait", "60", "-q", "create", "user", &name, "--join", "pilots"])
                .spawn()
                .unwrap()
        })
        .collect();
    for mut child in children {
        assert!(child.wait().unwrap().success());
    }
    let passwd = tree.read("etc/passwd");
    let mut uids: Vec<&str> =
        passwd.lines().skip(6).map(|line| line.split(':').nth(2).unwrap()).collect();
    uids.sort_unstable();
    assert_eq!(uids, ["1002", "1003", "1004", "1005", "1006", "1007", "1008", "1009"]);
    assert_eq!(tree.line("etc/group", 8).matches("crew").count(), 8);
    assert_eq!(tree.read("etc/subuid").lines().count(), 10);
    assert_eq!(tree.run("check --allow-skipped").stdout, "");
}

#[test]
fn owner_mode_and_attributes_are_those_of_the_old_file() {
    let tree = TestTree::new();
    tree.chmod("etc/passwd", 0o664);
    tree.chmod("etc/shadow", 0o600);
    let file = std::fs::File::open(tree.path("etc/passwd")).unwrap();
    let attributes = match rustix::fs::fsetxattr(&file, "user.berth", b"seven", XattrFlags::empty())
    {
        Ok(()) => true,
        Err(error) => {
            passed_over(
                "attributes are kept",
                &format!("a file system with user attributes ({error})"),
            );
            false
        }
    };
    if is_root() {
        tree.chown("etc/group", 12, 34);
    }
    let before = file.metadata().unwrap().ino();
    tree.done("create user maren");
    assert_eq!((tree.mode("etc/passwd"), tree.mode("etc/shadow")), (0o664, 0o600));
    if is_root() {
        assert_eq!(tree.owner("etc/group"), (12, 34));
        assert_eq!(tree.owner("etc/gshadow"), (0, 42));
    }
    let file = std::fs::File::open(tree.path("etc/passwd")).unwrap();
    assert_ne!(file.metadata().unwrap().ino(), before, "replaced, not rewritten");
    if attributes {
        let mut value = [0; 16];
        let length = rustix::fs::fgetxattr(&file, "user.berth", &mut value[..]).unwrap();
        assert_eq!(&value[..length], b"seven");
    }
}

#[test]
fn what_a_killed_run_left_is_no_obstacle() {
    let tree = TestTree::new();
    tree.write("etc/.passwd.copper-nest-new", "half a fi");
    tree.write("home/.maren.copper-nest-new/half", "");
    tree.done("create user maren");
    assert!(!tree.exists("etc/.passwd.copper-nest-new"));
    assert!(!tree.exists("home/.maren.copper-nest-new"));
    assert!(!tree.exists("home/maren/half"));
}

/// Runs a shell script in a mount namespace of its own.
pub fn in_namespace(test: &str, script: &str) -> Option<Run> {
    in_namespaces(test, "-m", script)
}

/// Runs `script` in namespaces of its own: those of these options of `unshare`.
pub fn in_namespaces(test: &str, kinds: &str, script: &str) -> Option<Run> {
    if !is_root() || !has_program("unshare") || !has_program("mount") {
        passed_over(test, "root and namespaces");
        return None;
    }
    let probe = Command::new("unshare").args([kinds, "true"]).status();
    if !probe.is_ok_and(|status| status.success()) {
        passed_over(test, "the right to make a namespace");
        return None;
    }
    let binary = program().get_program().to_owned();
    let mut command = Command::new("unshare");
    command
        .args([kinds, "sh", "-euc", script])
        .env("NEST", binary)
        .env("SOURCE_DATE_EPOCH", crate::harness::NOW);
    Some(Run::of(&mut command))
}

#[test]
fn a_file_that_is_a_mount_point_is_rewritten_in_place() {
    let tree = TestTree::new();
    tree.write("elsewhere", tree.read("etc/passwd"));
    let at = tree.root().display();
    let script = format!(
        "mount --bind {at}/elsewhere {at}/etc/passwd; inode=$(stat -c %i {at}/etc/passwd)
         $NEST --tree {at} create user maren
         test $inode = $(stat -c %i {at}/etc/passwd)"
    );
    let Some(run) = in_namespace("a_file_that_is_a_mount_point", &script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("etc/passwd is a mount point of its own and was rewritten in place");
    assert!(tree.read("elsewhere").ends_with("maren:x:1002:1002::/home/maren:/bin/bash\n"));
    assert_eq!(tree.line("etc/passwd", 7), "", "the file below the mount point stays");
    assert_eq!(tree.line("etc/shadow", 7), "maren:!:20781:0::7:::");
    assert!(!tree.exists("etc/.passwd.copper-nest-new"));
}

#[test]
fn a_full_disk_leaves_everything_as_it_was() {
    let tree = TestTree::new();
    let at = tree.root().display();
    // Full at once; with room for some of the files; with room for all of them
    // but not for the home.
    for room in [0, 8, 16, 24, 28] {
        let script = format!(
            "mount -t tmpfs -o size=400k none /mnt; cp -a {at}/. /mnt; cd /mnt
             dd if=/dev/zero of=filler bs=4k 2>/dev/null || true
             truncate -s -{room}k filler
             look() {{ find . ! -name .pwd.lock ! -path ./etc ! -path ./home -printf '%p %m %U %G %s\\n' | sort; cat etc/passwd etc/shadow etc/group etc/gshadow etc/subuid; }}
             look > /dev/shm/nest-before.$$; status=0
             $NEST --tree /mnt create user maren || status=$?
             look > /dev/shm/nest-after.$$
             cmp /dev/shm/nest-before.$$ /dev/shm/nest-after.$$; rm /dev/shm/nest-*.$$
             exit $status"
        );
        let Some(run) = in_namespace("a_full_disk", &script) else { return };
        assert_eq!(run.status, 6, "room {room}: {}{}", run.stdout, run.stderr);
        assert!(run.stderr.contains("No space left on device; all is as it was"), "{}", run.stderr);
    }
}

#[test]
fn without_root_owners_are_left_undone_and_listed() {
    if !is_root() {
        return passed_over("without_root_owners_are_left_undone", "root, to become somebody else");
    }
    let tree = TestTree::new();
    for path in tree.snapshot().keys() {
        std::os::unix::fs::lchown(path, Some(65534), Some(65534)).unwrap();
    }
    tree.chown("etc/shadow", 4711, 65534);
    tree.chmod("etc/shadow", 0o644);
    let mut command = tree.command(&["create", "user", "maren"]);
    let run = Run::of(command.uid(65534).gid(65534));
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("not set, for lack of the right to: /home/maren: owner 1002:1002");
    run.says("not set, for lack of the right to: etc/shadow: owner 4711:65534");
    assert_eq!(tree.owner("home/maren/.profile"), (65534, 65534));
    assert_eq!(tree.mode("etc/shadow"), 0o600);
    assert_eq!(tree.mode("etc/passwd"), 0o644);
    // A tree that can't be written is refused at once.
    tree.chown("etc", 0, 0);
    let run = Run::of(tree.command(&["create", "user", "perrin"]).uid(65534).gid(65534));
    assert_eq!(run.status, 3);
    assert!(run.stderr.contains("etc can't be written"), "{}", run.stderr);
}

#[test]
fn the_running_system_is_only_looked_at_without_root() {
    for tree in ["/", "//", "/proc/self/root", "/usr/.."] {
        let mut command = program();
        command.args(["--tree", tree, "create", "user", "maren"]);
        if is_root() {
            command.uid(65534).gid(65534);
        }
        let run = Run::of(&mut command);
        assert_eq!(run.status, 3, "{tree}: {}", run.stderr);
        let says = "only root can change the accounts of this machine; nothing was changed.\n";
        assert_eq!(run.stderr, says, "{tree}");
        let mut command = program();
        command.args(["--tree", tree, "show", "user", "root"]);
        if is_root() {
            command.uid(65534).gid(65534);
        }
        let run = Run::of(&mut command);
        assert_eq!(run.status, 0, "{}", run.stderr);
    }
}

#[test]
fn an_interrupt_before_the_change_leaves_everything_as_it_was() {
    let tree = TestTree::new();
    let lock = hold_lock(&tree);
    let before = tree.snapshot();
    let mut child = tree.command(&["--wait", "20", "create", "user", "maren"]).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(200));
    rustix::process::kill_process(
        rustix::process::Pid::from_child(&child),
        rustix::process::Signal::INT,
    )
    .unwrap();
    assert!(!child.wait().unwrap().success());
    drop(lock);
    crate::harness::assert_same(&before, &tree.snapshot());
}
