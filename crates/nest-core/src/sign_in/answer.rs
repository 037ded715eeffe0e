//! The answer, and what can be asked of it.

use super::Obstacle;
use crate::windows::{Door, Moment, Week};

/// The answer, by password and by key.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SignIn {
    /// What stands in the way of both.
    pub both: Vec<Obstacle>,
    /// What stands in the way of a password only.
    pub password: Vec<Obstacle>,
    /// What stands in the way of a password at the machine, where it would do over SSH.
    pub console: Vec<Obstacle>,
    /// What stands in the way of a password over SSH, where it would do at the machine.
    pub ssh_password: Vec<Obstacle>,
    /// What stands in the way of a key only.
    pub key: Vec<Obstacle>,
    /// The password must be changed at the next sign-in.
    pub must_change: bool,
    /// The password field is empty: no password is asked.
    pub open: bool,
    /// How many keys there are.
    pub keys: usize,
    /// How many of them are for one command only.
    pub forced: usize,
    /// Whether the SSH server asks the system's authentication modules.
    pub pam: bool,
    /// Lines of its configuration by which it may be otherwise, as the connection may be.
    pub may_differ: Vec<String>,
    /// The hours in which it may at the machine, and over SSH, where these are not all.
    pub hours: [Option<Week>; 2],
    /// This moment.
    pub now: Moment,
    /// From where only it may over SSH.
    pub only_from: Option<String>,
}

impl SignIn {
    /// Whether something lets it in this very minute.
    pub fn is_possible_now(&self) -> bool {
        (self.by_password() && !self.is_closed(Door::Console))
            || (self.is_possible_over_ssh() && !self.is_closed(Door::Ssh))
    }

    /// Whether a door is closed at this time of the week.
    pub(crate) fn is_closed(&self, door: Door) -> bool {
        self.hours[door as usize].as_ref().is_some_and(|hours| !hours.has(&self.now))
    }

    /// Whether a password (or, with an open field, none) lets the account in at the machine.
    pub fn by_password(&self) -> bool {
        self.both.is_empty() && self.password.is_empty() && self.console.is_empty()
    }

    /// Whether a key lets it in.
    pub fn by_key(&self) -> bool {
        self.both.is_empty() && self.key.is_empty()
    }

    /// Whether something lets it in.
    pub fn is_possible(&self) -> bool {
        self.by_password() || self.is_possible_over_ssh()
    }

    /// Whether it lets in for more than a fixed command.
    pub(crate) fn is_free(&self) -> bool {
        let only_forced = self.by_key() && self.forced == self.keys;
        self.is_possible() && (!only_forced || self.by_password() || self.by_password_over_ssh())
    }

    /// Whether a password lets the account in over SSH; so far as that is known.
    pub fn by_password_over_ssh(&self) -> bool {
        self.both.is_empty() && self.password.is_empty() && self.ssh_password.is_empty()
    }

    /// Whether something lets it in over SSH.
    pub fn is_possible_over_ssh(&self) -> bool {
        self.by_password_over_ssh() || self.by_key()
    }

    /// Whether the new password that must be set is asked for by a key too.
    pub fn key_asks_for_new_password(&self) -> bool {
        self.must_change && self.pam
    }

    /// Whether it can't be told if a key lets it in.
    pub fn key_is_unknown(&self) -> bool {
        self.is_unknown(&self.key)
    }

    /// Whether it can't be told if a password lets it in, as shadow is closed to whoever
    /// looks: then nor can it whether the account is over.
    pub fn password_is_unknown(&self) -> bool {
        self.is_unknown(&self.password)
    }

    /// Whether it can't be told if a password lets it in over SSH.
    pub fn ssh_is_unknown(&self) -> bool {
        self.password.is_empty() && self.is_unknown(&self.ssh_password)
    }

    fn is_unknown(&self, obstacles: &[Obstacle]) -> bool {
        let unknown = |obstacle: &Obstacle| matches!(obstacle, Obstacle::Unknown(_));
        self.both.is_empty() && !obstacles.is_empty() && obstacles.iter().all(unknown)
    }

    /// `yes`, or the first reason why not in a word or two, for a table.
    pub fn in_short(&self) -> String {
        if self.password_is_unknown() {
            return "not known".to_owned();
        }
        if self.is_possible() && !self.is_possible_now() {
            return "not now".to_owned();
        }
        if self.is_possible() {
            return match self.must_change && self.by_password() {
                true => "yes, new password".into(),
                false => "yes".into(),
            };
        }
        if self.key_is_unknown() {
            return "key not known".to_owned();
        }
        self.against_password().next().map_or("no", Obstacle::in_short).to_owned()
    }

    /// The first thing that keeps out an account that nothing lets in.
    ///
    /// # Panics
    /// Where something lets it in.
    pub(crate) fn first_obstacle(&self) -> &Obstacle {
        let first = self.against_password().chain(self.against_key()).next();
        first.expect("BUG: nothing keeps an account out that can't sign in")
    }

    /// What stands in the way of a password at the machine.
    pub fn against_password(&self) -> impl Iterator<Item = &Obstacle> {
        self.both.iter().chain(&self.password).chain(&self.console)
    }

    /// What stands in the way of a password over SSH.
    pub(crate) fn against_ssh_password(&self) -> impl Iterator<Item = &Obstacle> {
        self.both.iter().chain(&self.password).chain(&self.ssh_password)
    }

    /// What stands in the way of a key.
    pub(crate) fn against_key(&self) -> impl Iterator<Item = &Obstacle> {
        self.both.iter().chain(&self.key)
    }

    /// Each reason once, in words.
    pub fn reasons(&self) -> Vec<String> {
        let all = [&self.both, &self.password, &self.console, &self.ssh_password, &self.key];
        let all = all.into_iter().flatten();
        let mut reasons: Vec<String> = Vec::new();
        for reason in all.map(Obstacle::to_string) {
            if !reasons.contains(&reason) {
                reasons.push(reason);
            }
        }
        reasons
    }
}
