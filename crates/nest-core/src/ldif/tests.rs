//! Entries written, read back, and changed.

use bstr::BString;
use proptest::prelude::*;

use super::name::{below, first_step, is_below, plain};
use super::*;
use crate::account::AccountIndex;
use crate::group_account::GroupIndex;
use crate::policy::Policy;
use crate::table::File;
use crate::test_support::book;

const BASE: &str = "dc=gullhaven,dc=example";

fn directory(schema: Schema) -> Directory {
    Directory::new(BASE, "ou=people", "ou=groups", schema).unwrap()
}

const PASSWD: &str = "root:x:0:0:root:/root:/bin/bash
maren:x:1004:1004:Maren Solvik,quay 3:/home/maren:/bin/bash
sven:x:1005:1004:Søren Ås:/home/sven:
Sven:x:1006:1004::/home/x:/bin/sh
";
const SHADOW: &str = "maren:$6$Gullhaven2$0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef012345:20602:0:365:7:30:20900:\nsven:!:20602::::::\n";
const GROUP: &str = "root:x:0:\nmaren:x:1004:\npilots:x:210:sven,maren,gone\n";

/// The entries of users and groups of files.
fn entries(files: &[(File, &str)], schema: Schema) -> [Entries; 2] {
    let (book, policy) = (book(files), Policy::default());
    let (users, groups) = (AccountIndex::new(&book, &policy), GroupIndex::new(&book, &policy));
    let directory = directory(schema);
    let users = users.accounts().map(|account| (account.user, account.shadow));
    let users = user_entries(users, &directory, false);
    let known: Vec<BString> = users.all.iter().map(|entry| entry.name.clone()).collect();
    let is_known = |name: &[u8]| known.iter().any(|known| *known == name);
    let groups = groups.groups().filter(|group| group.group.name != b"root");
    [users, group_entries(groups, &directory, is_known)]
}

const FILES: [(File, &str); 3] =
    [(File::Passwd, PASSWD), (File::Shadow, SHADOW), (File::Group, GROUP)];

#[test]
fn accounts_are_entries_of_the_classes_of_the_standard() {
    let [users, groups] = entries(&FILES, Schema::Rfc2307);
    let text = String::from_utf8(entries_text(&users.all)).unwrap();
    assert_eq!(
        text,
        "version: 1

dn: uid=maren,ou=people,dc=gullhaven,dc=example
objectClass: account
objectClass: posixAccount
objectClass: shadowAccount
uid: maren
cn: Maren Solvik
uidNumber: 1004
gidNumber: 1004
homeDirectory: /home/maren
loginShell: /bin/bash
gecos: Maren Solvik,quay 3
shadowMin: 0
shadowMax: 365
shadowWarning: 7
shadowInactive: 30
shadowExpire: 20900

dn: uid=sven,ou=people,dc=gullhaven,dc=example
objectClass: account
objectClass: posixAccount
objectClass: shadowAccount
uid: sven
cn:: U8O4cmVuIMOFcw==
uidNumber: 1005
gidNumber: 1004
homeDirectory: /home/sven
loginShell: /bin/sh
"
    );
    assert_eq!(
        users.left_out,
        [
            "the user root: no directory may say who root is",
            "the user Sven: another has that name, and large and small letters are one to a directory",
        ]
    );
    assert_eq!(
        groups.left_out,
        ["gone in the group pilots: the directory gets no user of that name"]
    );
    let text = String::from_utf8(entries_text(&groups.all)).unwrap();
    assert!(
        text.ends_with("cn: pilots\ngidNumber: 210\nmemberUid: maren\nmemberUid: sven\n"),
        "{text}"
    );
    let [_, groups] = entries(&FILES, Schema::Rfc2307bis);
    let text = String::from_utf8(entries_text(&groups.all)).unwrap();
    assert!(text.contains("objectClass: groupOfMembers\n"), "{text}");
    assert!(text.contains("member: uid=sven,ou=people,dc=gullhaven,dc=example\n"), "{text}");
}

#[test]
fn users_are_written_side_by_side_as_their_entries_are() {
    let book = book(&FILES);
    for hashes in [false, true] {
        let users: Vec<_> = book.users.records().map(|(_, user)| user).collect();
        let shadow_of = |name: &[u8]| book.shadow(name).map(|(_, shadow)| shadow);
        let directory = directory(Schema::Rfc2307);
        let (text, count, left_out) =
            users_text(&users, &directory, hashes, &shadow_of, &|user| user.name == b"maren");
        let with_shadow = users.iter().map(|user| (*user, shadow_of(user.name)));
        let entries = user_entries(with_shadow, &directory, hashes);
        let mut told = entries.left_out;
        told.sort();
        let mut left_out = left_out;
        left_out.sort();
        assert_eq!((count, left_out), (3, told));
        let text = String::from_utf8(text).unwrap();
        let own = "\ndn: cn=maren,ou=groups,dc=gullhaven,dc=example\nobjectClass: posixGroup\n\
                   cn: maren\ngidNumber: 1004\n";
        let (before, after) = text.split_once(own).unwrap();
        let whole = String::from_utf8(entries_text(&entries.all)).unwrap();
        assert_eq!(whole, format!("version: 1\n{before}{after}"));
    }
}

#[test]
fn a_long_dump_is_read_in_pieces_with_its_places() {
    let entry = |at: usize| {
        format!(
            "dn: uid=h{at},ou=people\nobjectClass: posixAccount\nuid: h{at}\nuidNumber: {at}\n\
             gidNumber: {at}\nhomeDirectory: /home/h{at}\n\n"
        )
    };
    let mut text: String = (0..30_000).map(entry).collect();
    assert!(text.len() > 3 << 20);
    let (accounts, faults) = DirectoryAccounts::read(text.as_bytes());
    assert_eq!((accounts.users.len(), faults.len()), (30_000, 0));
    let last = &accounts.users[29_999];
    assert!(text[last.offset..].starts_with("dn: uid=h29999,"));
    let wrong = text.rfind("uidNumber: 29998").unwrap();
    text.replace_range(wrong..wrong + 16, "uidNumber: x9998");
    text += &entry(7);
    let (_, faults) = DirectoryAccounts::read(text.as_bytes());
    assert_eq!((faults.len(), faults[0].offset), (2, wrong));
    let crlf = text.replace('\n', "\r\n");
    assert_eq!(DirectoryAccounts::read(crlf.as_bytes()).1.len(), 2);
}

#[test]
fn what_is_written_is_read_back() {
    for schema in [Schema::Rfc2307, Schema::Rfc2307bis] {
        let [users, groups] = entries(&FILES, schema);
        let text = [entries_text(&users.all), entries_text(&groups.all)[11..].to_vec()].concat();
        let crlf = bstr::ByteSlice::replace(&text[..], "\n", "\r\n");
        for text in [text, crlf] {
            let (read, faults) = DirectoryAccounts::read(&text);
            assert_eq!(faults, []);
            let names: Vec<_> = read.users.iter().map(|user| (&user.name[..], user.uid)).collect();
            assert_eq!(names, [(&b"maren"[..], 1004), (b"sven", 1005)]);
            assert_eq!(read.users[1].full_name, "Søren Ås");
            assert_eq!(read.users[0].aging, [Some(0), Some(365), Some(7), Some(30)]);
            let apart: Vec<_> =
                read.told_apart().into_iter().map(|(group, own)| (&group.name[..], own)).collect();
            assert_eq!(apart, [(&b"maren"[..], true), (b"pilots", false)]);
            assert_eq!(read.groups[1].members, ["maren", "sven"]);
        }
    }
}

/// What a dump is refused for: the place and the words.
fn faults(text: &str) -> Vec<(usize, String)> {
    let (_, faults) = DirectoryAccounts::read(text.as_bytes());
    faults.into_iter().map(|fault| (fault.offset, fault.message)).collect()
}

#[test]
fn what_is_no_dump_of_accounts_is_told_at_its_place() {
    let user = "dn: uid=maren,ou=people\nobjectClass: posixAccount\nuid: maren\nuidNumber: 1004\n\
                gidNumber: 1004\nhomeDirectory: /home/maren\n";
    assert_eq!(faults(user), []);
    assert_eq!(faults(&user.replace("1004", "0001004")), []);
    let one = |text: &str| {
        let mut faults = faults(text);
        assert_eq!(faults.len(), 1, "{text}: {faults:?}");
        faults.remove(0).1
    };
    assert_eq!(one("version: 2\n\ndn: x=y\n"), "this is LDIF of version 2");
    assert!(one(&user.replace("uid: ", "uid:: ")).ends_with("uid is no base64, RFC 4648"));
    assert!(
        one(&user.replace("uid: maren", "uid:< file:///etc/shadow")).contains("nothing is fetched")
    );
    // What nobody asks for may be anywhere.
    assert_eq!(faults(&format!("{user}jpegPhoto:< https://gullhaven.example/maren\n")), []);
    assert!(
        one(&user.replace("\nobjectClass", "\nchangetype: add\nobjectClass"))
            .contains("a record of a change")
    );
    assert!(
        one(&user.replace("uidNumber: 1004", "uidNumber: -1")).contains("uidNumber of uid=maren")
    );
    assert!(one(&user.replace("uidNumber: 1004\n", "")).contains("has no uidNumber"));
    assert!(one("dn: cn=maren\nobjectClass: user\nsAMAccountName: maren\n").contains("RFC 2307"));
    assert!(one(&format!("{user}\n{}", user.replace("maren", "Maren"))).contains("there twice"));
    assert_eq!(
        one(&format!("uid: maren\nuid: perrin\n\n{user}")),
        "an entry begins with the line of its name"
    );
    assert_eq!(one(&format!("{user}no colon\n")), "this is no line of an entry: it has no colon");
    assert!(one("").contains("holds no users"));
}

#[test]
fn names_of_entries_hold_whatever_stands_in_them() {
    let dn = below("uid", b" a,b+c\\d=\"#", BASE);
    assert_eq!(BString::from(dn.clone()), r##"uid=\ a\,b\+c\\d\=\"#,dc=gullhaven,dc=example"##);
    assert_eq!(first_step(&dn), [("uid".to_owned(), BString::from(r###" a,b+c\d="#"###))]);
    let both = first_step(b"cn=M + uid=maren , ou=people");
    assert_eq!(both, [("cn".to_owned(), "M".into()), ("uid".to_owned(), "maren".into())]);
    assert_eq!(first_step(br"uid=S\c3\b8ren,ou=x")[0].1, "Søren");
    assert_eq!(plain(b"UID = Maren , OU=People"), b"uid=maren,ou=people");
    assert!(is_below(
        b"uid=maren, OU=people,dc=gullhaven,dc=example",
        "ou=People,dc=gullhaven, dc=example"
    ));
    assert!(!is_below(b"ou=people,dc=x", "ou=people,dc=x") && !is_below(b"uid=a,xou=p", "ou=p"));
    let fault = |base: &str| Directory::new(base, "ou=p", "ou=g", Schema::Rfc2307).unwrap_err();
    assert!(fault("gullhaven").starts_with("\"gullhaven\" is no name of an entry"));
    assert!(fault("dc=a,,dc=b").contains("is no name"));
}

#[test]
fn changes_leave_alone_what_is_not_theirs() {
    let [users, _] = entries(&FILES, Schema::Rfc2307);
    let dump = "dn: uid=maren,ou=people,dc=gullhaven,dc=example\nobjectClass: inetOrgPerson\n\
        objectClass: posixAccount\nobjectClass: shadowAccount\nuid: maren\ncn: M. Solvik\ncn: Maren Solvik\nuidNumber: 01004\n\
        gidNumber: 1004\nhomeDirectory: /home/maren\nloginShell: /bin/zsh\ngecos: Maren Solvik,quay 3\n\
        shadowMin: 0\nshadowMax: 365\nshadowWarning: 7\nshadowInactive: 30\nshadowExpire: 20900\nmail: m@gullhaven.example\n\n\
        dn: uid=soren,ou=people,dc=gullhaven,dc=example\nobjectClass: posixAccount\nuid: soren\n\
        uidNumber: 1005\nshadowMax: 5\n\n\
        dn: uid=left,ou=people,dc=gullhaven,dc=example\nobjectClass: posixAccount\nuid: left\nuidNumber: 1009\n\n\
        dn: uid=other,ou=machines,dc=gullhaven,dc=example\nobjectClass: posixAccount\nuid: other\nuidNumber: 1010\n";
    let place = directory(Schema::Rfc2307).people;
    let found =
        changes(users.all, dump.as_bytes(), (Scope::Users, &place), false, &|_| false).unwrap();
    assert_eq!(found.elsewhere, 1);
    let text = String::from_utf8(changes_text(&found)).unwrap();
    assert_eq!(
        text,
        "version: 1

dn: uid=left,ou=people,dc=gullhaven,dc=example
changetype: delete

dn: uid=soren,ou=people,dc=gullhaven,dc=example
changetype: modrdn
newrdn: uid=sven
deleteoldrdn: 1

dn: uid=maren,ou=people,dc=gullhaven,dc=example
changetype: modify
replace: loginShell
loginShell: /bin/bash
-

dn: uid=sven,ou=people,dc=gullhaven,dc=example
changetype: modify
add: objectClass
objectClass: shadowAccount
-
replace: gidNumber
gidNumber: 1004
-
replace: homeDirectory
homeDirectory: /home/sven
-
replace: loginShell
loginShell: /bin/sh
-
replace: shadowMax
-
replace: cn
cn:: U8O4cmVuIMOFcw==
-
"
    );
}

proptest! {
    #[test]
    fn any_bytes_are_read_or_refused(text in proptest::collection::vec(any::<u8>(), 0..400)) {
        let _ = DirectoryAccounts::read(&text);
    }

    #[test]
    fn any_value_comes_back(values in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 1..200), 1..4)) {
        let entry = Entry {
            dn: b"uid=x".to_vec(),
            kind: "uid",
            name: "x".into(),
            attributes: vec![("cn", values.iter().cloned().map(BString::from).collect())],
        };
        let text = entries_text(&[entry]);
        prop_assert!(text.split(|byte| *byte == b'\n').all(|line| line.len() <= 76));
        let (read, faults) = read(&text);
        prop_assert_eq!(faults, vec![]);
        let found: Vec<Vec<u8>> = read[0].values("cn").unwrap().into_iter().map(<[u8]>::to_vec).collect();
        prop_assert_eq!(found, values);
    }

    #[test]
    fn any_name_comes_back(name in "[^\\x00]{1,20}") {
        let dn = below("uid", name.as_bytes(), "ou=people");
        let step = first_step(&dn);
        prop_assert_eq!(step.len(), 1);
        prop_assert_eq!(step[0].1.to_string(), name);
    }
}
