//! Numbers: who is behind one, the map of the spans, the subordinate ranges.

use crate::harness::TestTree;

#[test]
fn everything_behind_a_number_is_told() {
    let tree = TestTree::new();
    tree.write("etc/copper-nest/policy.toml", "[ids]\navoid = [\"5000-5999 the office's\"]\n");
    tree.done("create user maren");
    tree.done("delete user maren --yes");
    tree.done("show id 1001").says("the user tavish   etc/passwd:6").says("the group tavish");
    let run = tree.done("show id 2001010721");
    run.says("33 inside the containers of sunniva, who has 2001010688-2001076223");
    tree.done("show id 1002").says("as uid     retired: it was maren's");
    tree.done("show id 5001").says("avoided by the policy, 5000-5999: the office's");
    tree.done("show id 65534").says("nobody").says("reserved");
    let json = tree.json("show id 1001");
    assert_eq!((&json["id"], &json["held_by"][0]["line"]), (&1001.into(), &6.into()));
    tree.refused("show id x", 3, "\"x\" is no id");
    tree.refused("show id 4294967296", 3, "is no id");
}

#[test]
fn the_map_tells_what_is_used_free_and_next() {
    let tree = TestTree::new();
    tree.write("etc/copper-nest/policy.toml", "[people]\nids = \"1000-1003\"\n");
    let lines = |tree: &TestTree| tree.done("list ids").stdout;
    assert_eq!(lines(&tree).lines().next(), Some("people\t1000\t1003\t2\t0\t0\t2\t1002"));
    tree.done("create user maren");
    tree.done("delete user maren --yes");
    assert_eq!(lines(&tree).lines().next(), Some("people\t1000\t1003\t2\t1\t0\t1\t1003"));
    tree.done("create user odile");
    let shown = tree.done("list ids --color always").stdout;
    assert!(
        shown.contains("100.0 % full") && shown.contains("nothing left to be given"),
        "{shown}"
    );
    let services = lines(&tree).lines().nth(1).unwrap().to_owned();
    assert_eq!(services, "services\t100\t999\t4\t0\t0\t896\t998");
    let json = tree.json("list ids");
    assert_eq!((&json[2]["name"], &json[0]["next"]), (&"subordinate".into(), &().into()));
}

#[test]
fn ranges_are_listed_with_gaps_and_overlaps() {
    let tree = TestTree::new();
    tree.write("etc/subuid", "tavish:500:100\nsunniva:100:50\n1001:550:100\n");
    tree.write("etc/subgid", "");
    let run = tree.done("list ranges");
    let expected = "uid\t100\t149\t50\tsunniva\t\nuid\t150\t499\t350\t\t\n\
                    uid\t500\t599\t100\ttavish\t\nuid\t550\t649\t100\t1001\toverlaps\n";
    assert_eq!(run.stdout, expected);
    assert_eq!(tree.done("list ranges --of tavish").stdout.lines().count(), 2);
    assert_eq!(tree.json("list ranges")[1]["owner"], serde_json::Value::Null);
    tree.refused("list ranges --of marn", 3, "there is no user marn");
}

#[test]
fn accounts_that_come_back_together_get_numbers_of_their_own() {
    let tree = TestTree::new();
    tree.done("create user maren odile");
    tree.done("create user gauge --service");
    let uid = |name: &str| tree.json(&format!("show user {name}"))["uid"].as_u64().unwrap();
    let taken = ["maren", "odile", "gauge"].map(uid);
    tree.done("delete user maren odile gauge --even-service --yes");
    for (at, uid) in taken.iter().enumerate() {
        tree.append("etc/passwd", format!("other{at}:x:{uid}:100::/nonexistent:/bin/sh\n"));
        tree.append("etc/group", format!("other{at}:x:{uid}:\n"));
    }
    tree.done("restore user maren odile --new-id").says("another: 1002 is taken");
    let (maren, odile) = (uid("maren"), uid("odile"));
    assert!(maren != odile && !taken.contains(&maren) && !taken.contains(&odile));
    let groups = tree.read("etc/group");
    assert!(groups.contains(&format!("maren:x:{maren}:")), "{groups}");
    assert!(groups.contains(&format!("odile:x:{odile}:")), "{groups}");
    let next = tree.json("list ids")[1]["next"].as_u64().unwrap();
    tree.done("restore user gauge --new-id");
    assert_eq!((uid("gauge"), next > 900), (next, true));
}

#[test]
fn of_a_range_that_is_made_smaller_only_the_rest_is_retired() {
    let tree = TestTree::new();
    tree.done("create user maren");
    let first = tree.json("show user maren")["ranges"]["uid"][0]["start"].as_u64().unwrap();
    let told = |id: u64| tree.done(&format!("show id {id}")).stdout;
    tree.done("change user maren --ranges 100");
    assert!(told(first + 99).contains("maren, who has") && !told(first + 99).contains("retired"));
    assert!(told(first + 100).contains("retired") && told(first + 65_535).contains("retired"));
    tree.done("undo --yes");
    for id in [first, first + 99, first + 100, first + 65_535] {
        assert!(!told(id).contains("retired"), "{}", told(id));
    }
}

#[test]
fn people_are_people_whatever_span_new_numbers_come_from() {
    let tree = TestTree::new();
    tree.append(
        "etc/passwd",
        "maren:x:60001:100::/home/maren:/bin/sh\nisolde:x:1000000:100::/home/isolde:/bin/sh\n\
         buoy:x:70001:100::/var/empty:/usr/sbin/nologin\nlamp:x:61190:100::/run/lamp:/bin/sh\n\
         gull:x:70002:100::/nonexistent:/bin/sh\n",
    );
    tree.append(
        "etc/shadow",
        "maren:!:20600::::::\nisolde:!:20600::::::\ngull:!:20600::::::\nbuoy:!:20600::::::\n",
    );
    let kind = |name: &str| tree.done(&format!("show user {name}")).value("kind");
    for (name, wanted) in [
        ("root", "service: uid 0"),
        ("daemon", "service: below people.ids 1000-59999"),
        ("tidegauge", "service: services.ids 100-999"),
        ("tavish", "person: people.ids 1000-59999"),
        ("maren", "person: above people.ids 1000-59999"),
        ("isolde", "person: above people.ids 1000-59999"),
        ("nobody", "service: services.also 61184-65535"),
        ("lamp", "service: services.also 61184-65535"),
        ("buoy", "service: nobody gets in, and its home is /var/empty"),
        // No password is set yet.
        ("gull", "person: above people.ids 1000-59999"),
    ] {
        assert_eq!(kind(name), wanted, "{name}");
    }
    let people = tree.done("list users").stdout;
    for (name, listed) in [("maren", true), ("isolde", true), ("buoy", false), ("lamp", false)] {
        assert_eq!(people.contains(&format!("{name}\t")), listed, "{name}");
    }
    tree.done("suspend user isolde");
    tree.refused("suspend user buoy", 3, "buoy would be out of use");
    let ids = tree.json("list ids");
    assert_eq!(ids[3]["name"], "more people");
    assert_eq!(ids[3]["ids"], serde_json::json!(["60001", "70001-70002", "1000000"]));
    assert_eq!(ids[4]["used"], 7);
    let run = tree.done("create user odile --uid 80000 -n");
    run.says("uid 80000 lies outside the people 1000-59999, where new numbers are taken from.");
    let run = tree.done("create user odile --uid 500 -n");
    run.says("where new numbers are taken from: odile counts as a service.");
}

#[test]
fn a_number_comes_back_to_its_owner_and_to_others_only_when_asked() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("delete user maren --yes --files keep");
    // Its own, with the group of its own.
    let run = tree.done("create user maren --uid 1002 --adopt-home -n");
    assert!(run.value("primary").starts_with("maren 1002"), "{}", run.stdout);
    run.says("back in use");
    assert!(!run.stdout.contains("was maren's"), "{}", run.stdout);
    // Somebody else's.
    let run = tree.refused("create user odile --uid 1002", 3, "was maren's, and is retired");
    assert!(run.stderr.contains("create user odile --uid 1002 --reuse-id"), "{}", run.stderr);
    let run = tree.done("create user odile --uid 1002 --reuse-id");
    assert!(run.value("primary").starts_with("odile 1002"), "{}", run.stdout);
    let files = if crate::harness::is_root() { "files carry it still" } else { "it" };
    run.says("uid 1002 was maren's until 2026-11-24").says(files).says("back in use");
    let record = tree.json("show change 3").to_string();
    assert!(record.contains("uid 1002 was maren's until 2026-11-24"), "{record}");
    // Taken back it is maren's once more: files carry it.
    tree.done("undo --yes");
    tree.refused("change user tavish --uid 1002", 3, "was maren's, and is retired");
    tree.done("change user tavish --uid 1002 --reuse-id -n").says("uid 1002 was maren's");
    tree.refused("create group crew --gid 1002", 3, "was maren's, and is retired");
    tree.done("create group crew --gid 1002 --reuse-id -n").says("gid 1002 was maren's");
    tree.done("change group pilots --gid 1002 --reuse-id --even-service -n").says("was maren's");
    // A service's private group may not have what is another group's.
    tree.refused("create user gauge2 --uid 1001 --reuse-id", 3, "uid 1001 is tavish's");
}

#[test]
fn the_next_numbers_are_told_and_what_is_reserved_or_in_a_range_is_not_free() {
    let tree = TestTree::new();
    let run = tree.done("list ids --next 3");
    assert_eq!(
        run.stdout,
        "people\t1002\npeople\t1003\npeople\t1004\nservices\t998\nservices\t997\nservices\t996\n\
         subordinate\t2001141760-2001207295\nsubordinate\t2001207296-2001272831\n\
         subordinate\t2001272832-2001338367\n"
    );
    assert_eq!(tree.json("list ids --next 1")["services"], serde_json::json!([998]));
    // What is told is what is given.
    tree.done("create user maren odile");
    assert_eq!(tree.json("list ids --next 1")["people"], serde_json::json!([1004]));
    tree.refused("list ids --next 0", 2, "0 is not in 1..=1000");
    // Ten numbers, of which one is reserved, two are accounts' and three are in a range.
    tree.write("etc/copper-nest/policy.toml", "[people]\nids = \"65530-65539\"\n");
    tree.append("etc/subuid", "tavish:65537:3\n");
    tree.append("etc/passwd", "isolde:x:65530:100::/home/isolde:/bin/sh\n");
    let people = &tree.json("list ids")[0];
    assert_eq!((&people["used"], &people["avoided"]), (&5.into(), &1.into()));
    assert_eq!((&people["free"], &people["next"]), (&4.into(), &65531.into()));
}

#[test]
fn ranges_of_ones_own_choice_are_taken_as_the_table_takes_them() {
    let tree = TestTree::new();
    let run = tree.done("create user maren --ranges 2100000000-2100000099;2100001000-2100001009");
    for file in ["etc/subuid", "etc/subgid"] {
        assert!(tree.read(file).ends_with("maren:2100000000:100\nmaren:2100001000:10\n"), "{file}");
    }
    assert!(run.value("ranges").starts_with("2100000000-2100000099"), "{}", run.stdout);
    let taken = "the range 2100000050-2100000149 is not free";
    let run = tree.refused("create user odile --ranges 2100000050-2100000149", 3, taken);
    assert!(run.stderr.contains("list ranges"), "{}", run.stderr);
    tree.refused("create user odile perrin --ranges 2100000200-2100000299", 3, "--ranges SPAN");
    tree.refused("create user odile --ranges 5-1", 3, "\"5-1\" is no number of ids and no span");
    // A part of its own, and one more: the rest is retired.
    let run = tree.done("change user maren --ranges 2100000000-2100000009;2100000200-2100000209");
    run.says("retired").says("2100000010-2100000099");
    for file in ["etc/subuid", "etc/subgid"] {
        assert!(tree.read(file).ends_with("maren:2100000000:10\nmaren:2100000200:10\n"), "{file}");
    }
    let run = tree.refused("change user maren --ranges 2001010688-2001010700", 3, "is not free");
    assert!(run.stderr.contains("change user maren --ranges 13"), "{}", run.stderr);
    tree.done("undo --yes");
    assert!(tree.read("etc/subuid").ends_with("maren:2100000000:100\nmaren:2100001000:10\n"));
}
