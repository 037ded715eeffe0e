//! A list of who can become root.

use bstr::BStr;
use nest_core::account::Account;
use nest_core::powers::{By, Way};
use nest_core::sign_in::SignIn;
use nest_core::sudo::{AskedFor, Gives};
use nest_core::words::{counted, first_of};
use serde_json::{Value, json};

use super::columns::{Columns, Rows};
use super::{JsonTexts, remark, table, visible};
use crate::cli::Global;
use crate::failure::{Failure, REFUSED};

/// An account that can become root, or may run something as root.
pub struct Admin<'a> {
    /// The account.
    pub account: Account<'a>,
    /// How.
    pub ways: Vec<Way>,
    /// Whether it can sign in.
    pub sign_in: SignIn,
    /// Since when, as far as it is known.
    pub since: Option<Since>,
}

/// The change by which somebody became administrator.
#[derive(Debug, Clone)]
pub struct Since {
    /// Its number.
    pub change: u64,
    /// The day.
    pub day: String,
}

/// The columns of a list of who can become root; each way is a row.
pub const COLUMNS: Columns<8> = columns! {
    "name": "login name",
    "uid": "user number",
    "kind": "person or service",
    "by": "by what: uid 0, a line of sudoers or doas.conf, a group, a key",
    "runs": "what may be run as root",
    "asks": "whose password is asked for: own, root's, none; empty for uid 0",
    "sign-in": "whether, and how, the user can sign in, or why not",
    "since": "since which change, as far as that is known",
};

/// Prints them: a table on a terminal, else a row for each way.
pub fn print(global: &Global, as_rows: &Rows, listed: &[Admin<'_>]) {
    let rows = || listed.iter().flat_map(|one| one.ways.iter().map(move |way| (one, way)));
    if as_rows.are_wanted(global) {
        let row = |(one, way): (&Admin<'_>, &Way)| {
            let [name, by, runs, asks, sign_in, since] = row(one, way);
            let (uid, kind) = (visible(one.account.user.uid), one.account.kind.to_string());
            [name, uid, kind, by, runs, asks, sign_in, since]
        };
        as_rows.print(global, &COLUMNS, rows().map(row));
        return;
    }
    if !listed.is_empty() {
        let titles = ["name", "by", "may run as root", "password asked", "sign-in", "since"];
        let mut last = None;
        let rows = rows().map(|(one, way)| {
            let mut row = row(one, way);
            row[2] = runs(&way.gives, |command| super::unbroken(&visible(command)));
            // What is the same for all its ways is told once.
            if last.replace(one.account.user.name) == Some(one.account.user.name) {
                for at in [0, 4, 5] {
                    row[at].clear();
                }
            }
            row
        });
        outln!("{}", table(titles, rows));
        outln!();
    }
    let whole = |one: &&Admin<'_>| one.ways.iter().any(Way::amounts_to_root);
    let whole = listed.iter().filter(whole).count();
    let rest = listed.len() - whole;
    let also = match rest {
        0 => String::new(),
        rest => format!("; {} less than that", counted(rest, "more has", "more have")),
    };
    remark(&format!("{} become root{also}", counted(whole, "account can", "accounts can")));
}

/// A way as it is told: whose, by what, what may be run, whose password is asked, whether the
/// account can sign in, since when.
pub fn row(one: &Admin<'_>, way: &Way) -> [String; 6] {
    let since = one.since.as_ref().map(|since| format!("change {}, {}", since.change, since.day));
    [
        visible(one.account.user.name),
        by(&way.by),
        runs(&way.gives, visible),
        asks(way).to_owned(),
        one.sign_in.in_short(),
        since.unwrap_or_default(),
    ]
}

/// By what, in words.
fn by(by: &By) -> String {
    match by {
        By::Root => "uid 0".to_owned(),
        By::Sudo(place, word) => visible(format!("{place} {word}").as_bytes()),
        By::Doas(place, word) => visible(format!("{place} {word}").as_bytes()),
        By::Group(group) => format!("the group {}", visible(group)),
        By::Key(found) => {
            let key = &found.key;
            let name = if key.comment.is_empty() { &key.fingerprint } else { &key.comment };
            visible(format!("the key {name} in {}:{}", found.file, key.line).as_bytes())
        }
    }
}

/// A way in words: what may be run as root, by what, and with whose password.
pub fn way_in_words(way: &Way) -> String {
    let password = match asks(way) {
        "own" => ", with the own password",
        "root's" => ", with root's password",
        "none" if matches!(way.by, By::Sudo(..) | By::Doas(..)) => ", without a password",
        _ => "",
    };
    format!("{} as root, by {}{password}", runs(&way.gives, visible), by(&way.by))
}

fn runs(gives: &Gives, shown: impl Fn(&[u8]) -> String) -> String {
    const MOST: usize = 3;
    let some = |all: &[bstr::BString]| {
        let all: Vec<String> = all.iter().map(|one| shown(one)).collect();
        first_of(&all, MOST)
    };
    match gives {
        Gives::Everything { but } if but.is_empty() => "everything".to_owned(),
        Gives::Everything { but } => format!("everything but {}", some(but)),
        Gives::Commands(all) => some(all).to_string(),
        Gives::Unknown(why) => format!("not known: {}", visible(why.as_bytes())),
    }
}

fn asks(way: &Way) -> &'static str {
    match (&way.by, way.asks) {
        (By::Root, _) => "",
        (By::Key(_) | By::Group(_), _) => "none",
        (By::Sudo(..) | By::Doas(..), AskedFor::Own) => "own",
        (By::Sudo(..) | By::Doas(..), AskedFor::Nobody) => "none",
        (By::Sudo(..) | By::Doas(..), AskedFor::Root) => "root's",
    }
}

/// The list for machines.
pub fn to_json(listed: &[Admin<'_>], unclear: &[String]) -> Value {
    let admins = listed.iter().map(|one| {
        let user = &one.account.user;
        let texts = JsonTexts::default();
        let document = json!({
            "name": texts.text(user.name),
            "uid": user.uid().map(u32::from),
            "kind": one.account.kind.to_string(),
            "root": one.ways.iter().any(Way::amounts_to_root),
            "ways": one.ways.iter().map(way_to_json).collect::<Vec<_>>(),
            "sign_in": {
                "password": one.sign_in.by_password(),
                "keys": one.sign_in.by_key(),
                "reasons": one.sign_in.reasons(),
            },
            "since": one.since.as_ref().map(|since| {
                json!({"change": since.change, "day": since.day})
            }),
        });
        texts.mark(document)
    });
    json!({"admins": admins.collect::<Vec<_>>(), "unclear": unclear})
}

/// One way for machines.
pub fn way_to_json(way: &Way) -> Value {
    let mut document = json!({
        "by": match &way.by {
            By::Root => "uid",
            By::Sudo(..) => "sudo",
            By::Doas(..) => "doas",
            By::Group(_) => "group",
            By::Key(_) => "key",
        },
        "words": by(&way.by),
        "root": way.amounts_to_root(),
        "asks": asks(way),
        "text": visible(&way.text),
    });
    let words = |all: &[bstr::BString]| all.iter().map(|one| visible(one)).collect::<Vec<_>>();
    match &way.gives {
        Gives::Everything { but } => {
            document["runs"] = json!("everything");
            document["but"] = json!(words(but));
        }
        Gives::Commands(all) => document["runs"] = json!(words(all)),
        Gives::Unknown(why) => {
            document["runs"] = Value::Null;
            document["unknown"] = json!(visible(why.as_bytes()));
        }
    }
    match &way.by {
        By::Sudo(place, word) | By::Doas(place, word) => {
            document["file"] = json!(visible(&place.file));
            document["line"] = json!(place.line);
            document["word"] = json!(visible(word));
        }
        By::Group(group) => document["group"] = json!(visible(group)),
        By::Key(found) => {
            document["file"] = json!(visible(&found.file));
            document["line"] = json!(found.key.line);
            document["fingerprint"] = json!(found.key.fingerprint);
            document["comment"] = json!(visible(found.key.comment.as_bytes()));
        }
        By::Root => {}
    }
    document
}

/// A table as spreadsheets take it (RFC 4180).
///
/// # Errors
/// It can't be written.
pub fn print_csv(listed: &[Admin<'_>]) -> Result<(), Failure> {
    let titles = [
        "name",
        "uid",
        "kind",
        "by",
        "may_run_as_root",
        "password_asked",
        "root",
        "sign_in",
        "since_change",
        "since_day",
        "line",
    ];
    let rows = listed.iter().flat_map(|one| {
        one.ways.iter().map(move |way| {
            let [name, by, runs, asks, sign_in, _] = row(one, way);
            let since = one.since.as_ref();
            let change = since.map(|since| since.change.to_string()).unwrap_or_default();
            let day = since.map(|since| since.day.clone()).unwrap_or_default();
            let root = if way.amounts_to_root() { "yes" } else { "no" }.to_owned();
            let (uid, kind) = (visible(one.account.user.uid), one.account.kind.to_string());
            let text = visible(BStr::new(&way.text));
            vec![name, uid, kind, by, runs, asks, root, sign_in, change, day, text]
        })
    });
    super::print_csv(titles.into_iter(), rows).map_err(|error| Failure::new(REFUSED, "csv", error))
}
