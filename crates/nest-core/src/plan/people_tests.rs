//! Changes of accounts, and taking them back, on books and worlds made by hand.

use std::sync::Arc;

use proptest::prelude::*;

use crate::book::{Book, Texts};
use crate::change::{Plan, Step};
use crate::consequences::judge;
use crate::context::PlanContext;
use crate::plan::history::{Undo, undo};
use crate::plan::users::{
    ChangeUser, RenameUser, Resume, Suspend, change_user, create_user, rename_user, resume, suspend,
};
use crate::policy::Policy;
use crate::record::tests::record;
use crate::record::{ChangeRecord, Told};
use crate::refusal::Result;
use crate::request::{CreateUser, GuardOverrides, RangesAsked, Request};
use crate::surroundings::{Facts, Inventory, Process, Site};
use crate::suspended::Suspended;
use crate::table::{Edit, File};
use crate::test_support::World;
use crate::value::{FileKind, Gid, Uid, UserName};

const HASH: &str = "$6$saltsalt$abcdefghijklmnop";

pub(super) fn texts() -> Vec<(File, String)> {
    vec![
        (
            File::Passwd,
            "root:x:0:0::/root:/bin/sh\nsunniva:x:1000:1000::/home/sunniva:/bin/sh\n\
             # crew\ntavish:x:1001:1001:Tavish Rowe,Pier 2:/home/tavish:/bin/sh\n\
             gauge:x:900:900::/nonexistent:/usr/sbin/nologin"
                .into(),
        ),
        (
            File::Shadow,
            format!(
                "root:*:1::::::\nsunniva:{HASH}:20000:0::7:::\ntavish:!{HASH}:20000:0:90:7:5:20900:\n"
            ),
        ),
        (
            File::Group,
            "root:x:0:\nsudo:x:27:sunniva\npilots:x:210: tavish,,sunniva\n\
             sunniva:x:1000:\ntavish:x:1001:\n"
                .into(),
        ),
        (File::Gshadow, "pilots:!:tavish:tavish,sunniva\ntavish:!::\n".into()),
        (File::Subuid, "tavish:2001010688:65536\n1001:2001500000:10\n".into()),
        (File::Subgid, "tavish:2001010688:65536\n".into()),
    ]
}

pub(super) fn book(texts: &[(File, String)]) -> Book {
    let mut all = Texts::default();
    for (file, text) in texts {
        all.set(*file, Arc::new(text.clone()));
    }
    Book::new(all)
}

/// The home of tavish is there and his own.
pub(super) fn world() -> World {
    let mut world = World::default();
    let facts = Facts { kind: FileKind::Directory, uid: Uid(1001), gid: Gid(1001), mode: 0o700 };
    world.sites.insert("/home/tavish".into(), Site::Taken(facts));
    world
}

pub(super) type Planned = Result<Plan>;

pub(super) fn on(
    texts: &[(File, String)],
    world: &World,
    plan: impl Fn(PlanContext<'_>) -> Planned,
) -> Planned {
    let (book, policy) = (book(texts), Policy::default());
    plan(PlanContext {
        book: &book,
        policy: &policy,
        world,
        today: crate::value::Day(20781),
        change: Some(8),
    })
}

/// The texts after some edits.
pub(super) fn edited(texts: &[(File, String)], edits: &[Edit]) -> Vec<(File, String)> {
    let book = book(texts);
    let one = |(file, text): &(File, String)| {
        let edits: Vec<&Edit> = edits.iter().filter(|edit| edit.file == *file).collect();
        let new = book.lines(*file).unwrap().rewrite(&edits).bytes(text.as_bytes());
        (*file, String::from_utf8(new).unwrap())
    };
    texts.iter().map(one).collect()
}

pub(super) fn line<'a>(texts: &'a [(File, String)], file: File, start: &str) -> &'a str {
    let (_, text) = texts.iter().find(|(other, _)| *other == file).unwrap();
    text.lines().find(|line| line.starts_with(start)).unwrap_or("")
}

pub(super) fn says(planned: Planned) -> String {
    planned.unwrap_err().to_string()
}

/// Plans a request, and judges the plan.
pub(super) fn judged<R: Request>(
    request: R,
    planner: impl Fn(PlanContext<'_>, &R) -> Planned,
) -> impl Fn(PlanContext<'_>) -> Planned {
    move |context| judge(context, planner(context, &request)?, request.overrides())
}

fn change(request: ChangeUser) -> impl Fn(PlanContext<'_>) -> Planned {
    judged(ChangeUser { name: "tavish".into(), ..request }, change_user)
}

fn rename(old: &str, new: &str) -> impl Fn(PlanContext<'_>) -> Planned {
    let request = RenameUser { old: old.into(), new: new.into(), ..RenameUser::default() };
    judged(request, rename_user)
}

fn suspending(name: &str, overrides: GuardOverrides) -> impl Fn(PlanContext<'_>) -> Planned {
    let request = Suspend { names: vec![name.into()], overrides, ..Suspend::default() };
    judged(request, suspend)
}

#[test]
fn a_new_uid_takes_ranges_by_number_along_and_retires_the_old_one() {
    let request = ChangeUser { uid: Some(Uid(1500)), ..ChangeUser::default() };
    let plan = on(&texts(), &world(), change(request)).unwrap();
    let after = edited(&texts(), &plan.edits);
    assert_eq!(
        line(&after, File::Passwd, "tavish"),
        "tavish:x:1500:1500:Tavish Rowe,Pier 2:/home/tavish:/bin/sh"
    );
    assert_eq!(line(&after, File::Group, "tavish"), "tavish:x:1500:");
    assert_eq!(line(&after, File::Subuid, "1"), "1500:2001500000:10");
    let Step::Reown(reown) = &plan.steps[0] else { panic!("{:?}", plan.steps) };
    assert_eq!(reown.uids.pairs(), [(1001, 1500)]);
    assert_eq!(reown.gids.pairs(), [(1001, 1500)]);
    let Step::RetireIds(retired) = &plan.steps[1] else { panic!("{:?}", plan.steps) };
    assert_eq!((retired.users[0].id, retired.groups[0].id), (1001, 1001));
    let request = ChangeUser { uid: Some(Uid(1500)), keep_gid: true, ..ChangeUser::default() };
    let plan = on(&texts(), &world(), change(request)).unwrap();
    assert!(plan.edits.iter().all(|edit| edit.file != File::Group));
    let Step::Reown(reown) = &plan.steps[0] else { panic!("{:?}", plan.steps) };
    assert!(reown.gids.is_empty());
    let Step::RetireIds(retired) = &plan.steps[1] else { panic!("{:?}", plan.steps) };
    assert_eq!((retired.users[0].id, retired.groups.len()), (1001, 0));
}

#[test]
fn a_shared_uid_is_neither_re_owned_nor_retired() {
    let mut texts = texts();
    texts[0].1 += "\ndeck:x:1001:1001::/home/deck:/bin/sh\n";
    let request = ChangeUser { uid: Some(Uid(1500)), ..ChangeUser::default() };
    let plan = on(&texts, &world(), change(request)).unwrap();
    assert!(plan.steps.is_empty(), "{:?}", plan.steps);
    assert!(plan.cautions.iter().any(|caution| caution.to_string().contains("stays deck's")));
}

#[test]
fn an_old_primary_group_stays_a_membership_unless_it_was_the_users_own() {
    let request = ChangeUser { primary: Some("pilots".into()), ..ChangeUser::default() };
    let plan = on(&texts(), &world(), change(request)).unwrap();
    assert_eq!(plan.edits.len(), 1, "the private group gets no member: {:?}", plan.edits);
    let mut texts = texts();
    texts[0].1 = texts[0].1.replace("1001:1001", "1001:27");
    let request = ChangeUser { primary: Some("210".into()), ..ChangeUser::default() };
    let plan = on(&texts, &world(), change(request)).unwrap();
    let after = edited(&texts, &plan.edits);
    assert_eq!(line(&after, File::Group, "sudo"), "sudo:x:27:sunniva,tavish");
}

#[test]
fn a_busy_account_keeps_its_number_its_name_and_its_place() {
    let mut world = world();
    let process = Process { pid: 4711, command: "vi tides".into(), since: "2026-11-24".into() };
    world.processes.push((Uid(1001), process));
    let uid = ChangeUser { uid: Some(Uid(1500)), ..ChangeUser::default() };
    let home = ChangeUser { home: Some("/srv/tavish".into()), ..ChangeUser::default() };
    for refused in [
        on(&texts(), &world, change(uid.clone())),
        on(&texts(), &world, change(home)),
        on(&texts(), &world, rename("tavish", "torben")),
    ] {
        let refusal = refused.unwrap_err();
        assert!(refusal.to_string().contains("1 process runs under it\n     4711  since"));
        assert_eq!(refusal.ways[0].text, "--even-if-busy");
    }
    let overrides = GuardOverrides { busy: true, ..GuardOverrides::default() };
    assert!(on(&texts(), &world, change(ChangeUser { overrides, ..uid })).is_ok());
    let plan = on(&texts(), &world, suspending("tavish", GuardOverrides::default())).unwrap();
    assert!(plan.cautions[0].to_string().contains("1 process (4711 vi tides) of tavish runs on"));
}

#[test]
fn every_guard_can_be_waved_through_and_only_by_its_own_word() {
    let mut world = world();
    (world.live, world.me) = (true, Some(Uid(1001)));
    let none = GuardOverrides::default();
    let all = GuardOverrides { me: true, root: true, last_admin: true, service: true, busy: true };
    for (name, reason, open) in [
        ("root", "no other account has uid 0: it is root", GuardOverrides { root: true, ..none }),
        ("tavish", "it is your own account", GuardOverrides { me: true, ..none }),
        ("sunniva", "no other account can sign in", GuardOverrides { last_admin: true, ..none }),
    ] {
        let refused = says(on(&texts(), &world, suspending(name, none)));
        assert!(refused.contains(reason), "{refused}");
        let shut = GuardOverrides {
            me: all.me && !open.me,
            root: all.root && !open.root,
            last_admin: all.last_admin && !open.last_admin,
            ..all
        };
        assert!(on(&texts(), &world, suspending(name, shut)).is_err(), "{name}");
        assert!(on(&texts(), &world, suspending(name, open)).is_ok(), "{name}");
    }
    let mut texts = texts();
    texts[1].1 += "gauge:!:1::::::\n";
    let refused = says(on(&texts, &world, suspending("gauge", none)));
    assert!(refused.contains("it is a service (uid 900)"), "{refused}");
    assert!(
        on(&texts, &world, suspending("gauge", GuardOverrides { service: true, ..none })).is_ok()
    );
    // Somebody else who can sign in as administrator takes the guard away.
    texts[2].1 = texts[2].1.replace("sudo:x:27:sunniva", "sudo:x:27:sunniva,tavish");
    assert!(on(&texts, &world, suspending("sunniva", none)).is_err(), "tavish is locked");
    texts[1].1 = texts[1].1.replace(":!$6$", ":$6$").replace(":20000:0:90", ":20781:0:90");
    assert!(on(&texts, &world, suspending("sunniva", none)).is_ok());
}

#[test]
fn resuming_gives_back_what_was_noted() {
    let plan = on(&texts(), &world(), suspending("tavish", GuardOverrides::default())).unwrap();
    let out = edited(&texts(), &plan.edits);
    assert_eq!(line(&out, File::Shadow, "tavish"), format!("tavish:!{HASH}:20000:0:90:7:5:1:"));
    let Step::NoteSuspended(note) = &plan.steps[0] else { panic!("{:?}", plan.steps) };
    assert!(note.was_locked && !note.was_open);
    let mut world = world();
    world.suspended.push(note.clone());
    let names = Resume { names: vec!["tavish".into()] };
    let plan = on(&out, &world, |context| resume(context, &names)).unwrap();
    assert_eq!(edited(&out, &plan.edits), texts());
    // An expiry that is over by now is given back, and told.
    world.suspended[0] = Suspended { expires: Some(crate::value::Day(20700)), ..note.clone() };
    let plan = on(&out, &world, |context| resume(context, &names)).unwrap();
    assert!(plan.cautions[0].to_string().contains("is over by now"));
}

#[test]
fn renaming_leaves_nothing_of_the_old_name_and_all_else_as_it_was() {
    let plan = on(&texts(), &world(), rename("tavish", "torben")).unwrap();
    let after = edited(&texts(), &plan.edits);
    for ((file, before), (_, now)) in texts().iter().zip(&after) {
        assert_eq!(&before.replace("tavish", "torben"), now, "{}", file.path());
    }
    let mut shared = texts();
    shared[2].1 = shared[2].1.replace("tavish:x:1001:", "tavish:x:1001:sunniva");
    let plan = on(&shared, &world(), rename("tavish", "torben")).unwrap();
    let after = edited(&shared, &plan.edits);
    assert_eq!(line(&after, File::Group, "tavish"), "tavish:x:1001:sunniva", "not a private group");
}

#[test]
fn homes_that_can_not_be_moved_are_told_from_each_other() {
    let moving = |home: &str, world: &World| {
        let request = ChangeUser { home: Some(home.into()), ..ChangeUser::default() };
        says(on(&texts(), world, change(request)))
    };
    assert!(moving("/home/tavish/inner", &world()).contains("lies inside /home/tavish"));
    assert!(moving("/srv/tavish", &World::default()).contains("/home/tavish is not there"));
    let mut mounted = world();
    mounted.mounted.push("/home/tavish".into());
    assert!(moving("/srv/tavish", &mounted).contains("is a mount point"));
    let mut taken = world();
    taken.sites.insert("/srv".into(), taken.sites[&b"/home/tavish"[..]].clone());
    assert!(moving("/srv", &taken).contains("/srv exists already"));
}

pub(super) fn recorded(plan: &Plan, made: Option<Inventory>) -> ChangeRecord {
    let mut told = Told::of(plan);
    for step in &mut told.steps {
        step.left_as.clone_from(&made);
    }
    record(7, None, told)
}

pub(super) fn undoing(record: &ChangeRecord) -> impl Fn(PlanContext<'_>) -> Planned {
    move |context| {
        undo(
            context,
            Undo {
                record,
                undone_by: None,
                comes_to: None,
                lines_only: false,
                overrides: GuardOverrides::default(),
            },
        )
    }
}

#[test]
fn a_home_goes_only_while_it_is_as_it_was_made() {
    let request = CreateUser { names: vec!["maren".into()], ..CreateUser::default() };
    let plan = on(&texts(), &world(), |context| create_user(context, &request)).unwrap();
    let after = edited(&texts(), &plan.edits);
    let made = Inventory { files: 3, bytes: 9, digest: "d".into() };
    let record = recorded(&plan, Some(made.clone()));
    let step = |inventory: Option<Inventory>| {
        let mut world = world();
        world.inventories.extend(inventory.map(|found| ("/home/maren".into(), found)));
        on(&after, &world, undoing(&record)).unwrap().steps.into_iter().next()
    };
    assert!(matches!(step(Some(made.clone())), Some(Step::Remove { .. })));
    let used = step(Some(Inventory { files: 4, ..made }));
    let Some(Step::Move { to, aside: true, .. }) = used else { panic!("{used:?}") };
    assert_eq!(to.to_string(), "/home/.set-aside/maren.1002.8");
    assert!(!matches!(step(None), Some(Step::Remove { .. } | Step::Move { .. })));
}

#[test]
fn a_uid_that_somebody_has_by_now_does_not_come_back() {
    let request = CreateUser { names: vec!["maren".into()], ..CreateUser::default() };
    let plan = on(&texts(), &world(), |context| create_user(context, &request)).unwrap();
    let after = edited(&texts(), &plan.edits);
    let record = recorded(&plan, None);
    let back = on(&after, &world(), undoing(&record)).unwrap();
    let mut texts = texts();
    texts[0].1 += "\nguest:x:1002:1000::/:/bin/sh\n";
    let refused = says(on(&texts, &world(), undoing(&recorded(&back, None))));
    assert!(refused.ends_with("uid 1002 is guest's"), "{refused}");
}

proptest! {
    /// Whatever was changed, taking it back leaves the very same files, in the
    /// very same order.
    #[test]
    fn a_change_and_its_undo_are_nothing(
        which in 0usize..5,
        names in proptest::collection::btree_set("[a-d]{1,3}", 1..4),
        join in any::<bool>(),
        number in 1100u32..1200,
    ) {
        let names: Vec<UserName> = names.into_iter().map(UserName::from).collect();
        let join = if join { vec!["pilots".into(), "sudo".into()] } else { vec![] };
        let create = CreateUser { names: names.clone(), join, ..CreateUser::default() };
        let set = ChangeUser {
            uid: Some(Uid(number)),
            full_name: Some(names[0].clone().into()),
            ranges: Some(RangesAsked::Count(number * 7)),
            ..ChangeUser::default()
        };
        let overrides = GuardOverrides { last_admin: true, ..GuardOverrides::default() };
        let plan = on(&texts(), &world(), |context| match which {
            0 => create_user(context, &create),
            1 => change(set.clone())(context),
            2 => rename("tavish", &names[0].to_string())(context),
            3 => rename("sunniva", &names[0].to_string())(context),
            _ => suspending("sunniva", overrides)(context),
        }).unwrap();
        let after = edited(&texts(), &plan.edits);
        prop_assert_ne!(&after, &texts());
        let mut later = world();
        // What was moved is where it was moved to.
        let sites: Vec<_> = plan.steps.iter().filter_map(|step| match step {
            Step::Move { from, to, .. } => Some((from.clone(), to.clone())),
            _ => None,
        }).collect();
        for (from, to) in sites {
            let site = later.sites.remove(&*from).unwrap();
            later.sites.insert(to.into(), site);
        }
        let record = recorded(&plan, None);
        let text = serde_json::to_string(&record).unwrap();
        prop_assert!(!text.contains("saltsalt"), "{}", text);
        let record: ChangeRecord = serde_json::from_str(&text).unwrap();
        let back = on(&after, &later, undoing(&record)).unwrap();
        let before = edited(&after, &back.edits);
        // A missing last newline is the one thing that a line after it has to add.
        let ended = |texts: Vec<(File, String)>| -> Vec<(File, String)> {
            let end = |(file, text): (File, String)| (file, format!("{}\n", text.trim_end()));
            texts.into_iter().map(end).collect()
        };
        prop_assert_eq!(ended(before), ended(texts()));
    }
}
