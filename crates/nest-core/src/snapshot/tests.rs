//! What a snapshot says, and how it is read back.

use proptest::prelude::*;

use super::*;
use crate::policy::Policy;
use crate::table::File;
use crate::test_support::{World, book, context};

const PASSWD: &str = "root:x:0:0:root:/root:/bin/bash
maren:x:1004:1004:Maren Solvik,,:/home/maren:/bin/bash
tidegauge:x:999:999::/nonexistent:/usr/sbin/nologin
odd\\x:x:ten:10::/home/odd:
";
const SHADOW: &str = "root:*:20600::::::
maren:$6$salt$0123456789abcdef:20602:0::7::20900:
tidegauge:!:20600::::::
";
const GROUP: &str = "root:x:0:
maren:x:1004:
pilots:x:210:maren,maren
";

fn snapshot_text() -> String {
    let files = [(File::Passwd, PASSWD), (File::Shadow, SHADOW), (File::Group, GROUP)];
    let (book, policy, world) = (book(&files), Policy::default(), World::default());
    let about = SnapshotOf {
        program: "0.1.0".to_owned(),
        time: "2026-11-24T06:00:00+00:00".to_owned(),
        files_of_users: Some([(1004, 12)].into()),
        files_of_groups: None,
    };
    take(context(&book, &policy, &world), &about).to_text()
}

#[test]
fn it_holds_what_the_files_say_and_no_hash() {
    let text = snapshot_text();
    assert!(!text.contains("salt") && !text.contains("AAAA"), "{text}");
    assert_eq!(text, snapshot_text());
    let snapshot = Snapshot::read(&text).unwrap();
    let [root, maren, tidegauge, odd] = &snapshot.users[..] else { panic!("{text}") };
    assert_eq!(
        (maren.uid, maren.primary.as_deref(), maren.files),
        (Some(1004), Some("maren"), Some(12))
    );
    assert_eq!(maren.full_name.as_deref(), Some("Maren Solvik"));
    assert_eq!(
        (maren.kind.as_deref(), tidegauge.kind.as_deref()),
        (Some("person"), Some("service"))
    );
    assert_eq!(
        (maren.expires.as_deref(), root.expires.as_deref()),
        (Some("2027-03-23"), Some("never"))
    );
    assert_eq!((maren.sign_in.as_deref(), tidegauge.files), (Some("password"), Some(0)));
    assert_eq!(root.root.as_deref(), Some(&[Text::from("uid 0".to_owned())][..]));
    // What is no UTF-8 or a backslash is escaped, and a number that is none is left out.
    assert_eq!((&*odd.name, odd.uid), (r"odd\\x", None));
    assert_eq!(snapshot.groups[2].members, [Text::from("maren".to_owned())]);
    // Each account is on a line of its own.
    assert_eq!(text.lines().filter(|line| line.starts_with("{\"name\":")).count(), 4 + 3);
}

#[test]
fn what_is_no_snapshot_is_told_as_what_it_is() {
    let text = snapshot_text();
    let fault = |text: &str| Snapshot::read(text).unwrap_err();
    assert_eq!(fault(&text[..text.len() - 40]), SnapshotFault::CutOff { line: 11 });
    assert_eq!(fault(&text.replacen("\"version\":1", "\"version\":7", 1)), SnapshotFault::Newer(7));
    // A newer one may have other forms of what is known.
    let other =
        text.replacen("\"version\":1", "\"version\":7", 1).replace("\"uid\":0", "\"uid\":\"0\"");
    assert_eq!(fault(&other), SnapshotFault::Newer(7));
    let users = text.replacen("\"snapshot\"", "\"users\"", 1);
    assert!(matches!(fault(&users), SnapshotFault::Other(_)));
    let wrong = text.replace("\"uid\":1004", "\"uid\":-1");
    let SnapshotFault::Fault { line, message, .. } = fault(&wrong) else { panic!() };
    assert_eq!(line, 4);
    assert!(message.starts_with("invalid value: integer `-1`"), "{message}");
    // Keys that come later are passed over, however deep.
    let deep = format!("{}1{}", "[".repeat(100), "]".repeat(100));
    let more = text.replacen("\"host\":", &format!("\"berth\":{deep},\"host\":"), 1);
    assert!(Snapshot::read(&more).is_ok());
    let too_deep = "[".repeat(1_000_000);
    let more = text.replacen("\"host\":", &format!("\"berth\":{too_deep},\"host\":"), 1);
    assert!(Snapshot::read(&more).is_err());
}

proptest! {
    #[test]
    fn no_text_reads_as_something_that_steers_a_terminal(name in any::<String>()) {
        let text = serde_json::to_string(&name).unwrap();
        let read: Text<'_> = serde_json::from_str(&text).unwrap();
        prop_assert!(!read.contains(|c: char| c.is_ascii_control()));
        if !name.contains(|c: char| c.is_ascii_control()) {
            prop_assert_eq!(&*read, name.as_str());
        }
    }
}
