//! The pages in a browser: nothing is loaded, nothing is complained of, everybody can use them.

use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::{Value, json};

use crate::harness::{TestTree, passed_over};

/// The file of axe-core, where it was put down or is named.
fn axe() -> Option<PathBuf> {
    let named = std::env::var_os("NEST_AXE").map(PathBuf::from);
    let tools =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tools/axe/package/axe.min.js");
    named.into_iter().chain([tools]).find(|path| path.is_file())
}

/// What a browser sees of a page; nothing where there is none to drive.
fn looked_at(test: &str, tree: &TestTree, words: &str) -> Option<Value> {
    let page = tree.root().with_file_name("page.html");
    tree.done(&format!("{words} --to {} --yes", page.display()));
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/browser/look.py");
    // The system's own has what its packages bring.
    let python = ["/usr/bin/python3", "python3"].into_iter().find(|name| {
        Command::new(name)
            .args(["-c", "import selenium"])
            .output()
            .is_ok_and(|run| run.status.success())
    });
    let Some(python) = python else {
        passed_over(test, "python3 with selenium");
        return None;
    };
    let axe = axe();
    if axe.is_none() {
        passed_over(&format!("{test}: how accessible it is"), "axe-core, by NEST_AXE");
    }
    let run = Command::new(python).arg(script).arg(&page).args(axe).output().unwrap();
    let told = String::from_utf8_lossy(&run.stdout);
    if run.status.code() == Some(77) {
        passed_over(test, told.trim());
        return None;
    }
    assert!(run.status.success(), "{told}\n{}", String::from_utf8_lossy(&run.stderr));
    Some(serde_json::from_str(&told).unwrap())
}

/// What holds of every page.
fn assert_sound(seen: &Value) {
    let requests = seen["requests"].as_array().unwrap();
    assert!(
        requests.len() == 1 && requests[0].as_str().unwrap().starts_with("file:"),
        "{requests:?}"
    );
    assert_eq!(seen["console"], json!([]));
    assert_eq!(seen["faults"], json!([]), "axe-core");
    assert_eq!(seen["tried"], Value::Null, "nothing of a file was run");
    assert_eq!(seen["wide"], json!({"1280": 1280, "390": 390}), "nothing sticks out");
    assert_eq!(seen["shifted"], json!(0), "nothing moves while it is drawn");
}

#[test]
fn a_report_works_by_keyboard_and_loads_nothing() {
    let tree = TestTree::new();
    tree.append(
        "etc/passwd",
        "ann:x:1500:1500:<script>window.tried=1</script>:/home/ann:/bin/sh\n",
    );
    tree.append("etc/group", "</script><script>window.tried=2</script>:x:1600:ann\n");
    tree.done("create user maren --join pilots,slipway --no-home --note HR-412");
    tree.done("create user liv --primary pilots --no-home");
    let Some(seen) = looked_at("a report in a browser", &tree, "report") else { return };
    assert_sound(&seen);
    let users = &seen["users"];
    let all = tree.done("list users --kind all").stdout.lines().count();
    assert_eq!(users["rows"], all);
    assert_eq!((&users["first"], &users["by name"]), (&json!("sunniva"), &json!("ann")));
    assert_eq!(users["by name, backwards"], "tidegauge");
    assert_eq!((&users["sort"], &users["by number"]), (&json!("descending"), &json!("root")));
    assert_eq!(users["sunniva"], 1);
    assert_eq!(users["count"], format!("1 user, of {all} in all"));
    assert_eq!(users["services"], tree.done("list users --kind services").stdout.lines().count());
    let matrix = &seen["matrix"];
    assert_eq!(matrix["rows"], tree.done("list users").stdout.lines().count());
    assert_eq!(matrix["primary"], 1, "liv's");
    assert_eq!((&matrix["pilot"], &matrix["tavish"]), (&json!(3), &json!(1)));
    let map = &seen["map"];
    assert!(map["whole"] == map["whole again"] && map["whole"] != map["closer"], "{map}");
    assert_eq!(seen["opened"], true, "a link to a change opens its receipt");
}

#[test]
fn a_report_of_many_machines_does_too() {
    let tree = TestTree::new();
    let other = TestTree::new();
    other.done("change user tavish --uid 1700");
    other.append("etc/passwd", "ann:x:1500:1500:</td><script>window.tried=1</script>::/bin/sh\n");
    let sides = format!("report {} {}", tree.root().display(), other.root().display());
    let Some(seen) = looked_at("a report of machines in a browser", &tree, &sides) else { return };
    assert_sound(&seen);
    assert_eq!(seen["users"]["sunniva"], 1);
}

#[test]
fn a_large_report_is_turned_by_pages() {
    let tree = TestTree::new();
    let hands = 0..500;
    let users = hands
        .clone()
        .map(|at| format!("hand{at:03}:x:{0}:{0}::/home/hand{at:03}:/bin/sh\n", 2000 + at));
    tree.append("etc/passwd", users.collect::<String>());
    let own = hands.clone().map(|at| format!("hand{at:03}:x:{}:\n", 2000 + at));
    let teams = (0..200).map(|team| {
        let members: Vec<String> =
            (0..20).map(|at| format!("hand{:03}", (team + at * 23) % 500)).collect();
        format!("team{team:03}:x:{}:{}\n", 4000 + team, members.join(","))
    });
    tree.append("etc/group", own.chain(teams).collect::<String>());
    let Some(seen) = looked_at("a large report in a browser", &tree, "report") else { return };
    assert_sound(&seen);
    assert_eq!(seen["users"]["rows"], 100, "so many at once");
    assert!(seen["users"]["second page"].as_str().unwrap().starts_with("101 to 200 of 5"));
    let matrix = &seen["matrix"];
    assert_eq!(matrix["rows"], 100);
    assert!(matrix["columns"].as_u64().unwrap() >= 200, "{matrix}");
}
