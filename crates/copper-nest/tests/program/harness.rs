//! A tree in a temporary folder, the program run on it, and what came of it.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::LazyLock;

/// The moment at which all tests take place: 2026-11-24, day 20781.
pub const NOW: &str = "1795500000";

/// A small sound tree of Gullhaven Ferries.
pub struct TestTree {
    root: PathBuf,
    _folder: tempfile::TempDir,
}

/// What one run of the program gave back.
pub struct Run {
    pub status: i32,
    pub stdout: String,
    pub stderr: String,
}

/// Kind, mode, owner, group and contents of everything in a tree.
pub type Snapshot = BTreeMap<PathBuf, (u32, u32, u32, Vec<u8>)>;

pub const PASSWD: &str = "\
root:x:0:0:root:/root:/bin/bash
daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin
nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin
tidegauge:x:999:999:Tide gauge:/nonexistent:/usr/sbin/nologin
sunniva:x:1000:1000:Sunniva Hale:/home/sunniva:/bin/bash
tavish:x:1001:1001:Tavish Rowe:/home/tavish:/bin/bash
";

pub const SHADOW: &str = "\
root:*:20600::::::
daemon:*:20600::::::
nobody:*:20600::::::
tidegauge:!:20600::::::
sunniva:$y$j9T$Gk8rTqW1xZ0aLmNvB3cD5/$oMUdqLIIUbNlp.5ERqT8mq/0KPAoLbWTEaHGlGEYnd1:20602:0::7:::
tavish:!$6$Gullhaven2$0123456789abcdef:20602:0:365:7:30:20900:
";

pub const GROUP: &str = "\
root:x:0:
daemon:x:1:
mail:x:8:
sudo:x:27:sunniva
shadow:x:42:
users:x:100:
tidegauge:x:999:
pilots:x:210:tavish
slipway:x:211:
sunniva:x:1000:
tavish:x:1001:
nogroup:x:65534:
";

pub const GSHADOW: &str = "\
root:*::
daemon:*::
mail:*::
sudo:*::sunniva
shadow:*::
users:*::
tidegauge:!::
pilots:!:tavish:tavish
slipway:!::
sunniva:!::
tavish:!::
nogroup:*::
";

pub const SUBID: &str = "sunniva:2001010688:65536\ntavish:2001076224:65536\n";

/// A public key, made for the tests.
pub const KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAILM+rvN+ot98qgEN796jTiQfZfG1KaT0PtFDJ/XFSqti maren@harbour\n";

/// Whether a case among many is tried: one of `step` in the suite, and each where
/// `scripts/explore` asks for it.
pub fn is_sampled(at: usize, step: usize) -> bool {
    at.is_multiple_of(step) || std::env::var_os("NEST_EXPLORE").is_some()
}

/// A folder of the test's own: in memory where there is room for it, as most of what the program
/// does there is waiting for a disk.
pub fn folder() -> tempfile::TempDir {
    static IN_MEMORY: LazyLock<Option<&Path>> = LazyLock::new(|| {
        /// What the largest tests may need, all at once, in bytes.
        const ROOM: u64 = 3 << 30;
        let memory = Path::new("/dev/shm");
        let about = nix::sys::statvfs::statvfs(memory).ok()?;
        let free = about.blocks_available() * about.fragment_size();
        let may_run = !about.flags().contains(nix::sys::statvfs::FsFlags::ST_NOEXEC);
        (may_run && free > ROOM && tempfile::tempdir_in(memory).is_ok()).then_some(memory)
    });
    match *IN_MEMORY {
        Some(memory) => tempfile::tempdir_in(memory).unwrap(),
        None => folder_on_disk(),
    }
}

/// A folder of the test's own where temporary files go.
pub fn folder_on_disk() -> tempfile::TempDir {
    tempfile::tempdir().unwrap()
}

impl TestTree {
    /// A folder with nothing in it.
    pub fn empty() -> Self {
        let folder = folder();
        let tree = TestTree { root: folder.path().join("tree"), _folder: folder };
        fs::create_dir(tree.root()).unwrap();
        fs::set_permissions(tree.root(), PermissionsExt::from_mode(0o755)).unwrap();
        tree
    }

    pub fn new() -> Self {
        let tree = Self::empty();
        for (name, text, mode) in [
            ("etc/passwd", PASSWD, 0o644),
            ("etc/shadow", SHADOW, 0o640),
            ("etc/group", GROUP, 0o644),
            ("etc/gshadow", GSHADOW, 0o640),
            ("etc/subuid", SUBID, 0o644),
            ("etc/subgid", SUBID, 0o644),
            ("etc/shells", "/bin/sh\n/bin/bash\n", 0o644),
            ("etc/skel/.profile", "export EDITOR=vi\n", 0o644),
            ("etc/skel/bin/tides", "#!/bin/sh\n", 0o755),
            ("bin/bash", "a shell\n", 0o755),
            ("bin/sh", "a shell\n", 0o755),
            ("usr/sbin/nologin", "no\n", 0o755),
        ] {
            tree.write(name, text);
            tree.chmod(name, mode);
        }
        symlink(".profile", tree.path("etc/skel/.login")).unwrap();
        for directory in ["home/sunniva", "home/tavish", "var/mail", "var/lib", "root"] {
            fs::create_dir_all(tree.path(directory)).unwrap();
        }
        tree.chmod("home/sunniva", 0o700);
        tree.chmod("home/tavish", 0o700);
        if is_root() {
            tree.chown("home/sunniva", 1000, 1000);
            tree.chown("home/tavish", 1001, 1001);
            tree.chown("etc/shadow", 0, 42);
            tree.chown("etc/gshadow", 0, 42);
        }
        tree
    }

    /// Another tree just like this one.
    pub fn copy(&self) -> Self {
        let copy = Self::empty();
        let from = self.root().join(".");
        let copied = Command::new("cp").arg("-a").arg(from).arg(copy.root()).status().unwrap();
        assert!(copied.success());
        copy
    }

    /// The root of the tree; beside it is room for what belongs to the test.
    pub fn root(&self) -> &Path {
        &self.root
    }

    pub fn path(&self, path: &str) -> PathBuf {
        self.root().join(path)
    }

    pub fn write(&self, path: &str, text: impl AsRef<[u8]>) {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        // Who is not root can't write to what nobody may write to.
        if let Some(mode) = path.metadata().ok().map(|facts| facts.permissions().mode())
            && mode & 0o200 == 0
            && !is_root()
        {
            fs::set_permissions(&path, PermissionsExt::from_mode(mode | 0o200)).unwrap();
            fs::write(&path, text).unwrap();
            fs::set_permissions(&path, PermissionsExt::from_mode(mode)).unwrap();
            return;
        }
        fs::write(path, text).unwrap();
    }

    pub fn append(&self, path: &str, text: impl AsRef<[u8]>) {
        let mut file = fs::OpenOptions::new().append(true).open(self.path(path)).unwrap();
        file.write_all(text.as_ref()).unwrap();
    }

    pub fn remove(&self, path: &str) {
        fs::remove_file(self.path(path)).unwrap();
    }

    pub fn bytes(&self, path: &str) -> Vec<u8> {
        fs::read(self.path(path)).unwrap_or_else(|error| panic!("{path}: {error}"))
    }

    pub fn read(&self, path: &str) -> String {
        String::from_utf8(self.bytes(path)).unwrap()
    }

    pub fn exists(&self, path: &str) -> bool {
        self.path(path).symlink_metadata().is_ok()
    }

    pub fn mode(&self, path: &str) -> u32 {
        self.path(path).symlink_metadata().unwrap().mode() & 0o7777
    }

    pub fn owner(&self, path: &str) -> (u32, u32) {
        let metadata = self.path(path).symlink_metadata().unwrap();
        (metadata.uid(), metadata.gid())
    }

    pub fn chmod(&self, path: &str, mode: u32) {
        fs::set_permissions(self.path(path), PermissionsExt::from_mode(mode)).unwrap();
    }

    pub fn chown(&self, path: &str, uid: u32, gid: u32) {
        std::os::unix::fs::lchown(self.path(path), Some(uid), Some(gid)).unwrap();
    }

    /// A line of a file, counted from 1.
    pub fn line(&self, path: &str, number: usize) -> String {
        self.read(path).lines().nth(number - 1).unwrap_or_default().to_owned()
    }

    /// The program with this tree and these words, not started yet.
    pub fn command<S: AsRef<OsStr>>(&self, words: &[S]) -> Command {
        let mut command = program();
        command.arg("--tree").arg(self.root()).args(words);
        command
    }

    /// Runs the program on this tree.
    pub fn run(&self, words: &str) -> Run {
        self.run_words(&words.split_whitespace().collect::<Vec<_>>())
    }

    /// Runs the program with something on standard input.
    pub fn fed(&self, words: &str, input: &[u8]) -> Run {
        let mut command = self.command(&words.split(' ').collect::<Vec<_>>());
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        // It may refuse before it has read anything.
        let _ = child.stdin.take().unwrap().write_all(input);
        Run::from(child.wait_with_output().unwrap())
    }

    pub fn run_words<S: AsRef<OsStr>>(&self, words: &[S]) -> Run {
        Run::of(&mut self.command(words))
    }

    /// Runs the program and expects it to do what it was asked.
    pub fn done(&self, words: &str) -> Run {
        let run = self.run(words);
        assert_eq!(run.status, 0, "{words}\n{}{}", run.stdout, run.stderr);
        run
    }

    /// Runs the program with `--format json`.
    pub fn json(&self, words: &str) -> serde_json::Value {
        self.run(&format!("{words} --format json")).json()
    }

    /// Runs the program, expects a refusal with this status and these words, and
    /// that nothing in the tree changed.
    pub fn refused(&self, words: &str, status: i32, says: &str) -> Run {
        self.refused_words(&words.split_whitespace().collect::<Vec<_>>(), status, says)
    }

    pub fn refused_words<S: AsRef<OsStr> + std::fmt::Debug>(
        &self,
        words: &[S],
        status: i32,
        says: &str,
    ) -> Run {
        let before = self.snapshot();
        let run = self.run_words(words);
        assert_eq!(run.status, status, "{words:?}\n{}{}", run.stdout, run.stderr);
        assert!(run.stderr.contains(says), "{words:?} says\n{}and not\n{says}", run.stderr);
        assert_eq!(run.stdout, "", "{words:?}");
        assert_same(&before, &self.snapshot());
        self.every_way_round_leads_on(&run);
        run
    }

    /// Pastes each way round that a refusal offers, on a copy of the tree: it runs, or is
    /// refused for another reason. What has a word to be filled in is passed over.
    fn every_way_round_leads_on(&self, refused: &Run) {
        let here = self.root().display().to_string();
        let first = |text: &str| text.lines().next().unwrap_or_default().to_owned();
        for way in refused.ways() {
            // What is not of this tree is not to be tried.
            let elsewhere = ["--state", "--passwords-to"];
            let is_ours =
                way.contains(&here) && !elsewhere.iter().any(|option| way.contains(option));
            let to_fill_in = |word: &str| {
                word.len() > 1 && word.bytes().all(|byte| byte.is_ascii_uppercase() || byte == b'-')
            };
            if !is_ours || way.split(' ').any(to_fill_in) {
                continue;
            }
            let copy = self.copy();
            let there = copy.root().display().to_string();
            let run = paste(&way.replace(&here, &there));
            let said = run.stderr.replace(&there, &here);
            // Of a table with several faults each way takes care of its own.
            let led_on = run.status == 0
                || first(&said) != first(&refused.stderr)
                || said.contains("things are wrong") && said != refused.stderr;
            let ran = !matches!(run.status, 2 | 101 | 127);
            assert!(led_on && ran, "{way}\n{}: {}{}", run.status, run.stdout, run.stderr);
        }
    }

    /// Everything in the tree but the state folder and the lock file, which every
    /// program that changes accounts makes and leaves.
    pub fn snapshot(&self) -> Snapshot {
        let mut all = self.snapshot_with_state();
        all.retain(|path, _| !path.starts_with(self.path("var/lib/copper-nest")));
        all
    }

    /// The same without empty directories of a name, which stay where things were
    /// set aside.
    pub fn snapshot_without(&self, name: &str) -> Snapshot {
        let mut all = self.snapshot();
        let empty =
            |path: &Path| fs::read_dir(path).is_ok_and(|mut inside| inside.next().is_none());
        all.retain(|path, _| !(path.ends_with(name) && empty(path)));
        all
    }

    /// Everything in the tree but the lock file.
    pub fn snapshot_with_state(&self) -> Snapshot {
        let mut all = Snapshot::new();
        let mut batch = vec![self.root().to_owned()];
        while let Some(path) = batch.pop() {
            // Not even opened: closing it would drop a lock that a test holds.
            if path.ends_with("etc/.pwd.lock") {
                continue;
            }
            let metadata = path.symlink_metadata().unwrap();
            let mut contents = Vec::new();
            if metadata.is_dir() {
                batch.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
            } else if metadata.is_symlink() {
                contents = fs::read_link(&path).unwrap().into_os_string().into_encoded_bytes();
            } else if metadata.is_file() {
                contents = fs::read(&path).unwrap_or_default();
            }
            for name in ["system.posix_acl_access", "system.posix_acl_default", CAPABILITY] {
                contents.extend(attribute(&path, name).unwrap_or_default());
            }
            let (mode, uid, gid) = (metadata.mode(), metadata.uid(), metadata.gid());
            all.insert(path, (mode, uid, gid, contents));
        }
        all
    }
}

/// The extended attribute that holds the capabilities of a file, capabilities(7).
pub const CAPABILITY: &str = "security.capability";

/// An extended attribute of what is at a path, which is no link.
pub fn attribute(path: &Path, name: &str) -> Option<Vec<u8>> {
    let mut value = [0; 1024];
    let length = rustix::fs::lgetxattr(path, name, &mut value[..]).ok()?;
    Some(value[..length].to_vec())
}

/// An access control list, as the kernel keeps it: the bits of the owner, of some users, of the
/// group, of some groups, the mask, and those of all others.
pub fn access_list(users: &[u32], groups: &[u32]) -> Vec<u8> {
    const NONE: u32 = u32::MAX;
    let mut list = 2_u32.to_le_bytes().to_vec();
    let of = |tag: u16, ids: &[u32]| ids.iter().map(|id| (tag, *id)).collect::<Vec<_>>();
    let entries = [
        of(1, &[NONE]),
        of(2, users),
        of(4, &[NONE]),
        of(8, groups),
        of(16, &[NONE]),
        of(32, &[NONE]),
    ];
    for (tag, id) in entries.concat() {
        list.extend(tag.to_le_bytes());
        list.extend(6_u16.to_le_bytes());
        list.extend(id.to_le_bytes());
    }
    list
}

/// Sets an extended attribute of what is at a path. Returns whether that could be done.
pub fn set_attribute(path: &Path, name: &str, value: &[u8]) -> bool {
    rustix::fs::setxattr(path, name, value, rustix::fs::XattrFlags::empty()).is_ok()
}

/// Compares two snapshots and names the paths that differ.
pub fn assert_same(before: &Snapshot, after: &Snapshot) {
    let paths: std::collections::BTreeSet<_> = before.keys().chain(after.keys()).collect();
    let differ: Vec<_> =
        paths.into_iter().filter(|path| before.get(*path) != after.get(*path)).collect();
    assert!(differ.is_empty(), "changed: {differ:?}");
}

/// The built program, at the moment of the tests and without colour.
pub fn program() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_copper-nest"));
    command.env("SOURCE_DATE_EPOCH", NOW).env_remove("RUST_LOG").stdin(Stdio::null());
    command
}

/// Runs a command line as it was printed, in a shell, with every question answered yes.
pub fn paste(command: &str) -> Run {
    static FOLDER: std::sync::OnceLock<PathBuf> = std::sync::OnceLock::new();
    let folder = FOLDER.get_or_init(|| {
        let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("pasted");
        fs::create_dir_all(&folder).unwrap();
        let script = folder.join("copper-nest");
        let text = format!("#!/bin/sh\nexec {} --yes \"$@\"\n", env!("CARGO_BIN_EXE_copper-nest"));
        fs::write(&script, text).unwrap();
        fs::set_permissions(&script, PermissionsExt::from_mode(0o755)).unwrap();
        folder
    });
    let path = format!("{}:{}", folder.display(), std::env::var("PATH").unwrap());
    let mut shell = Command::new("bash");
    // What it makes where it stands goes with it.
    let stand = self::folder();
    shell.current_dir(stand.path());
    shell.args(["-c", command]).env("PATH", path).env("SOURCE_DATE_EPOCH", NOW);
    Run::of(shell.stdin(Stdio::null()))
}

impl Run {
    /// The commands that a refusal offers.
    pub fn ways(&self) -> Vec<String> {
        let lines = self.stderr.lines().filter(|line| line.starts_with("  "));
        let ways = lines.filter_map(|line| Some(line.trim_start().split_once("    ")?.1.trim()));
        ways.map(str::to_owned).collect()
    }

    pub fn of(command: &mut Command) -> Self {
        Self::from(command.output().unwrap())
    }

    pub fn from(output: Output) -> Self {
        Run {
            status: output.status.code().unwrap_or(-1),
            stdout: String::from_utf8(output.stdout).unwrap(),
            stderr: String::from_utf8(output.stderr).unwrap(),
        }
    }

    /// What stdout holds, as JSON.
    pub fn json(&self) -> serde_json::Value {
        let document = serde_json::from_str(&self.stdout)
            .unwrap_or_else(|error| panic!("{error}: {}{}", self.stdout, self.stderr));
        crate::documents::content(document)
    }

    /// The value beside a label, in a receipt or a shown user, with single
    /// spaces.
    pub fn value(&self, label: &str) -> String {
        let line = self.stdout.lines().find_map(|line| {
            let rest = line.trim_start().strip_prefix(label)?;
            rest.starts_with("  ").then_some(rest)
        });
        let line = line.unwrap_or_else(|| panic!("no {label} in\n{}", self.stdout));
        line.split_whitespace().collect::<Vec<_>>().join(" ")
    }

    /// Expects these words on stdout.
    pub fn says(&self, words: &str) -> &Self {
        assert!(self.stdout.contains(words), "no \"{words}\" in\n{}", self.stdout);
        self
    }

    pub fn complains(&self, words: &str) -> &Self {
        assert!(self.stderr.contains(words), "no \"{words}\" in\n{}", self.stderr);
        self
    }
}

/// A command under strace, with these options of it; what strace sees goes to `log`.
pub fn under_strace(command: &Command, options: &[&str], log: &Path) -> Command {
    let mut watched = Command::new("strace");
    watched.args(["-f", "-qq", "-o"]).arg(log).args(options);
    watched.arg(command.get_program()).args(command.get_args());
    for (name, value) in command.get_envs() {
        match value {
            Some(value) => watched.env(name, value),
            None => watched.env_remove(name),
        };
    }
    watched
}

pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// For tests that need root, or a program: says that they were passed over.
pub use crate::passed_over::passed_over;

/// For tests in which whoever runs them owns a home and must be nobody that the
/// tree knows: says so where it is otherwise.
pub fn lives_in_the_tree(test: &str) -> bool {
    let me = rustix::process::geteuid().as_raw();
    let known = !is_root() && PASSWD.contains(&format!(":x:{me}:"));
    if known {
        passed_over(test, "a user whose uid the test tree does not use, or root");
    }
    known
}

/// Whether a program that a test needs is there.
pub fn has_program(name: &str) -> bool {
    Command::new("sh")
        .args(["-c", &format!("command -v {name}")])
        .stdout(Stdio::null())
        .status()
        .is_ok_and(|status| status.success())
}

/// Everything in a folder beside a tree, which nothing that is done to the tree may
/// touch.
pub struct Host {
    folder: tempfile::TempDir,
    before: Vec<(PathBuf, Vec<u8>)>,
}

impl Host {
    pub fn new() -> Self {
        let folder = folder();
        fs::create_dir_all(folder.path().join("inner")).unwrap();
        for file in ["passwd", "x", "inner/x", "account.json", "1.json"] {
            fs::write(folder.path().join(file), "the host's\n").unwrap();
        }
        let mut host = Host { folder, before: Vec::new() };
        host.before = host.look();
        host
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    fn look(&self) -> Vec<(PathBuf, Vec<u8>)> {
        let (mut all, mut batch) = (Vec::new(), vec![self.path().to_owned()]);
        while let Some(path) = batch.pop() {
            match path.symlink_metadata().unwrap().is_dir() {
                true => {
                    batch.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
                    all.push((path, Vec::new()));
                }
                false => all.push((path.clone(), fs::read(&path).unwrap())),
            }
        }
        all.sort();
        all
    }

    pub fn assert_untouched(&self, place: &str) {
        assert_eq!(self.look(), self.before, "the host was touched: {place}");
    }
}

/// Runs a test in a mount namespace of its own, as root.
pub fn with_mounts_of_its_own(what: &str, test: impl FnOnce() + Send + 'static) {
    use nix::mount::{MsFlags, mount};
    if !is_root() {
        return passed_over(what, "root");
    }
    let what = what.to_owned();
    let thread = std::thread::spawn(move || {
        let none: Option<&str> = None;
        if nix::sched::unshare(nix::sched::CloneFlags::CLONE_NEWNS).is_err() {
            return passed_over(&what, "a mount namespace");
        }
        mount(none, "/", none, MsFlags::MS_REC | MsFlags::MS_PRIVATE, none).unwrap();
        test();
    });
    if let Err(panic) = thread.join() {
        std::panic::resume_unwind(panic);
    }
}

/// Shows a directory at another place too.
pub fn bind(from: &Path, to: &Path) {
    use nix::mount::{MsFlags, mount};
    let none: Option<&str> = None;
    mount(Some(from), to, none, MsFlags::MS_BIND, none).unwrap();
}

/// Mounts memory of so many bytes.
pub fn mount_memory(at: &Path, bytes: u64) {
    use nix::mount::{MsFlags, mount};
    let size = format!("size={bytes},mode=755");
    mount(Some("none"), at, Some("tmpfs"), MsFlags::empty(), Some(&*size)).unwrap();
}
