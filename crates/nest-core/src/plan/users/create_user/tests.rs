use crate::book::tests::book;
use crate::change::Step;
use crate::ownership::Owner;
use crate::plan::users::create_user::*;
use crate::policy::Policy;
use crate::refusal::Result;
use crate::retired_ids::{RetiredId, RetiredRange};
use crate::surroundings::{Facts, Site, SkeletonFault};
use crate::test_support::World;
use crate::value::{Day, FileKind, Gid, IdSpan, TreePath, Uid};

const PASSWD: &str =
    "root:x:0:0:root:/root:/bin/bash\ntavish:x:1000:1000::/home/tavish:/bin/bash\n";
const GROUP: &str = "root:x:0:\npilots:x:210:tavish\ntavish:x:1000:\n";

fn planned(request: &CreateUser, world: &World, policy: &str) -> Result<Plan> {
    let book = book(&[
        (File::Passwd, PASSWD),
        (File::Group, GROUP),
        (File::Shadow, "root:*:1::::::\ntavish:!:1::::::\n"),
        (File::Subuid, ""),
        (File::Subgid, ""),
    ]);
    let policy = Policy::read("p.toml", policy).unwrap();
    create_user(
        PlanContext { book: &book, policy: &policy, world, today: Day(20781), change: None },
        request,
    )
}

fn maren() -> CreateUser {
    CreateUser { names: vec!["maren".into()], ..CreateUser::default() }
}

fn reason(request: &CreateUser, world: &World, policy: &str) -> String {
    planned(request, world, policy).unwrap_err().to_string()
}

fn added(plan: &Plan, file: File) -> Vec<String> {
    let edits = plan.edits.iter().filter(|edit| edit.file == file && edit.before.is_none());
    edits.map(|edit| edit.after.as_ref().unwrap().to_string()).collect()
}

fn cautions(plan: &Plan) -> Vec<String> {
    plan.cautions.iter().map(ToString::to_string).collect()
}

#[test]
fn a_name_that_the_name_services_know_is_refused() {
    let world = World { service_names: vec!["maren".into()], ..World::default() };
    assert_eq!(
        reason(&maren(), &world, ""),
        "maren was not created: the system's name services already know a user of that name"
    );
    let world = World { service_down: true, ..World::default() };
    assert!(
        reason(&maren(), &world, "")
            .contains("gave no answer, which is not a no: the name service is down")
    );
}

#[test]
fn ids_that_the_name_services_know_are_passed_over_or_refused() {
    let world = World { service_ids: vec![1001, 1002], ..World::default() };
    let plan = planned(&maren(), &world, "").unwrap();
    assert!(added(&plan, File::Passwd)[0].starts_with("maren:x:1003:1003:"));
    let request = CreateUser { uid: Some(Uid(1002)), ..maren() };
    assert!(
        reason(&request, &world, "")
            .ends_with("uid 1002 belongs to elsewhere in the system's name services")
    );
}

#[test]
fn avoided_spans_are_passed_over_but_can_be_asked_for() {
    let policy = "[ids]\navoid = [\"1001-1010 the ticket machines'\"]";
    let plan = planned(&maren(), &World::default(), policy).unwrap();
    assert!(added(&plan, File::Passwd)[0].starts_with("maren:x:1011:"));
    let request = CreateUser { uid: Some(Uid(1005)), ..maren() };
    let plan = planned(&request, &World::default(), policy).unwrap();
    assert_eq!(
        cautions(&plan)[1..],
        ["uid 1005 lies in the avoided span 1001-1010 (the ticket machines')"]
    );
}

#[test]
fn retired_ranges_are_not_given_again() {
    let mut world = World::default();
    let span = IdSpan::new(2_001_010_688, 2_001_076_223).unwrap();
    world.retired.ranges.push(RetiredRange { span, name: "hesper".into(), since: None });
    let plan = planned(&maren(), &world, "").unwrap();
    assert_eq!(added(&plan, File::Subuid), ["maren:2001076224:65536"]);
    assert_eq!(added(&plan, File::Subgid), ["maren:2001076224:65536"]);
}

#[test]
fn a_private_group_takes_the_users_number_only_when_it_is_free() {
    let mut world = World::default();
    world.retired.groups.push(RetiredId { id: 1500, name: "hesper".into(), since: None });
    let request = CreateUser { uid: Some(Uid(1500)), ..maren() };
    let plan = planned(&request, &world, "").unwrap();
    assert_eq!(added(&plan, File::Group), ["maren:!:1001:"]);
    assert!(added(&plan, File::Passwd)[0].starts_with("maren:x:1500:1001:"));
}

#[test]
fn each_site_of_a_home_has_its_own_refusal() {
    let at = |site: Site| {
        let mut world = World::default();
        world.sites.insert("/home/maren".into(), site);
        planned(&maren(), &world, "").unwrap_err()
    };
    let facts = Facts { kind: FileKind::Directory, uid: Uid(4711), gid: Gid(1), mode: 0o700 };
    let taken = at(Site::Taken(facts));
    assert!(
        taken
            .to_string()
            .ends_with("/home/maren exists already: a directory, owned by 4711, which nobody has")
    );
    assert_eq!(taken.ways[0].text, "create user maren --home /home/maren --adopt-home");
    let fifo = at(Site::Taken(Facts { kind: FileKind::Fifo, ..facts }));
    assert_eq!(fifo.ways.len(), 1, "a fifo can't be adopted");
    for (site, says) in [
        (Site::NoParent("/home".into()), "/home does not exist"),
        (Site::ParentIsNoDirectory("/home".into()), "/home is no directory"),
        (Site::Unknown("permission denied".into()), "can't be looked at: permission denied"),
    ] {
        assert!(at(site).to_string().ends_with(says), "{says}");
    }
    let through = at(Site::ThroughLink { link: "/home".into(), real: "/srv/maren".into() });
    assert_eq!(through.ways[0].text, "create user maren --home /srv/maren");
}

#[test]
fn an_adopted_home_is_given_over_unless_it_is_anothers() {
    let request = CreateUser { adopt_home: true, ..maren() };
    let owned_by = |uid| {
        let mut world = World::default();
        let facts = Facts { kind: FileKind::Directory, uid, gid: Gid(9), mode: 0o700 };
        world.sites.insert("/home/maren".into(), Site::Taken(facts));
        planned(&request, &world, "")
    };
    let plan = owned_by(Uid::ROOT).unwrap();
    let (from, to) =
        (Owner { uid: Uid::ROOT, gid: Gid(9) }, Owner { uid: Uid(1001), gid: Gid(1001) });
    assert_eq!(
        plan.steps,
        [Step::GiveDirectory { path: TreePath::judged(b"/home/maren"), from, to }]
    );
    assert_eq!(
        cautions(&plan)[1..],
        ["/home/maren exists and is adopted: what is in it keeps its owners"]
    );
    assert!(
        owned_by(Uid(1000)).unwrap_err().to_string().contains("it belongs to tavish, not to maren")
    );
    let mut world = World::default();
    world.sites.insert("/home/maren".into(), Site::Unknown("permission denied".into()));
    let unknown = reason(&request, &world, "");
    assert!(unknown.ends_with("can't be adopted: it can't be looked at: permission denied"));
}

#[test]
fn only_a_place_where_homes_are_is_adopted() {
    let facts = Facts { kind: FileKind::Directory, uid: Uid::ROOT, gid: Gid::ROOT, mode: 0o755 };
    for (home, says) in [
        ("/etc", "it is a directory of the system"),
        ("/var", "it is a directory of the system"),
        ("/etc/maren", "it lies in /etc, which is the system's"),
        ("/var/spool/anything", "it is root's, and /var/spool is no place where homes are"),
        ("/home/tavish", "it is, or holds, the home of tavish too"),
        ("/mnt/maren", "it is a mount point"),
        ("/srv/maren", ""),
    ] {
        let mut world = World { mounted: vec!["/mnt/maren".into()], ..World::default() };
        world.sites.insert(home.into(), Site::Taken(facts));
        let request = CreateUser { adopt_home: true, home: Some(home.into()), ..maren() };
        match planned(&request, &world, "") {
            Ok(_) => assert_eq!(says, "", "{home}"),
            Err(refusal) => {
                let told = refusal.to_string();
                assert!(!says.is_empty() && told.contains(says), "{home}: {told}");
                let way = format!("create user maren --home {home} --no-home");
                assert_eq!(refusal.ways[0].text, way);
            }
        }
    }
}

#[test]
fn a_home_that_two_accounts_share_is_told() {
    let request = CreateUser { home: Some("/home/tavish".into()), no_home: true, ..maren() };
    let plan = planned(&request, &World::default(), "").unwrap();
    assert!(cautions(&plan).contains(&"/home/tavish is also the home of tavish".to_owned()));
    assert!(plan.steps.is_empty());
}

#[test]
fn a_home_in_a_directory_of_somebody_elses_is_told() {
    let request = CreateUser { home: Some("/home/tavish/maren".into()), ..maren() };
    let says = "/home/tavish belongs to tavish (1000), who can put another home in the place of \
                /home/tavish/maren";
    for (uid, unowned, told) in
        [(1000, false, true), (0, false, false), (1001, false, false), (1000, true, false)]
    {
        let mut world = World { unowned, ..World::default() };
        let facts = Facts { kind: FileKind::Directory, uid: Uid(uid), gid: Gid(uid), mode: 0o755 };
        world.facts.insert("/home/tavish".into(), Ok(facts));
        let plan = planned(&request, &world, "").unwrap();
        assert_eq!(cautions(&plan).contains(&says.to_owned()), told, "{:?}", cautions(&plan));
    }
}

#[test]
fn mail_is_made_where_it_can_be_and_told_where_not() {
    let policy = "[mail]\ncreate = true\nspool = \"/srv/post/{name}\"";
    let plan = planned(&maren(), &World::default(), policy).unwrap();
    let Step::MakeFile { below, file, owner } = &plan.steps[1] else { panic!("{:?}", plan.steps) };
    assert_eq!(
        (below, &file.path, file.mode),
        (&TreePath::judged(b"/srv/post"), &"maren".into(), 0o600)
    );
    assert_eq!(*owner, Owner { uid: Uid(1001), gid: Gid(1001) });
    let mut world = World::default();
    world.sites.insert("/srv/post/maren".into(), Site::NoParent("/srv/post".into()));
    let plan = planned(&maren(), &world, policy).unwrap();
    assert_eq!(plan.steps.len(), 1);
    assert!(
        cautions(&plan)
            .contains(&"no mail spool file is made: /srv/post does not exist".to_owned())
    );
    let service = CreateUser { service: true, ..maren() };
    assert!(planned(&service, &World::default(), policy).unwrap().steps.is_empty());
}

#[test]
fn every_fault_of_a_skeleton_is_said() {
    for (fault, says) in [
        (SkeletonFault::Missing, "does not exist"),
        (SkeletonFault::NotADirectory(FileKind::File), "is a file, not a directory"),
        (
            SkeletonFault::Unreadable("input/output error".into()),
            "can't be read: input/output error",
        ),
    ] {
        let world = World { skeleton_fault: Some(fault), ..World::default() };
        assert!(reason(&maren(), &world, "").ends_with(&format!("the skeleton /etc/skel {says}")));
        let request = CreateUser { skeleton: Some("none".into()), ..maren() };
        assert!(planned(&request, &world, "").is_ok());
    }
    for (skeleton, home, says) in [
        ("", "/home/maren", "the skeleton  is not absolute; it has to begin with /"),
        (
            "etc/skel",
            "/home/maren",
            "the skeleton etc/skel is not absolute; it has to begin with /",
        ),
        (
            "/srv/../",
            "/home/maren",
            "the skeleton /srv/../ goes through . or ..; give the path they lead to",
        ),
        (
            "/",
            "/home/maren",
            "the skeleton / holds /bin, a directory of the system, and a copy of that is no home",
        ),
        (
            "/srv/homes//",
            "/srv/homes/maren",
            "the skeleton /srv/homes holds the new home, /srv/homes/maren: the copy would have no end",
        ),
        (
            "/etc/skel",
            "/etc/skel/x",
            "the skeleton /etc/skel holds the new home, /etc/skel/x: the copy would have no end",
        ),
    ] {
        let (skeleton, home) = (Some(skeleton.into()), Some(home.into()));
        let said = reason(&CreateUser { skeleton, home, ..maren() }, &World::default(), "");
        assert!(said.ends_with(says), "{said}");
    }
    let (skeleton, home) = (Some("/etc/skel/".into()), Some("/etc/skeleton".into()));
    let beside = CreateUser { skeleton, home, ..maren() };
    assert!(planned(&beside, &World::default(), "").is_ok());
}

#[test]
fn a_shell_is_judged_by_the_world() {
    let world = World { shells: Some(vec!["/bin/sh".into()]), ..World::default() };
    let plan = planned(&maren(), &world, "").unwrap();
    assert!(cautions(&plan)[1].starts_with("the shell /bin/bash is not in etc/shells"));
    let service = CreateUser { service: true, ..maren() };
    assert_eq!(cautions(&planned(&service, &world, "").unwrap()).len(), 1);
    let world = World { missing_programs: vec!["/bin/bash".into()], ..World::default() };
    assert!(
        cautions(&planned(&maren(), &world, "").unwrap())[1]
            .contains("does not exist in this tree")
    );
}

#[test]
fn the_same_request_on_the_same_ground_is_the_same_plan() {
    let request = CreateUser { join: vec!["pilots".into()], ..maren() };
    let plans = [(); 2].map(|()| planned(&request, &World::default(), "").unwrap());
    assert_eq!(plans[0], plans[1]);
    assert_eq!(plans[0].summary, "create user maren");
    assert_eq!(plans[0].next, ["password user maren"]);
}
