//! `show user`.

use std::collections::HashMap;
use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;

use bstr::{BStr, ByteSlice};
use nest_core::account::Account;
use nest_core::book::{Book, Lookups};
use nest_core::policy::Policy;
use nest_core::powers::Powers;
use nest_core::retired::RetiredAccount;
use nest_core::sign_in::{keys_found, sign_in_of, window_of};
use nest_core::snapshot::{SnapshotUser, of_book};
use nest_core::surroundings::Surroundings;
use nest_core::table::{File, Passwd};
use nest_core::value::{Uid, UserOrGroup, nearest, read_plain_id};
use nest_host::store::Loaded;
use serde_json::json;

use super::{Failure, Global, REFUSED, Result, Session};
use crate::view::earlier::{self, Then};
use crate::view::{self, user};

/// Show one user: ids, groups, home, password, and whether it can sign in.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = EXAMPLES)]
pub struct ShowUser {
    /// The login name, or the uid.
    #[arg(value_name = "NAME|UID")]
    name: OsString,
    /// Explain the record field by field.
    #[arg(long)]
    fields: bool,
    /// Show what is kept of a deleted user of that name or uid.
    #[arg(long, conflicts_with = "fields")]
    retired: bool,
    /// As the account files were at the end of this day: 2026-11-24, -7d.
    #[arg(long, value_name = "DATE", allow_hyphen_values = true, conflicts_with_all = ["fields", "retired"])]
    at: Option<String>,
}

const EXAMPLES: &str = "Examples:
  copper-nest show user maren
  copper-nest show user 1004 --fields
  copper-nest show user maren --at 2026-11-01";

impl ShowUser {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let name = BStr::new(self.name.as_bytes());
        if self.retired {
            return show_retired(&session, name);
        }
        if let Some(day) = &self.at {
            return on_day(&session, name, day);
        }
        let world = session.world_to_look_at()?;
        let loaded = match load_about(&session, &world, name)? {
            Some(loaded) => loaded,
            None => session.load()?,
        };
        let user = find(&loaded.book, name).ok_or_else(|| no_user(&loaded.book, &world, name))?;
        let account = Account::gather(&loaded.book, &session.policy, user);
        let context = session.context(&loaded, &world);
        let sign_in = sign_in_of(context, &account);
        let shown = user::ShownUser {
            account: &account,
            sign_in: &sign_in,
            home: user::look_at_home(&loaded.book, &world, &account),
            shadow_unreadable: loaded.book.unreadable.get(&File::Shadow),
            today: session.today,
            suspended: user::note_of(&account, world.suspended()),
            keys: keys_found(context, account.user),
            window: window_of(context, account.user),
            last_seen: user::last_seen_of(&world, &account, session.today),
            present: user::presence_of(&world, &account, session.today),
            powers: Powers::of(context).ways(&account),
        };
        if global.json() {
            view::print_json("user", &user::to_json(&shown));
        } else if self.fields {
            view::user_fields::print_fields(&shown);
        } else {
            user::print(&shown, &nest_core::account::lines_about(&loaded.book, &account.user));
        }
        Ok(0)
    }
}

/// What the account files said of each user.
pub fn then<'b>(book: &'b Book, policy: &'b Policy) -> Vec<Then<'b>> {
    let snapshot = of_book(book, policy);
    let mut listed: HashMap<String, Vec<String>> = HashMap::new();
    for group in &snapshot.groups {
        for member in &group.members {
            listed.entry(member.to_string()).or_default().push(group.name.to_string());
        }
    }
    let then = |user: SnapshotUser<'b>| {
        let groups = listed.remove(&*user.name).unwrap_or_default();
        Then { user, groups }
    };
    snapshot.users.into_iter().map(then).collect()
}

/// What the files said of a user on an earlier day.
fn on_day(session: &Session<'_>, name: &BStr, day: &str) -> Result {
    let on = session.on_day(day)?;
    let book = &on.earlier.book;
    let Some(user) = find(book, name) else {
        let message = format!("there was no user {name} at the end of {}", on.day);
        return Err(Failure::new(REFUSED, "no-user", message)
            .or("see who there was", format!("list users --at {}", on.day)));
    };
    let all = then(book, &session.policy);
    let is_it = |then: &&Then<'_>| *then.user.name == *nest_core::snapshot::Text::of(user.name);
    let Some(found) = all.iter().find(is_it) else {
        unreachable!("BUG: a user that was found is among all")
    };
    if session.global.json() {
        view::print_json("users-then", &earlier::to_json(&on, std::slice::from_ref(found)));
        return Ok(0);
    }
    earlier::print_one(session.global, &on, found, &nest_core::account::lines_about(book, &user));
    earlier::tell(&on);
    Ok(0)
}

/// What is kept of each deleted user of a name or uid.
fn show_retired(session: &Session<'_>, name: &BStr) -> Result {
    let kept = session.kept()?;
    let of_user = || kept.iter().filter(|account| account.kept.thing == UserOrGroup::User);
    let uid = read_plain_id(name);
    let found: Vec<_> = of_user()
        .filter(|account| account.kept.name == name || Some(account.kept.id) == uid)
        .collect();
    if found.is_empty() {
        let names = of_user().map(|account| account.kept.name.as_slice());
        let near = nearest(name, names).map(|near| format!("; the nearest is {near}"));
        let message = format!("no deleted user {name} is kept{}", near.unwrap_or_default());
        return Err(
            Failure::new(REFUSED, "none-kept", message).or("see what is kept", "list retired")
        );
    }
    let days = session.policy.retired_keep_days;
    if session.global.json() {
        let all = found.into_iter().map(|account| view::retired::to_json(account, days));
        view::print_json("retired", &json!({"retired": all.collect::<Vec<_>>()}));
        return Ok(0);
    }
    for (at, account) in found.into_iter().enumerate() {
        if at > 0 {
            outln!();
        }
        view::retired::print_one(account, days);
    }
    Ok(0)
}

/// A user by name or by uid. A name never is all digits.
pub fn find<'b>(book: &'b Book, name: &BStr) -> Option<Passwd<'b>> {
    match read_plain_id(name) {
        Some(uid) => book.user_by_uid(Uid(uid)),
        None => book.user(name),
    }
    .map(|(_, user)| user)
}

/// Loads what large account files say about one user, and no more: first who it
/// is, then whatever names it, its numbers, its primary group and the owner of
/// its home. `None` when that leads nowhere, and everything has to be loaded.
fn load_about(
    session: &Session<'_>,
    world: &dyn Surroundings,
    name: &BStr,
) -> Result<Option<Loaded>> {
    let by_name = || match read_plain_id(name) {
        Some(uid) => Lookups::few().uid(Uid(uid)),
        None => Lookups::few().user(name),
    };
    let found = session.load_some(&by_name().in_files(&[File::Passwd]), false)?;
    if !found.book.is_partial(File::Passwd) {
        // A small file was loaded whole; the others may not have been.
        return Ok(None);
    }
    let Some(user) = find(&found.book, name) else { return Ok(None) };
    let (Some(uid), Some(gid)) = (user.uid(), user.gid()) else { return Ok(None) };
    let home = world.facts(BStr::new(user.home)).ok().flatten();
    let (owner, group) = home.map_or((uid, gid), |facts| (facts.uid, facts.gid));
    let lookups = by_name().user(user.name).uid(uid).uid(owner).gid(gid).gid(group);
    // Whoever else is in the group of the home is found by its number, too.
    let lookups = lookups.uid(Uid(gid.0)).uid(Uid(group.0));
    let admins = session.policy.admins_groups.iter().map(|group| group.as_bytes());
    let lookups = admins.fold(lookups, Lookups::group);
    let but_gshadow = File::ALL.into_iter().filter(|file| *file != File::Gshadow);
    let but_gshadow: Vec<File> = but_gshadow.collect();
    let mut loaded = session.load_some(&lookups.in_files(&but_gshadow), false)?;
    if loaded.book.is_partial(File::Gshadow) {
        let primary = loaded.book.group_by_gid(gid).map(|(_, group)| group.name);
        let lookups = Lookups::few().user(user.name).group(primary.unwrap_or_default());
        let about = session.load_some(&lookups.in_files(&[File::Gshadow]), false)?;
        loaded.book.take_gshadow(about.book);
    }
    Ok(Some(loaded))
}

/// What to say where there is none.
pub fn no_user(book: &Book, world: &dyn Surroundings, name: &BStr) -> Failure {
    let shown = name.to_str_lossy();
    if let Some(uid) = read_plain_id(name) {
        return Failure::new(REFUSED, "no-user", format!("no account here has uid {uid}"));
    }
    if world.service_knows_user(name).unwrap_or(false) {
        let message = format!(
            "{shown} is no local account: the system's name services know it, etc/passwd does not"
        );
        return Failure::new(REFUSED, "no-local-user", message);
    }
    if let Some(line) = book.named(File::Passwd, name).first() {
        let line = book.users.lines().number(line.start);
        let message =
            format!("etc/passwd:{line} is {shown}'s, but it is malformed and can't be read");
        return Failure::new(crate::failure::DAMAGED, "damaged", message)
            .or("see what is wrong", "check --only malformed-line");
    }
    // Nobody slipped who names somebody that was here.
    let kept = world.kept().unwrap_or_default();
    let is_it =
        |kept: &RetiredAccount| kept.kept.thing == UserOrGroup::User && kept.kept.name == name;
    if let Some(kept) = kept.iter().rev().find(|kept| is_it(kept)) {
        let day = kept.time.get(..10).unwrap_or_default();
        let message = format!("there is no user {shown}: it was deleted on {day}");
        return Failure::new(REFUSED, "no-user", message)
            .or("see what is kept", format!("show user {shown} --retired"))
            .or("or bring it back", format!("restore user {shown}"));
    }
    match nearest(name, book.users.records().map(|(_, user)| user.name)) {
        Some(near) => {
            let message = format!("there is no user {shown}; the nearest is {near}");
            Failure::new(REFUSED, "no-user", message)
                .or("show that one", format!("show user {near}"))
        }
        None => Failure::new(REFUSED, "no-user", format!("there is no user {shown}"))
            .or("see who there is", "list users --kind all"),
    }
}
