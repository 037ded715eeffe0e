use super::*;
use crate::book::tests::book;
use crate::change::access_lines;
use crate::plan::groups::{ChangeGroup, RenameGroup, change_group, rename_group};
use crate::plan::users::{
    ChangeUser, DeleteUser, Regroup, SetPassword, Suspend, change_user, create_user, delete_user,
    regroup, set_password, suspend,
};
use crate::policy::Policy;
use crate::refusal::Refusal;
use crate::request::{CreateUser, Request};
use crate::surroundings::Mention;
use crate::table::File;
use crate::test_support::World;
use crate::value::{Day, Gid};

const HASH: &str = "$6$saltsalt$abcdefghijklmnop";

fn files() -> Vec<(File, String)> {
    vec![
        (
            File::Passwd,
            "root:x:0:0::/root:/bin/sh\nsunniva:x:1000:1000::/home/sunniva:/bin/sh\n\
             tavish:x:1001:1001::/home/tavish:/bin/sh\nodalys:x:1002:27::/home/odalys:/bin/sh\n\
             gauge:x:900:900::/nonexistent:/usr/sbin/nologin\n"
                .into(),
        ),
        (
            File::Shadow,
            format!(
                "root:*:1::::::\nsunniva:{HASH}:20000:0::7:::\ntavish:{HASH}:20000::::::\n\
                 odalys:!:1::::::\ngauge:!:1::::::\n"
            ),
        ),
        (
            File::Group,
            "root:x:0:\nsudo:x:27:sunniva\nwheel:x:28:\nberth:x:27:\ndisk:x:6:\npilots:x:1210:tavish\n\
             crew:x:1210:\nsunniva:x:1000:\ntavish:x:1001:\ngauge:x:900:gauge\n"
                .into(),
        ),
    ]
}

/// What a request does to access, one account a line; or why it is refused.
fn consequences<R: Request>(
    request: &R,
    world: &World,
    planner: impl Fn(PlanContext<'_>, &R) -> Result<Plan>,
) -> Result<Vec<String>> {
    let texts = files();
    let texts: Vec<(File, &str)> = texts.iter().map(|(file, text)| (*file, &text[..])).collect();
    let (book, policy) = (book(&texts), Policy::default());
    let today = Day(20781);
    let context = PlanContext { book: &book, policy: &policy, world, today, change: Some(8) };
    let plan = judge(context, planner(context, request)?, request.overrides())?;
    let lines = access_lines(&plan.access);
    Ok(lines.into_iter().map(|(name, what)| format!("{name} {what}")).collect())
}

fn regrouping(name: &str, set: impl Fn(&mut Regroup)) -> Regroup {
    let mut request = Regroup { names: vec![name.into()], ..Regroup::default() };
    set(&mut request);
    request
}

fn change(name: &str, set: impl Fn(&mut ChangeUser)) -> ChangeUser {
    let mut request = ChangeUser { name: name.into(), ..ChangeUser::default() };
    set(&mut request);
    request
}

#[test]
fn who_can_no_longer_sign_in_is_told_with_the_reason() {
    let world = World { keys: 0, ..World::default() };
    let shell = change("tavish", |request| request.shell = Some("/usr/sbin/nologin".into()));
    assert_eq!(
        consequences(&shell, &world, change_user).unwrap(),
        ["tavish can no longer sign in: the shell /usr/sbin/nologin lets nobody in"]
    );
    let none = SetPassword { names: vec!["tavish".into()], ..SetPassword::default() };
    assert_eq!(
        consequences(&none, &world, set_password).unwrap(),
        ["tavish can no longer sign in: no password is set"]
    );
    let keyed = World { keys: 1, ..World::default() };
    assert_eq!(
        consequences(&none, &keyed, set_password).unwrap(),
        ["tavish can no longer sign in by password: no password is set"]
    );
    let hashes = vec![Some(HASH.into())];
    let given = SetPassword { names: vec!["odalys".into()], hashes, ..SetPassword::default() };
    assert_eq!(
        consequences(&given, &world, set_password).unwrap(),
        ["odalys can sign in, again by password"]
    );
    let gone = DeleteUser { names: vec!["tavish".into()], ..DeleteUser::default() };
    assert_eq!(
        consequences(&gone, &world, delete_user).unwrap(),
        ["tavish can no longer sign in: the account goes; leaves pilots, crew"]
    );
}

#[test]
fn groups_are_told_whichever_way_somebody_is_in_them() {
    let world = World::default();
    // By the line that lists, and by another group of the same gid.
    let joins = regrouping("sunniva", |request| request.join = vec!["crew".into()]);
    assert_eq!(
        consequences(&joins, &world, regroup).unwrap(),
        ["sunniva joins pilots, by the gid that crew has too; joins crew"]
    );
    // Whoever is in by the gid already joins nothing.
    let joins = regrouping("tavish", |request| request.join = vec!["crew".into()]);
    assert_eq!(consequences(&joins, &world, regroup).unwrap(), [""; 0]);
    let primary = regrouping("tavish", |request| request.primary = Some("disk".into()));
    assert_eq!(
        consequences(&primary, &world, regroup).unwrap(),
        ["tavish joins disk, which amounts to root, as its primary group; leaves tavish"]
    );
    // Everybody in a group that gets the gid of another one.
    let gid = ChangeGroup {
        name: "pilots".into(),
        gid: Some(Gid(6)),
        share_id: true,
        ..ChangeGroup::default()
    };
    assert_eq!(
        consequences(&gid, &world, change_group).unwrap(),
        ["tavish joins disk, which amounts to root, by the gid that pilots has too; leaves crew"]
    );
    // A new name is no new group.
    let rename = RenameGroup { old: "pilots".into(), new: "helm".into(), ..RenameGroup::default() };
    assert_eq!(consequences(&rename, &world, rename_group).unwrap(), [""; 0]);
}

#[test]
fn administrators_are_judged_by_every_group_that_makes_them() {
    let place = Mention { file: "etc/sudoers".into(), line: 27 };
    let world = World { mentions: vec![place], ..World::default() };
    let joins = regrouping("tavish", |request| request.join = vec!["berth".into()]);
    assert_eq!(
        consequences(&joins, &world, regroup).unwrap(),
        ["tavish becomes administrator, by etc/sudoers:27 %sudo; joins berth"]
    );
    let world = World::default();
    let joins = regrouping("tavish", |request| request.join = vec!["wheel".into()]);
    assert_eq!(
        consequences(&joins, &world, regroup).unwrap(),
        ["tavish becomes administrator, by the group wheel"]
    );
    // Whoever is one by the primary group already.
    let joins = regrouping("odalys", |request| request.join = vec!["wheel".into()]);
    assert_eq!(consequences(&joins, &world, regroup).unwrap(), ["odalys joins wheel"]);
    let request = CreateUser { names: vec!["maren".into()], admin: true, ..CreateUser::default() };
    assert_eq!(
        consequences(&request, &world, create_user).unwrap(),
        [
            "maren becomes administrator, by the group sudo; joins berth, by the gid that sudo has too"
        ]
    );
    let request = CreateUser { names: vec!["maren".into()], ..CreateUser::default() };
    assert_eq!(consequences(&request, &world, create_user).unwrap(), [""; 0]);
}

#[test]
fn no_way_round_a_guard_is_left() {
    let refused = |told: Result<Vec<String>>| -> (String, String) {
        let refusal: Box<Refusal> = told.unwrap_err();
        (refusal.to_string(), refusal.ways.last().unwrap().text.clone())
    };
    let world = World::default();
    let root = change("root", |request| request.uid = Some(Uid(1500)));
    assert_eq!(
        refused(consequences(&root, &world, change_user)),
        (
            "nothing was changed: root would get uid 1500, and no other account has uid 0: it is \
             root"
                .into(),
            "--even-root".into()
        )
    );
    for told in [
        consequences(
            &Suspend { names: vec!["sunniva".into()], ..Suspend::default() },
            &world,
            suspend,
        ),
        consequences(
            &change("sunniva", |request| request.shell = Some("/bin/false".into())),
            &world,
            change_user,
        ),
        consequences(
            &SetPassword { names: vec!["sunniva".into()], ..SetPassword::default() },
            &world,
            set_password,
        ),
        consequences(
            &regrouping("sunniva", |request| request.leave = vec!["sudo".into()]),
            &world,
            regroup,
        ),
        consequences(
            &ChangeGroup {
                name: "sudo".into(),
                gid: Some(Gid(1900)),
                drop_members: vec!["sunniva".into()],
                overrides: GuardOverrides { service: true, ..GuardOverrides::default() },
                ..ChangeGroup::default()
            },
            &world,
            change_group,
        ),
        consequences(
            &DeleteUser { names: vec!["sunniva".into()], ..DeleteUser::default() },
            &world,
            delete_user,
        ),
    ] {
        let (what, way) = refused(told);
        assert!(what.contains("no other account can sign in as administrator"), "{what}");
        assert_eq!(way, "--even-last-admin");
    }
    let gauge = change("gauge", |request| request.uid = Some(Uid(901)));
    let (what, way) = refused(consequences(&gauge, &world, change_user));
    assert!(what.contains("gauge would get uid 901; it is a service (uid 900)"), "{what}");
    assert_eq!(way, "--even-service");
    // Though the service itself stays as it is.
    let own = RenameGroup { old: "gauge".into(), new: "tide".into(), ..RenameGroup::default() };
    let (what, way) = refused(consequences(&own, &world, rename_group));
    assert!(what.contains("the group gauge would be called tide; its gid 900"), "{what}");
    assert_eq!(way, "--even-service");
    let mut mine = World { live: true, me: Some(Uid(1001)), ..World::default() };
    let shell = change("tavish", |request| request.shell = Some("/bin/false".into()));
    let (what, way) = refused(consequences(&shell, &mine, change_user));
    assert!(what.contains("(the shell /bin/false lets nobody in), and it is your own"), "{what}");
    assert_eq!(way, "--even-me");
    // Off the live system nobody's account is one's own.
    mine.live = false;
    assert!(consequences(&shell, &mine, change_user).is_ok());
}

#[test]
fn what_is_left_by_half_is_said() {
    let world = World::default();
    let said = |texts: Vec<(File, String)>, request: &Regroup| -> Vec<String> {
        let texts: Vec<(File, &str)> =
            texts.iter().map(|(file, text)| (*file, &text[..])).collect();
        let (book, policy) = (book(&texts), Policy::default());
        let (world, today) = (&world, Day(20781));
        let context = PlanContext { book: &book, policy: &policy, world, today, change: Some(8) };
        let plan = judge(context, regroup(context, request).unwrap(), request.overrides()).unwrap();
        let all = plan.cautions.iter().map(ToString::to_string);
        all.filter(|caution| !caution.starts_with("takes effect")).collect()
    };
    let leaves = regrouping("tavish", |request| request.leave = vec!["pilots".into()]);
    let mut texts = files();
    texts[2].1 = texts[2].1.replace("crew:x:1210:", "crew:x:1210:tavish");
    assert_eq!(
        said(texts, &leaves),
        ["tavish leaves pilots and stays in it all the same, by the gid that crew has too"]
    );
    let mut texts = files();
    texts[0].1 = texts[0].1.replace(":1001:1001:", ":1001:1210:");
    assert_eq!(
        said(texts, &leaves),
        ["tavish leaves pilots and stays in it all the same, as its primary group"]
    );
    let mut texts = files();
    texts.push((File::Gshadow, "pilots:!:tavish:tavish\n".into()));
    assert_eq!(
        said(texts, &leaves),
        ["tavish leaves pilots and still administers it: whoever does can come back in"]
    );
    let mut texts = files();
    texts[2].1 = texts[2].1.replace("wheel:x:28:", "wheel:x:28:sunniva");
    let leaves = regrouping("sunniva", |request| request.leave = vec!["sudo".into()]);
    assert_eq!(said(texts, &leaves), ["sunniva is administrator all the same, by the group wheel"]);
    let primary = regrouping("tavish", |request| request.primary = Some("crew".into()));
    assert_eq!(
        said(files(), &primary),
        ["the group tavish, which was tavish's own, is nobody's now; to be rid of it: \
             copper-nest delete group tavish"]
    );
}

#[test]
fn what_an_earlier_holder_left_behind_is_told() {
    let mut world = World::default();
    let facts = crate::surroundings::Facts {
        kind: crate::value::FileKind::File,
        uid: Uid(1500),
        gid: Gid(8),
        mode: 0o600,
    };
    world.facts.insert("/var/mail/maren".into(), Ok(facts));
    let mut texts = files();
    texts.push((File::Subuid, "sunniva:5000:10\n1500:2000:10\n".into()));
    let texts: Vec<(File, &str)> = texts.iter().map(|(file, text)| (*file, &text[..])).collect();
    let (book, policy) = (book(&texts), Policy::default());
    let (world, today) = (&world, Day(20781));
    let context = PlanContext { book: &book, policy: &policy, world, today, change: Some(8) };
    let access = |plan: Plan| -> Vec<String> {
        let plan = judge(context, plan, GuardOverrides::default()).unwrap();
        plan.access.iter().map(ToString::to_string).collect()
    };
    let names = vec!["maren".into()];
    let request = CreateUser { names, uid: Some(Uid(1500)), ..CreateUser::default() };
    assert_eq!(
        access(create_user(context, &request).unwrap()),
        ["takes over the mail /var/mail/maren", "takes over the ids 2000-2009, etc/subuid:2"]
    );
    let number = change("tavish", |request| request.uid = Some(Uid(1500)));
    assert_eq!(
        access(change_user(context, &number).unwrap()),
        ["takes over the ids 2000-2009, etc/subuid:2"]
    );
}
