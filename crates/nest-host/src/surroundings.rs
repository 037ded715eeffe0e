//! What planners and rules may ask about the world, answered from a real tree.

mod at_jobs;
mod elsewhere;
mod later;
mod seen;
mod site;
mod sources;
mod ssh;

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

use bstr::{BStr, BString, ByteSlice};
use nest_core::configuration::ConfigFiles;
use nest_core::labels::Labels;
use nest_core::last_seen::{LastSeen, Presence};
use nest_core::ownership::Reown;
use nest_core::retired::RetiredAccount;
use nest_core::retired_ids::RetiredIds;
use nest_core::ssh::SshServer;
use nest_core::sudo::Sudoers;
use nest_core::surroundings::{
    Carried, Elsewhere, Facts, Inventory, KeyFile, Mention, Origin, Process, Program, Site,
    Skeleton, SkeletonFault, Surroundings, Survey,
};
use nest_core::suspended::Suspended;
use nest_core::table::File;
use nest_core::value::{Day, FileKind, Gid, IdSpan, IdSpans, TreePath, Uid};
use nest_core::windows::{Moment, Windows};
use rustix::fs::{AtFlags, OFlags, Stat, StatxAttributes};
use rustix::io::Errno;
use seen::{Seen, where_named};

use crate::changes::LeftBehind;
use crate::configuration::{self, Files};
use crate::labels::Carrying;
use crate::mounts::Mounts;
use crate::place::{Place, is_private};
use crate::sign_in_logs::SignInLogs;
use crate::skeleton::{self, Count};
use crate::state::{Notices, PassedOver, State};
use crate::tree::{self, DIRECTORY, Tree, kind_of, path_of};
use crate::untrusted;
use crate::walk::{Met, WalkScope, walk};
use crate::words::why;
use crate::{inventory, kept, mentions, processes, reown, survey};

/// A real tree.
#[derive(Debug)]
pub struct World<'t> {
    tree: &'t Tree,
    retired: RetiredIds,
    /// Why the retired numbers could not be read.
    retired_unread: Option<String>,
    unfinished: Option<String>,
    me: Option<u32>,
    suspended: Vec<Suspended>,
    /// Where deleted accounts are kept; read when first asked for.
    state: Option<&'t State>,
    kept: OnceLock<Result<Vec<RetiredAccount>, String>>,
    mounts: OnceLock<Mounts>,
    /// Where lists of files that were found are kept for the change that follows.
    earlier: Option<&'t reown::Earlier>,
    /// The uids that something runs under.
    running: OnceLock<HashSet<Uid>>,
    files: Files<'t>,
    carrying: Carrying<'t>,
    host: OnceLock<BString>,
    ssh: OnceLock<SshServer>,
    windows: OnceLock<Windows>,
    moment: Moment,
    /// Where it is told what was passed over.
    notices: Option<&'t Notices>,
    /// The same where nobody wants to know.
    own_notices: Notices,
    seen: Seen,
    origin: OnceLock<Origin>,
    elsewhere: OnceLock<Elsewhere>,
    later: OnceLock<Vec<(BString, String)>>,
    sizes_left: OnceLock<BTreeMap<File, u64>>,
    sign_in_logs: OnceLock<SignInLogs>,
}

impl<'t> World<'t> {
    /// The world of `tree`.
    pub fn new(tree: &'t Tree, retired: RetiredIds) -> Self {
        World {
            tree,
            retired,
            retired_unread: None,
            unfinished: None,
            me: None,
            suspended: Vec::new(),
            state: None,
            kept: OnceLock::new(),
            mounts: OnceLock::new(),
            earlier: None,
            running: OnceLock::new(),
            files: Files(tree),
            carrying: Carrying(tree),
            host: OnceLock::new(),
            ssh: OnceLock::new(),
            windows: OnceLock::new(),
            moment: Moment::default(),
            notices: None,
            own_notices: Notices::default(),
            seen: Seen::default(),
            origin: OnceLock::new(),
            elsewhere: OnceLock::new(),
            later: OnceLock::new(),
            sizes_left: OnceLock::new(),
            sign_in_logs: OnceLock::new(),
        }
    }

    /// The same world, at this moment.
    #[must_use]
    pub fn at(self, moment: Moment) -> Self {
        World { moment, ..self }
    }

    /// The same world, in which this change stands unfinished.
    #[must_use]
    pub fn with_unfinished(self, unfinished: Option<String>) -> Self {
        World { unfinished, ..self }
    }

    /// The same world, in which the retired numbers could not be read.
    #[must_use]
    pub fn without_retired(self, why: String) -> Self {
        World { retired: RetiredIds::default(), retired_unread: Some(why), ..self }
    }

    /// The same world, in which these accounts are suspended.
    #[must_use]
    pub fn with_suspended(self, suspended: Vec<Suspended>) -> Self {
        World { suspended, ..self }
    }

    /// The same world, which knows the deleted accounts kept in a state folder.
    #[must_use]
    pub fn with_state(self, state: &'t State) -> Self {
        World { state: Some(state), ..self }
    }

    /// The same world, which keeps lists of files that it finds for the change that follows.
    #[must_use]
    pub fn finding_for(self, earlier: &'t reown::Earlier) -> Self {
        World { earlier: Some(earlier), ..self }
    }

    /// The same world, which tells what it passes over.
    #[must_use]
    pub fn telling(self, notices: &'t Notices) -> Self {
        World { notices: Some(notices), ..self }
    }

    fn sign_in_logs(&self, today: Day) -> &SignInLogs {
        self.sign_in_logs.get_or_init(|| SignInLogs::read(self.tree, today))
    }

    /// Says that nobody asks the name services, where they would know somebody.
    fn tell_that_nobody_is_asked(&self) {
        if let Origin::Others(others) = self.origin() {
            let fault = "can't be asked by a static build".to_owned();
            let path = format!("what {others} knows of users and groups");
            self.notices().note([PassedOver { path, fault }]);
        }
    }

    fn notices(&self) -> &Notices {
        self.notices.unwrap_or(&self.own_notices)
    }

    /// A file of configuration; `None` where there is none.
    fn configuration(&self, path: &str) -> Result<Option<Vec<u8>>, String> {
        match configuration::read(self.tree, Path::new(path)) {
            Ok(text) => Ok(Some(text)),
            Err(unreadable) if unreadable.is_missing() => Ok(None),
            Err(unreadable) => {
                self.notices().note([PassedOver::new(path, &unreadable)]);
                Err(unreadable.to_string())
            }
        }
    }

    /// The same world, seen by the login of this uid.
    #[must_use]
    pub fn seen_by(self, uid: Uid) -> Self {
        World { me: Some(uid.0), ..self }
    }

    /// How many files are in a directory and below it, links not followed: up to
    /// `most`.
    ///
    /// # Errors
    /// Why they can't be counted.
    pub fn count_files(&self, path: &BStr, most: usize) -> Result<Count, String> {
        let directory = self.tree.open_file(path_of(path), OFlags::RDONLY | OFlags::DIRECTORY);
        let counted = directory.and_then(|directory| skeleton::count(directory, most));
        counted.map_err(why)
    }
}

fn facts_of(stat: &Stat) -> Facts {
    Facts {
        kind: kind_of(stat),
        uid: Uid(stat.st_uid),
        gid: Gid(stat.st_gid),
        mode: stat.st_mode & 0o7777,
    }
}

fn bytes(path: &Path) -> BString {
    std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str()).into()
}

impl Surroundings for World<'_> {
    fn is_live(&self) -> bool {
        self.tree.is_live()
    }

    fn site(&self, path: &BStr) -> Site {
        site::judge_site(self.tree, path)
    }

    fn facts(&self, path: &BStr) -> Result<Option<Facts>, String> {
        if self.seen.is_absent(path, |directory| names_in(self.tree, directory)) {
            return Ok(None);
        }
        match self.tree.stat(path_of(path)) {
            Ok(stat) => Ok(Some(facts_of(&stat))),
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => Ok(None),
            Err(error) => Err(why(error)),
        }
    }

    fn owners_are_real(&self) -> Result<(), String> {
        // One file of another owner is a fault; all of them are somebody's copy.
        let of_root = |path: &&str| self.tree.stat(*path).is_ok_and(|stat| stat.st_uid == 0);
        let real = || self.tree.is_live() || ["etc", "etc/passwd", "etc/group"].iter().any(of_root);
        match self.seen.owners_are_real(real) {
            true => Ok(()),
            false => Err("needs root: this tree was unpacked by somebody else".into()),
        }
    }

    fn skeleton(&self, path: &BStr) -> Result<Skeleton, SkeletonFault> {
        self.seen.skeleton(path, || skeleton::inspect_skeleton(self.tree, path))
    }

    fn program(&self, path: &BStr) -> Program {
        self.seen.program(path, || match self.tree.stat(path_of(path)) {
            Ok(stat) if kind_of(&stat) == FileKind::File && stat.st_mode & 0o111 != 0 => {
                Program::Fine
            }
            Ok(_) => Program::NotExecutable,
            // What is there is made at boot.
            Err(Errno::NOENT) if path.starts_with(b"/run/") && !self.tree.is_live() => {
                Program::Unknown
            }
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => Program::Missing,
            Err(_) => Program::Unknown,
        })
    }

    fn shells(&self) -> Option<Vec<BString>> {
        self.seen.shells(|| {
            let text = self.configuration("etc/shells").ok().flatten()?;
            let lines = text.lines().map(<[u8]>::trim_ascii);
            Some(lines.filter(|line| line.starts_with(b"/")).map(BString::from).collect())
        })
    }

    fn nologin(&self) -> Option<&'static str> {
        self.seen.nologin(|| {
            ["run/nologin", "etc/nologin"].into_iter().find(|path| self.tree.stat(*path).is_ok())
        })
    }

    fn last_seen(&self, name: &BStr, uid: Option<Uid>, today: Day) -> LastSeen {
        self.sign_in_logs(today).of(name, uid)
    }

    fn present(&self, today: Day) -> &[Presence] {
        self.sign_in_logs(today).present()
    }

    fn configuration(&self) -> &(dyn ConfigFiles + Sync) {
        &self.files
    }

    fn host(&self) -> &BStr {
        self.host.get_or_init(|| host_name(self.tree)).as_bstr()
    }

    fn labels(&self) -> &dyn Labels {
        &self.carrying
    }

    fn ssh(&self) -> &SshServer {
        self.ssh.get_or_init(|| SshServer::read(&Files(self.tree)))
    }

    fn windows(&self) -> &Windows {
        self.windows.get_or_init(|| Windows::read(&self.files))
    }

    fn moment(&self) -> Moment {
        self.moment.clone()
    }

    fn key_file(&self, path: &BStr) -> KeyFile {
        ssh::key_file(self.tree, path)
    }

    fn has_services(&self) -> bool {
        if self.is_live() && !CAN_ASK_SERVICES {
            self.tell_that_nobody_is_asked();
        }
        self.is_live() && CAN_ASK_SERVICES
    }

    fn service_user_by_uid(&self, uid: Uid) -> Result<Option<BString>, String> {
        if !self.has_services() {
            return Ok(None);
        }
        let found = nix::unistd::User::from_uid(uid.0.into()).map_err(why)?;
        Ok(found.map(|user| user.name.into()))
    }

    fn service_group_by_gid(&self, gid: Gid) -> Result<Option<BString>, String> {
        if !self.has_services() {
            return Ok(None);
        }
        let found = nix::unistd::Group::from_gid(gid.0.into()).map_err(why)?;
        Ok(found.map(|group| group.name.into()))
    }

    fn service_knows_user(&self, name: &BStr) -> Result<bool, String> {
        match name.to_str() {
            Ok(name) if self.has_services() => {
                nix::unistd::User::from_name(name).map(|found| found.is_some()).map_err(why)
            }
            _ => Ok(false),
        }
    }

    fn service_knows_group(&self, name: &BStr) -> Result<bool, String> {
        match name.to_str() {
            Ok(name) if self.has_services() => {
                nix::unistd::Group::from_name(name).map(|found| found.is_some()).map_err(why)
            }
            _ => Ok(false),
        }
    }

    fn origin(&self) -> Origin {
        let read = || match self.configuration("etc/nsswitch.conf") {
            Ok(Some(text)) => sources::others_in(&text).map_or(Origin::FilesAlone, Origin::Others),
            Ok(None) => Origin::FilesAlone,
            // What is not known must not make ghosts of a directory's users.
            Err(why) => Origin::Others(format!("sources that can't be told (it {why})")),
        };
        self.origin.get_or_init(read).clone()
    }

    fn elsewhere(&self) -> &Elsewhere {
        self.elsewhere.get_or_init(|| elsewhere::read(self.tree))
    }

    fn comes_later(&self, path: &BStr) -> Option<String> {
        let places = self.later.get_or_init(|| later::places(self.tree));
        let above = |place: &BStr| {
            let rest = path.as_bytes().strip_prefix(place.as_bytes());
            rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
        };
        let (_, why) = places.iter().find(|(place, _)| above(place.as_bstr()))?;
        Some(why.clone())
    }

    fn size_left(&self, file: File) -> Option<u64> {
        let read = || {
            let folder = self.state?.open(self.tree).ok()??;
            Some(LeftBehind::read(&folder).sizes())
        };
        // Where nothing is known nothing can be missing.
        self.sizes_left.get_or_init(|| read().unwrap_or_default()).get(&file).copied()
    }

    fn retired(&self) -> &RetiredIds {
        &self.retired
    }

    fn retired_is_known(&self) -> Result<(), String> {
        self.retired_unread.clone().map_or(Ok(()), Err)
    }

    fn inventory(
        &self,
        path: &BStr,
        like: Option<&Inventory>,
    ) -> Result<Option<Inventory>, String> {
        let taken = match Place::of(self.tree, path) {
            Err(Errno::NOENT) => Ok(None),
            place => place
                .and_then(|place| inventory::take_inventory(&place.directory, &place.name, like)),
        };
        taken.map_err(|error| match error {
            Errno::XDEV => "something is mounted in it".to_owned(),
            error => why(error),
        })
    }

    fn survey(&self, path: &BStr, thorough: bool) -> Result<Option<Survey>, String> {
        let place = match Place::of(self.tree, path) {
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return Ok(None),
            // The root has no place of its own, and is no home to be counted.
            Err(Errno::EXIST) => return Ok(Some(Survey::default())),
            place => place.map_err(why)?,
        };
        let survey = survey::survey_tree(&place.directory, &place.name, path, thorough);
        let mut survey = survey.map_err(why)?;
        if let Some(survey) = &mut survey {
            // Counting may have been given up before it came by one, and none comes by a
            // file on which another one is mounted.
            survey.mounts.extend(self.mounts.get_or_init(|| Mounts::below(self.tree)).inside(path));
            survey.mounts.sort();
            survey.mounts.dedup();
        }
        Ok(survey)
    }

    fn can_hide_in(&self, path: &BStr) -> Result<(), String> {
        is_private(self.tree, path).map(drop).map_err(why)
    }

    fn entries(&self, path: &BStr) -> Result<Vec<(BString, Facts)>, String> {
        let opened = self.tree.open_file(path_of(path), DIRECTORY);
        let directory = match opened {
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return Ok(Vec::new()),
            opened => opened.map_err(why)?,
        };
        let names = crate::tree::names(&directory).map_err(why)?;
        let facts = |name: std::ffi::OsString| {
            let stat = rustix::fs::statat(&directory, &name, AtFlags::SYMLINK_NOFOLLOW).ok()?;
            Some((bytes(Path::new(&name)), facts_of(&stat)))
        };
        Ok(names.into_iter().filter_map(facts).collect())
    }

    fn home_from(&self, path: &BStr) -> Option<String> {
        let source = self.mounts.get_or_init(|| Mounts::below(self.tree)).comes_from(path)?;
        Some(String::from_utf8_lossy(&source).into_owned())
    }

    fn is_mount_point(&self, path: &BStr) -> bool {
        let place = Place::of(self.tree, path);
        place.is_ok_and(|place| {
            let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
            let mask = rustix::fs::StatxFlags::TYPE;
            match rustix::fs::statx(&place.directory, &place.name, flags, mask) {
                Ok(stat) => stat.stx_attributes.contains(StatxAttributes::MOUNT_ROOT),
                // Older kernels tell nothing but another device.
                Err(_) => {
                    let here = AtFlags::SYMLINK_NOFOLLOW;
                    let inside = rustix::fs::statat(&place.directory, &place.name, here);
                    let above = rustix::fs::fstat(&place.directory);
                    inside
                        .is_ok_and(|inside| above.is_ok_and(|above| above.st_dev != inside.st_dev))
                }
            }
        })
    }

    fn carriers_elsewhere(&self, id: u32, group: bool, but: &[TreePath]) -> Result<usize, String> {
        let count = AtomicUsize::new(0);
        let tell = |met: &Met<'_>| {
            if met.status.number(group) == id {
                count.fetch_add(1, Ordering::Relaxed);
            }
        };
        walk(self.tree, WalkScope { but, ..WalkScope::default() }, &tell)
            .map_err(|(path, error)| format!("{path}: {}", why(error)))?;
        Ok(count.into_inner())
    }

    fn carried(
        &self,
        uids: &IdSpans,
        gids: &IdSpans,
        but: &[TreePath],
    ) -> Result<(BTreeSet<u32>, BTreeSet<u32>), String> {
        let found: [Mutex<BTreeSet<u32>>; 2] = Default::default();
        let tell = |met: &Met<'_>| {
            for (group, asked) in [(false, uids), (true, gids)] {
                let id = met.status.number(group);
                if asked.overlaps(IdSpan::single(id)) {
                    let mut found =
                        found[usize::from(group)].lock().unwrap_or_else(PoisonError::into_inner);
                    found.insert(id);
                }
            }
        };
        walk(self.tree, WalkScope { but, ..WalkScope::default() }, &tell)
            .map_err(|(path, error)| format!("{path}: {}", why(error)))?;
        let [uids, gids] =
            found.map(|found| found.into_inner().unwrap_or_else(PoisonError::into_inner));
        Ok((uids, gids))
    }

    fn carriers(&self, reown: &Reown) -> Result<(Carried, Vec<String>), String> {
        let found = match self.earlier {
            Some(earlier) => earlier.find(self.tree, reown),
            None => reown::find(self.tree, reown, reown::Search::default()),
        };
        let found = found.map_err(why)?;
        Ok((found.carried, found.notes))
    }

    fn me(&self) -> Option<Uid> {
        self.me.map(Uid)
    }

    fn processes(&self, uid: Uid) -> Vec<Process> {
        if !self.tree.is_live() {
            return Vec::new();
        }
        // Of very many accounts hardly any runs something.
        let running = self.running.get_or_init(processes::running_uids);
        if running.contains(&uid) { processes::of_uid(uid) } else { Vec::new() }
    }

    fn sessions(&self, uid: Uid) -> Vec<Process> {
        if self.tree.is_live() { processes::leaders_of_uid(Uid(uid.0)) } else { Vec::new() }
    }

    fn sudoers_is_known(&self) -> Result<(), String> {
        mentions::sudoers_is_known(self.tree)
    }

    fn mentions_of_group(&self, name: &BStr) -> Vec<Mention> {
        let read = || mentions::of_groups(self.tree, self.notices());
        where_named(&self.seen.of_groups, name, read)
    }

    fn kept(&self) -> Result<&[RetiredAccount], String> {
        let read = || {
            let Some(state) = self.state else { return Ok(Vec::new()) };
            let kept = kept::read(self.tree, state).map_err(why)?;
            self.notices().note(kept.passed_over);
            Ok(kept.accounts)
        };
        self.kept.get_or_init(read).as_ref().map(Vec::as_slice).map_err(Clone::clone)
    }

    fn suspended(&self) -> &[Suspended] {
        &self.suspended
    }

    fn left_running(&self, name: &BStr, uid: Uid) -> Vec<String> {
        let mut going_on = Vec::new();
        let linger = [b"var/lib/systemd/linger/", name.as_bytes()].concat();
        if self.tree.stat(path_of(&linger)).is_ok() {
            going_on.push("lingering services".to_owned());
        }
        let jobs = self.seen.at_jobs.get_or_init(|| at_jobs::at_jobs(self.tree));
        for (directory, count) in jobs.get(&uid.0).into_iter().flatten() {
            going_on.push(format!("at jobs ({count} in {directory})"));
        }
        going_on
    }

    fn identity(&self, path: &BStr) -> Option<(u64, u64)> {
        let stat = self.tree.stat(path_of(path)).ok()?;
        Some((stat.st_dev, stat.st_ino))
    }

    fn files_not_asked(&self) -> Option<(String, String)> {
        let text = self.configuration("etc/nsswitch.conf").ok().flatten()?;
        let (line, sources) = sources::without_files(&text)?;
        Some((format!("etc/nsswitch.conf:{line}"), sources))
    }

    fn names_granted(&self) -> Vec<(BString, Vec<Mention>)> {
        let sudoers = Sudoers::read(&self.files, self.host());
        mentions::names_granted(self.tree, &sudoers, self.notices())
    }

    fn mentions_of_user(&self, name: &BStr) -> Vec<Mention> {
        let read = || mentions::of_users(self.tree, self.notices());
        let mut places = self.mentions(name);
        places.extend(where_named(&self.seen.of_users, name, read));
        places
    }

    fn mentions_of_path(&self, path: &BStr, user: &BStr) -> Vec<Mention> {
        let read = || mentions::with_paths(self.tree, self.notices());
        let own = mentions::of_own_crontabs(self.tree, user, self.notices());
        let mut places = mentions::of_path(&own, path);
        places.extend(mentions::of_path(self.seen.with_paths.get_or_init(read), path));
        places
    }

    fn unfinished(&self) -> Option<String> {
        self.unfinished.clone()
    }

    fn mentions(&self, name: &BStr) -> Vec<Mention> {
        let read = || mentions::granted(self.tree, self.notices());
        where_named(&self.seen.granted, name, read)
    }
}

/// Whether this build can ask the system's name services: their modules are loaded when they are
/// asked, and a static program loads none. It goes by what `nsswitch.conf` says then.
pub const CAN_ASK_SERVICES: bool = !cfg!(target_feature = "crt-static");

/// The names of all that is in a directory; nothing where there may be more than it lists, as
/// on file systems that mount what is asked for, or that take several names for the same.
fn names_in(tree: &Tree, directory: &BStr) -> Option<HashSet<BString>> {
    const PLAIN: [u64; 5] = [0xef53, 0x5846_5342, 0x9123_683e, 0x0102_1994, 0x794c_7630];
    let opened = tree.open_file(path_of(directory), OFlags::RDONLY | OFlags::DIRECTORY).ok()?;
    let kind = rustix::fs::fstatfs(&opened).ok()?.f_type;
    if !PLAIN.contains(&u64::try_from(kind).ok()?) {
        return None;
    }
    let names = tree::names(&opened).ok()?;
    Some(names.into_iter().map(|name| name.into_encoded_bytes().into()).collect())
}

/// What this machine calls a uid, whatever tree is being administered.
pub fn name_of_uid(uid: Uid) -> Option<String> {
    nix::unistd::User::from_uid(uid.0.into()).ok().flatten().map(|user| user.name)
}

/// What a machine is called: by its own file, or, where it runs, as the kernel says.
fn host_name(tree: &Tree) -> BString {
    if tree.is_live() {
        return rustix::system::uname().nodename().to_bytes().into();
    }
    // A tree without the file is called nothing.
    let own = untrusted::read_configuration(tree, "etc/hostname").unwrap_or_default();
    let lines = own.lines().map(<[u8]>::trim_ascii);
    let name = lines.into_iter().find(|line| !line.is_empty() && !line.starts_with(b"#"));
    name.unwrap_or_default().into()
}
