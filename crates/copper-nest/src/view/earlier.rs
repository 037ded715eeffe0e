//! Users as they were on an earlier day.

use nest_core::account::ShownLine;
use nest_core::snapshot::SnapshotUser;
use nest_core::words::counted;
use serde_json::{Value, json};

use super::columns::{Columns, Rows};
use super::{remark, style, table, visible};
use crate::cli::Global;
use crate::session::history::OnDay;

/// The columns of users on an earlier day.
pub const COLUMNS: Columns<9> = columns! {
    "name": "login name",
    "uid": "user number",
    "kind": "person or service",
    "group": "primary group",
    "groups": "other groups, with commas between them",
    "home": "home",
    "shell": "login shell",
    "full-name": "full name",
    "expires": "when the account is over, or never; empty where it was suspended",
};

/// A user, with the groups that list it.
pub struct Then<'b> {
    /// What the files said.
    pub user: SnapshotUser<'b>,
    /// The groups.
    pub groups: Vec<String>,
}

impl Then<'_> {
    fn row(&self) -> [String; 9] {
        let text = |text: Option<&str>| visible(text.unwrap_or_default().as_bytes());
        let user = &self.user;
        [
            visible(user.name.as_bytes()),
            user.uid.map(|uid| uid.to_string()).unwrap_or_default(),
            text(user.kind.as_deref()),
            match (&user.primary, user.gid) {
                (Some(primary), _) => visible(primary.as_bytes()),
                (None, gid) => gid.map(|gid| gid.to_string()).unwrap_or_default(),
            },
            visible(self.groups.join(",").as_bytes()),
            text(user.home.as_deref()),
            text(user.shell.as_deref()),
            text(user.full_name.as_deref()),
            text(user.expires.as_deref()),
        ]
    }

    fn to_json(&self) -> Value {
        let user = &self.user;
        json!({
            "name": user.name,
            "uid": user.uid,
            "gid": user.gid,
            "kind": user.kind,
            "primary": user.primary,
            "groups": self.groups,
            "full_name": user.full_name,
            "home": user.home,
            "shell": user.shell,
            "expires": user.expires,
        })
    }
}

/// After what that is.
fn moment(on: &OnDay) -> String {
    match on.change {
        0 => format!("at the end of {}, before the first change", on.day),
        change => format!("at the end of {}, after change {change}", on.day),
    }
}

/// Tells what is to be known of what was shown.
pub fn tell(on: &OnDay) {
    on.notes.iter().for_each(|note| errln!("{}", visible(note.as_bytes())));
}

/// Prints a list.
pub fn print(global: &Global, rows: &Rows, on: &OnDay, all: &[Then<'_>]) {
    if rows.are_wanted(global) {
        rows.print(global, &COLUMNS, all.iter().map(Then::row));
        return;
    }
    if !all.is_empty() {
        let titles = ["name", "uid", "full name", "group", "groups", "expires", "shell", "home"];
        let row = |then: &Then<'_>| {
            let [name, uid, _, group, groups, home, shell, full_name, expires] = then.row();
            [name, uid, full_name, group, groups.replace(',', ", "), expires, shell, home]
        };
        outln!("{}", table(titles, all.iter().map(row)));
        outln!();
    }
    remark(&format!("{} {}", counted(all.len(), "user", "users"), moment(on)));
}

/// Prints one user, with the lines about it.
pub fn print_one(global: &Global, on: &OnDay, then: &Then<'_>, lines: &[ShownLine]) {
    let (heading, quiet) = (style::HEADING, style::QUIET);
    let [name, uid, kind, group, groups, home, shell, full_name, expires] = then.row();
    outln!("{heading}{name}{heading:#}   {quiet}{}{quiet:#}", moment(on));
    outln!();
    for (label, value) in [
        ("full name", full_name),
        ("uid", format!("{uid}, a {kind}")),
        ("group", group),
        ("groups", groups.replace(',', ", ")),
        ("home", home),
        ("shell", shell),
        ("expires", expires),
    ] {
        if !value.is_empty() {
            outln!("  {label:9}   {value}");
        }
    }
    outln!();
    let places: Vec<String> =
        lines.iter().map(|line| format!("{}:{}", line.file.path(), line.line)).collect();
    let wide = places.iter().map(|place| super::width(place)).max().unwrap_or(0);
    for (place, line) in places.iter().zip(lines) {
        let gap = " ".repeat(wide - super::width(place));
        outln!("  {quiet}{place}{quiet:#}{gap}  {}", super::visible_line(&line.text));
    }
    outln!();
    let about = shell_words::quote(&then.user.name).into_owned();
    outln!("next: {}", global.command(&format!("list changes --about {about}")));
}

/// Users for machines.
pub fn to_json(on: &OnDay, all: &[Then<'_>]) -> Value {
    json!({
        "at": on.day.to_string(),
        "change": on.change,
        "notes": on.notes.iter().map(|note| visible(note.as_bytes())).collect::<Vec<_>>(),
        "users": all.iter().map(Then::to_json).collect::<Vec<_>>(),
    })
}
