//! When and from where an account may sign in: its window. Rules about that are those of the
//! system's authentication modules, time.conf(5) and access.conf(5), which hold where the
//! account stack of a service asks for them.
//!
//! - `week`, `hours`, `places`: what is asked for, and what is shown
//! - `time_rules`, `access_rules`: the lines of the two files
//! - `own`: which of them are an account's own
//! - `line`: writing that one
//! - `pam`: which services ask
//! - `door`: what all of that comes to at one service
//! - `told`: the window of an account in words

mod access_rules;
mod door;
mod hours;
mod line;
mod own;
mod pam;
mod places;
mod time_rules;
mod told;
mod week;

use bstr::{BStr, BString, ByteSlice};

use self::access_rules::AccessRule;
pub(crate) use self::door::{Door, Origins};
pub use self::hours::{Hours, HoursFault};
pub use self::line::WindowTrouble;
pub(crate) use self::line::{
    FileEdit, Line, enforce, give_back, line_that_asks, own_line, renaming,
};
pub use self::own::Half;
pub(crate) use self::own::names_in;
use self::pam::Services;
pub use self::pam::{Asked, EnforceTrouble};
pub use self::places::{Places, PlacesFault};
use self::time_rules::TimeRule;
pub use self::told::ToldHalf;
pub use self::week::{Moment, Week};
use crate::configuration::{ConfigFiles, Place};
use crate::ssh::SshServer;
use crate::text_edit::TextEdit;
use crate::value::Uid;

/// The files, where an administrator has them and where the system's maker does.
const TIME: [&str; 2] = ["etc/security/time.conf", "usr/etc/security/time.conf"];
const ACCESS: [&str; 2] = ["etc/security/access.conf", "usr/etc/security/access.conf"];
/// More of the second, which come after it.
const ACCESS_MORE: &str = "etc/security/access.d/*.conf";

/// Who signs in.
pub(crate) struct Who<'w> {
    pub name: &'w [u8],
    pub uid: Option<Uid>,
    /// The groups, primary and listed.
    pub groups: &'w dyn Fn() -> Vec<BString>,
}

impl Who<'_> {
    fn is_in(&self, group: &[u8]) -> bool {
        !group.is_empty() && (self.groups)().iter().any(|name| name == group)
    }
}

/// The rules of a tree about hours and places, and the services that ask for them.
#[derive(Debug, Clone, Default)]
pub struct Windows {
    times: Vec<TimeRule>,
    access: Vec<AccessRule>,
    /// Marks of accounts' own lines, each with its place, whether a line follows it or not.
    marks: Vec<(Half, BString, Place)>,
    /// Files that can't be read, and why.
    unread: Vec<(Half, String)>,
    services: Services,
    /// Whether the SSH server asks no modules at all, as its configuration says.
    ssh_asks_none: bool,
}

/// An account's own line of one of the files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnLine<T> {
    /// Where it stands.
    pub place: Place,
    /// What it says.
    pub says: T,
}

impl Windows {
    /// Reads the rules of a tree, and where there are some the services that may ask for them.
    pub fn read(files: &dyn ConfigFiles) -> Self {
        let windows = Windows::rules(files);
        match windows.is_empty() && windows.marks.is_empty() {
            true => windows,
            false => windows.with_services(files),
        }
    }

    fn rules(files: &dyn ConfigFiles) -> Self {
        let mut windows = Windows::default();
        let first = |paths: [&'static str; 2]| {
            let mut found = paths.into_iter().map(|path| (path, files.read(path.into())));
            found.find(|(_, text)| !matches!(text, Ok(None)))
        };
        if let Some((path, text)) = first(TIME) {
            windows.add(Half::Hours, path, text);
        }
        if let Some((path, text)) = first(ACCESS) {
            windows.add(Half::Places, path, text);
        }
        match files.named(ACCESS_MORE.into()) {
            Ok(paths) => {
                for path in paths {
                    let path = path.to_str_lossy().into_owned();
                    let text = files.read(path.as_str().into());
                    windows.add(Half::Places, &path, text);
                }
            }
            Err(why) => windows.unread.push((Half::Places, format!("{ACCESS_MORE} {why}"))),
        }
        windows
    }

    fn add(&mut self, half: Half, path: &str, text: Result<Option<Vec<u8>>, String>) {
        let text = match text {
            Ok(text) => text.unwrap_or_default(),
            Err(why) => return self.unread.push((half, format!("{path} {why}"))),
        };
        match half {
            Half::Hours => self.times.extend(time_rules::read(path, &text)),
            Half::Places => self.access.extend(access_rules::read(path, &text)),
        }
        let marks = text.lines().enumerate().filter_map(|(at, line)| {
            let (half, name) = own::marked(line)?;
            Some((half, name.into(), Place { file: path.into(), line: at + 1 }))
        });
        self.marks.extend(marks);
    }

    /// Whether there is no rule at all.
    pub fn is_empty(&self) -> bool {
        self.times.is_empty() && self.access.is_empty() && self.unread.is_empty()
    }

    /// Reads the rules of a tree, and its services whether there are rules or not.
    pub(crate) fn read_whole(files: &dyn ConfigFiles) -> Self {
        Windows::rules(files).with_services(files)
    }

    fn with_services(self, files: &dyn ConfigFiles) -> Self {
        let ssh_asks_none = !SshServer::read(files).uses_pam();
        Windows { services: Services::read(files), ssh_asks_none, ..self }
    }

    /// The services of the tree at which people sign in or work is started for them.
    pub fn services(&self) -> impl Iterator<Item = &str> {
        self.services.names()
    }

    /// Whether rules may be about groups.
    pub(crate) fn asks_for_groups(&self) -> bool {
        let plain = |word: &BString| {
            ["all", "except", "root"].iter().any(|it| word.eq_ignore_ascii_case(it.as_bytes()))
        };
        let others = self.access.iter().filter(|rule| !rule.owned);
        others.flat_map(|rule| &rule.users).any(|word| !plain(word))
    }

    /// Whether a service asks about one half of an account's window.
    pub(crate) fn asks(&self, service: &str, half: Half, who: &Who<'_>) -> Asked {
        match service == Door::Ssh.service() && self.ssh_asks_none {
            true => Asked::No,
            false => self.services.asks(service, half, who),
        }
    }

    /// The hours of an account's own.
    pub fn hours_of(&self, name: &[u8]) -> Option<OwnLine<Week>> {
        let is_it = |rule: &&TimeRule| rule.owned && rule.users == name;
        let rule = self.times.iter().find(is_it)?;
        Some(OwnLine { place: rule.place.clone(), says: rule.week.clone() })
    }

    /// The places of an account's own; nothing in it where its line says something else.
    pub fn places_of(&self, name: &[u8]) -> Option<OwnLine<Option<Places>>> {
        let is_it = |rule: &&AccessRule| rule.owned && rule.users == [name];
        let rule = self.access.iter().find(is_it)?;
        let says = match rule.origins.as_slice() {
            [all, except, places @ ..]
                if !rule.lets_in && all == "ALL" && except.eq_ignore_ascii_case(b"EXCEPT") =>
            {
                let places: Vec<&[u8]> = places.iter().map(|place| place.as_slice()).collect();
                Places::of_field(&places)
            }
            _ => None,
        };
        Some(OwnLine { place: rule.place.clone(), says })
    }

    /// Each account that has a line of its own, or the mark of one, in either file.
    pub fn owners(&self) -> impl Iterator<Item = (Half, &BStr, &Place)> {
        self.marks.iter().map(|(half, name, place)| (*half, name.as_bstr(), place))
    }
}

/// Whether an edit may say otherwise who may sign in when and from where.
pub(crate) fn edits_windows(edit: &TextEdit) -> bool {
    edit.path.starts_with(b"/etc/security/") || edits_stack(edit)
}

/// Whether an edit is of the stack of a service.
pub(crate) fn edits_stack(edit: &TextEdit) -> bool {
    edit.path.starts_with(b"/etc/pam.d/")
}
