//! The running system: a mount namespace in which the tree stands for `/etc`,
//! `/home` and `/var`, so that the program takes it for the machine's own.

use std::sync::{Mutex, PoisonError};

use crate::commit::in_namespace;
use crate::harness::{Run, TestTree, passed_over};

const BIND: &str = "
for directory in etc home var; do mount --bind $TREE/$directory /$directory; done
NEST=\"$NEST --state $TREE/../state\"
";

/// Runs a script with the tree in the place of the machine's own files.
fn live(test: &str, tree: &TestTree, script: &str) -> Option<Run> {
    tree.write("etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\n");
    let at = tree.root().display();
    in_namespace(test, &format!("TREE={at}\n{BIND}\n{script}"))
}

#[test]
fn your_own_account_is_guarded() {
    let tree = TestTree::new();
    // One that can sign in by its password, so that there is something to lose.
    tree.write("etc/shadow", tree.read("etc/shadow").replace("tavish:!$6$", "tavish:$6$"));
    let script = "
        export SUDO_UID=1001
        $NEST suspend user tavish && exit 9
        $NEST password user tavish --none && exit 9
        $NEST change user tavish --expires +9d && exit 9
        $NEST delete user tavish --yes && exit 9
        $NEST suspend user tavish --even-me";
    let Some(run) = live("your_own_account_is_guarded", &tree, script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert_eq!(run.stderr.matches("it is your own account").count(), 4, "{}", run.stderr);
    run.says("done: change 1.");
    let record = std::fs::read_to_string(tree.root().join("../state/changes/1.json")).unwrap();
    assert!(record.contains("\"uid\": 1001,\n    \"name\": \"tavish\""), "{record}");
}

#[test]
fn your_own_account_is_known_by_who_became_root() {
    let tree = TestTree::new();
    tree.write("etc/shadow", tree.read("etc/shadow").replace("tavish:!$6$", "tavish:$6$"));
    tree.chmod("..", 0o755);
    // A program that makes root of whoever starts it, and says nothing of that.
    let script = "
        [ \"$(cat /proc/self/loginuid 2>/dev/null || echo 4294967295)\" = 4294967295 ] || exit 77
        unset SUDO_UID
        cp $(command -v setpriv) $TREE/../becomes-root; chmod 4755 $TREE/../becomes-root
        setpriv --reuid 1001 --clear-groups sh -c \"$TREE/../becomes-root --reuid 0 $NEST suspend user tavish; echo \\$? >&2\"
        $NEST suspend user tavish";
    let Some(run) = live("your_own_account_is_known", &tree, script) else { return };
    if run.status == 77 {
        return passed_over("your_own_account_is_known", "a session without a login of its own");
    }
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert!(run.stderr.contains("it is your own account"), "{}", run.stderr);
    // Who signed in as root, or is root in a container, has no other account.
    run.says("done: change 1.");
}

/// Who starts something as uid 1001 holds this: another test may end it.
static AT_WORK: Mutex<()> = Mutex::new(());

#[test]
fn who_is_at_work_is_not_renumbered_unasked() {
    let _alone = AT_WORK.lock().unwrap_or_else(PoisonError::into_inner);
    let tree = TestTree::new();
    tree.write("../numbers.csv", "kind,name,id\nuser,tavish,1500\nuser,sunniva,1600\n");
    let script = "
        setpriv --reuid 1001 --clear-groups sleep 60 & worker=$!
        while [ $(stat -c %u /proc/$worker) != 1001 ]; do sleep 0.05; done
        $NEST renumber $TREE/../numbers.csv --paths /home --yes && exit 9
        stat -c %u /home/tavish
        $NEST renumber $TREE/../numbers.csv --paths /home --yes --even-if-busy -q || exit 8
        kill $worker
        stat -c %u:%g /home/tavish /home/sunniva
        $NEST undo --yes -q
        stat -c %u:%g /home/tavish /home/sunniva";
    let Some(run) = live("who_is_at_work_is_not_renumbered", &tree, script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    let owners = "1001\n1500:1500\n1600:1600\n1001:1001\n1000:1000\n";
    assert_eq!(run.stdout, owners, "{}", run.stderr);
    assert!(run.stderr.contains("tavish would get uid 1500, and 1"), "{}", run.stderr);
    assert!(run.stderr.contains("--even-if-busy"), "{}", run.stderr);
}

#[test]
fn who_is_at_work_is_named_and_can_be_ended() {
    let _alone = AT_WORK.lock().unwrap_or_else(PoisonError::into_inner);
    let tree = TestTree::new();
    let script = "
        setpriv --reuid 1001 --clear-groups sleep 300 & worker=$!
        while [ $(stat -c %u /proc/$worker) != 1001 ]; do sleep 0.05; done
        $NEST rename user tavish torben && exit 9
        $NEST change user tavish --uid 1500 && exit 9
        $NEST change user tavish --home /home/new && exit 9
        $NEST delete user tavish --yes && exit 9
        $NEST change group tavish --gid 1600 && exit 9
        $NEST suspend user tavish
        echo and now
        $NEST suspend user tavish --end-processes
        wait
        $NEST suspend user tavish --end-processes";
    let Some(run) = live("who_is_at_work_is_named", &tree, script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert_eq!(run.stderr.matches("1 process runs under it").count(), 5, "{}", run.stderr);
    assert!(run.stderr.contains("sleep 300"), "{}", run.stderr);
    // Who is suspended already is not left at work, and the receipt says what was done.
    let (first, then) = run.stdout.split_once("and now\n").unwrap();
    assert!(first.contains("  runs       "), "{first}");
    let ends = "suspend user tavish --end-processes ends it";
    assert!(
        first.contains("of tavish runs on: copper-nest --state ") && first.contains(ends),
        "{first}"
    );
    assert!(then.contains("  ends       "), "{then}");
    assert!(!then.contains("runs on") && !then.contains("nothing was changed.\nnext"), "{then}");
    assert!(then.contains("the account is so already: no file was changed."), "{then}");
    assert!(run.stderr.contains("tavish: 1 process was ended"), "{}", run.stderr);
    // The last time there was nothing to end.
    assert!(then.trim_end().ends_with("everything is so already: nothing was changed."), "{then}");
}

#[test]
fn the_systems_log_gets_a_line_a_change_and_no_secret() {
    let tree = TestTree::new();
    let listener = "import os, socket, sys
s = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM); s.bind(sys.argv[1]); s.settimeout(20)
open(sys.argv[2], 'w').close()
with open(sys.argv[2] + '.lines', 'w') as out:
    for _ in range(3): print(s.recv(4096).decode(), file=out, flush=True)";
    tree.write("listen.py", listener);
    let script = "
        mkdir $TREE/../dev
        mount -t tmpfs none $TREE/../dev
        for device in null urandom; do touch $TREE/../dev/$device; mount --bind /dev/$device $TREE/../dev/$device; done
        python3 $TREE/listen.py $TREE/../dev/log $TREE/../listening &
        while [ ! -e $TREE/../listening ]; do sleep 0.05; done
        mkdir $TREE/../dev/shm
        mount --bind /dev/shm $TREE/../dev/shm
        mount --rbind $TREE/../dev /dev
        $NEST -q create user maren
        echo 'kelp-Harbour.91 tern' | $NEST -q password user maren --from-stdin
        $NEST -q undo 1 --yes && exit 9
        $NEST --tree $TREE -q change user maren --full-name Maren
        wait";
    let Some(run) = live("the_systems_log", &tree, script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    let lines = std::fs::read_to_string(tree.root().join("../listening.lines")).unwrap();
    let lines: Vec<&str> = lines.lines().collect();
    assert!(lines[0].starts_with("<85>Nov 24 06:00:00 copper-nest["), "{lines:?}");
    assert!(lines[0].ends_with("change 1 by root (uid 0): create user maren"), "{lines:?}");
    assert!(lines[1].ends_with("change 2 by root (uid 0): password user maren"), "{lines:?}");
    assert!(lines[2].contains(&format!(" in {}: change user maren", tree.root().display())));
    assert!(!lines.concat().contains("kelp") && !lines.concat().contains("$y$"));
}

#[test]
fn a_place_that_can_not_hold_the_home_leaves_all_as_it_was() {
    let tree = TestTree::new();
    tree.write("home/tavish/chart", vec![b'x'; 300_000]);
    let before = tree.snapshot();
    let at = tree.root().display();
    for options in ["size=100k", "ro"] {
        let script = format!(
            "mkdir -p {at}/srv; mount -t tmpfs -o {options} none {at}/srv
             $NEST --tree {at} change user tavish --home /srv/tavish"
        );
        let Some(run) = in_namespace("a_place_that_can_not_hold_the_home", &script) else { return };
        assert_eq!(run.status, 6, "{}", run.stderr);
        assert!(run.stderr.contains("all is as it was"), "{}", run.stderr);
        std::fs::remove_dir(tree.path("srv")).unwrap();
        crate::harness::assert_same(&before, &tree.snapshot());
    }
}

#[test]
fn a_name_that_only_the_name_services_know_joins_a_group() {
    let tree = TestTree::new();
    let ada = r#"{"userName":"ada","uid":61000,"gid":61000,"disposition":"regular"}"#;
    tree.write("etc/userdb/ada.user", ada);
    std::os::unix::fs::symlink("ada.user", tree.path("etc/userdb/61000.user")).unwrap();
    let script = "
        printf 'passwd: files systemd\\ngroup: files systemd\\n' > /etc/nsswitch.conf
        getent passwd ada >/dev/null || exit 77
        $NEST regroup ada --join pilots
        $NEST check --only ghost-member
        id -G ada
        $NEST regroup adam --join pilots && exit 9
        $NEST create user ada && exit 9
        exit 0";
    let test = "a_name_that_only_the_name_services_know";
    let Some(run) = live(test, &tree, script) else { return };
    if run.status == 77 {
        return passed_over(test, "a C library with the name service systemd");
    }
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    run.says("ada is not a local account: the system's name services know that user");
    run.says("\n61000 210\n");
    assert!(run.stderr.contains("there is no user adam"), "{}", run.stderr);
    assert!(run.stderr.contains("already know a user of that name"), "{}", run.stderr);
}

/// What the C library's lookups say after each command, and which group a file
/// gets that the user makes.
#[test]
fn the_system_sees_each_change_of_groups() {
    let _alone = AT_WORK.lock().unwrap_or_else(PoisonError::into_inner);
    let tree = TestTree::new();
    let look = r#"
import grp, os, pwd, sys
def look():
    return {g.gr_name: (g.gr_gid, g.gr_mem) for g in grp.getgrall()}
def made_by(name):
    user = pwd.getpwnam(name)
    child = os.fork()
    if child == 0:
        os.initgroups(name, user.pw_gid); os.setgid(user.pw_gid); os.setuid(user.pw_uid)
        open("/home/" + name + "/made", "w").close()
        os._exit(0)
    os.waitpid(child, 0)
    stat = os.stat("/home/" + name + "/made"); os.unlink("/home/" + name + "/made")
    return stat.st_uid, stat.st_gid
what = sys.argv[1]
if what == "member":
    assert ("tavish" in look()[sys.argv[2]][1]) == (sys.argv[3] == "yes"), look()
elif what == "gid":
    assert look()[sys.argv[2]][0] == int(sys.argv[3]), look()
    assert grp.getgrgid(int(sys.argv[3])).gr_name == sys.argv[2]
elif what == "gone":
    assert sys.argv[2] not in look()
elif what == "made":
    assert made_by("tavish") == (1001, int(sys.argv[2])), made_by("tavish")
"#;
    tree.write("look.py", look);
    let script = "
        command -v python3 >/dev/null || exit 77
        look() { python3 $TREE/look.py \"$@\"; }
        $NEST create group divers --member tavish; look member divers yes; look gid divers 1002
        test \"$(getent group divers)\" = divers:x:1002:tavish
        $NEST regroup tavish --join slipway --leave divers; look member divers no; look member slipway yes
        test \"$(id -nG tavish)\" = 'tavish pilots slipway'
        $NEST rename group divers frogs; look gid frogs 1002; look gone divers
        $NEST change group frogs --gid 1400 --add-member tavish; look gid frogs 1400; look member frogs yes
        look made 1001
        $NEST regroup tavish --primary frogs; look made 1400
        test \"$(id -g tavish)\" = 1400
        $NEST delete group pilots --even-service --yes; look gone pilots
        $NEST restore group pilots; look member pilots yes; look gid pilots 210
        setpriv --reuid 1001 --regid 1001 --clear-groups setsid sleep 300 & sleep 0.3
        $NEST regroup tavish --leave slipway
        kill $!";
    let test = "the_system_sees_each_change_of_groups";
    let Some(run) = live(test, &tree, script) else { return };
    if run.status == 77 {
        return passed_over(test, "python3");
    }
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    run.says("session   ").says("sleep 300   since ").says("with the groups of then");
}

#[test]
fn a_machine_with_nothing_in_run_proc_and_sys_is_administered_all_the_same() {
    let tree = TestTree::new();
    // Nothing there but what the program and a shell need.
    let script = "
        mount -t tmpfs none /run -o ro
        # Unless the program itself was built there, or its tree is.
        case \"$NEST $TREE\" in */tmp/*) ;; *) mount -t tmpfs none /tmp -o size=1m ;; esac
        mount -t tmpfs none /sys
        mkdir -p /etc/selinux/default/contexts/files
        echo '/home/.* u:object_r:user_home_t:s0' > /etc/selinux/default/contexts/files/file_contexts
        mount -t tmpfs none /proc
        [ -z \"$(ls -A /run)\" ] || exit 9
        $NEST create user maren || exit 8
        $NEST show user maren | grep sign-in || exit 7
        $NEST check --only no-root,duplicate-uid || exit 6
        $NEST rename user maren marlo --yes || exit 5
        $NEST delete user marlo --yes || exit 4
        $NEST restore user marlo || exit 3
        id -u marlo";
    let test = "a_machine_with_nothing_in_run_proc_and_sys";
    let Some(run) = live(test, &tree, script) else { return };
    assert_eq!(run.status, 0, "{}\n{}", run.stdout, run.stderr);
    assert!(run.stdout.trim_end().ends_with("1002"), "{}", run.stdout);
    run.says("not set, as there is no /proc to reach it by: /home/maren: its label");
}

#[test]
fn the_kernels_audit_log_is_told_of_each_account() {
    const TEST: &str = "the_kernels_audit_log_is_told_of_each_account";
    if !crate::harness::has_program("strace") {
        return passed_over(TEST, "strace");
    }
    let tree = TestTree::new();
    let script = "
        calls=$TREE/../calls
        strace -f -e trace=socket,sendto -s 900 -o $calls $NEST create user maren --join pilots --no-home
        grep -q NETLINK_AUDIT $calls || exit 9
        grep nlmsg_type $calls
        strace -f -e trace=socket -o $calls $NEST -n delete user maren && ! grep -q NETLINK_AUDIT $calls
        strace -f -e inject=socket:error=EPROTONOSUPPORT -o $calls $NEST delete user maren --yes
        strace -f -e trace=socket -o $calls $NEST --tree $TREE create group gulls && ! grep -q NETLINK_AUDIT $calls";
    let Some(run) = live(TEST, &tree, script) else { return };
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    // What is sent is shown byte by byte.
    let shown = |text: &str| text.bytes().map(|byte| format!("\\x{byte:02x}")).collect::<String>();
    for (kind, told) in [
        (0x45a, "op=create-user acct=\"maren\" exe="),
        (0x45c, "op=create-group grp=\"maren\" exe="),
        (0x46c, "op=change-group grp=\"pilots\" exe="),
    ] {
        let message =
            run.stdout.lines().find(|line| line.contains(&format!("nlmsg_type={kind:#x}")));
        let message = message.unwrap_or_else(|| panic!("no {told} in {}", run.stdout));
        assert!(message.contains(&shown(told)), "{message}");
        assert!(message.contains(&shown("res=success")), "{message}");
    }
}
