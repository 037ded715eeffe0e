//! Groups, and accounts that leave and come back, on books and worlds made by hand.

use bstr::BString;
use proptest::prelude::*;

use super::people_tests::{
    Planned, edited, judged, line, on, recorded, says, texts, undoing, world,
};
use crate::change::{Caution, Plan, Step};
use crate::context::PlanContext;
use crate::plan::groups::{
    ChangeGroup, DeleteGroup, GroupPassword, RenameGroup, RestoreGroup, change_group, delete_group,
    group_password, rename_group, restore_group,
};
use crate::plan::history::{Purge, purge};
use crate::plan::numbers::{Reassign, reassign};
use crate::plan::users::{
    DeleteUser, FilesDisposition, Regroup, RestoreUser, delete_user, regroup, restore_user,
};
use crate::policy::Policy;
use crate::request::GuardOverrides;
use crate::retired::{RetiredAccount, VERSION};
use crate::retired_ids::RetiredId;
use crate::surroundings::{Carried, Facts, Process, Site, Survey};
use crate::table::File;
use crate::test_support::World;
use crate::value::{Author, Day, FileKind, Gid, Uid, UserName, UserOrGroup};

fn regrouping(names: &[&str], set: impl Fn(&mut Regroup)) -> impl Fn(PlanContext<'_>) -> Planned {
    let names = names.iter().map(|name| UserName::from(*name)).collect();
    let mut request = Regroup { names, ..Regroup::default() };
    set(&mut request);
    judged(request, regroup)
}

fn deleting(names: &[&str], files: FilesDisposition) -> impl Fn(PlanContext<'_>) -> Planned {
    let names = names.iter().map(|name| UserName::from(*name)).collect();
    let request = DeleteUser { names, files, ..DeleteUser::default() };
    move |context| delete_user(context, &request)
}

fn ungrouping(name: &str) -> impl Fn(PlanContext<'_>) -> Planned {
    let request = DeleteGroup { names: vec![name.into()], ..DeleteGroup::default() };
    move |context| delete_group(context, &request)
}

fn restoring(name: &str) -> impl Fn(PlanContext<'_>) -> Planned {
    let request = RestoreUser { names: vec![name.into()], ..RestoreUser::default() };
    move |context| restore_user(context, &request)
}

/// The world after a plan: things are where they were moved, and what is kept is.
fn after(plan: &Plan) -> World {
    let mut later = world();
    for step in &plan.steps {
        match step {
            Step::Move { from, to, .. } => {
                let site = later.sites.remove(&**from).unwrap();
                later.sites.insert(to.clone().into(), site);
            }
            Step::Keep { folder, kept } => later.kept.push(RetiredAccount {
                version: VERSION,
                change: 8,
                time: "2026-11-24T06:00:00+00:00".into(),
                by: Author { uid: Uid::ROOT, name: None },
                kept: (**kept).clone(),
                digests: Default::default(),
                folder: folder.clone(),
            }),
            Step::RetireIds(retired) => later.retired = retired.clone(),
            _ => {}
        }
    }
    later
}

fn labels(plan: &Plan) -> Vec<(String, String)> {
    let decisions = plan.subjects.iter().flat_map(|subject| &subject.decisions);
    decisions.map(|one| (one.label.as_str().to_owned(), one.value.to_string())).collect()
}

/// Files with a newline at their ends, which a line after the last one has to add.
fn ended(texts: Vec<(File, String)>) -> Vec<(File, String)> {
    let end = |(file, text): (File, String)| (file, format!("{}\n", text.trim_end()));
    texts.into_iter().map(end).collect()
}

#[test]
fn joining_never_removes_and_leaving_never_adds() {
    let join = |request: &mut Regroup| request.join = vec!["pilots".into(), "sudo".into()];
    let plan = on(&texts(), &world(), regrouping(&["tavish", "gauge"], join)).unwrap();
    let after = edited(&texts(), &plan.edits);
    assert_eq!(line(&after, File::Group, "sudo"), "sudo:x:27:sunniva,tavish,gauge");
    assert_eq!(line(&after, File::Group, "pilots"), "pilots:x:210:tavish,sunniva,gauge");
    assert!(plan.cautions.contains(&Caution::ListTidied { group: "pilots".into() }));
    assert_eq!(line(&after, File::Gshadow, "sudo"), "sudo:!::sunniva,tavish,gauge");
    let leave = |request: &mut Regroup| request.leave = vec!["210".into()];
    let plan = on(&texts(), &world(), regrouping(&["tavish", "gauge"], leave)).unwrap();
    let after = edited(&texts(), &plan.edits);
    assert_eq!(line(&after, File::Group, "pilots"), "pilots:x:210:sunniva");
    assert_eq!(line(&after, File::Gshadow, "pilots"), "pilots:!:tavish:sunniva", "still its admin");
    assert!(labels(&plan).contains(&("not in".into(), "pilots".into())));
}

#[test]
fn sessions_that_keep_the_old_groups_are_named() {
    let mut world = world();
    for pid in 1..7 {
        let process = Process { pid, command: "vi tides".into(), since: "2026-11-24".into() };
        world.processes.push((Uid(1001), process));
    }
    let join = |request: &mut Regroup| request.join = vec!["sudo".into()];
    let plan = on(&texts(), &world, regrouping(&["tavish"], join)).unwrap();
    let told = labels(&plan);
    assert!(told.contains(&("session".into(), "1 vi tides".into())));
    assert!(told.contains(&("session".into(), "and 2 more".into())));
    assert!(plan.cautions.contains(&Caution::NextSignIn { name: "tavish".into() }));
}

#[test]
fn the_last_administrators_can_not_leave_together() {
    let mut texts = texts();
    texts[2].1 = texts[2].1.replace("sudo:x:27:sunniva", "sudo:x:27:sunniva,tavish");
    texts[1].1 = texts[1].1.replace(":!$6$", ":$6$").replace(":20000:0:90", ":20781:0:90");
    let leave = |request: &mut Regroup| request.admin = Some(false);
    assert!(on(&texts, &world(), regrouping(&["tavish"], leave)).is_ok());
    let refused = says(on(&texts, &world(), regrouping(&["tavish", "sunniva"], leave)));
    assert!(refused.contains("no other account can sign in as administrator"), "{refused}");
    let drop = ChangeGroup {
        name: "sudo".into(),
        drop_members: vec!["tavish".into(), "sunniva".into()],
        ..ChangeGroup::default()
    };
    assert!(on(&texts, &world(), judged(drop, change_group)).is_err());
}

#[test]
fn a_new_gid_goes_to_users_and_homes_but_not_to_the_whole_system() {
    let mut texts = texts();
    texts[0].1 += "\nroving:x:1005:210::/:/bin/sh\nperrin:x:1006:210::/home/perrin:/bin/sh\n";
    let request =
        ChangeGroup { name: "pilots".into(), gid: Some(Gid(1400)), ..ChangeGroup::default() };
    let plan = on(&texts, &world(), |context| change_group(context, &request)).unwrap();
    let after = edited(&texts, &plan.edits);
    assert_eq!(line(&after, File::Passwd, "roving"), "roving:x:1005:1400::/:/bin/sh");
    let Step::Reown(reown) = &plan.steps[0] else { panic!("{:?}", plan.steps) };
    // Of those who have it as primary group, and of those who are listed.
    let homes: Vec<String> = reown.paths.iter().map(ToString::to_string).collect();
    assert_eq!(homes, ["/home/perrin", "/home/sunniva", "/home/tavish"]);
    assert_eq!(reown.gids.pairs(), [(210, 1400)]);
    assert!(reown.uids.is_empty() && reown.follows);
    let mut busy = world();
    let process = Process { pid: 7, command: "vi".into(), since: "today".into() };
    busy.processes.push((Uid(1006), process));
    let overrides = GuardOverrides { service: true, ..GuardOverrides::default() };
    let request = ChangeGroup { overrides, ..request };
    let refused = says(on(&texts, &busy, judged(request, change_group)));
    assert!(refused.contains("the files of perrin would get another group, and 1"), "{refused}");
}

#[test]
fn what_stands_in_the_way_of_a_deletion_is_told_with_the_choice() {
    let facts = Facts { kind: FileKind::Directory, uid: Uid(1001), gid: Gid(1001), mode: 0o700 };
    let surveyed = |survey: Survey| {
        let mut world = world();
        world.surveys.insert("/home/tavish".into(), survey);
        world
    };
    let mut mounted = world();
    mounted.mounted.push("/home/tavish".into());
    let mut foreign = world();
    foreign.sites.insert("/home/tavish".into(), Site::Taken(Facts { uid: Uid::ROOT, ..facts }));
    let mut link = world();
    link.sites.insert("/home/tavish".into(), Site::Taken(Facts { kind: FileKind::Link, ..facts }));
    let inner = Survey { mounts: vec!["/home/tavish/net".into()], ..Survey::default() };
    let fixed = Survey { fixed: Some("/home/tavish/x".into()), ..Survey::default() };
    for (world, files, says) in [
        (mounted, FilesDisposition::SetAside, "is a mount point"),
        (foreign, FilesDisposition::Archive, "belongs to root, not to tavish"),
        (link, FilesDisposition::Erase, "is a link"),
        (surveyed(inner), FilesDisposition::SetAside, "has something mounted in it"),
        (surveyed(fixed.clone()), FilesDisposition::Erase, "not even root can change it"),
    ] {
        let refusal = on(&texts(), &world, deleting(&["tavish"], files)).unwrap_err();
        assert!(refusal.to_string().contains(says), "{refusal}");
        assert_eq!(refusal.ways[0].text, "delete user tavish --files keep");
        assert!(on(&texts(), &world, deleting(&["tavish"], FilesDisposition::Keep)).is_ok());
    }
    assert!(
        on(&texts(), &surveyed(fixed), deleting(&["tavish"], FilesDisposition::SetAside)).is_ok()
    );
    let mut planted = world();
    planted.planted.push("/home/.set-aside".into());
    let refused = says(on(&texts(), &planted, deleting(&["tavish"], FilesDisposition::SetAside)));
    assert!(refused.contains("somebody has planted it"), "{refused}");
}

#[test]
fn what_can_not_come_back_is_told_first() {
    let plan = on(&texts(), &world(), deleting(&["tavish"], FilesDisposition::SetAside)).unwrap();
    let gone = edited(&texts(), &plan.edits);
    let later = after(&plan);
    let mut changed = gone.clone();
    changed[2].1 = changed[2].1.replace("pilots:x:210:", "pilots:x:299:");
    let back = on(&changed, &later, restoring("tavish")).unwrap();
    let told = labels(&back);
    assert!(told.contains(&("not back".into(), "member of pilots".into())), "{told:?}");
    let mut lost = after(&plan);
    lost.sites.clear();
    let back = on(&gone, &lost, restoring("tavish")).unwrap();
    assert!(labels(&back).contains(&("not back".into(), "home /home/tavish".into())));
    let mut taken = after(&plan);
    let facts = Facts { kind: FileKind::Directory, uid: Uid::ROOT, gid: Gid::ROOT, mode: 0o755 };
    taken.sites.insert("/home/tavish".into(), Site::Taken(facts));
    let refused = says(on(&gone, &taken, restoring("tavish")));
    assert!(refused.contains("is a directory of root now"), "{refused}");
    let mut ranged = gone.clone();
    ranged[4].1 += "sunniva:2001010690:5\n";
    let told = labels(&on(&ranged, &later, restoring("1001")).unwrap());
    let range = ("not back".to_owned(), "range 2001010688-2001076223".to_owned());
    assert_eq!(told.iter().filter(|one| **one == range).count(), 1, "{told:?}");
    let refused = says(on(&gone, &later, restoring("tavis")));
    assert!(refused.contains("no deleted user tavis is kept; the nearest is tavish"), "{refused}");
}

#[test]
fn a_number_that_was_shared_is_shared_again_unless_another_is_asked_for() {
    let mut texts = texts();
    texts[0].1 += "\nsquatter:x:1001:1000::/:/bin/sh\n";
    texts[2].1 += "\nsquatters:x:1001:\n";
    let plan = on(&texts, &world(), deleting(&["tavish"], FilesDisposition::SetAside)).unwrap();
    let gone = edited(&texts, &plan.edits);
    let again = on(&gone, &after(&plan), restoring("tavish")).unwrap();
    let again = edited(&gone, &again.edits);
    assert!(line(&again, File::Passwd, "tavish").starts_with("tavish:x:1001:1001:"));
    let request = RestoreUser { names: vec!["tavish".into()], new_id: true, ..Default::default() };
    let new = on(&gone, &after(&plan), |context| restore_user(context, &request)).unwrap();
    let new = edited(&gone, &new.edits);
    assert!(line(&new, File::Passwd, "tavish").starts_with("tavish:x:1002:1002:"));
    assert_eq!(line(&new, File::Group, "tavish"), "tavish:x:1002:");
}

#[test]
fn ranges_that_overlapped_before_come_back_as_they_were() {
    let mut texts = texts();
    texts[4].1 += "sunniva:2001010690:5\n";
    let plan = on(&texts, &world(), deleting(&["tavish"], FilesDisposition::SetAside)).unwrap();
    let gone = edited(&texts, &plan.edits);
    let back = on(&gone, &after(&plan), restoring("tavish")).unwrap();
    assert_eq!(ended(edited(&gone, &back.edits)), ended(texts));
}

#[test]
fn another_name_or_number_reaches_everything_that_comes_back() {
    let plan = on(&texts(), &world(), deleting(&["tavish"], FilesDisposition::SetAside)).unwrap();
    let mut gone = edited(&texts(), &plan.edits);
    gone[2].1 = gone[2].1.replace("sudo:x:27:sunniva", "sudo:x:27:sunniva,torben");
    gone[0].1 += "\nsquatter:x:1001:1000::/:/bin/sh\n";
    let request = RestoreUser {
        resumed_of: None,
        names: vec!["tavish".into()],
        as_name: Some("torben".into()),
        new_id: true,
        without_password: true,
    };
    let back = on(&gone, &after(&plan), |context| restore_user(context, &request)).unwrap();
    let listed = |caution: &Caution| matches!(caution, Caution::ListedAlready { .. });
    assert!(back.cautions.iter().any(listed), "{:?}", back.cautions);
    let now = edited(&gone, &back.edits);
    let passwd = line(&now, File::Passwd, "torben");
    assert_eq!(passwd, "torben:x:1002:1001:Tavish Rowe,Pier 2:/home/torben:/bin/sh");
    assert!(line(&now, File::Shadow, "torben").starts_with("torben:!:20000:"));
    assert_eq!(line(&now, File::Group, "torben"), "torben:x:1001:");
    assert_eq!(line(&now, File::Group, "pilots"), "pilots:x:210: torben,,sunniva");
    assert_eq!(line(&now, File::Gshadow, "pilots"), "pilots:!:torben:torben,sunniva");
    assert_eq!(line(&now, File::Subuid, "1002"), "1002:2001500000:10");
    let owned = back.steps.iter().find_map(|step| match step {
        Step::Reown(reown) => reown.uids.pairs().first().copied(),
        _ => None,
    });
    assert_eq!(owned, Some((1001, 1002)));
}

#[test]
fn purging_frees_numbers_only_where_the_policy_says_so() {
    let plan = on(&texts(), &world(), deleting(&["tavish"], FilesDisposition::SetAside)).unwrap();
    let gone = edited(&texts(), &plan.edits);
    let later = after(&plan);
    let named = Purge::Named(UserOrGroup::User, vec!["tavish".into()]);
    let stays = on(&gone, &later, |context| purge(context, &named)).unwrap();
    let revives = |plan: &Plan| plan.steps.iter().any(|step| matches!(step, Step::ReviveIds(_)));
    assert!(!revives(&stays));
    assert!(stays.steps.iter().any(|step| matches!(step, Step::Erase { .. })));
    assert!(stays.steps.iter().any(Step::is_final));
    let freed = Policy::read("p", "[ids]\nfreed = \"after-retention\"\n").unwrap();
    let frees =
        on(&gone, &later, |context| purge(PlanContext { policy: &freed, ..context }, &named));
    assert!(revives(&frees.unwrap()));
    let due = on(&gone, &later, |context| purge(context, &Purge::Due)).unwrap();
    assert!(due.nothing, "nothing is past its days");
    let late = |context: PlanContext<'_>| {
        purge(PlanContext { today: Day(20781 + 180), ..context }, &Purge::Due)
    };
    assert!(!on(&gone, &later, late).unwrap().nothing);
}

#[test]
fn reassigning_is_refused_where_it_makes_no_sense() {
    let give = |from: &str, to: &str, paths: &[&str]| {
        let paths = paths.iter().map(|path| BString::from(*path)).collect();
        let (from, to) = (from.into(), to.into());
        let request = Reassign { from, to, paths, ..Reassign::default() };
        let mut world = world();
        world.carried = Carried { files: 3, bytes: 7, linked: 1, ..Carried::default() };
        on(&texts(), &world, |context| reassign(context, &request))
    };
    for (from, to, paths, says) in [
        ("tavish", "1001", &[][..], "both are uid 1001"),
        ("root", "tavish", &[], "root's files are the system itself"),
        ("4294967295", "tavish", &[], "is reserved"),
        ("tavis", "tavish", &[], "the nearest is tavish"),
        ("1500", "tavish", &["srv"], "is not absolute"),
        ("1500", "tavish", &["/nowhere"], "does not exist in this tree"),
    ] {
        let refused = give(from, to, paths).unwrap_err().to_string();
        assert!(refused.contains(says), "{refused}");
    }
    let mut later = world();
    for (name, id) in [("maren", 1500), ("odile", 1501), ("odile", 1502), ("torben", 1001)] {
        later.retired.users.push(RetiredId { id, name: name.into(), since: None });
    }
    later.carried = Carried { files: 3, bytes: 7, ..Carried::default() };
    let give_in = |world: &World, from: &str| {
        let request = Reassign { from: from.into(), to: "tavish".into(), ..Reassign::default() };
        on(&texts(), world, |context| reassign(context, &request))
    };
    let give_deleted = |from: &str| give_in(&later, from);
    for (from, says) in [
        ("maren", "maren, uid 1500, deleted"),
        ("1500", "uid 1500, retired: it was maren's"),
        ("1503", "uid 1503, which nobody has"),
    ] {
        assert_eq!(labels(&give_deleted(from).unwrap())[0], ("from".into(), says.into()));
    }
    let which = give_deleted("odile").unwrap_err().ways;
    let which: Vec<_> = which.iter().map(|way| way.text.as_str()).collect();
    assert!(
        which.ends_with(&["reassign user 1501 tavish", "reassign user 1502 tavish"]),
        "{which:?}"
    );
    // By now the number is tavish's.
    assert!(give_deleted("torben").is_err());
    later.service_names.push("maren".into());
    assert!(give_in(&later, "maren").is_err(), "somebody is called so again");
    later.service_names.clear();
    later.service_ids.push(1500);
    assert!(give_in(&later, "maren").is_err(), "somebody has the number again");
    let plan = give("1500", "4711", &["/home/tavish"]).unwrap();
    assert_eq!(plan.cautions, [Caution::NobodyHas { uid: Uid(4711) }]);
    let Step::Reown(reown) = &plan.steps[0] else { panic!("{:?}", plan.steps) };
    assert!(reown.everywhere && !reown.hard_links && !reown.follows && reown.gids.is_empty());
}

#[test]
fn giving_what_is_set_aside_is_told() {
    let plan = on(&texts(), &world(), deleting(&["tavish"], FilesDisposition::SetAside)).unwrap();
    let gone = edited(&texts(), &plan.edits);
    let mut later = after(&plan);
    later.carried = Carried { files: 3, bytes: 7, ..Carried::default() };
    let root = Facts { kind: FileKind::Directory, uid: Uid::ROOT, gid: Gid::ROOT, mode: 0o755 };
    for (path, told) in [("/", true), ("/home", true), ("/srv", false)] {
        later.sites.insert(path.into(), Site::Taken(root));
        let paths = vec![path.into()];
        let (from, to) = ("1001".into(), "sunniva".into());
        let request = Reassign { from, to, paths, ..Reassign::default() };
        let plan = on(&gone, &later, |context| reassign(context, &request)).unwrap();
        let said = plan.cautions.iter().any(|caution| {
            let said = caution.to_string();
            said.contains("/.set-aside/tavish.1001.8 is given too")
                && said.contains("restore user tavish")
        });
        assert_eq!(said, told, "{path}: {:?}", plan.cautions);
    }
}

proptest! {
    /// Whoever leaves and comes back, by undo or by restoring, leaves the files as
    /// they were; and no record holds a hash.
    #[test]
    fn leaving_and_coming_back_are_nothing(
        which in 0usize..8,
        by_undo in any::<bool>(),
        ragged in "(tavish|sunniva|gauge|guest| gauge|)(,(tavish|guest|gauge|)){0,4}",
        admins in "(tavish|sunniva|)(,(gauge|tavish)){0,2}",
    ) {
        let mut texts = texts();
        texts[2].1 = texts[2].1.replace(" tavish,,sunniva", &ragged);
        texts[3].1 = texts[3].1.replace("pilots:!:tavish:tavish,sunniva",
            &format!("pilots:$6$saltsalt$group:{admins}:{ragged}"));
        let password = GroupPassword { name: "tavish".into(), hash: Some("$6$saltsalt$x".into()) };
        let rename = RenameGroup { old: "pilots".into(), new: "crew".into(), ..Default::default() };
        let join = |request: &mut Regroup| {
            request.join = vec!["pilots".into()];
            request.leave = vec!["sudo".into()];
            request.overrides.last_admin = true;
        };
        let plan = on(&texts, &world(), |context| match which {
            0 | 1 => deleting(&["tavish"], FilesDisposition::SetAside)(context),
            2 => deleting(&["sunniva"], FilesDisposition::Keep)(context),
            3 | 4 => ungrouping("pilots")(context),
            5 => regrouping(&["tavish", "sunniva"], join)(context),
            6 => rename_group(context, &rename),
            _ => group_password(context, &password),
        }).unwrap();
        let gone = edited(&texts, &plan.edits);
        let record = recorded(&plan, None);
        let text = serde_json::to_string(&record).unwrap();
        prop_assert!(!text.contains("saltsalt"), "{}", text);
        let record = serde_json::from_str(&text).unwrap();
        let back = on(&gone, &after(&plan), |context| match which {
            0..=2 if !by_undo => restoring(if which == 2 { "sunniva" } else { "1001" })(context),
            3 | 4 if !by_undo => {
                let names = vec!["pilots".into()];
                restore_group(context, &RestoreGroup { names, ..RestoreGroup::default() })
            }
            _ => undoing(&record)(context),
        }).unwrap();
        // Restoring a group leaves out who is gone, and nobody is.
        prop_assert_eq!(ended(edited(&gone, &back.edits)), ended(texts));
    }
}
