//! Why a row can't be had: the column that is to blame, and what to put instead.

use bstr::{BStr, BString};

use crate::allot::fitted;
use crate::plan::tables::intake::Intake;
use crate::refusal::{HomeTrouble, Reason, Refusal};
use crate::roster::{Column, RosterRow, Wrong};
use crate::windows::WindowTrouble;

/// A name that is there already.
pub(crate) fn exists(what: &str, name: &BStr, line: usize) -> Wrong {
    let file = if what == "user" { "etc/passwd" } else { "etc/group" };
    Wrong::new(format!("the {what} {name} exists already, {file}:{line}"), "")
}

/// Adds what would help with many rows at once.
pub(crate) fn with_ways(request: &Intake, mut refusal: Box<Refusal>) -> Box<Refusal> {
    let Reason::Roster { faults, .. } = &refusal.reason else { return refusal };
    let any = |words: &str| faults.iter().any(|fault| fault.message.contains(words));
    let (exist, missing) = (any(" exists already, etc/"), any("there is no group "));
    let again = &request.again;
    if exist {
        refusal = refusal
            .or("leave those that exist as they are", format!("{again} --existing keep"))
            .or("or bring them to their rows", format!("{again} --existing update"));
    }
    if missing && !request.groups_too {
        refusal = refusal.or_again("make the missing groups", "--groups-too");
    }
    refusal
}

/// The column that is to blame.
pub(crate) fn column_of(reason: &Reason) -> Column {
    match reason {
        Reason::IdTaken { what: "gid", .. }
        | Reason::IdReserved { what: "gid", .. }
        | Reason::IdInService { what: "gid", .. } => Column::Gid,
        Reason::IdTaken { .. }
        | Reason::IdReserved { .. }
        | Reason::IdInService { .. }
        | Reason::SpanFull { .. }
        | Reason::Busy { .. } => Column::Uid,
        Reason::RangesFull { .. } | Reason::RangeTaken { .. } => Column::Ranges,
        Reason::BadGecos { part, .. } => part.parse().unwrap_or(Column::FullName),
        Reason::BadPath { what: "shell", .. } => Column::Shell,
        Reason::BadPath { .. } | Reason::Home(_) => Column::Home,
        Reason::BadDate(_)
        | Reason::ExpiryPast(_)
        | Reason::NoShadowForExpiry
        | Reason::IsSuspended => Column::Expires,
        Reason::Window(WindowTrouble::Places(_)) => Column::Places,
        Reason::Window(_) => Column::Hours,
        Reason::BadKeys { .. } | Reason::KeysExist(_) | Reason::Key(_) => Column::SshKey,
        Reason::NoShadowForPassword => Column::PasswordHash,
        Reason::NoAdminGroup { .. } => Column::Admin,
        _ => Column::Name,
    }
}

/// The column of a row in which a group is named.
pub(crate) fn column_of_group(request: &Intake, row: &RosterRow, name: &BString) -> Column {
    match request.user(row) {
        Some(user) if user.primary.as_deref() == Some(name) => Column::Primary,
        _ => Column::Join,
    }
}

/// The words of a fault.
pub(crate) fn wrong(request: &Intake, reason: &Reason, row: &RosterRow) -> Wrong {
    let name = request.roster.name(row);
    let message = match reason {
        // There is no file that could be named.
        Reason::BadKeys { fault, .. } => format!("the value: {fault}"),
        reason => reason.to_string(),
    };
    let instead: String = match reason {
        Reason::UnfitName(_) => match name.and_then(fitted) {
            Some(fitted) => format!("{fitted}, for one"),
            None => "lower-case letters, digits, - and _".into(),
        },
        Reason::NoGroup { near: Some(near), .. } | Reason::NoUser { near: Some(near), .. } => {
            near.to_string()
        }
        Reason::GroupExists { .. } => {
            format!("another name, or {} as primary too", name.unwrap_or_default())
        }
        Reason::IdTaken { .. } | Reason::IdReserved { .. } | Reason::IdInService { .. } => {
            "another number, or nothing to have the next free one".into()
        }
        Reason::SpanFull { .. } => "fewer rows, numbers outside it, or a wider span".into(),
        Reason::RangesFull { .. } => "none, or a wider ranges.span in the policy".into(),
        Reason::Home(HomeTrouble::HomeExists { .. }) => {
            "another path; --adopt-home takes homes over, --no-home only records them".into()
        }
        Reason::Home(HomeTrouble::HomeParent { .. }) => {
            "another path; or --no-home only records paths".into()
        }
        Reason::Home(HomeTrouble::HomeThroughLink { .. }) => {
            "the path that the link leads to".into()
        }
        Reason::Home(HomeTrouble::Skeleton { .. }) => {
            "the option --skeleton none, for empty homes".into()
        }
        Reason::BadDate(_) | Reason::ExpiryPast(_) => Column::Expires.meaning().into(),
        Reason::BadGecos { .. } => column_of(reason).meaning().into(),
        Reason::BadKeys { .. } => Column::SshKey.meaning().into(),
        Reason::Window(WindowTrouble::Hours(_)) => Column::Hours.meaning().into(),
        Reason::Window(WindowTrouble::Places(_)) => Column::Places.meaning().into(),
        Reason::Window(_) => "neither hours nor places".into(),
        Reason::BadPath { .. } => "an absolute path".into(),
        Reason::Leftover { .. } => "another name; copper-nest check tells what is left over".into(),
        _ => String::new(),
    };
    Wrong::new(message, instead)
}
