//! When an account was last signed in, and who is now: what the logs of the system say.
//!
//! - `records`: the old logs, of records of one length: utmp(5), and a log with a place for
//!   each uid

mod records;

use std::collections::HashMap;

use bstr::{BStr, BString};

pub use self::records::{Login, LoginKind, LoginLayout, UidLogLayout};
use crate::value::Day;

/// A sign-in that a log has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Visit {
    /// When, in seconds since 1970.
    pub at: i64,
    /// The terminal; empty where none is told.
    pub line: BString,
    /// From which host; empty for the machine itself.
    pub from: BString,
}

impl Visit {
    /// The day, in UTC.
    pub fn day(&self) -> Day {
        Day(self.at.div_euclid(86_400))
    }
}

/// A session that is open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Presence {
    /// Who.
    pub name: BString,
    /// Since when, where that is told.
    pub visit: Visit,
}

/// What the logs say of one account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LastSeen {
    /// It was signed in then.
    At(Visit),
    /// The logs have no sign-in of it.
    Never,
    /// No log is kept here.
    NoLog,
    /// A log can't be read: why.
    Unknown(String),
}

impl LastSeen {
    /// The sign-in, where one is known.
    pub fn visit(&self) -> Option<&Visit> {
        match self {
            LastSeen::At(visit) => Some(visit),
            LastSeen::Never | LastSeen::NoLog | LastSeen::Unknown(_) => None,
        }
    }

    /// For how many days it was not seen; nothing where that is not known, or where it never
    /// was.
    pub fn days(&self, today: Day) -> Option<i64> {
        Some((today.0 - self.visit()?.day().0).max(0))
    }
}

/// The latest sign-in of each name, gathered from logs.
#[derive(Debug, Clone, Default)]
pub struct Visits(HashMap<BString, Visit>);

impl Visits {
    /// Takes a sign-in in; the latest of a name stays.
    pub fn note(&mut self, name: &[u8], visit: Visit) {
        match self.0.get_mut(BStr::new(name)) {
            Some(known) if known.at >= visit.at => {}
            Some(known) => *known = visit,
            None => _ = self.0.insert(name.into(), visit),
        }
    }

    /// The latest of a name.
    pub fn of(&self, name: &[u8]) -> Option<&Visit> {
        self.0.get(BStr::new(name))
    }
}
