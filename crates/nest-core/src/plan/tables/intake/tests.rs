use crate::book::Book;
use crate::book::tests::book;
use crate::change::Caution;
use crate::consequences::judge;
use crate::plan::tables::intake::*;
use crate::policy::Policy;
use crate::record::{Told, kept};
use crate::refusal::Result;
use crate::roster::{Form, RosterSource};
use crate::table::File;
use crate::test_support::World;
use crate::value::{Day, Gid, Uid};

const PASSWD: &str = "root:x:0:0:root:/root:/bin/bash\n\
    sunniva:x:1000:1000:Sunniva Dahl:/home/sunniva:/bin/bash\n\
    tavish:x:1001:1001:Tavish Rowe:/home/tavish:/bin/sh\n";
const GROUP: &str = "root:x:0:\nsudo:x:27:sunniva\npilots:x:210:tavish\nslipway:x:211:tavish,sunniva\n\
    sunniva:x:1000:\ntavish:x:1001:\n";

fn the_book() -> Book {
    book(&[
        (File::Passwd, PASSWD),
        (File::Group, GROUP),
        (
            File::Shadow,
            "root:*:1::::::\nsunniva:$y$j9T$F5Jx5fExrKuPp53xLKQ..1$X3DX6M94c7o.9agCG9G317fhZg9SqC.5i5rd.RhAtQ7:20000::::::\ntavish:!:20000::::::\n",
        ),
        (File::Gshadow, "root:*::\nsudo:!::sunniva\npilots:!::tavish\nslipway:!::tavish,sunniva\n"),
        (File::Subuid, "sunniva:2001010688:65536\n"),
        (File::Subgid, "sunniva:2001010688:65536\n"),
    ])
}

fn request(csv: &str) -> Intake {
    let source = RosterSource::new("crew.csv", Form::Csv, csv.as_bytes().to_vec());
    Intake {
        detailed: true,
        roster: Roster::read(vec![source]),
        again: "intake crew.csv".into(),
        ..Intake::default()
    }
}

fn planned(request: &Intake, policy: &str) -> Result<TakenIn> {
    let (book, world) = (the_book(), World::default());
    let policy = Policy::read("p.toml", policy).unwrap();
    let today = Day(20_781);
    let context =
        PlanContext { book: &book, policy: &policy, world: &world, today, change: Some(7) };
    let TakenIn { plan, newcomers } = intake(context, request)?;
    Ok(TakenIn { plan: judge(context, plan, request.overrides)?, newcomers })
}

/// The lines of a file that the plan adds or alters.
fn lines(plan: &Plan, file: File) -> Vec<String> {
    let edits = plan.edits.iter().filter(|edit| edit.file == file);
    edits.filter_map(|edit| edit.after.as_ref()).map(ToString::to_string).collect()
}

fn faults(request: &Intake, policy: &str) -> Vec<String> {
    let refusal = planned(request, policy).unwrap_err();
    let Reason::Roster { faults, .. } = refusal.reason else { panic!("{refusal}") };
    let told = faults.iter().map(|fault| {
        let column = fault.column.map(|column| column.to_string()).unwrap_or_default();
        format!("{}:{} {column}: {} | {}", fault.line, fault.at, fault.message, fault.instead)
    });
    told.collect()
}

#[test]
fn rows_become_lines_in_their_order() {
    let csv = "name,full_name,uid,primary,join,home,service\n\
               maren,Maren Solvik,,,pilots,,\n\
               corwin,,1003,pilots,slipway;pilots,none,\n\
               windvane,,,,,/var/lib/windvane,yes\n\
               isolde,,,maren,,,\n";
    let request = Intake { first_passwords: true, ..request(csv) };
    let taken = planned(&request, "").unwrap();
    assert_eq!(
        lines(&taken.plan, File::Passwd),
        [
            "maren:x:1002:1002:Maren Solvik:/home/maren:/bin/bash",
            "corwin:x:1003:210::/nonexistent:/bin/bash",
            "windvane:x:999:999::/var/lib/windvane:/usr/sbin/nologin",
            "isolde:x:1004:1002::/home/isolde:/bin/bash",
        ]
    );
    assert_eq!(
        lines(&taken.plan, File::Group),
        [
            "pilots:x:210:tavish,maren",
            "slipway:x:211:tavish,sunniva,corwin",
            "maren:x:1002:",
            "windvane:x:999:",
        ]
    );
    assert_eq!(taken.newcomers, ["maren", "corwin", "isolde"]);
    let totals: Vec<String> = taken.plan.totals.iter().map(|one| one.value.to_string()).collect();
    assert!(totals.contains(&"1002-1004, services: 999".to_owned()), "{totals:?}");
}

#[test]
fn every_fault_of_every_row_is_told() {
    let csv = "name,full_name,uid,primary,join,home,expires\n\
               Märén,\"a, b\",1000,pilot,slipwy;nowhere,home,2020-01-01\n\
               tavish,,,,,,\n\
               corwin,,1100,,,,\n\
               corwin,,1100,,,,\n";
    assert_eq!(
        faults(&request(csv), ""),
        [
            "2:1 name: the name holds 'M'; names of the strict style are made of lower-case letters, digits, _ and -, and begin with a letter or _ | maren, for one",
            "2:7 full_name: the full name holds a comma, which the account files can't hold there | the full name, without commas and colons",
            "2:14 uid: uid 1000 is sunniva's | another number, or nothing to have the next free one",
            "2:19 primary: there is no group pilot; the nearest is pilots | pilots",
            "2:25 join: there is no group nowhere | ",
            "2:25 join: there is no group slipwy; the nearest is slipway | slipway",
            "2:40 home: the home home is not absolute; it has to begin with / | an absolute path",
            "3:1 name: the user tavish exists already, etc/passwd:3 | ",
            "5:1 name: corwin stands on line 4 already | one row for each",
            "5:9 uid: uid 1100 is asked for on line 4 already, corwin | another number, or none to have the next free one",
        ]
    );
}

#[test]
fn a_row_whose_name_stands_above_is_looked_at_all_the_same() {
    let csv = "name,full_name,primary,join,shell,expires\n\
               corwin,,,pilots,,\n\
               corwin,\"a:b\",corwin,slipwy,sh,2020-01-01\n";
    for detailed in [true, false] {
        let told = faults(&Intake { detailed, ..request(csv) }, "");
        let told: Vec<&str> = told
            .iter()
            .map(|fault| fault.split_once(':').unwrap().1.split_once(':').unwrap().0)
            .collect();
        assert_eq!(told, ["1 name", "8 full_name", "21 join", "28 shell"]);
    }
}

#[test]
fn two_rows_with_one_home_are_told() {
    let told = faults(
        &request("name,home\nmaren,/srv/m\ncorwin,/srv/m/\nodile,/home/isolde\nisolde,\n"),
        "",
    );
    assert_eq!(
        told,
        [
            "3:8 home: the home /srv/m is line 2's already | another path",
            "5:8 home: the home /home/isolde is line 4's already | another path",
        ]
    );
    let none = request("name,home\nmaren,none\ncorwin,none\n");
    assert_eq!(planned(&none, "").unwrap().plan.steps, []);
}

#[test]
fn of_a_large_table_only_the_lines_are_planned() {
    let detailed = request("name,join\nmaren,pilots\ncorwin,maren\n");
    let silent = Intake { detailed: false, ..request("name,join\nmaren,pilots\ncorwin,maren\n") };
    let [detailed, silent] = [detailed, silent].map(|request| planned(&request, "").unwrap().plan);
    assert_eq!(
        (
            detailed.subjects.len(),
            silent.subjects.iter().filter(|one| !one.decisions.is_empty()).count()
        ),
        (2, 0)
    );
    assert_eq!(silent.edits.iter().filter(|edit| edit.count_after() == 2).count(), 4);
    let lines = |plan: &Plan| Told::of(plan).edits;
    assert_eq!((lines(&detailed), &detailed.totals), (lines(&silent), &silent.totals));
    // The record holds the same, whichever way it was written.
    assert_eq!(kept(&silent.edits).1.edits, lines(&detailed));
}

#[test]
fn lines_with_a_hash_are_hidden_among_many() {
    let hash = "$y$j9T$F5Jx5fExrKuPp53xLKQ..1$X3DX6M94c7o.9agCG9G317fhZg9SqC.5i5rd.RhAtQ7";
    let csv = format!("name,password_hash\nmaren,{hash}\ncorwin,!\n");
    let silent = Intake { detailed: false, ..request(&csv) };
    let plan = planned(&silent, "").unwrap().plan;
    let (kept, _) = kept(&plan.edits);
    assert!(kept.contains("maren:(hash):") && kept.contains("corwin:!:"), "{kept}");
    assert!(!kept.contains("F5Jx5"), "{kept}");
}

#[test]
fn a_gshadow_that_is_made_has_every_group() {
    let files = [(File::Passwd, PASSWD), (File::Group, "root:x:0:\ncrew:!:300:tavish\n")];
    let groups = "name,gid,member,group_admin\npilots,210,tavish,tavish\nslipway,211,tavish,\n";
    let groups = RosterSource::new("groups.csv", Form::Csv, groups.into());
    let users = "name,join\nmaren,pilots;crew\ncorwin,crew\n".into();
    let users = RosterSource::new("crew.csv", Form::Csv, users);
    let mut request = Intake { roster: Roster::read(vec![groups, users]), ..Intake::default() };
    for detailed in [true, false] {
        request.detailed = detailed;
        let (book, policy, world) = (book(&files), Policy::default(), World::default());
        let (today, change) = (Day(20_781), Some(7));
        let context = PlanContext { book: &book, policy: &policy, world: &world, today, change };
        let plan = intake(context, &request).unwrap().plan;
        let mut gshadow: Vec<String> = lines(&plan, File::Gshadow)
            .iter()
            .flat_map(|text| text.split('\n').map(String::from).collect::<Vec<_>>())
            .collect();
        gshadow.sort();
        let of_all = [
            "corwin:!::",
            "crew:!::tavish,maren,corwin",
            "maren:!::",
            "pilots:!:tavish:tavish,maren",
            "root:!::",
            "slipway:!::tavish",
        ];
        assert_eq!(gshadow, of_all);
    }
}

#[test]
fn a_span_that_runs_out_is_told_once() {
    let csv = "name\na1\na2\na3\na4\na5\n";
    let refusal = planned(&request(csv), "[people]\nids = \"1000-1003\"").unwrap_err();
    let Reason::Roster { faults, span_full } = &refusal.reason else { panic!() };
    assert_eq!((faults.len(), faults[0].line, *span_full), (1, 4, 3));
    assert!(
        refusal.to_string().ends_with("; no number is left for 2 further rows either"),
        "{refusal}"
    );
}

#[test]
fn rows_that_exist_are_kept_or_brought_to_their_rows() {
    let csv = "name,full_name,join,shell,expires,ranges,home\n\
               tavish,Tavish R.,slipway;sudo,/bin/sh,2027-03-31,65536,\n\
               sunniva,Sunniva Dahl,slipway,/bin/bash,never,65536,/home/sunniva\n";
    let mut request = request(csv);
    request.existing = Existing::Keep;
    assert!(planned(&request, "").unwrap().plan.nothing);
    request.existing = Existing::Update;
    let plan = planned(&request, "").unwrap().plan;
    assert_eq!(lines(&plan, File::Passwd), ["tavish:x:1001:1001:Tavish R.:/home/tavish:/bin/sh"]);
    assert_eq!(lines(&plan, File::Group), ["sudo:x:27:sunniva,tavish"]);
    assert_eq!(lines(&plan, File::Shadow), ["tavish:!:20000:::::20908:"]);
    assert_eq!(lines(&plan, File::Subuid), ["tavish:2001076224:65536"]);
    assert_eq!(plan.subjects.len(), 1);
    // Exactly: sunniva would leave the administrators, and is the last of them.
    request.exact_groups = true;
    let told = planned(&request, "").unwrap_err().to_string();
    assert!(
        told.starts_with("nothing was changed, because of row 2 of crew.csv: sunniva"),
        "{told}"
    );
}

#[test]
fn exact_groups_take_out_who_is_not_asked_for() {
    let csv = "name,join\ntavish,slipway\n";
    let mut request = request(csv);
    (request.existing, request.exact_groups) = (Existing::Update, true);
    let plan = planned(&request, "").unwrap().plan;
    assert_eq!(lines(&plan, File::Group), ["pilots:x:210:"]);
    let plan = planned(&request, "[people]\ngroups = [\"pilots\"]").unwrap().plan;
    assert!(plan.nothing);
}

#[test]
fn a_given_password_is_only_for_who_has_none() {
    let hash = "$y$j9T$F5Jx5fExrKuPp53xLKQ..1$X3DX6M94c7o.9agCG9G317fhZg9SqC.5i5rd.RhAtQ7";
    let csv = format!(
        "name,password_hash,must_change\ntavish,{hash},yes\nsunniva,{hash},\nmaren,!{hash},\n"
    );
    let mut request = request(&csv);
    request.existing = Existing::Update;
    let plan = planned(&request, "").unwrap().plan;
    assert_eq!(
        lines(&plan, File::Shadow),
        [format!("tavish:{hash}:0::::::"), format!("maren:!{hash}:20781:0::7:::")]
    );
}

#[test]
fn groups_of_rows_are_there_for_the_users_of_rows() {
    let groups = RosterSource::new("g", Form::Toml, b"[[group]]\nname = 'divers'\ngid = 300\nmember = ['maren', 'tavish']\ngroup_admin = ['maren']\n".to_vec());
    let users = RosterSource::new(
        "u",
        Form::Csv,
        b"name,primary,join\nmaren,divers,\ncorwin,,divers;crew\n".to_vec(),
    );
    let mut request = Intake { roster: Roster::read(vec![groups, users]), ..Intake::default() };
    assert_eq!(faults(&request, ""), ["3:9 join: there is no group crew | "]);
    request.groups_too = true;
    let plan = planned(&request, "").unwrap().plan;
    assert_eq!(
        lines(&plan, File::Group),
        ["divers:x:300:maren,tavish,corwin", "crew:x:1002:corwin", "corwin:x:1004:"]
    );
    assert_eq!(lines(&plan, File::Gshadow)[0], "divers:!:maren:maren,tavish,corwin");
    let who = RosterSource::new("g", Form::Csv, b"name,member\ncrew,tavis\npilots,\n".to_vec());
    let request = Intake { roster: Roster::read(vec![who]), ..Intake::default() };
    assert_eq!(
        faults(&request, ""),
        [
            "2:6 member: there is no user tavis; the nearest is tavish | tavish",
            "3:1 name: the group pilots exists already, etc/group:3 | "
        ]
    );
}

#[test]
fn a_group_that_a_later_row_makes_is_told_with_its_line() {
    let told = faults(&request("name,primary\nisolde,maren\nmaren,\n"), "");
    assert_eq!(
        told,
        ["2:8 primary: the group maren is made further down, by line 3 | that row above this one"]
    );
}

#[test]
fn names_are_made_once_and_found_again() {
    let csv = "full_name,name\nTavish Rowe,\nOdalys Brink,\nOdalys Brink,\nBo,odalys\n";
    let mut request = request(csv);
    // One who is called so is there: it is not said whether this is another.
    let told = faults(&request, "");
    assert!(told[0].starts_with("2:1 full_name: tavish is called Tavish Rowe already"), "{told:?}");
    let names = |plan: &Plan| -> Vec<String> {
        lines(plan, File::Passwd)
            .iter()
            .map(|line| line.split(':').next().unwrap().into())
            .collect()
    };
    request.existing = Existing::Update;
    assert_eq!(names(&planned(&request, "").unwrap().plan), ["odalysb", "obrink", "odalys"]);
}

#[test]
fn ranges_of_ones_own_choice_have_to_be_free() {
    let csv = "name,ranges\nmaren,2001076224-2001076233;2002000000-2002000009\n\
               corwin,2001010700-2001010800\nisolde,2002000005-2002000006\n";
    let told = faults(&request(csv), "");
    assert_eq!(told.len(), 2, "{told:?}");
    assert!(told[0].starts_with("3:8 ranges: the range 2001010700-2001010800 is not free"));
    assert!(told[1].starts_with("4:8 ranges: "));
    let one = request("name,ranges\nmaren,2001076224-2001076233;2002000000-2002000009\n");
    let plan = planned(&one, "").unwrap().plan;
    assert_eq!(lines(&plan, File::Subgid), ["maren:2001076224:10", "maren:2002000000:10"]);
}

#[test]
fn cautions_that_are_alike_are_counted() {
    let csv = "name,shell\na1,/bin/x\na2,/bin/x\na3,/bin/x\na4,/bin/x\na5,/bin/x\n";
    let (book, policy) = (the_book(), Policy::default());
    let world = World { missing_programs: vec!["/bin/x".into()], ..World::default() };
    let today = Day(20_781);
    let context =
        PlanContext { book: &book, policy: &policy, world: &world, today, change: Some(7) };
    let plan = intake(context, &request(csv)).unwrap().plan;
    assert_eq!(
        (plan.cautions.len(), plan.cautions.last()),
        (4, Some(&Caution::MoreAlike { more: 2 }))
    );
}

#[test]
fn what_goes_for_all_rows_goes_for_each() {
    let csv = "name,home,service\nmaren,,\ncorwin,/srv/corwin,\ngauge,,yes\nodile,none,\n";
    let homes = |request: &Intake| -> Vec<String> {
        let plan = planned(request, "").unwrap().plan;
        let field = |line: String| line.split(':').nth(5).unwrap().to_owned();
        let made = plan.steps.len();
        let homes = lines(&plan, File::Passwd).into_iter().map(field);
        homes.chain([made.to_string()]).collect()
    };
    let all = ["/home/maren", "/srv/corwin", "/nonexistent", "/nonexistent"];
    assert_eq!(homes(&request(csv)), [&all[..], &["2"]].concat());
    let recorded = Intake { no_home: true, ..request(csv) };
    assert_eq!(homes(&recorded), [&all[..], &["0"]].concat());
    let bare = Intake { skeleton: Some("none".into()), ..request(csv) };
    let plan = planned(&bare, "").unwrap().plan;
    let empty = |step: &crate::change::Step| {
        matches!(step, crate::change::Step::MakeDirectory { skeleton: None, .. })
    };
    assert!(plan.steps.iter().all(empty) && plan.steps.len() == 2, "{:?}", plan.steps);
}

#[test]
fn an_account_is_changed_in_every_field_its_row_has() {
    let csv =
        "name,primary,admin,uid,home,ranges,service\ntavish,pilots,yes,1400,/srv/tavish,none,no\n";
    let (book, policy) = (the_book(), Policy::default());
    let facts = crate::surroundings::Facts {
        kind: crate::value::FileKind::Directory,
        uid: Uid(1001),
        gid: Gid(1001),
        mode: 0o700,
    };
    let mut world = World::default();
    world.sites.insert("/home/tavish".into(), crate::surroundings::Site::Taken(facts));
    let context = PlanContext {
        book: &book,
        policy: &policy,
        world: &world,
        today: Day(20_781),
        change: Some(7),
    };
    let request = Intake { existing: Existing::Update, ..request(csv) };
    let plan = intake(context, &request).unwrap().plan;
    assert_eq!(lines(&plan, File::Passwd), ["tavish:x:1400:210:Tavish Rowe:/srv/tavish:/bin/sh"]);
    assert_eq!(lines(&plan, File::Group)[0], "sudo:x:27:sunniva,tavish");
    let steps: Vec<String> = plan.steps.iter().map(crate::change::Step::describe).collect();
    let steps = steps.join("; ");
    assert!(steps.contains("/home/tavish") && steps.contains("/srv/tavish"), "{steps}");
    let told: Vec<&str> = plan.subjects[0].decisions.iter().map(|one| one.label.as_str()).collect();
    for label in ["row", "uid", "home", "primary", "joins"] {
        assert!(told.contains(&label), "no {label} in {told:?}");
    }
    let message = |csv: &str| {
        let request = Intake {
            existing: Existing::Update,
            ..crate::plan::tables::intake::tests::request(csv)
        };
        faults(&request, "").join("; ")
    };
    assert!(message("name,service\ntavish,yes\n").contains("tavish is a person"));
    assert!(message("name,uid\ntavish,1000\n").contains("uid 1000 is sunniva's"));
    assert!(
        message("name,ranges\nsunniva,5000-5009\n")
            .contains("sunniva has other ranges in etc/subuid")
    );
    assert!(
        message("name,primary\ntavish,nobody\n").contains("2:8 primary: there is no group nobody")
    );
}

#[test]
fn of_two_people_with_one_name_neither_is_guessed() {
    let mut texts = PASSWD.to_owned();
    texts += "twin:x:1005:1005:Tavish Rowe:/home/twin:/bin/sh\n";
    let book = book(&[(File::Passwd, &texts), (File::Group, GROUP)]);
    let (policy, world) = (Policy::default(), World::default());
    let context = PlanContext {
        book: &book,
        policy: &policy,
        world: &world,
        today: Day(20_781),
        change: None,
    };
    let request = Intake { existing: Existing::Keep, ..request("full_name\nTavish Rowe\n") };
    let refusal = intake(context, &request).unwrap_err();
    let Reason::Roster { faults, .. } = &refusal.reason else { panic!() };
    assert_eq!(faults[0].message, "several accounts are called Tavish Rowe");
    let nothing = crate::plan::tables::intake::tests::request("full_name\n\u{10ffff}\n");
    let refusal = intake(context, &nothing).unwrap_err();
    let Reason::Roster { faults, .. } = &refusal.reason else { panic!() };
    assert!(faults[0].message.contains("none of its letters"), "{}", faults[0].message);
}

#[test]
fn a_row_of_the_administrators_group_is_guarded_too() {
    let update =
        |csv: &str| Intake { existing: Existing::Update, exact_groups: true, ..request(csv) };
    let told = planned(&update("name,member\nsudo,tavish\n"), "").unwrap_err();
    assert!(told.to_string().contains("sunniva would no longer be administrator"), "{told}");
    assert_eq!(told.ways[1].text, "--even-last-admin");
    let kept = planned(&update("name,member\nsudo,sunniva;tavish\n"), "").unwrap().plan;
    assert_eq!(lines(&kept, File::Group), ["sudo:x:27:sunniva,tavish"]);
    // A row of somebody's own asks for it as well.
    let group = RosterSource::new("g", Form::Csv, b"name,member\nsudo,tavish\n".to_vec());
    let user = RosterSource::new("u", Form::Csv, b"name,join\nsunniva,sudo;slipway\n".to_vec());
    let both = Intake { roster: Roster::read(vec![group, user]), ..update("name\nx\n") };
    assert_eq!(lines(&planned(&both, "").unwrap().plan, File::Group), ["sudo:x:27:sunniva,tavish"]);
}
