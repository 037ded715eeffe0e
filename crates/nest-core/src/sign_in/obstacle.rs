//! What keeps an account out, in words.

use bstr::BString;

use crate::configuration::Place;
use crate::value::Day;

/// Something that keeps an account out.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Obstacle {
    /// `!`.
    #[error("no password is set")]
    NoPassword,
    /// `!` before a hash.
    #[error("the password is locked")]
    Locked,
    /// A field that nothing matches.
    #[error("the password field ({0}) matches no password")]
    NoMatch(BString),
    /// No shadow line.
    #[error("etc/shadow has no line for it that can be read")]
    NoShadowLine,
    /// `x`, but no shadow file.
    #[error("the password is in etc/shadow, and there is no such file")]
    NoShadowFile,
    /// Expired.
    #[error("{}", expired(*.0))]
    Expired(Day),
    /// Too old, with the days of grace over.
    #[error("the password is too old: it had to be changed by {0}")]
    TooOld(Day),
    /// A shell that turns everybody away.
    #[error("the shell {0} lets nobody in")]
    NoLoginShell(BString),
    /// A shell that is not there.
    #[error("the shell {0} does not exist")]
    ShellMissing(BString),
    /// A shell that can't be started.
    #[error("the shell {0} can't be executed")]
    ShellNotExecutable(BString),
    /// A file that says so.
    #[error("{0} keeps everybody but root out")]
    Nologin(&'static str),
    /// No key.
    #[error("{0} holds none")]
    NoKey(BString),
    /// The SSH server says no: the line by which it does.
    #[error("{0}")]
    Ssh(String),
    /// A `!` where the SSH server looks at the password field itself.
    #[error("the password is locked, and without UsePAM the SSH server then takes no key")]
    LockedForKeys,
    /// A rule about hours lets in at no time: the lines that say so.
    #[error("{0} lets it in at no time")]
    NeverOpen(String),
    /// A rule about places keeps it out here: the line that says so.
    #[error("{0} lets it in only from elsewhere")]
    NotHere(Place),
    /// No home.
    #[error("the home {0} is missing")]
    NoHome(BString),
    /// Keys the SSH server ignores.
    #[error("{0}")]
    KeysIgnored(String),
    /// Could not be looked at.
    #[error("not known, {0}")]
    Unknown(String),
}

/// Suspending writes day 1, which is no day anybody would choose.
fn expired(day: Day) -> String {
    match day {
        Day(1) => "the account is suspended".to_owned(),
        day => format!("the account expired on {day}"),
    }
}

impl Obstacle {
    /// The obstacle in a word or two.
    pub fn in_short(&self) -> &'static str {
        match self {
            Obstacle::NoPassword | Obstacle::NoMatch(_) => "no password",
            Obstacle::Locked => "locked",
            Obstacle::NoShadowLine | Obstacle::NoShadowFile => "no shadow line",
            Obstacle::Expired(Day(1)) => "suspended",
            Obstacle::Expired(_) => "expired",
            Obstacle::TooOld(_) => "password too old",
            Obstacle::NoLoginShell(_) => "no login shell",
            Obstacle::ShellMissing(_) | Obstacle::ShellNotExecutable(_) => "shell missing",
            Obstacle::Nologin(path) => path,
            Obstacle::NoKey(_) | Obstacle::NoHome(_) | Obstacle::KeysIgnored(_) => "no key",
            Obstacle::Ssh(_) => "not over SSH",
            Obstacle::LockedForKeys => "locked",
            Obstacle::NeverOpen(_) => "at no time",
            Obstacle::NotHere(_) => "not from here",
            Obstacle::Unknown(_) => "not known",
        }
    }
}
