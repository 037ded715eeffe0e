//! Surroundings that a test fills in by hand.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, OnceLock};

use bstr::{BStr, BString};

use crate::book::{Book, Texts};
use crate::configuration::{ConfigFiles, WrittenFiles};
use crate::context::PlanContext;
use crate::labels::{FileContexts, Label, Labels};
use crate::last_seen::{LastSeen, Presence, Visit};
use crate::ownership::Reown;
use crate::policy::Policy;
use crate::retired::RetiredAccount;
use crate::retired_ids::RetiredIds;
use crate::ssh::SshServer;
use crate::surroundings::*;
use crate::suspended::Suspended;
use crate::table::File;
use crate::value::{Day, FileKind, Gid, IdSpans, TreePath, Uid};
use crate::windows::{Moment, Windows};

/// A line with a key.
const KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAILM+rvN+ot98qgEN796jTiQfZfG1KaT0PtFDJ/XFSqti maren@harbour\n";

/// A line with a key that is too short.
const WEAK_KEY: &str = "ssh-rsa AAAAB3NzaC1yc2EAAAADAQABAAAAgQDN8ZUFpYJZAjIJhAr6nwf9bO0fhvBGVdzkY9bWqwP1Qnk3sDTjCO0lRGsSFSYWRl0HTUi6gQGSf0F3vfFkJt+Jd0jDq0Wz2ZQ3QwUM0hm0qT6O6qI9E8kC5bJqVX7ySxvnI2Pi8aEPKq2c7NnPlJwZ2vNjEWyTBpFZ0kuL6cKpWQ== old@quay\n";

/// The account files of these texts.
pub(crate) fn book<T: Into<String> + Clone>(texts: &[(File, T)]) -> Book {
    let mut all = Texts::default();
    for (file, text) in texts {
        all.set(*file, Arc::new(text.clone().into()));
    }
    Book::new(all)
}

/// What planners and rules go by, on 2026-11-24.
pub(crate) fn context<'a>(
    book: &'a Book,
    policy: &'a Policy,
    world: &'a dyn Surroundings,
) -> PlanContext<'a> {
    PlanContext { book, policy, world, today: Day(20781), change: None }
}

/// A world in which nothing stands in the way unless a field says so.
#[derive(Default)]
pub(crate) struct World {
    pub live: bool,
    pub sites: BTreeMap<BString, Site>,
    pub facts: BTreeMap<BString, Result<Facts, String>>,
    pub skeleton_fault: Option<SkeletonFault>,
    pub missing_programs: Vec<BString>,
    pub shells: Option<Vec<BString>>,
    pub nologin: bool,
    pub unowned: bool,
    pub keys: usize,
    pub weak_key: bool,
    /// When who was last seen.
    pub seen: BTreeMap<BString, i64>,
    pub ssh: SshServer,
    pub files: WrittenFiles,
    pub carried_labels: BTreeMap<BString, Label>,
    pub contexts: OnceLock<Option<Arc<FileContexts>>>,
    /// What the files say of hours and places.
    pub windows: OnceLock<Windows>,
    pub moment: Moment,
    pub service_ids: Vec<u32>,
    pub service_names: Vec<BString>,
    pub service_down: bool,
    pub other_sources: Option<String>,
    pub elsewhere: Elsewhere,
    pub comes_later: BTreeMap<BString, String>,
    pub identities: BTreeMap<BString, (u64, u64)>,
    pub sources_alone: Option<String>,
    pub names_granted: Vec<(BString, Vec<Mention>)>,
    pub sizes_left: BTreeMap<crate::table::File, u64>,
    pub retired: RetiredIds,
    pub kept: Vec<RetiredAccount>,
    pub surveys: BTreeMap<BString, Survey>,
    pub planted: Vec<BString>,
    pub carried: Carried,
    pub carried_ids: BTreeSet<u32>,
    pub entries: BTreeMap<BString, Vec<(BString, Facts)>>,
    pub mentions: Vec<Mention>,
    pub sudoers_fault: Option<String>,
    pub inventories: BTreeMap<BString, Inventory>,
    pub unfinished: Option<String>,
    pub mounted: Vec<BString>,
    pub suspended: Vec<Suspended>,
    pub me: Option<Uid>,
    pub processes: Vec<(Uid, Process)>,
}

impl World {
    fn asked<T>(&self, answer: T) -> Result<T, String> {
        if self.service_down { Err("the name service is down".into()) } else { Ok(answer) }
    }
}

impl Labels for World {
    fn contexts(&self) -> Result<Option<&Arc<FileContexts>>, String> {
        let read = || FileContexts::read(&self.files, "/etc/selinux/default/contexts".into());
        Ok(self.contexts.get_or_init(|| read().unwrap().map(Arc::new)).as_ref())
    }
    fn carried(&self, path: &BStr) -> Result<Option<Label>, String> {
        Ok(self.carried_labels.get(path).cloned())
    }
    fn keeps_ssh_out(&self, path: &BStr, kind: FileKind) -> Option<crate::labels::Carried> {
        let carried = self.carried_labels.get(path);
        self.contexts().unwrap()?.seems_closed_to_ssh(path, kind, carried)
    }
}

impl Surroundings for World {
    fn is_live(&self) -> bool {
        self.live
    }
    fn site(&self, path: &BStr) -> Site {
        self.sites.get(path).cloned().unwrap_or(Site::Free)
    }
    fn facts(&self, path: &BStr) -> Result<Option<Facts>, String> {
        self.facts.get(path).cloned().transpose()
    }
    fn owners_are_real(&self) -> Result<(), String> {
        if self.unowned { Err("needs root".into()) } else { Ok(()) }
    }
    fn skeleton(&self, _: &BStr) -> Result<Skeleton, SkeletonFault> {
        self.skeleton_fault.clone().map_or(Ok(Skeleton { files: 3, set_id: 0, linked: 0 }), Err)
    }
    fn program(&self, path: &BStr) -> Program {
        if self.missing_programs.iter().any(|missing| missing == path) {
            Program::Missing
        } else {
            Program::Fine
        }
    }
    fn shells(&self) -> Option<Vec<BString>> {
        self.shells.clone()
    }
    fn nologin(&self) -> Option<&'static str> {
        self.nologin.then_some("etc/nologin")
    }
    fn configuration(&self) -> &(dyn ConfigFiles + Sync) {
        &self.files
    }
    fn host(&self) -> &BStr {
        "skerry".into()
    }
    fn last_seen(&self, name: &BStr, _: Option<Uid>, _: Day) -> LastSeen {
        match self.seen.get(name) {
            Some(at) => LastSeen::At(Visit { at: *at, line: "tty1".into(), from: "".into() }),
            None if self.seen.is_empty() => LastSeen::NoLog,
            None => LastSeen::Never,
        }
    }
    fn present(&self, _: Day) -> &[Presence] {
        &[]
    }
    fn labels(&self) -> &dyn Labels {
        self
    }
    fn ssh(&self) -> &SshServer {
        &self.ssh
    }
    fn windows(&self) -> &Windows {
        self.windows.get_or_init(|| Windows::read(&self.files))
    }
    fn moment(&self) -> Moment {
        self.moment.clone()
    }
    fn key_file(&self, path: &BStr) -> KeyFile {
        let weak = self.weak_key && path == "/home/maren/.ssh/authorized_keys";
        let all = if weak { WEAK_KEY.to_owned() } else { KEY.repeat(self.keys) };
        let keys = path.ends_with(b"/authorized_keys").then(|| all.into_bytes());
        KeyFile { way: Vec::new(), closed: None, text: Ok(keys.filter(|keys| !keys.is_empty())) }
    }
    fn has_services(&self) -> bool {
        // A tree off the live system has none; a test that gives some means one that is live.
        self.live
            || self.service_down
            || !self.service_ids.is_empty()
            || !self.service_names.is_empty()
    }
    fn service_user_by_uid(&self, uid: Uid) -> Result<Option<BString>, String> {
        self.asked(self.service_ids.contains(&uid.0).then(|| "elsewhere".into()))
    }
    fn service_group_by_gid(&self, _: Gid) -> Result<Option<BString>, String> {
        self.asked(None)
    }
    fn service_knows_user(&self, name: &BStr) -> Result<bool, String> {
        self.asked(self.service_names.iter().any(|known| known == name))
    }
    fn service_knows_group(&self, _: &BStr) -> Result<bool, String> {
        self.asked(false)
    }
    fn origin(&self) -> Origin {
        self.other_sources.clone().map_or(Origin::FilesAlone, Origin::Others)
    }
    fn elsewhere(&self) -> &Elsewhere {
        &self.elsewhere
    }
    fn comes_later(&self, path: &BStr) -> Option<String> {
        let at = self.comes_later.iter().find(|(at, _)| path.starts_with(at.as_slice()));
        at.map(|(_, why)| why.clone())
    }
    fn identity(&self, path: &BStr) -> Option<(u64, u64)> {
        self.identities.get(path).copied()
    }
    fn files_not_asked(&self) -> Option<(String, String)> {
        self.sources_alone.clone().map(|sources| ("etc/nsswitch.conf:1".into(), sources))
    }
    fn names_granted(&self) -> Vec<(BString, Vec<Mention>)> {
        self.names_granted.clone()
    }
    fn size_left(&self, file: crate::table::File) -> Option<u64> {
        self.sizes_left.get(&file).copied()
    }
    fn retired(&self) -> &RetiredIds {
        &self.retired
    }
    fn retired_is_known(&self) -> Result<(), String> {
        Ok(())
    }
    fn inventory(&self, path: &BStr, _: Option<&Inventory>) -> Result<Option<Inventory>, String> {
        Ok(self.inventories.get(path).cloned())
    }
    fn survey(&self, path: &BStr, _: bool) -> Result<Option<Survey>, String> {
        Ok(self.surveys.get(path).cloned())
    }
    fn can_hide_in(&self, path: &BStr) -> Result<(), String> {
        let planted = self.planted.iter().any(|planted| planted == path);
        if planted { Err(format!("{path} is planted")) } else { Ok(()) }
    }
    fn entries(&self, path: &BStr) -> Result<Vec<(BString, Facts)>, String> {
        Ok(self.entries.get(path).cloned().unwrap_or_default())
    }
    fn home_from(&self, _: &BStr) -> Option<String> {
        None
    }
    fn is_mount_point(&self, path: &BStr) -> bool {
        self.mounted.iter().any(|mounted| mounted == path)
    }
    fn carriers_elsewhere(&self, _: u32, _: bool, _: &[TreePath]) -> Result<usize, String> {
        Ok(0)
    }
    fn carried(
        &self,
        _: &IdSpans,
        _: &IdSpans,
        _: &[TreePath],
    ) -> Result<(BTreeSet<u32>, BTreeSet<u32>), String> {
        Ok((self.carried_ids.clone(), self.carried_ids.clone()))
    }
    fn carriers(&self, _: &Reown) -> Result<(Carried, Vec<String>), String> {
        Ok((self.carried.clone(), Vec::new()))
    }
    fn me(&self) -> Option<Uid> {
        self.me
    }
    fn processes(&self, uid: Uid) -> Vec<Process> {
        let of = self.processes.iter().filter(|(of, _)| *of == uid);
        of.map(|(_, process)| process.clone()).collect()
    }
    fn sessions(&self, uid: Uid) -> Vec<Process> {
        self.processes(uid)
    }
    fn sudoers_is_known(&self) -> Result<(), String> {
        self.sudoers_fault.clone().map_or(Ok(()), Err)
    }
    fn mentions_of_group(&self, _: &BStr) -> Vec<Mention> {
        self.mentions.clone()
    }
    fn kept(&self) -> Result<&[RetiredAccount], String> {
        Ok(&self.kept)
    }
    fn suspended(&self) -> &[Suspended] {
        &self.suspended
    }
    fn left_running(&self, _: &BStr, _: Uid) -> Vec<String> {
        Vec::new()
    }
    fn mentions_of_user(&self, _: &BStr) -> Vec<Mention> {
        self.mentions.clone()
    }
    fn mentions_of_path(&self, _: &BStr, _: &BStr) -> Vec<Mention> {
        Vec::new()
    }
    fn unfinished(&self) -> Option<String> {
        self.unfinished.clone()
    }
    fn mentions(&self, _: &BStr) -> Vec<Mention> {
        self.mentions.clone()
    }
}
