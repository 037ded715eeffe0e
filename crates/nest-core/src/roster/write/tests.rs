//! What is written of accounts, and what is said to be left out.

use super::*;
use crate::account::AccountIndex;
use crate::book::Book;
use crate::book::tests::book;
use crate::group_account::GroupIndex;
use crate::policy::Policy;
use crate::suspended::Suspended;
use crate::table::File;
use crate::windows::Windows;

const HASH: &str = "$y$j9T$F5Jx5fExrKuPp53xLKQ..1$X3DX6M94c7o.9agCG9G317fhZg9SqC.5i5rd.RhAtQ7";

fn the_book() -> Book {
    let shadow = format!(
        "maren:{HASH}:0:0::7:::\ncorwin:!{HASH}:20000::::::\nodile::20000:::::20908:\n\
         gauge:*:20000::::::\nsuspended:!{HASH}:20000:::::1:\nold:$6$Gullhaven2$0123456789abcdef:20000::::::\n"
    );
    book(&[
        (
            File::Passwd,
            "maren:x:1000:1000:Maren \"Mar\" Solvik,,:/home/maren:/bin/bash\n\
             corwin:x:1001:300::/nonexistent:\n\
             odile:x:1002:77::/home/odile:/bin/sh\n\
             gauge:x:200:200::/nonexistent:/usr/sbin/nologin\n\
             suspended:x:1003:1003::/home/s:/bin/sh\n\
             old:x:1004:1005::/home/old:/bin/sh\n",
        ),
        (
            File::Group,
            "maren:x:1000:\ncrew:x:300:maren,corwin\nrest:x:301:maren\ngauge:x:200:\n\
             suspended:x:1003:maren\nold:x:1005:\n",
        ),
        (File::Shadow, &shadow),
        (File::Gshadow, "crew:!:maren,odile:maren,corwin\n"),
        (File::Subuid, "maren:2001:10\nmaren:3000:1\ncorwin:4000:10\n"),
        (File::Subgid, "maren:2001:10\nmaren:3000:1\ncorwin:5000:10\n"),
    ])
}

fn users_of(
    book: &Book,
    form: Form,
    hashes: PasswordHashes,
    suspended: &[Suspended],
) -> WrittenRoster {
    let policy = Policy::default();
    let own = made_with_users(book, &policy);
    let writing = UserWriting {
        form,
        hashes,
        own: &own,
        policy: &policy,
        windows: &Windows::default(),
        suspended,
        has_shadow: true,
        keys: None,
    };
    written_users(AccountIndex::new(book, &policy).accounts(), &writing)
}

fn users(form: Form, hashes: PasswordHashes) -> WrittenRoster {
    users_of(&the_book(), form, hashes, &[])
}

#[test]
fn users_are_written_as_they_would_be_asked_for() {
    let written = users(Form::Csv, PasswordHashes::LeftOut);
    let lines: Vec<&str> = written.text.lines().collect();
    assert_eq!(
        lines,
        [
            "name,full_name,gecos,uid,primary,join,home,shell,service,expires,suspended,ranges,hold,renew,remind,late",
            "maren,\"Maren \"\"Mar\"\" Solvik\",\"Maren \"\"Mar\"\" Solvik,,\",1000,,crew;rest;suspended,/home/maren,/bin/bash,,,,2001-2010;3000-3000,0,none,7,none",
            "corwin,,,1001,crew,none,none,/bin/sh,,,,4000-4009,none,none,none,none",
            "odile,,,1002,77,none,/home/odile,/bin/sh,,2027-03-31,,none,none,none,none,none",
            "gauge,,,200,,,none,/usr/sbin/nologin,yes,,,,none,none,none,none",
            "suspended,,,1003,suspended,none,/home/s,/bin/sh,,,yes,none,none,none,none,none",
            "old,,,1004,old,none,/home/old,/bin/sh,,,,none,none,none,none,none",
        ]
    );
    assert_eq!((written.rows, written.left_out.len()), (6, 1), "{:?}", written.left_out);
    assert!(written.left_out[0].contains("gid ranges of corwin"), "{:?}", written.left_out);
}

#[test]
fn hashes_are_written_when_asked_and_only_whole_ones() {
    let written = users(Form::Json, PasswordHashes::Included);
    let rows: Vec<serde_json::Value> = serde_json::from_str(&written.text).unwrap();
    assert_eq!((&rows[0]["password_hash"], &rows[0]["must_change"]), (&HASH.into(), &true.into()));
    assert_eq!(rows[1]["password_hash"], format!("!{HASH}"));
    assert_eq!(rows[2].get("password_hash"), None, "{rows:?}");
    assert_eq!(
        (&rows[3]["password_hash"], &rows[3]["changed"]),
        (&"*".into(), &"2024-10-04".into())
    );
    // As it was before it was suspended.
    assert_eq!(rows[4]["password_hash"], HASH);
    let left_out = written.left_out.join("; ");
    assert!(left_out.contains("odile signs in without a password"), "{left_out}");
    assert!(
        left_out.contains("the password field of old, which the C library can't check"),
        "{left_out}"
    );
    let without = users(Form::Json, PasswordHashes::LeftOut);
    assert!(!without.text.contains('$'), "{}", without.text);
}

fn writing(book: &Book, form: Form, with_members: bool) -> GroupWriting<'_> {
    GroupWriting { form, hashes: PasswordHashes::Included, with_members, book }
}

#[test]
fn groups_are_written_with_and_without_members() {
    let (book, policy) = (the_book(), Policy::default());
    let own = made_with_users(&book, &policy);
    let mut names: Vec<&[u8]> = own.iter().copied().collect();
    names.sort_unstable();
    // Somebody is in one of the others, and one has another number.
    assert_eq!(names, [&b"gauge"[..], b"maren"]);
    let index = GroupIndex::new(&book, &policy);
    let others = || index.groups().filter(|group| !own.contains(group.group.name));
    let written = written_groups(others(), &writing(&book, Form::Toml, true));
    assert!(
        written.text.starts_with(
            "[[group]]\nname = \"crew\"\ngid = 300\nservice = true\n\
             member = [\"maren\", \"corwin\"]\ngroup_admin = [\"maren\", \"odile\"]\n"
        ) || written.text.starts_with(
            "[[group]]\nname = \"crew\"\ngid = 300\nmember = [\"maren\", \"corwin\"]\n\
             group_admin = [\"maren\", \"odile\"]\n"
        ),
        "{}",
        written.text
    );
    let bare = written_groups(others(), &writing(&book, Form::Csv, false));
    assert_eq!(bare.text.lines().next(), Some("name,gid,service"));
    assert!(bare.text.contains("rest,301,"), "{}", bare.text);
}

#[test]
fn a_text_that_is_no_utf_8_is_left_out_and_told() {
    let mut texts = crate::book::Texts::default();
    let passwd = b"soren:x:1000:1000:S\xf8ren:/home/soren:/bin/sh\n".to_vec();
    texts.set(File::Passwd, std::sync::Arc::new(passwd));
    texts.set(File::Group, std::sync::Arc::new(b"soren:x:1000:\n".to_vec()));
    let book = Book::new(texts);
    let written = users_of(&book, Form::Toml, PasswordHashes::LeftOut, &[]);
    assert!(!written.text.contains("full_name"), "{}", written.text);
    assert_eq!(
        written.left_out,
        [
            "the full_name of soren, which is not UTF-8",
            "that soren has no line in etc/shadow: it gets one"
        ]
    );
}

#[test]
fn what_a_table_cannot_hold_is_left_out_and_told() {
    let files = [
        (
            File::Passwd,
            "odd;one:x:1000:1000::/home/o:/bin/sh\nmaren:x:1001:100:Maren,Quay 3,555,,pier:home/m:/bin/sh\n\
             twin:*:1001:100::/home/t:/bin/sh\nmaren:x:1009:100::/home/x:/bin/sh\n",
        ),
        (File::Group, "users:x:100:maren,ghost,odd;one\nno;ne:x:101:maren\n"),
        (File::Shadow, "maren:!$1$x:10:007:5:7::1:9\ntwin:!!:::::::\nodd;one:*:::::::\n"),
        (File::Gshadow, "users:$1$x::maren\nno;ne:!::maren\n"),
    ];
    let book = book(&files);
    let note = Suspended {
        name: "maren".into(),
        uid: crate::value::Uid(1001),
        expires: Some(crate::value::Day(20_000)),
        was_locked: false,
        was_open: true,
        reason: "No".into(),
        since: crate::value::Day(20_700),
    };
    let written = users_of(&book, Form::Csv, PasswordHashes::Included, &[note]);
    let lines: Vec<&str> = written.text.lines().collect();
    assert_eq!(
        lines,
        [
            "name,full_name,room,phone_work,other,uid,share_id,primary,join,home,shell,service,expires,suspended,ranges,changed,must_change,hold,renew,remind,late,password_hash",
            "maren,Maren,Quay 3,555,pier,1001,,users,none,,/bin/sh,,2024-10-04,yes,none,1970-01-11,,,5,7,none,",
            "twin,,,,,1001,yes,users,none,/home/t,/bin/sh,,,,none,none,,none,none,none,none,!!",
        ]
    );
    let all = written.left_out.join("\n");
    for says in [
        "odd;one: the name holds a semicolon",
        "another line of maren",
        "the home of maren: \"home/m\" is not absolute",
        "the reason why maren is suspended, No,",
        "the days hold of maren, \"007\"",
        "the last field of maren in etc/shadow",
        "the password field of maren, which the C library can't check",
        "no;ne in the join of maren: the name holds a semicolon",
        "what etc/passwd says of the password of twin",
    ] {
        assert!(all.contains(says), "{says}: {all}");
    }
    let policy = Policy::default();
    let index = GroupIndex::new(&book, &policy);
    let written = written_groups(index.groups(), &writing(&book, Form::Csv, true));
    assert_eq!(written.text, "name,gid,service,member,group_admin\nusers,100,yes,maren,\n");
    let all = written.left_out.join("\n");
    for says in [
        "no;ne: the name holds a semicolon",
        "ghost in the member of users: there is no such user",
        "odd;one in the member of users: the name holds a semicolon",
        "who is in users by etc/gshadow, which differs",
        "the password field of users",
    ] {
        assert!(all.contains(says), "{says}: {all}");
    }
}
