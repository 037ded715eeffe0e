//! The answer in a sentence.

use super::{Obstacle, SignIn};
use crate::windows::Door;
use crate::words::{counted, list};

impl SignIn {
    /// Whether the account can sign in, and if not, why not: by password and by key.
    pub fn sentence(&self) -> String {
        let join = |obstacles: &[Obstacle]| {
            let words: Vec<String> = obstacles.iter().map(ToString::to_string).collect();
            words.join(", ")
        };
        if !self.both.is_empty() {
            let mut all = self.both.clone();
            // Why there is no key does not matter where a key would not help.
            all.extend(self.password.iter().cloned());
            // A shell like that is there so that nobody does.
            let closed = all.iter().any(|why| matches!(why, Obstacle::NoLoginShell(_)));
            let no = if closed { "nobody gets in" } else { "no" };
            return format!("{no}: {}", join(&all));
        }
        let lets = |in_by: bool, obstacles: &[Obstacle]| match in_by {
            false => format!("no, {}", join(obstacles)),
            true if self.open => "yes, and none is asked for".to_owned(),
            true if self.must_change => "yes, and it must be changed then".to_owned(),
            true => "yes".to_owned(),
        };
        let against = [self.password.clone(), self.console.clone()].concat();
        let password = match self.password_is_unknown() {
            true => join(&self.password),
            false => lets(self.by_password(), &against),
        };
        let over_ssh = match (self.by_password(), self.by_password_over_ssh()) {
            (true, false) if self.ssh_is_unknown() => {
                format!(", but over SSH {}", join(&self.ssh_password))
            }
            (true, false) => format!(", but not over SSH, {}", join(&self.ssh_password)),
            (false, true) => format!(", but over SSH {}", lets(true, &[])),
            (true, true) | (false, false) => String::new(),
        };
        let keys = match (self.keys, self.forced) {
            (keys, 0) => counted(keys, "key", "keys"),
            (1, _) => "1 key, for one command only".to_owned(),
            (keys, forced) if keys == forced => format!("{keys} keys, each for one command only"),
            (keys, forced) => format!("{keys} keys, {forced} of them for one command only"),
        };
        let key = match self.by_key() {
            true if self.password_is_unknown() => {
                format!("not known, {keys}, if the account is not over")
            }
            true if self.key_asks_for_new_password() => {
                format!("yes, {keys}, and a new password is asked for; not without a terminal")
            }
            true => format!("yes, {keys}"),
            false if self.key_is_unknown() => join(&self.key),
            false => format!("no, {}", join(&self.key)),
        };
        let differ = match self.may_differ.as_slice() {
            [] => String::new(),
            lines => format!(". It may differ by {}", list(lines)),
        };
        // The authentication modules of cron turn such an account away too.
        let jobs = match self.must_change && !self.password_is_unknown() {
            true => ". Until it is changed cron starts none of its jobs",
            false => "",
        };
        let (first, not_now) = self.not_now();
        let only = self.only_from.as_ref().filter(|_| self.is_possible_over_ssh());
        let only = only.map(|from| format!(". Over SSH only from {from}")).unwrap_or_default();
        let by = if first.is_empty() { "by" } else { "Else by" };
        format!(
            "{first}{by} password: {password}{over_ssh}. By key: {key}{not_now}{only}{jobs}{differ}"
        )
    }

    /// That it is not the time: what is said before all else where nothing lets in now, and what
    /// is said after it where one door is closed.
    fn not_now(&self) -> (String, String) {
        let closed = |door: Door| {
            let hours = self.hours[door as usize].as_ref()?;
            let is = self.is_closed(door);
            is.then(|| format!("not now: {hours}, and it is {}", self.now))
        };
        let console = closed(Door::Console).filter(|_| self.by_password());
        let ssh = closed(Door::Ssh).filter(|_| self.is_possible_over_ssh());
        let first = console.as_ref().or(ssh.as_ref());
        match (first, &console, &ssh) {
            (Some(first), ..) if !self.is_possible_now() => (format!("{first}. "), String::new()),
            (_, Some(console), _) => (String::new(), format!(". At the machine {console}")),
            (_, _, Some(ssh)) => (String::new(), format!(". Over SSH {ssh}")),
            (_, None, None) => (String::new(), String::new()),
        }
    }
}
