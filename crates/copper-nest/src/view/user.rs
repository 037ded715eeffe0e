//! One user, shown.

use bstr::BStr;
use nest_core::account::{Account, AccountKind, ShownLine};
use nest_core::book::Book;
use nest_core::last_seen::{LastSeen, Presence, Visit};
use nest_core::powers::Way;
use nest_core::sign_in::{KeyFound, SignIn};
use nest_core::surroundings::{Facts, Surroundings};
use nest_core::suspended::Suspended;
use nest_core::value::{Day, FileKind, IdSpan, PasswordField};
use nest_core::windows::ToldHalf;
use nest_core::words::{counted, list};
use nest_host::surroundings::World;
use serde_json::{Value, json};

use crate::clock::{moment_for_machines, moment_for_people};

use super::{JsonTexts, admins, keys, style, visible, visible_line};

/// More files than this in a home are not counted.
const MOST_FILES: usize = 1000;

/// A user with what was found out about it.
pub struct ShownUser<'a> {
    /// What the account files say.
    pub account: &'a Account<'a>,
    /// Whether it can sign in.
    pub sign_in: &'a SignIn,
    /// Its home.
    pub home: Home,
    /// Why shadow could not be read, if it could not.
    pub shadow_unreadable: Option<&'a String>,
    /// Today.
    pub today: Day,
    /// What was noted when it was suspended.
    pub suspended: Option<&'a Suspended>,
    /// Each key, and what keeps it from working.
    pub keys: Vec<KeyFound>,
    /// When it was last signed in.
    pub last_seen: LastSeen,
    /// Where it is signed in now.
    pub present: Vec<Presence>,
    /// When and from where it may sign in.
    pub window: [ToldHalf; 2],
    /// The ways in which it can become root.
    pub powers: Vec<Way>,
}

/// A home, looked at.
pub struct Home {
    exists: Option<bool>,
    /// In words, where it was looked at more closely.
    state: String,
}

/// Looks whether the home of an account is there, and no further.
pub fn look_for_home(world: &World<'_>, account: &Account<'_>) -> Home {
    let found = world.facts(BStr::new(account.user.home));
    Home { exists: found.ok().map(|facts| facts.is_some()), state: String::new() }
}

/// Looks at the home of an account.
pub fn look_at_home(book: &Book, world: &World<'_>, account: &Account<'_>) -> Home {
    let home = BStr::new(account.user.home);
    match world.facts(home) {
        Err(why) => Home { exists: None, state: format!("can't be looked at: {why}") },
        Ok(None) => Home { exists: Some(false), state: "does not exist".into() },
        Ok(Some(facts)) if facts.kind != FileKind::Directory => {
            Home { exists: Some(true), state: format!("is {}, not a directory", facts.kind) }
        }
        Ok(Some(facts)) => {
            let state = format!("{}{}", describe(book, &facts), files(world, home));
            Home { exists: Some(true), state }
        }
    }
}

fn describe(book: &Book, facts: &Facts) -> String {
    let owner = match book.user_by_uid(facts.uid) {
        Some((_, user)) => visible(user.name),
        None => format!("{}, whom nobody is", facts.uid),
    };
    format!("{:04o}, owned by {owner}", facts.mode)
}

fn files(world: &World<'_>, home: &BStr) -> String {
    // The home of many a service is a system directory.
    if home == "/" || home.is_empty() {
        return String::new();
    }
    let count = match world.count_files(home, MOST_FILES) {
        Ok(count) => count,
        Err(why) => return format!(", files not counted: {why}"),
    };
    let files = match count.more {
        false => counted(count.files, "file", "files"),
        true => format!("more than {} files", count.files),
    };
    let uncounted = count
        .uncounted
        .map(|(path, why)| format!(", but for {}{} ({why})", visible(home), visible(&path)));
    format!(", {files}{}", uncounted.unwrap_or_default())
}

impl ShownUser<'_> {
    pub fn kind(&self) -> &'static str {
        match self.account.kind {
            AccountKind::Person => "a person",
            AccountKind::Service => "a service",
        }
    }

    fn groups(&self) -> String {
        let groups: Vec<String> = self
            .account
            .groups
            .iter()
            .map(|group| format!("{} {}", visible(group.name), visible(group.gid)))
            .collect();
        if groups.is_empty() { "no other group".into() } else { groups.join(", ") }
    }

    fn primary(&self) -> String {
        let gid = visible(self.account.user.gid);
        match self.account.primary {
            Some(name) => format!("{} {gid}", visible(name)),
            None => format!("{gid}, which no group has"),
        }
    }

    fn ranges(&self) -> String {
        let (uids, gids) = (&self.account.uid_ranges, &self.account.gid_ranges);
        match (uids.is_empty(), gids.is_empty()) {
            (true, true) => "none".into(),
            _ if uids == gids => format!("{}, uids and gids", spans(uids)),
            (false, true) => format!("uids {}", spans(uids)),
            (true, false) => format!("gids {}", spans(gids)),
            _ => format!("uids {}; gids {}", spans(uids), spans(gids)),
        }
    }

    fn password(&self) -> String {
        if let Some(why) = self.shadow_unreadable {
            return format!("not known: etc/shadow can't be read, {why}");
        }
        let field = self.account.password();
        let scheme = field.scheme().map(|scheme| scheme.name()).unwrap_or_default();
        let state = match field {
            PasswordField::Set(_) => scheme.to_owned(),
            PasswordField::Locked(_) => format!("{scheme}, locked"),
            PasswordField::None => return "none is set".into(),
            PasswordField::Never => return "none can match".into(),
            PasswordField::Open => {
                return "open: the field is empty, and no password is asked".into();
            }
        };
        let Some(aging) = self.account.aging() else { return format!("{state}, in etc/passwd") };
        let changed = match aging.changed {
            Some(0) => "must be changed at the next sign-in".to_owned(),
            Some(day) => format!("set {}", Day(day)),
            None => "set on an unknown day".to_owned(),
        };
        let renew = match (aging.changed, aging.renew) {
            (Some(changed), Some(days)) if changed > 0 => {
                format!("must be renewed by {}", Day(changed.saturating_add(days)))
            }
            (_, None) => "need not be renewed".to_owned(),
            (_, Some(days)) => format!("must be renewed every {days} days"),
        };
        format!("{state}, {changed}, {renew}")
    }

    fn expiry(&self) -> String {
        match self.account.aging().and_then(|aging| aging.expires) {
            _ if self.shadow_unreadable.is_some() => "not known".into(),
            None => "does not expire".into(),
            Some(_) if self.account.is_suspended() => match self.suspended {
                None => "suspended".to_owned(),
                Some(note) => {
                    let why = if note.reason.is_empty() { "" } else { ": " };
                    let then = note.expires.map(|day| format!("; resumed, it expires on {day}"));
                    let then = then.unwrap_or_default();
                    format!("suspended since {}{why}{}{then}", note.since, note.reason)
                }
            },
            Some(day) if day <= self.today => format!("expired on {day}"),
            Some(day) => format!("expires on {day}, the first day on which it no longer works"),
        }
    }
}

/// When an account was last signed in.
pub fn last_seen_of(world: &World<'_>, account: &Account<'_>, today: Day) -> LastSeen {
    world.last_seen(account.user.name.into(), account.user.uid(), today)
}

/// Where an account is signed in now.
pub fn presence_of(world: &World<'_>, account: &Account<'_>, today: Day) -> Vec<Presence> {
    let all = world.present(today).iter();
    all.filter(|one| one.name == account.user.name).cloned().collect()
}

/// What was noted when an account was suspended.
pub fn note_of<'n>(account: &Account<'_>, notes: &'n [Suspended]) -> Option<&'n Suspended> {
    notes.iter().find(|note| note.is_of(account.user.name, account.user.uid()))
}

fn spans(spans: &[IdSpan]) -> String {
    list(spans.iter().map(ToString::to_string)).to_string()
}

/// Prints a user: what is so, then every line that says it.
pub fn print(shown: &ShownUser<'_>, lines: &[ShownLine]) {
    let (heading, quiet) = (style::HEADING, style::QUIET);
    let user = &shown.account.user;
    let full_name = match user.full_name() {
        b"" => String::new(),
        name => format!("{}, ", visible(name)),
    };
    let admin = if shown.account.admin { ", an administrator" } else { "" };
    let name = visible(user.name);
    outln!("{heading}{name}{heading:#}   {full_name}{}{admin}", shown.kind());
    outln!();
    let row = |label: &str, value: String| outln!("  {label:11} {value}");
    row("uid", visible(user.uid));
    row("kind", visible(format!("{}: {}", shown.account.kind, shown.account.kind_by).as_bytes()));
    row("primary", shown.primary());
    row("member of", shown.groups());
    let home = visible(user.home);
    outln!("  {:11} {home}   {quiet}{}{quiet:#}", "home", shown.home.state);
    let shell = if user.shell.is_empty() {
        "empty, which means /bin/sh".into()
    } else {
        visible(user.shell)
    };
    row("shell", shell);
    row("ranges", shown.ranges());
    row("password", shown.password());
    row("account", shown.expiry());
    row("sign-in", visible(shown.sign_in.sentence().as_bytes()));
    for (label, half) in ["hours", "places"].into_iter().zip(&shown.window) {
        let (value, kept) = (visible(half.value.as_bytes()), half.kept_in_words());
        let kept = visible(kept.as_bytes());
        let gap = if kept.is_empty() { "" } else { "   " };
        outln!("  {label:11} {value}{gap}{quiet}{kept}{quiet:#}");
    }
    row("last seen", last_seen(&shown.last_seen));
    several(
        "signed in",
        shown.present.iter().map(|one| format!("now, since {}", place(&one.visit))).collect(),
    );
    several("keys", shown.keys.iter().map(keys::line).collect());
    match shown.powers.is_empty() {
        true => row("powers", "none: nothing lets it become root".to_owned()),
        false => several("powers", shown.powers.iter().map(admins::way_in_words).collect()),
    }
    outln!();
    print_lines(lines);
}

/// One half of a window for machines.
fn half_to_json(half: &ToldHalf) -> Value {
    json!({
        "value": half.value,
        "restricted": !half.is_free(),
        "lines": half.lines.iter().map(ToString::to_string).collect::<Vec<_>>(),
        "kept_by": half.kept_by,
        "not_known": half.unsure,
    })
}

/// When somebody was last signed in, in words.
pub fn last_seen(seen: &LastSeen) -> String {
    match seen {
        LastSeen::At(visit) => place(visit),
        LastSeen::Never => "never, as far as the logs go".to_owned(),
        LastSeen::NoLog => "not known: no log of sign-ins is kept here".to_owned(),
        LastSeen::Unknown(why) => visible(format!("not known: {why}").as_bytes()),
    }
}

/// A sign-in in words: when, on which terminal, from where.
fn place(visit: &Visit) -> String {
    let part = |word: &str, text: &[u8]| match text.is_empty() {
        true => String::new(),
        false => format!("{word} {}", visible(text)),
    };
    let (line, from) = (part(" on", &visit.line), part(" from", &visit.from));
    format!("{}{line}{from}", moment_for_people(visit.at))
}

fn visit_to_json(visit: &Visit) -> Value {
    json!({
        "time": moment_for_machines(visit.at),
        "terminal": visible(&visit.line),
        "from": visible(&visit.from),
    })
}

/// A row for each of some values, the first of them labelled.
fn several(label: &str, values: Vec<String>) {
    let labels = std::iter::once(label).chain(std::iter::repeat(""));
    for (label, value) in labels.zip(values) {
        outln!("  {label:11} {value}");
    }
}

/// Prints lines of account files, each with its place.
pub fn print_lines(lines: &[ShownLine]) {
    let quiet = style::QUIET;
    let place = |line: &ShownLine| format!("{}:{}", line.file.path(), line.line);
    let column = lines.iter().map(|line| place(line).len()).max().unwrap_or(0);
    for line in lines {
        outln!("  {quiet}{:column$}{quiet:#}   {}", place(line), visible_line(&line.text));
    }
}

/// A user for machines. No hash is in it.
pub fn to_json(shown: &ShownUser<'_>) -> Value {
    let account = shown.account;
    let user = &account.user;
    let texts = JsonTexts::default();
    let text = |bytes: &[u8]| texts.text(bytes);
    let aging = account.aging();
    let known = !shown.sign_in.password_is_unknown();
    let password = match shown.shadow_unreadable {
        Some(_) => Value::Null,
        None => json!({
            "state": account.password().state(),
            "scheme": account.password().scheme().map(|scheme| scheme.name()),
            "changed": aging.and_then(|aging| aging.changed).map(|day| Day(day).to_string()),
            "renew_days": aging.and_then(|aging| aging.renew),
            "hold_days": aging.and_then(|aging| aging.hold),
            "remind_days": aging.and_then(|aging| aging.remind),
            "late_days": aging.and_then(|aging| aging.late),
        }),
    };
    let range = |spans: &[IdSpan]| -> Vec<Value> {
        spans.iter().map(|span| json!({"start": span.first(), "count": span.count()})).collect()
    };
    let groups: Vec<Value> = account
        .groups
        .iter()
        .map(|group| json!({"name": text(group.name), "gid": group.gid()}))
        .collect();
    let document = json!({
        "name": text(user.name),
        "uid": user.uid(),
        "kind": account.kind.to_string(),
        "kind_by": account.kind_by.to_string(),
        "full_name": text(user.full_name()),
        "primary_group": {"name": account.primary.map(text), "gid": user.gid()},
        "groups": groups,
        "admin": account.admin,
        "home": {"path": text(user.home), "exists": shown.home.exists},
        "shell": text(user.effective_shell()),
        "password": password,
        // What suspending writes there is no expiry; the one that it had is below.
        "expires": aging
            .and_then(|aging| aging.expires)
            .filter(|_| !account.is_suspended())
            .map(|day| day.to_string()),
        "suspended": account.is_suspended(),
        "suspension": shown.suspended.filter(|_| account.is_suspended()).map(|note| json!({
            "since": note.since.to_string(),
            "reason": note.reason,
            "expires": note.expires.map(|day| day.to_string()),
        })),
        "ranges": {"uid": range(&account.uid_ranges), "gid": range(&account.gid_ranges)},
        "sign_in": {
            "password": known.then(|| shown.sign_in.by_password()),
            "must_change": known.then_some(shown.sign_in.must_change),
            "must_change_by_key": known.then(|| shown.sign_in.key_asks_for_new_password()),
            "password_over_ssh": (known && !shown.sign_in.ssh_is_unknown())
                .then(|| shown.sign_in.by_password_over_ssh()),
            "keys": (known && !shown.sign_in.key_is_unknown()).then(|| shown.sign_in.by_key()),
            "now": known.then(|| shown.sign_in.is_possible_now()),
            "may_differ_by": shown.sign_in.may_differ,
            "reasons": shown.sign_in.reasons(),
        },
        "hours": half_to_json(&shown.window[0]),
        "places": half_to_json(&shown.window[1]),
        "last_seen": shown.last_seen.visit().map(visit_to_json),
        "last_seen_known": matches!(shown.last_seen, LastSeen::At(_) | LastSeen::Never),
        "signed_in": shown.present.iter().map(|one| visit_to_json(&one.visit)).collect::<Vec<_>>(),
        "keys": shown.keys.iter().map(keys::key_to_json).collect::<Vec<_>>(),
        "powers": shown.powers.iter().map(admins::way_to_json).collect::<Vec<_>>(),
    });
    texts.mark(document)
}
