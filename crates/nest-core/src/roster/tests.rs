use super::*;
use crate::value::{Gid, Uid};

fn read(form: Form, text: &str) -> Roster {
    Roster::read(vec![RosterSource::new("crew", form, text.as_bytes().to_vec())])
}

/// The faults, each as `line:character column message`.
fn faults(form: Form, text: &[u8]) -> Vec<String> {
    let roster = Roster::read(vec![RosterSource::new("crew", form, text.to_vec())]);
    let told = roster.faults.iter().map(|fault| {
        let column = fault.column.map(|column| format!("{column} ")).unwrap_or_default();
        format!("{}:{} {column}{}", fault.line, fault.at, fault.message)
    });
    told.collect()
}

fn users(roster: &Roster) -> Vec<Cow<'_, CreateUser>> {
    roster.rows.iter().filter_map(|row| roster.user(row)).collect()
}

/// A text without quotes is read in parts, and each user when it is wanted.
#[test]
fn long_tables_read_alike_with_quotes_and_without() {
    let rows = |quote: &str| -> String {
        let row = |at: usize| match at % 500 {
            7 => format!("n{at},{quote}Hand {at}{quote},maybe,x;y,,,\n"),
            9 => "short\n".to_owned(),
            11 => "\r\n,,,,,,\n".to_owned(),
            _ => format!("{at}n,{quote}Hånd {at}{quote},yes,p;q,{},/bin/sh,\r\n", 4000 + at),
        };
        (0..9000).map(row).collect()
    };
    let [plain, quoted] = ["", "\""].map(|quote| {
        let title = "name,full_name,admin,join,uid,shell,home\n";
        let roster = read(Form::Csv, &[title, &rows(quote)].concat());
        let rows = roster.rows.iter().map(|row| {
            let name = roster.name(row).map(ToOwned::to_owned);
            (row.number, roster.line(row), row.given, name, format!("{:?}", roster.user(row)))
        });
        let faults = roster.faults.iter().map(|fault| (fault.line, fault.message.clone()));
        (rows.collect::<Vec<_>>(), faults.collect::<Vec<_>>())
    });
    assert_eq!((plain.0.len(), plain.1.len()), (9000 - 18 * 2, 18 * 2));
    for (at, row) in plain.0.iter().enumerate() {
        assert_eq!(*row, quoted.0[at]);
    }
    assert_eq!(plain.1, quoted.1);
}

#[test]
fn the_three_forms_say_the_same() {
    let csv = "\u{feff}name,full_name,uid,join,service,ranges,ssh_key\r\n\
               maren,\"Solvik, or \"\"Mar\"\"\",1100,pilots; slipway,,65536,\r\n\
               \r\n\
               tidegauge,,,,yes,none,\r\n";
    let json = r#"[{"name": "maren", "full_name": "Solvik, or \"Mar\"", "uid": 1100,
                    "join": ["pilots", "slipway"], "ranges": 65536, "service": null},
                   {"name": "tidegauge", "service": true, "ranges": "none"}]"#;
    let toml = "[[user]]\nname = 'maren'\nfull_name = 'Solvik, or \"Mar\"'\nuid = 1100\n\
                join = ['pilots', 'slipway']\nranges = 65536\n\n\
                [[user]]\nname = 'tidegauge'\nservice = true\nranges = 'none'\n";
    for (form, text) in [(Form::Csv, csv), (Form::Json, json), (Form::Toml, toml)] {
        let roster = read(form, text);
        assert_eq!(roster.faults, [], "{form}");
        let [maren, tidegauge] = &users(&roster)[..] else { panic!("{form}") };
        assert_eq!((maren.names[0].as_slice(), maren.uid), (&b"maren"[..], Some(Uid(1100))));
        assert_eq!(maren.full_name.as_ref().unwrap(), "Solvik, or \"Mar\"");
        assert_eq!(maren.join, ["pilots", "slipway"]);
        assert_eq!((maren.ranges, tidegauge.ranges), (Some(65536), Some(0)));
        assert!(tidegauge.service && !maren.service, "{form}");
    }
}

#[test]
fn carriage_returns_alone_end_rows_too() {
    for ends in ["\r", "\r\n", "\n"] {
        let lines = ["name,join", "maren,pilots", "corwin,slipway", ""];
        let roster = read(Form::Csv, &lines.join(ends));
        let told: Vec<_> = users(&roster).iter().map(|user| user.join.clone()).collect();
        assert_eq!(told, [["pilots"], ["slipway"]], "{ends:?}");
        let names: Vec<_> = roster.rows.iter().map(|row| roster.name(row).unwrap()).collect();
        assert_eq!(names, ["maren", "corwin"], "{ends:?}");
    }
}

#[test]
fn groups_are_told_by_their_columns_or_their_table() {
    let roster = read(Form::Csv, "name,gid,member\npilots,210,maren;tavish\n");
    let RowRequest::Group(pilots) = &roster.rows[0].what else { panic!() };
    assert_eq!((pilots.gid, pilots.members.len()), (Some(Gid(210)), 2));
    let both = "[[group]]\nname = 'pilots'\n[[user]]\nname = 'maren'\n";
    let roster = read(Form::Toml, both);
    assert!(matches!(roster.rows[0].what, RowRequest::Group(_)));
    assert!(matches!(roster.rows[1].what, RowRequest::User(_)));
    let both = r#"{"user": [{"name": "maren"}], "group": [{"name": "pilots"}]}"#;
    assert_eq!(read(Form::Json, both).rows.len(), 2);
    assert_eq!(
        faults(Form::Csv, b"name,gid,uid\n"),
        [
            "1:10 uid is a column of users, and this is a table of groups",
            "2:1 it has a header and no rows"
        ]
    );
}

#[test]
fn everything_that_is_wrong_is_told_with_its_place() {
    let csv = "name,uid,admin,ranges,password_hash\n\
               maren,10x4,ja,,\n\
               \"ta\"\"v\",70000000000,no,5-1,$9$x\n";
    assert_eq!(
        faults(Form::Csv, csv.as_bytes()),
        [
            "2:7 uid \"10x4\" is no uid",
            "2:12 admin \"ja\" is neither yes nor no",
            "3:9 uid \"70000000000\" is no uid",
            "3:24 ranges \"5-1\" is no number of ids and no span",
            "3:28 password_hash the hash has no form that the C library knows",
        ]
    );
    let json =
        "[{\"name\": \"maren\",\n  \"uid\": \"x\", \"nmae\": 1, \"uid\": 2, \"join\": {}}, 7]";
    assert_eq!(
        faults(Form::Json, json.as_bytes()),
        [
            "2:10 uid \"x\" is no uid",
            "2:23 there is no column \"nmae\"",
            "2:33 uid the key uid is there twice",
            "2:44 join join is an object",
            "2:49 this is no object",
        ]
    );
    let toml = "[[user]]\nname = 'maren'\nshel = 'x'\n[[usr]]\n";
    assert_eq!(
        faults(Form::Toml, toml.as_bytes()),
        ["4:3 there is no table \"usr\"", "3:8 there is no column \"shel\""]
    );
}

#[test]
fn a_header_is_held_to_the_columns_there_are() {
    assert_eq!(
        faults(Form::Csv, b"name,fullname,uid,uid,\nmaren,,,,\n"),
        ["1:6 there is no column \"fullname\"", "1:19 the column uid is there twice",]
    );
    assert_eq!(faults(Form::Csv, b"name,,uid\nmaren,,7\n"), ["1:6 a column has no title"]);
    // One fault, and not one a row.
    assert_eq!(
        faults(Form::Csv, b"uid\n7\n8\n"),
        ["1:1 neither a column name nor a column full_name is there"]
    );
}

#[test]
fn what_spreadsheets_write_is_read() {
    let table = "Name;Full Name;UID;Must-Change;Home;;\n maren ;Maren Solvik;1100;TRUE;NONE;;\n\
                 ;;;;;;\ncorwin;\"Vale; Corwin\";;n;;;\n";
    let check = |roster: &Roster, what: &str| {
        assert_eq!(roster.faults, [], "{what}");
        let [maren, corwin] = &users(roster)[..] else { panic!("{what}") };
        assert_eq!((&maren.names[0][..], maren.uid), (&b"maren"[..], Some(Uid(1100))), "{what}");
        assert!(maren.must_change && maren.no_home && !corwin.must_change, "{what}");
        assert_eq!(corwin.full_name.as_ref().unwrap(), "Vale; Corwin", "{what}");
        assert_eq!(roster.trimmed, 1, "{what}");
        assert_eq!(roster.name(&roster.rows[0]).unwrap(), "maren", "{what}");
    };
    let of = |bytes: Vec<u8>| Roster::read(vec![RosterSource::new("crew", Form::Csv, bytes)]);
    check(&of(table.into()), "semicolons");
    check(&of(table.replace('\n', "\r\n").into()), "semicolons and carriage returns");
    check(&of(table.replace("; ", "|").replace(';', "\t").replace('|', "; ").into()), "tabs");
    check(&of(format!("sep=;\r\n{table}").into()), "a line that names the separator");
    let bars = table.replace("; C", "_").replace(';', "|").replace('_', "; C");
    check(&of(format!("sep=|\n{bars}").into()), "a separator of one's own");
    let insists = RosterSource::new("crew", Form::Csv, bars.into()).separated_by(b'|');
    check(&Roster::read(vec![insists]), "a separator that is insisted on");
    let (little, big): (Vec<u8>, Vec<u8>) = (
        table.encode_utf16().flat_map(u16::to_le_bytes).collect(),
        table.encode_utf16().flat_map(u16::to_be_bytes).collect(),
    );
    check(&of([&b"\xff\xfe"[..], &little].concat()), "UTF-16");
    check(&of([&b"\xfe\xff"[..], &big].concat()), "UTF-16 the other way round");
    // Faults have their places in what was written.
    let wrong = faults(Form::Csv, b"sep=;\nname;uid\nmaren;x\n");
    assert_eq!(wrong, ["3:7 uid \"x\" is no uid"]);
}

#[test]
fn columns_are_passed_over_or_meant_as_it_is_said() {
    let table = b"name,Fullname,office\nmaren,Maren Solvik,7\n".to_vec();
    let source = || vec![RosterSource::new("crew", Form::Csv, table.clone())];
    assert_eq!(Roster::read(source()).faults.len(), 2);
    let options = ReadingOptions {
        ignored: vec!["Office".into()],
        meant: vec![("Fullname".into(), Column::FullName)],
        ..ReadingOptions::default()
    };
    let roster = Roster::read_with(source(), &options);
    assert_eq!(roster.faults, []);
    assert_eq!(users(&roster)[0].full_name.as_ref().unwrap(), "Maren Solvik");
    let all = ReadingOptions { ignores_unknown: true, ..ReadingOptions::default() };
    assert_eq!(Roster::read_with(source(), &all).faults, []);
}

#[test]
fn files_that_are_no_tables_are_told_apart() {
    let first = |form, text: &[u8]| faults(form, text).remove(0);
    assert_eq!(first(Form::Csv, b"  \n"), "1:1 it is empty");
    assert_eq!(first(Form::Toml, b""), "1:1 it is empty");
    assert_eq!(first(Form::Json, b"[]"), "1:1 it holds no rows");
    assert_eq!(
        first(Form::Csv, b"name,full_name\nsoren,S\xf8ren\n"),
        "2:8 byte 0xf8 is not UTF-8; the file may be Latin-1"
    );
    assert_eq!(first(Form::Csv, b"\xff\xfen\0x"), "1:1 it is UTF-16");
    assert_eq!(
        first(Form::Csv, b"name,full_name\nmaren,\"Solvik\nodalys,Brink\n"),
        "2:7 a quote is opened here and never closed"
    );
    assert_eq!(first(Form::Csv, b"name\n\"maren\"x\n"), "2:8 text follows a closing quote");
    assert_eq!(
        first(Form::Csv, b"name,full_name\nmaren,Mar \"M\" Solvik\n"),
        "2:11 a quote stands inside a value that does not begin with one"
    );
    assert_eq!(
        first(Form::Csv, b"name,uid\nmaren\n"),
        "2:1 this row has 1 field, and the header has 2"
    );
    assert_eq!(
        first(Form::Csv, b"name\na,b,c\n"),
        "2:3 this row has 3 fields, and the header has 1"
    );
    assert!(first(Form::Json, b"[{\"name\": \n\"maren\"").starts_with("2:7 this is no JSON: EOF"));
    assert!(first(Form::Json, b"7").contains("this is no array of objects"));
    assert!(first(Form::Toml, b"[[user]]\nname = maren\n").starts_with("2:8 this is no TOML"));
    assert!(first(Form::Toml, b"user = 7\n").contains("user is no list"));
}

#[test]
fn a_value_is_found_in_its_row_again() {
    let text = "name,full_name,home\n\n\"maren\",\"a \"\"b\"\",\nc\",/srv\r\ntavish,,/home/t\n";
    let roster = read(Form::Csv, text);
    let place = |row: usize, column| {
        let fault = roster.fault(&roster.rows[row], column, Wrong::new("", ""));
        (fault.line, fault.at)
    };
    assert_eq!(place(0, Column::FullName), (3, 9));
    assert_eq!(place(0, Column::Home), (4, 4));
    assert_eq!(place(1, Column::Home), (5, 9));
    assert_eq!(place(1, Column::Uid), (5, 1));
    assert_eq!(roster.line(&roster.rows[1]), 5);
}

proptest::proptest! {
    #[test]
    fn any_bytes_are_read_to_an_end(text in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..200)) {
        for form in [Form::Csv, Form::Json, Form::Toml] {
            let roster = Roster::read(vec![RosterSource::new("any", form, text.clone())]);
            proptest::prop_assert!(!roster.rows.is_empty() || !roster.faults.is_empty());
        }
    }

    #[test]
    fn what_looks_like_a_table_is_read_to_an_end(text in "(name|uid|full_name|maren|7|\"|,|\n|\r\n|;| |\\[\\[user\\]\\]| = |\\{|\\}|\\[|\\]|:){0,40}") {
        for form in [Form::Csv, Form::Json, Form::Toml] {
            let roster = Roster::read(vec![RosterSource::new("any", form, text.clone().into_bytes())]);
            proptest::prop_assert!(!roster.rows.is_empty() || !roster.faults.is_empty());
            for row in &roster.rows {
                roster.fault(row, Column::SshKey, Wrong::new("", ""));
            }
        }
    }
}

/// A book with one user and its groups, of random words.
fn book_of(words: &[String], numbers: &[u16]) -> crate::book::Book {
    let name = |at: usize| format!("u{}{at}", numbers[at]);
    let (mut passwd, mut group, mut subuid) = (String::new(), String::new(), String::new());
    for (at, full_name) in words.iter().enumerate() {
        let (name, uid) = (name(at), 1000 + at);
        let home = if at % 3 == 0 { "/nonexistent".into() } else { format!("/srv/{name}") };
        passwd += &format!("{name}:x:{uid}:{uid}:{full_name}:{home}:/bin/sh\n");
        group += &format!("{name}:x:{uid}:\n");
        if at % 2 == 0 {
            subuid += &format!("{name}:{}:{}\n", 100_000 + 1000 * at, 1 + numbers[at] % 900);
        }
    }
    let members: Vec<String> = (0..words.len()).step_by(2).map(name).collect();
    group += &format!("crew:x:500:{}\nrest:x:501:{}\n", members.join(","), name(0));
    let files = [
        (crate::table::File::Passwd, passwd.as_str()),
        (crate::table::File::Group, &group),
        (crate::table::File::Subuid, &subuid),
        (crate::table::File::Subgid, &subuid),
    ];
    crate::book::tests::book(&files)
}

proptest::proptest! {
    #[test]
    fn what_is_written_is_read_as_it_was(
        words in proptest::collection::vec("[a-zA-Zåé \"';|\\\\#=-]{0,12}", 1..8),
        numbers in proptest::collection::vec(proptest::prelude::any::<u16>(), 8),
    ) {
        let (book, policy) = (book_of(&words, &numbers), crate::policy::Policy::default());
        let own = made_with_users(&book, &policy);
        for form in [Form::Csv, Form::Json, Form::Toml] {
            let index = crate::account::AccountIndex::new(&book, &policy);
            let writing = UserWriting {
                form,
                hashes: PasswordHashes::LeftOut,
                own: &own,
                policy: &policy,
                windows: &crate::windows::Windows::default(),
                suspended: &[],
                has_shadow: false,
                keys: None,
            };
            let written = written_users(index.accounts(), &writing);
            let roster = read(form, &written.text);
            proptest::prop_assert_eq!(&roster.faults, &[], "{}", written.text);
            let users = users(&roster);
            proptest::prop_assert_eq!(users.len(), words.len());
            for (user, account) in users.iter().zip(index.accounts()) {
                let is = &account.user;
                proptest::prop_assert_eq!(user.names[0].as_slice(), is.name);
                let full_name = user.full_name.clone().unwrap_or_default();
                // Blanks at its ends are no part of a value.
                let wanted = is.full_name().to_str().unwrap().trim();
                proptest::prop_assert_eq!(full_name.as_slice(), wanted.as_bytes());
                proptest::prop_assert_eq!(user.uid, is.uid());
                proptest::prop_assert_eq!(&user.primary, &None);
                proptest::prop_assert_eq!(user.no_home, is.home == b"/nonexistent");
                let groups: Vec<&[u8]> = account.groups.iter().map(|group| group.name).collect();
                let join: Vec<&[u8]> = user.join.iter().map(|group| group.as_slice()).collect();
                proptest::prop_assert_eq!(join, groups);
                proptest::prop_assert_eq!(&user.spans, &account.uid_ranges);
            }
        }
    }
}
