//! The logs of sign-ins that systems keep: two of records of one length, and the databases that
//! took their place.

use std::io::Read;
use std::os::fd::{AsRawFd, OwnedFd};

use bstr::{BStr, BString, ByteSlice};
use nest_core::last_seen::{
    LastSeen, Login, LoginKind, LoginLayout, Presence, UidLogLayout, Visit, Visits,
};
use nest_core::value::{Day, Uid};
use nest_core::words::without_error_numbers;
use rusqlite::{Connection, OpenFlags};
use rustix::fs::SeekFrom;
use rustix::io::Errno;

use crate::tree::Tree;
use crate::untrusted;

/// One record for each uid.
const BY_UID: &str = "var/log/lastlog";
/// Every sign-in, and the log before it.
const WTMP: [&str; 2] = ["var/log/wtmp", "var/log/wtmp.1"];
/// The databases, and what is asked of each: name, seconds, terminal, host.
const DATABASES: [(&str, &str); 3] = [
    ("var/lib/lastlog/lastlog2.db", "SELECT Name, Time, TTY, RemoteHost FROM Lastlog2"),
    ("var/lib/wtmpdb/wtmp.db", WTMPDB),
    ("var/log/wtmp.db", WTMPDB),
];
/// Times are in microseconds there; 3 is somebody who signed in.
const WTMPDB: &str =
    "SELECT User, MAX(Login) / 1000000, TTY, RemoteHost FROM wtmp WHERE Type = 3 GROUP BY User";
/// Who is signed in.
const UTMP: &str = "run/utmp";
/// The same, a file a session.
const SESSIONS: &str = "run/systemd/sessions";

/// So much is read at once of a log of records; a multiple of the length of each.
const PART: usize = 384 * 400;

/// What the logs of a tree say.
#[derive(Debug)]
pub(crate) struct SignInLogs {
    visits: Visits,
    by_uid: Option<UidLog>,
    /// How many logs there are.
    logs: usize,
    /// Why some can't be read.
    unread: Vec<String>,
    present: Vec<Presence>,
}

/// A log with a place for each uid.
#[derive(Debug)]
struct UidLog {
    file: OwnedFd,
    layout: UidLogLayout,
}

impl SignInLogs {
    /// Reads them.
    pub fn read(tree: &Tree, today: Day) -> Self {
        let mut logs = SignInLogs {
            visits: Visits::default(),
            by_uid: None,
            logs: 0,
            unread: Vec::new(),
            present: Vec::new(),
        };
        if let Some(file) = logs.open(tree, BY_UID) {
            logs.by_uid = match layout_of(&file, today) {
                Ok(layout) => Some(UidLog { file, layout }),
                Err(error) => {
                    logs.unread.push(told(BY_UID, error));
                    None
                }
            };
        }
        for path in WTMP {
            let Some(file) = logs.open(tree, path) else { continue };
            let visits = &mut logs.visits;
            let read = each_login(file, today, |login| {
                if login.kind == LoginKind::SignedIn {
                    visits.note(&login.name, login.visit);
                }
            });
            logs.unread.extend(read.err().map(|error| told(path, error)));
        }
        for (path, query) in DATABASES {
            let Some(file) = logs.open(tree, path) else { continue };
            let read = read_database(&file, query, &mut logs.visits);
            logs.unread.extend(read.err().map(|error| told(path, error)));
        }
        logs.present = present(tree, today);
        logs
    }

    /// Opens a log that is there.
    fn open(&mut self, tree: &Tree, path: &str) -> Option<OwnedFd> {
        match untrusted::open_regular_file(tree, path) {
            Ok(file) => {
                self.logs += 1;
                Some(file)
            }
            Err(missing) if missing.is_missing() => None,
            Err(fault) => {
                self.logs += 1;
                self.unread.push(told(path, fault));
                None
            }
        }
    }

    /// When an account was last signed in.
    pub fn of(&self, name: &BStr, uid: Option<Uid>) -> LastSeen {
        let by_uid = self.by_uid.as_ref().zip(uid).and_then(|(log, uid)| log.of(uid));
        let latest = by_uid.iter().chain(self.visits.of(name)).max_by_key(|visit| visit.at);
        match latest {
            Some(visit) => LastSeen::At(visit.clone()),
            None if self.logs == 0 => LastSeen::NoLog,
            None if !self.unread.is_empty() => LastSeen::Unknown(self.unread.join("; ")),
            None => LastSeen::Never,
        }
    }

    /// Who is signed in.
    pub fn present(&self) -> &[Presence] {
        &self.present
    }
}

fn told(path: &str, why: impl std::fmt::Display) -> String {
    format!("{path} can't be read: {}", without_error_numbers(&why.to_string()))
}

impl UidLog {
    fn of(&self, uid: Uid) -> Option<Visit> {
        let mut record = vec![0; self.layout.length()];
        let at = u64::from(uid.0) * self.layout.length() as u64;
        let read = rustix::io::pread(&self.file, &mut record[..], at).ok()?;
        self.layout.read(&record[..read])
    }
}

/// The layout of a log that is mostly holes: by the first part of it that is none.
fn layout_of(file: &OwnedFd, today: Day) -> std::io::Result<UidLogLayout> {
    let offset = match rustix::fs::seek(file, SeekFrom::Data(0)) {
        Ok(offset) => offset,
        // Nothing but holes.
        Err(Errno::NXIO) => 0,
        // File systems that know no holes.
        Err(Errno::INVAL) => 0,
        Err(error) => return Err(error.into()),
    };
    let mut part = vec![0; 1 << 20];
    let read = rustix::io::pread(file, &mut part[..], offset)?;
    Ok(UidLogLayout::of(offset, &part[..read], today))
}

/// Goes through a log of records.
fn each_login(file: OwnedFd, today: Day, mut note: impl FnMut(Login)) -> std::io::Result<()> {
    let mut file = std::fs::File::from(file);
    let (mut layout, mut part) = (None, Vec::with_capacity(PART));
    loop {
        part.clear();
        let read = (&mut file).take(PART as u64).read_to_end(&mut part)?;
        if read == 0 {
            return Ok(());
        }
        let layout: LoginLayout = *layout.get_or_insert_with(|| LoginLayout::of(&part, today));
        layout.logins(&part).for_each(&mut note);
    }
}

/// Asks a database: by the file that is open, whatever its name leads to, and without writing
/// anything.
fn read_database(file: &OwnedFd, query: &str, visits: &mut Visits) -> rusqlite::Result<()> {
    let uri = format!("file:/proc/self/fd/{}?mode=ro&immutable=1", file.as_raw_fd());
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY
        | OpenFlags::SQLITE_OPEN_URI
        | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let database = Connection::open_with_flags(uri, flags)?;
    let mut asked = database.prepare(query)?;
    let mut rows = asked.query([])?;
    while let Some(row) = rows.next()? {
        let text = |at: usize| {
            let value = row.get_ref(at)?;
            Ok::<BString, rusqlite::Error>(value.as_bytes_or_null()?.unwrap_or_default().into())
        };
        let (name, line, from) = (text(0)?, text(2)?, text(3)?);
        if let Some(at) = row.get::<_, Option<i64>>(1)? {
            visits.note(&name, Visit { at, line, from });
        }
    }
    Ok(())
}

/// The sessions that are open: by their files where there are such, else by the log.
fn present(tree: &Tree, today: Day) -> Vec<Presence> {
    let sessions = tree.files_in(SESSIONS);
    let mut all: Vec<Presence> = sessions
        .iter()
        .filter(|path| !path.ends_with(".ref"))
        .filter_map(|path| session(&untrusted::read_configuration(tree, path).ok()?))
        .collect();
    if !all.is_empty() {
        return all;
    }
    if let Ok(file) = untrusted::open_regular_file(tree, UTMP) {
        // What can't be read tells of nobody.
        let _ = each_login(file, today, |login| {
            if login.kind == LoginKind::SignedIn && !login.name.is_empty() {
                all.push(Presence { name: login.name, visit: login.visit });
            }
        });
    }
    all
}

/// A session of somebody, by its file: lines of `KEY=value`.
fn session(text: &[u8]) -> Option<Presence> {
    let value = |key: &str| {
        let mut lines = text.lines().filter_map(|line| line.split_once_str("="));
        lines.find(|(name, _)| name == &key.as_bytes()).map(|(_, value)| BString::from(value))
    };
    let is_users = value("CLASS").is_none_or(|class| class == "user");
    let is_open = value("STATE").is_none_or(|state| state != "closing");
    let name = value("USER").filter(|_| is_users && is_open)?;
    let at = value("REALTIME").and_then(|time| time.to_str().ok()?.parse::<i64>().ok());
    let visit = Visit {
        at: at.unwrap_or(0) / 1_000_000,
        line: value("TTY").unwrap_or_default(),
        from: value("REMOTE_HOST").unwrap_or_default(),
    };
    Some(Presence { name, visit })
}
