//! `list users`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;

use bstr::BStr;
use clap::ValueEnum;
use nest_core::account::{AccountIndex, AccountKind};
use nest_core::context::PlanContext;
use nest_core::last_seen::LastSeen;
use nest_core::powers::Powers;
use nest_core::sign_in::{keys_found, sign_in_of, window_of};
use nest_core::surroundings::Surroundings;
use nest_core::table::{File, Group};
use nest_host::surroundings::World;
use serde_json::json;

use super::require_shadow;
use super::{Failure, Global, REFUSED, Result, Session, show_group, show_user};
use crate::cli::whole;
use crate::view::columns::Rows;
use crate::view::earlier::{self, Then};
use crate::view::{self, user, users};

/// List users: people, unless told otherwise.
///
/// On a terminal a table; into a pipe one user a line, fields separated by tabs:
/// name, uid, kind, primary group, groups, home, shell, full name, sign-in, day of
/// the last password change, expiry, day of the last sign-in: "never" where the logs have
/// none, and nothing where that is not known.
#[derive(Debug, clap::Args)]
#[command(name = "users", after_help = EXAMPLES)]
pub struct ListUsers {
    /// Which users; all with --admin or --in.
    #[arg(long, value_enum, value_name = "people|services|all")]
    kind: Option<UserKindChoice>,
    /// Only administrators of the machine.
    #[arg(long)]
    admin: bool,
    /// Only those who are suspended.
    #[arg(long)]
    suspended: bool,
    /// Only those who can, or can't, sign in now.
    #[arg(long, value_enum, value_name = "yes|no")]
    sign_in: Option<YesOrNo>,
    /// Only those whose account expires within so many days, or has expired.
    #[arg(long, value_name = "DAYS", value_parser = whole::<u32>)]
    expiring: Option<u32>,
    /// Only those who were not signed in for so many days, or never.
    #[arg(long, value_name = "DAYS", value_parser = whole::<u32>)]
    unseen: Option<u32>,
    /// Only members of a group, listed or by primary group.
    #[arg(long = "in", value_name = "GROUP")]
    group: Option<OsString>,
    /// As the account files were at the end of this day: 2026-11-24, -7d.
    #[arg(long, value_name = "DATE", allow_hyphen_values = true, conflicts_with_all = ["sign_in",
        "expiring", "unseen", "suspended", "admin"])]
    at: Option<String>,
    #[command(flatten)]
    rows: Rows,
}

const EXAMPLES: &str = "Examples:
  copper-nest list users --in pilots
  copper-nest list users --expiring 30 --sign-in yes
  copper-nest list users --unseen 180
  copper-nest list users --at 2026-11-01
  copper-nest list users --kind services --format json";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum YesOrNo {
    Yes,
    No,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum UserKindChoice {
    People,
    Services,
    All,
}

impl ListUsers {
    /// What the files said on an earlier day.
    fn on_day(&self, global: &Global, day: &str) -> Result {
        self.rows.require(global, &earlier::COLUMNS)?;
        let session = Session::open_anyway(global)?;
        let on = session.on_day(day)?;
        let (kind, group) = (self.kind.unwrap_or(UserKindChoice::People), self.group.as_ref());
        let wanted = |then: &Then<'_>| {
            let is_person = then.user.kind.as_deref() == Some("person");
            let kind_fits = match kind {
                _ if group.is_some() && self.kind.is_none() => true,
                UserKindChoice::All => true,
                UserKindChoice::People => is_person,
                UserKindChoice::Services => !is_person,
            };
            kind_fits
                && group.is_none_or(|group| {
                    let name = group.to_string_lossy();
                    then.groups.iter().any(|own| *own == name)
                        || then.user.primary.as_deref() == Some(&*name)
                })
        };
        let mut all = show_user::then(&on.earlier.book, &session.policy);
        all.retain(wanted);
        match global.json() {
            true => view::print_json("users-then", &earlier::to_json(&on, &all)),
            false => {
                earlier::print(global, &self.rows, &on, &all);
                earlier::tell(&on);
            }
        }
        Ok(0)
    }

    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        if let Some(day) = &self.at {
            return self.on_day(global, day);
        }
        match self.suspended {
            true => self.rows.require(global, &users::SUSPENDED)?,
            false => self.rows.require(global, &users::COLUMNS)?,
        }
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let (book, policy) = (&loaded.book, &session.policy);
        let asked = [
            (self.sign_in.is_some(), "--sign-in"),
            (self.expiring.is_some(), "--expiring"),
            (self.suspended, "--suspended"),
        ];
        if let Some((_, option)) = asked.iter().find(|(asked, _)| *asked) {
            require_shadow(book, &format!("{option} can't be answered"))?;
        }
        let world = session.world_to_look_at()?;
        if self.unseen.is_some()
            && world.last_seen("".into(), None, session.today) == LastSeen::NoLog
        {
            let message = "--unseen can't be answered: no log of sign-ins is kept here";
            return Err(Failure::new(REFUSED, "no-log", message));
        }
        let wanted = self.group.as_ref().map(|group| {
            let name = BStr::new(group.as_bytes());
            show_group::find(book, name).ok_or_else(|| show_group::no_group(book, &world, name))
        });
        let wanted = wanted.transpose()?;
        let narrowed = self.admin || self.suspended || self.group.is_some();
        let kind = self.kind.unwrap_or(if narrowed {
            UserKindChoice::All
        } else {
            UserKindChoice::People
        });
        let index = AccountIndex::new(book, policy);
        let accounts = index.accounts().filter(|account| {
            let kind_fits = match kind {
                UserKindChoice::All => true,
                UserKindChoice::People => account.kind == AccountKind::Person,
                UserKindChoice::Services => account.kind == AccountKind::Service,
            };
            let member = wanted.is_none_or(|wanted| {
                // What files grant goes by the number, whatever the group is called.
                let gid = wanted.gid();
                let is_it = |group: &Group<'_>| {
                    group.name == wanted.name || gid.is_some() && group.gid() == gid
                };
                account.user.gid() == gid || account.groups.iter().any(is_it)
            });
            kind_fits && member && (!self.admin || account.admin)
        });
        let context = session.context(&loaded, &world);
        let until = self.expiring.map(|days| session.today.0 + i64::from(days));
        let listed = accounts.filter_map(|account| {
            let expires = account.aging().and_then(|aging| aging.expires);
            let soon = until.is_none_or(|until| expires.is_some_and(|day| day.0 <= until));
            if !soon || self.suspended && !account.is_suspended() {
                return None;
            }
            let last_seen = user::last_seen_of(&world, &account, session.today);
            let days = last_seen.days(session.today);
            let is_unseen = |most: u32| match &last_seen {
                LastSeen::Never => true,
                _ => days.is_some_and(|days| days >= i64::from(most)),
            };
            if !self.unseen.is_none_or(is_unseen) {
                return None;
            }
            let answer = sign_in_of(context, &account);
            let can = answer.is_possible_now();
            let wanted = self.sign_in.is_none_or(|wanted| can == (wanted == YesOrNo::Yes));
            wanted.then_some(users::Listed { account, sign_in: answer, last_seen })
        });
        if global.json() {
            let powers = Powers::of(context);
            let document = |listed: users::Listed<'_>| {
                user::to_json(&shown(context, &world, &powers, &listed))
            };
            let all: Vec<_> = listed.map(document).collect();
            view::print_json("users", &json!({"users": all}));
            session.tell_unread(&loaded, &[File::Passwd]);
            return Ok(0);
        }
        let listed: Vec<_> = listed.collect();
        match self.suspended {
            true => {
                let of = book.users.records().count();
                users::print_suspended(global, &self.rows, &listed, world.suspended(), of);
            }
            false => users::print(global, &self.rows, &listed, || {
                let services = index.kinds().filter(|kind| *kind == AccountKind::Service).count();
                [book.users.records().count() - services, services]
            }),
        }
        session.tell_unread(&loaded, &[File::Passwd]);
        Ok(0)
    }
}

/// Everything that is shown of one user of a list.
pub fn shown<'a>(
    context: PlanContext<'a>,
    world: &'a World<'_>,
    powers: &Powers<'_>,
    listed: &'a users::Listed<'_>,
) -> user::ShownUser<'a> {
    let account = &listed.account;
    user::ShownUser {
        account,
        sign_in: &listed.sign_in,
        home: user::look_for_home(world, account),
        shadow_unreadable: context.book.unreadable.get(&File::Shadow),
        today: context.today,
        suspended: user::note_of(account, world.suspended()),
        keys: keys_found(context, account.user),
        window: window_of(context, account.user),
        last_seen: listed.last_seen.clone(),
        present: user::presence_of(world, account, context.today),
        powers: powers.ways(account),
    }
}
