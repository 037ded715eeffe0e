//! Where a new user's home is, and what has to be done for it.

use std::borrow::Cow;

use bstr::{BStr, BString};

use crate::account::NO_HOME;
use crate::change::{Caution, Label, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::claim::{Claim, Judged, Purpose, system_directory};
use crate::drafting::find::FoundUser;
use crate::drafting::plan_builder::PlanBuilder;
use crate::ownership::Owner;
use crate::policy::Policy;
use crate::refusal::{HomeTrouble, Reason, Refusal, Result};
use crate::request::{CreateUser, key_file};
use crate::retired::BelongingKind;
use crate::surroundings::{Site, Skeleton, SkeletonFault};
use crate::value::{FileKind, TreePath, Uid, check_keys, join, parent_of, path_fault};
use crate::words::counted;

/// What was decided about a home.
pub(crate) struct HomePlan {
    /// The home field of the passwd line.
    pub field: Cow<'static, [u8]>,
    pub steps: Vec<Step>,
    pub cautions: Vec<Caution>,
}

pub(crate) fn plan_home(
    context: PlanContext<'_>,
    request: &CreateUser,
    name: &BStr,
    owner: Owner,
    subject: &mut Subject,
) -> Result<HomePlan> {
    let refuse = |reason| Refusal::new(format!("{name} was not created"), reason);
    let mut plan =
        HomePlan { field: NO_HOME.as_bytes().into(), steps: Vec::new(), cautions: Vec::new() };
    let none_wanted = request.no_home || request.service && request.home.is_none();
    if none_wanted && !request.keys.is_empty() {
        return Err(refuse(HomeTrouble::KeyWithoutHome.into()));
    }
    if none_wanted && request.home.is_none() && !request.record_home {
        let why =
            if request.no_home { "as asked" } else { "services have none unless --home names it" };
        subject.decide_with(Label::HOME, || ("none", format!("{why}; the field says {NO_HOME}")));
        return Ok(plan);
    }
    let mut home: BString = match &request.home {
        Some(home) => home.clone(),
        None => context.policy.home_of(name).into(),
    };
    if let Some(fault) = path_fault(&home) {
        return Err(refuse(Reason::BadPath { what: "home", path: home, fault }));
    }
    while home.len() > 1 && home.ends_with(b"/") {
        home.pop();
    }
    plan.cautions.extend(shared_home(context, name, &home));
    if none_wanted {
        subject.decide_with(Label::HOME, || {
            (home.clone(), "the path is recorded, no directory is made")
        });
        plan.field = Vec::from(home).into();
        return Ok(plan);
    }
    plan.field = home.to_vec().into();
    plan.cautions.extend(in_others(context, &home, owner.uid));
    if request.adopt_home {
        adopt(context, request, (name, &home), owner, &mut plan).map_err(|reason| {
            let only_record = format!("create user {name} --home {home} --no-home");
            refuse(*reason).or("only record the path", only_record)
        })?;
        subject.decide(Label::HOME, home, "adopted as it is");
        return Ok(plan);
    }
    match context.world.site(home.as_ref()) {
        Site::Free => {}
        Site::Taken(facts) => {
            let owner = owner_name(context, facts.uid);
            let mut refusal = refuse(
                HomeTrouble::HomeExists { path: home.clone(), kind: facts.kind, owner }.into(),
            );
            if facts.kind == FileKind::Directory {
                refusal = refusal.or(
                    "take it over as it is",
                    format!("create user {name} --home {home} --adopt-home"),
                );
            }
            refusal =
                refusal.or("or put the home elsewhere", format!("create user {name} --home PATH"));
            return Err(refusal);
        }
        Site::ThroughLink { link, real } => {
            let way = format!("create user {name} --home {real}");
            let refusal = refuse(HomeTrouble::HomeThroughLink { home, link }.into());
            return Err(refusal.or("give the path it leads to", way));
        }
        site => {
            let parent = match &site {
                Site::NoParent(parent) | Site::ParentIsNoDirectory(parent) => parent.clone(),
                _ => home.clone(),
            };
            let fault = match site {
                Site::NoParent(_) => "does not exist".to_owned(),
                Site::ParentIsNoDirectory(_) => "is no directory".to_owned(),
                site => obstacle(&home, &site),
            };
            let refusal = refuse(HomeTrouble::HomeParent { home, parent, fault }.into());
            return Err(
                refusal.or("put the home elsewhere", format!("create user {name} --home PATH"))
            );
        }
    }
    let skeleton = choose_skeleton(context, request, &home).map_err(|(path, fault)| {
        let refusal = refuse(HomeTrouble::Skeleton { path, fault }.into());
        refusal.or("make an empty home", format!("create user {name} --skeleton none"))
    })?;
    let mode = context.policy.people_home_permissions.0;
    let why = match &skeleton {
        Some((path, Skeleton { files, .. })) => {
            format!("{} from {path}, mode {mode:04o}", counted(*files, "file", "files"))
        }
        None => format!("empty, mode {mode:04o}"),
    };
    if let Some((path, Skeleton { set_id, linked, .. })) = &skeleton {
        let skeleton = || path.clone();
        let set_id =
            (*set_id > 0).then(|| Caution::SkeletonSetId { skeleton: skeleton(), count: *set_id });
        let linked =
            (*linked > 0).then(|| Caution::SkeletonLinked { skeleton: skeleton(), count: *linked });
        plan.cautions.extend(set_id.into_iter().chain(linked));
    }
    subject.decide(Label::HOME, home.clone(), why);
    let files: Vec<_> = key_file(&request.keys).into_iter().collect();
    note_keys(request, subject, home.as_ref());
    plan.steps.push(Step::MakeDirectory {
        path: TreePath::judged(&home),
        skeleton: skeleton.map(|(path, _)| TreePath::judged(&path)),
        files,
        owner,
        mode,
    });
    Ok(plan)
}

fn note_keys(request: &CreateUser, subject: &mut Subject, home: &BStr) {
    for keys in &request.keys {
        let count = check_keys(&keys.text).unwrap_or(0);
        let value = counted(count, "key", "keys");
        let file = join(home, b".ssh/authorized_keys");
        subject.decide("ssh", value, format!("from {}, in {file}", keys.path));
    }
}

/// Services' homes are empty unless a skeleton is asked for.
fn choose_skeleton(
    context: PlanContext<'_>,
    request: &CreateUser,
    home: &[u8],
) -> Result<Option<(BString, Skeleton)>, (BString, SkeletonFault)> {
    let mut path: BString = match &request.skeleton {
        Some(path) => path.clone(),
        None if request.service => return Ok(None),
        None => context.policy.people_skeleton.as_str().into(),
    };
    if path == "none" {
        return Ok(None);
    }
    if let Some(fault) = path_fault(&path) {
        return Err((path, SkeletonFault::Path(fault)));
    }
    while path.len() > 1 && path.ends_with(b"/") {
        path.pop();
    }
    if let Some(fault) = system_directory(&path) {
        return Err((path, SkeletonFault::System(fault)));
    }
    if home.starts_with(&join(&path, b"")) {
        return Err((path, SkeletonFault::HoldsHome { home: home.into() }));
    }
    match context.world.skeleton(path.as_ref()) {
        Ok(skeleton) => Ok(Some((path, skeleton))),
        Err(fault) => Err((path, fault)),
    }
}

fn adopt(
    context: PlanContext<'_>,
    request: &CreateUser,
    (name, home): (&BStr, &BString),
    owner: Owner,
    plan: &mut HomePlan,
) -> Result<(), Box<Reason>> {
    let nothing = |fault: String| HomeTrouble::NothingToAdopt { path: home.clone(), fault }.into();
    let kind = FileKind::Directory;
    let claim = Claim { path: home, uid: owner.uid, name, kind, purpose: Purpose::Adopt };
    let (below, facts) = match claim.judge(context) {
        Judged::Nothing => return Err(Box::new(nothing("it does not exist".into()))),
        Judged::Fault(fault) => return Err(Box::new(nothing(format!("it {fault}")))),
        Judged::Sound(path, facts, _) => (path, facts),
    };
    if let Some(file) = key_file(&request.keys) {
        let path = join(home, &file.path);
        if context.world.facts(path.as_ref()).map_err(nothing)?.is_some() {
            return Err(Box::new(Reason::KeysExist(path)));
        }
        plan.steps.push(Step::MakeFile { below: below.clone(), file, owner });
    }
    let from = Owner { uid: facts.uid, gid: facts.gid };
    if from != owner {
        plan.steps.push(Step::GiveDirectory { path: below, from, to: owner });
    }
    plan.cautions.push(Caution::HomeAdopted { home: home.clone() });
    Ok(())
}

/// What has to be told about a home in a directory that is neither root's nor the
/// owner's of the home.
pub(crate) fn in_others(context: PlanContext<'_>, home: &BString, uid: Uid) -> Option<Caution> {
    let parent = BStr::new(parent_of(home));
    let facts = context.world.facts(parent).ok().flatten()?;
    let others =
        facts.uid != Uid::ROOT && facts.uid != uid && context.world.owners_are_real().is_ok();
    others.then(|| Caution::HomeInOthers {
        home: home.clone(),
        parent: parent.to_owned(),
        owner: owner_name(context, facts.uid),
    })
}

/// What to run where a home can't be moved.
pub(crate) enum Instead {
    /// The same, and the home stays where it is.
    KeepHome,
    /// The same, and no file is moved.
    RecordOnly,
}

/// The step that takes a home with everything in it to another place.
///
/// # Errors
/// The [`Refusal`], of `what`: the home can't be moved, or not there.
pub(crate) fn move_home(
    context: PlanContext<'_>,
    found: &FoundUser<'_>,
    from: &BString,
    to: &BString,
    what: &str,
    instead: Instead,
) -> Result<Step> {
    let refuse = |reason| Refusal::new(what, reason);
    let only_record = |refusal: Box<Refusal>| match &instead {
        Instead::KeepHome => refusal.or_again("leave the home where it is", "--keep-home"),
        Instead::RecordOnly => refusal.or_again("only change the record", "--record-only"),
    };
    let not_movable =
        |fault: String| only_record(refuse(HomeTrouble::HomeNotMovable(fault).into()));
    let claim = Claim::of(found, from, FileKind::Directory, Purpose::Move);
    let old = match claim.judge(context) {
        Judged::Nothing => {
            let refusal = not_movable(format!("{from} is not there"));
            return Err(match &instead {
                Instead::KeepHome => refusal,
                Instead::RecordOnly => refusal.or_again("or make one there", "--make-home"),
            });
        }
        Judged::Fault(fault) => return Err(not_movable(format!("{from} {fault}"))),
        Judged::Sound(..) if to.starts_with(&join(from, b"")[..]) => {
            return Err(not_movable(format!("{to} lies inside {from}")));
        }
        Judged::Sound(path, ..) => path,
    };
    match context.world.site(to.as_ref()) {
        Site::Free => Ok(Step::Move { from: old, to: TreePath::judged(to), aside: false }),
        Site::ThroughLink { link, .. } => {
            Err(refuse(HomeTrouble::HomeThroughLink { home: to.clone(), link }.into()))
        }
        site => Err(only_record(refuse(HomeTrouble::HomeNotMovable(obstacle(to, &site)).into()))),
    }
}

/// What lines elsewhere still say of a home that moves, once all steps of the plan are there.
pub(crate) fn tell_home_moved(builder: &mut PlanBuilder<'_>, user: &BStr, old: &BString) {
    let moves = builder.plan.steps.iter().filter_map(|step| match step {
        Step::Move { from, to, .. } => Some((from, to)),
        _ => None,
    });
    let moves: Vec<(&TreePath, &TreePath)> = moves.collect();
    let moved = |path: &[u8]| moves.iter().find(|(from, _)| ***from == *path);
    let Some((_, new)) = moved(old) else { return };
    let mut places = builder.context.world.mentions_of_path(old.as_ref(), user);
    // They are looked up once it is done: a crontab may have another name then.
    for place in &mut places {
        if let Some((_, to)) = moved(format!("/{}", place.file).as_bytes()) {
            place.file = to.to_string().trim_start_matches('/').to_owned();
        }
    }
    if !places.is_empty() {
        let (old, new) = (old.clone(), BString::from(new.as_slice()));
        builder.caution(Caution::HomeMoved { old, new, places });
    }
}

/// Where crontabs are, by the name of their user.
const CRONTABS: [&str; 2] = ["/var/spool/cron/crontabs", "/var/spool/cron"];

/// What bears an account's name outside its home: the mail spool file, and
/// crontabs, where the machine has such a directory.
pub(crate) fn named_after(policy: &Policy, name: &[u8]) -> Vec<(BelongingKind, BString)> {
    let mut all = vec![(BelongingKind::Mail, BString::from(policy.spool_of(name)))];
    all.extend(
        CRONTABS.map(|directory| (BelongingKind::Crontab, join(directory.as_bytes(), name))),
    );
    all
}

/// What has to be told about a path that is only recorded as a home.
pub(crate) fn record_home(
    context: PlanContext<'_>,
    name: &BStr,
    home: &BString,
) -> Option<Caution> {
    let missing = !matches!(context.world.facts(home.as_ref()), Ok(Some(_)));
    missing.then(|| Caution::HomeMissing { name: name.to_owned(), home: home.clone() })
}

/// That somebody else has the home too.
pub(crate) fn shared_home(
    context: PlanContext<'_>,
    name: &BStr,
    home: &BString,
) -> Option<Caution> {
    let other = context.book.user_at_home(home).filter(|other| **other != **name)?;
    Some(Caution::HomeShared { home: home.clone(), other: other.into() })
}

/// The name of a uid, or the number where nobody has it.
fn owner_name(context: PlanContext<'_>, uid: Uid) -> BString {
    match context.book.user_by_uid(uid) {
        Some((_, user)) => format!("{} ({uid})", BStr::new(user.name)).into(),
        None => format!("{uid}, which nobody has").into(),
    }
}

/// Why nothing can be made at a path, as a sentence.
pub(crate) fn obstacle(path: &BString, site: &Site) -> String {
    match site {
        Site::Free => String::new(),
        Site::Taken(facts) => format!("{path} exists already: {}", facts.kind),
        Site::NoParent(parent) => format!("{parent} does not exist"),
        Site::ParentIsNoDirectory(parent) => format!("{parent} is no directory"),
        Site::ThroughLink { link, .. } => format!("the way to {path} goes through the link {link}"),
        Site::Unknown(why) => format!("{path} can't be looked at: {why}"),
    }
}
