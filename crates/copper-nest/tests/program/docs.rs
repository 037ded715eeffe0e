//! The pages that are made from the code are current. `UPDATE_DOCS=1 cargo test
//! docs` writes them anew.

use std::fmt::Write;
use std::path::PathBuf;

use nest_core::check::{Besides, Example, RULES};
use nest_core::policy::{KEYS, Policy};
use nest_core::roster::Column;
use nest_core::value::UserOrGroup;

fn docs(name: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name)
}

pub fn assert_current(name: &str, wanted: &str) {
    let path = docs(name);
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(&path, wanted).unwrap();
    }
    let found = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(found == wanted, "docs/{name} is not current: UPDATE_DOCS=1 cargo test docs");
}

#[test]
fn the_page_of_rules_is_current() {
    let mut page = String::from(
        "# Rules of check\n\nMade from the rules themselves. Each has a name, a severity, which the policy may set\n\
         otherwise ([check] severity), and is one line of `copper-nest list rules`; `copper-nest show rule NAME` shows what stands here.\n",
    );
    let mut family = None;
    for rule in RULES.iter() {
        if family != Some(rule.family) {
            family = Some(rule.family);
            write!(page, "\n## {}\n", rule.family).unwrap();
        }
        write!(
            page,
            "\n### {} ({}{})\n\nFinds {}.\n\n{}\n\nTo do: {}\n",
            rule.name,
            rule.severity,
            if rule.is_mended() { ", mended by repair" } else { "" },
            rule.finds,
            rule.why,
            rule.remedy
        )
        .unwrap();
        example(&mut page, "Found", &rule.bad);
        example(&mut page, "Sound", &rule.good);
    }
    page += &crate::stock::table();
    assert_current("rules.md", &page);
}

fn example(page: &mut String, label: &str, example: &Example) {
    let besides = match example.besides {
        Besides::Nothing => String::new(),
        besides => format!(", where {besides}"),
    };
    write!(page, "\n{label}{besides}:\n\n").unwrap();
    for (file, text) in example.files() {
        for line in text.lines() {
            writeln!(page, "    {:12} {line}", file.path()).unwrap();
        }
    }
}

#[test]
fn the_page_of_policy_keys_is_current() {
    let mut page = String::from(
        "# Policy\n\n`etc/copper-nest/policy.toml` in the tree. Made from the settings themselves; every one has a\n\
         built-in value, and `copper-nest show policy` shows the ones in force and the line that set each.\n\
         A key or a section that is not listed here is refused, with file, line and the nearest one.\n",
    );
    let mut section = "";
    for key in KEYS {
        if key.section() != section {
            section = key.section();
            write!(page, "\n## [{section}]\n\n| key | built in | meaning |\n|---|---|---|\n")
                .unwrap();
        }
        writeln!(
            page,
            "| `{}` | `{}` | {} |",
            key.last(),
            (key.get)(&Policy::default()),
            key.meaning
        )
        .unwrap();
    }
    assert_current("policy.md", &page);
}

#[test]
fn the_page_of_rosters_is_current() {
    let mut page = String::from(
        "# Rosters\n\nThe tables that `copper-nest intake` takes in and `copper-nest export` writes. The columns of\n\
         users and of groups, made from the code itself; a column that is not listed here is refused, with the\n\
         nearest one. Columns may stand in any order, and all but the name may be left out.\n",
    );
    for (thing, title) in [(UserOrGroup::User, "Users"), (UserOrGroup::Group, "Groups")] {
        write!(page, "\n## {title}\n\n| column | meaning |\n|---|---|\n").unwrap();
        for column in Column::of(thing) {
            writeln!(page, "| `{column}` | {} |", column.meaning()).unwrap();
        }
    }
    page += "
A table with one of the columns `gid`, `member` and `group_admin` is about groups. An empty value is one that
is left out: the policy decides, and of an account that exists nothing is changed.

## CSV

RFC 4180, in UTF-8, or in UTF-16 with a mark, with a header; either kind of line end is taken. Between the values
stands a comma, a semicolon or a tab, as the header shows, or as a line `sep=;` before it says; `--separator` insists on
one. A value with that, a quote or a line end in it stands between quotes, and a quote in it is doubled.

Columns may be spelled as people do (`Full Name`). Blanks around values go; empty rows and empty columns at the end
are nothing. Yes is also true, y and 1, no is false, n and 0. A day may have a time of day, or be the number that
spreadsheets have for it; `31.03.2027` is taken with `--dates dmy`, `3/31/2027` with `--dates mdy`. Columns that are not
known are passed over with `--ignore-columns NAME,…` or `--ignore-unknown`.

    name,full_name,join,expires
    maren,Maren Solvik,pilots;slipway,2027-03-31
    ,\"Odalys \"\"Oda\"\" Brink\",ticketing,

## Spreadsheets

`.xlsx`, `.xls` and `.ods` are read themselves: the first sheet, or the one that `--sheet NAME` says. Of a formula its
value is taken. What is wrong is told with its cell: `B7`.

## JSON

An array of objects, or an object with the arrays `user` and `group`. Lists may be arrays, and yes and no may be
true and false.

    [{\"name\": \"maren\", \"join\": [\"pilots\", \"slipway\"], \"uid\": 1100}]

## TOML

    [[group]]
    name = \"divers\"
    member = [\"maren\"]

    [[user]]
    name = \"maren\"
    expires = 2027-03-31

## Several at once

`copper-nest intake groups.csv crew.csv` is one change: groups are made first, then users, row by row, and then the
groups get their members. A primary group may be one that an earlier row makes with its user.

## Numbers

`copper-nest renumber` takes tables with the columns `kind` (user or group), `name` and `id`: which number each is to
have, with all its files. With a column `was` a table is about files that were copied from another system and carry the
number that their owner had there: accounts stay as they are, and `--paths` says where the files are.

    kind,name,was,id
    user,odile,1001,1003

## What export leaves out

Everything in homes. What an account has beside that is in the tables, or is said to be left out, and then the status
is 1: a name with a semicolon in it, a field that the C library can't read, a text that is not UTF-8, gid ranges that
differ from those of uids, no password at all. Groups that are a user's own come back with their user and have no row;
`admin` is said by `join`. Hashes, and the days on which passwords were changed, are written with `--with-hashes` only,
into a file that root alone can read; keys with `--with-keys`. Of a suspended account the row says what it was before,
and why it is suspended.

Taken in elsewhere, the six account files are as they were but for the order of lines:

    copper-nest export groups --kind all --with-hashes --to groups.csv
    copper-nest export users --kind all --with-hashes --to users.csv
    copper-nest --tree DIR intake groups.csv users.csv --existing update --no-home
";
    assert_current("rosters.md", &page);
}

/// The example of the packages: every setting with what it means, as it is built in, and none
/// of them set.
#[test]
fn the_example_policy_is_current() {
    let tree = crate::harness::TestTree::new();
    let in_force = tree.done("show policy --format toml").stdout;
    let mut example = String::from(
        "# Settings of copper-nest: copy this file to /etc/copper-nest/policy.toml, and take the\n\
         # mark from the lines that are to be otherwise. `copper-nest check --policy-only` judges it.\n",
    );
    let settings = in_force.lines().skip_while(|line| !line.starts_with('['));
    for line in settings.map(str::trim_end) {
        let plain = line.is_empty() || line.starts_with(['#', '[']);
        if line.starts_with('[') {
            example.push('\n');
        }
        if !line.is_empty() {
            example += &if plain { format!("{line}\n") } else { format!("#{line}\n") };
        }
    }
    assert_current("../packaging/policy.toml", &example);
    // As it stands, and with every mark taken away, it is what is built in.
    let is_set =
        |line: &str| KEYS.iter().any(|key| line.starts_with(&format!("#{} =", key.last())));
    let unmarked: Vec<&str> =
        example.lines().map(|line| if is_set(line) { &line[1..] } else { line }).collect();
    for text in [example.clone(), unmarked.join("\n")] {
        tree.write("etc/copper-nest/policy.toml", &text);
        tree.done("check --policy-only").says("is sound");
        let now = tree.done("show policy --format toml").stdout;
        let settings = |shown: &str| -> Vec<String> {
            shown.lines().filter(|line| line.contains(" = ")).map(str::to_owned).collect()
        };
        assert_eq!(settings(&now), settings(&in_force));
    }
    assert_eq!(
        unmarked.iter().filter(|line| line.contains(" = ") && !line.starts_with('#')).count(),
        KEYS.len()
    );
}
