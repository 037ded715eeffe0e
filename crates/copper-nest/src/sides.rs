//! The sides that are compared: trees, snapshots, tables, earlier states; read side by side, each
//! forgotten once what it says is counted.

mod source;

use std::collections::{BTreeMap, HashSet};
use std::io::Read;
use std::path::Path;

use jiff::{SignedDuration, Span, Timestamp};
use nest_core::compare::{Side, Tally, of_dump, of_roster};
use nest_core::earlier::after_change;
use nest_core::ldif::DirectoryAccounts;
use nest_core::roster::{Form, Roster, RosterSource};
use nest_core::snapshot::{Snapshot, SnapshotFault, of_book};
use rayon::prelude::*;

use crate::cli::Global;
use crate::commands::export_snapshot;
use crate::failure::{FOUND, Failure, REFUSED, Result, UNTOUCHED};
use crate::session::Session;
use crate::view::visible;

pub use self::source::{Source, named_sources};

/// Something that was not compared.
#[derive(Debug)]
pub struct Missing {
    /// What it is called.
    pub name: String,
    /// Why it was not.
    pub why: String,
    /// The exit status that this comes to.
    pub status: u8,
}

/// Everything that was read.
#[derive(Debug, Default)]
pub struct Sides {
    /// What they say.
    pub tally: Tally,
    /// Each of them.
    pub all: Vec<Side>,
    /// When each was taken, as it says; empty where it does not.
    pub times: Vec<String>,
    /// What the operating system of each calls itself; likewise.
    pub systems: Vec<String>,
    /// Those that are not among them.
    pub missing: Vec<Missing>,
    /// Which of them is as it should be.
    pub against: Option<u32>,
    /// What else is to be known.
    pub notes: Vec<String>,
}

/// What one source says of itself.
struct Taken {
    side: Side,
    host: String,
    machine: Option<String>,
    time: String,
    system: String,
}

impl Taken {
    /// A source that says nothing of itself.
    fn of_side(side: Side) -> Self {
        let (host, time, system) = (String::new(), String::new(), String::new());
        Taken { side, host, machine: None, time, system }
    }
}

/// How old a snapshot may be: `2d`, `36h`.
///
/// # Errors
/// What to write.
pub fn age(text: &str) -> Result<SignedDuration, String> {
    let span = text.parse::<Span>().ok();
    let days = jiff::SpanRelativeTo::days_are_24_hours();
    let age = span.and_then(|span| span.to_duration(days).ok());
    age.filter(SignedDuration::is_positive)
        .ok_or_else(|| format!("\"{text}\" is no age; write 2d or 36h, say"))
}

impl Sides {
    /// Reads all sources. Those that can't be gone by are among the missing.
    ///
    /// # Errors
    /// The side that all are held against can't be read.
    pub fn read(
        global: &Global,
        sources: &[Source],
        against: Option<&Source>,
        not_older: Option<SignedDuration>,
    ) -> Result<Self> {
        /// So many are read by one thread before it takes others.
        const AT_ONCE: usize = 32;
        let mut sources: Vec<&Source> = sources.iter().collect();
        // What should be is one of the others' folder, often.
        let real = |source: &Source| match source {
            Source::Tree(path) | Source::File(path) | Source::Found(path) => {
                std::fs::canonicalize(path).ok()
            }
            Source::Text(..) | Source::Change(_) => None,
        };
        if let Some(against) = against {
            let is_it = |source: &Source| {
                source == against || real(source).is_some_and(|path| real(against) == Some(path))
            };
            sources.retain(|source| !is_it(source));
            sources.push(against);
        }
        let numbered: Vec<(u32, &Source)> = (0..).zip(sources.iter().copied()).collect();
        let read: Vec<(Tally, Vec<Result<Taken, Missing>>)> = numbered
            .par_chunks(AT_ONCE)
            .map(|chunk| {
                let mut tally = Tally::default();
                let taken = chunk.iter().map(|(at, source)| take(global, source, *at, &mut tally));
                let taken = taken.collect();
                (tally, taken)
            })
            .collect();
        let mut sides = Sides { against: against.map(|_| 0), ..Sides::default() };
        let mut all = Vec::with_capacity(sources.len());
        for (tally, taken) in read {
            sides.tally.append(tally);
            all.extend(taken);
        }
        let mut taken: Vec<Option<Taken>> = Vec::with_capacity(all.len());
        for one in all {
            taken.push(match one {
                Ok(one) => Some(one),
                Err(missing) => {
                    sides.missing.push(missing);
                    None
                }
            });
        }
        if let Some(against) = against {
            match taken.last() {
                Some(Some(_)) => sides.against = u32::try_from(taken.len() - 1).ok(),
                _ => {
                    let why = sides.missing.pop().map(|missing| missing.why).unwrap_or_default();
                    let message = format!("{} can't be gone by: {why}", against.shown());
                    return Err(Failure::new(REFUSED, "no-snapshot", message));
                }
            }
        }
        if let Some(most) = not_older {
            sides.leave_out_old(&mut taken, most, &sources)?;
        }
        sides.tell_doubles(&mut taken, &sources);
        for one in taken {
            let one = one.unwrap_or_else(|| Taken::of_side(Side::default()));
            sides.all.push(one.side);
            sides.times.push(one.time);
            sides.systems.push(one.system);
        }
        Ok(sides)
    }

    /// Tells of files in a folder of snapshots that are none.
    pub fn pass_over(&mut self, others: &[String]) {
        let told = |name| format!("{name} was passed over: it does not end in .json or .json.zst");
        self.notes.extend(others.iter().map(told));
    }

    /// Tells what else is to be known, and which are not among them.
    pub fn tell(&self) {
        for note in &self.notes {
            errln!("{}", visible(note.as_bytes()));
        }
        for missing in &self.missing {
            let told = format!("not compared: {}: {}", missing.name, missing.why);
            errln!("{}", visible(told.as_bytes()));
        }
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.all.iter().filter(|side| side.tells_users || side.tells_groups).count()
    }

    /// Leaves out what was taken too long ago.
    fn leave_out_old(
        &mut self,
        taken: &mut [Option<Taken>],
        most: SignedDuration,
        sources: &[&Source],
    ) -> Result<()> {
        let now: Timestamp = crate::clock::Now::read()?.timestamp();
        for (at, one) in taken.iter_mut().enumerate() {
            let Some(time) = one.as_ref().map(|one| &one.time).filter(|time| !time.is_empty())
            else {
                continue;
            };
            let age = time.parse::<Timestamp>().map(|time| now.duration_since(time));
            if age.as_ref().is_ok_and(|age| *age <= most) || self.against == u32::try_from(at).ok()
            {
                continue;
            }
            let why = match age {
                Ok(_) => format!(
                    "its snapshot is of {}, which is too old",
                    crate::clock::for_people(time)
                ),
                Err(_) => format!("nobody can tell how old it is: its time is {time:?}"),
            };
            let name = one.take().map_or_else(|| sources[at].shown(), |one| one.side.name);
            self.missing.push(Missing { name, why, status: FOUND });
            self.tally.leave_out(u32::try_from(at).unwrap_or(u32::MAX));
        }
        Ok(())
    }

    /// Of two snapshots of one machine the newer counts; two machines of one name are told apart
    /// by their files.
    fn tell_doubles(&mut self, taken: &mut [Option<Taken>], sources: &[&Source]) {
        let mut named: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (at, one) in taken.iter().enumerate() {
            if let Some(one) = one {
                named.entry(one.side.name.clone()).or_default().push(at);
            }
        }
        for (name, mut places) in named.into_iter().filter(|(_, places)| places.len() > 1) {
            let when = |at: usize, taken: &[Option<Taken>]| {
                let time = taken[at].as_ref().map(|one| one.time.clone()).unwrap_or_default();
                time.parse::<Timestamp>().ok()
            };
            // The newest first, and what all are held against before any other.
            places.sort_by_key(|&at| {
                let is_it = self.against == u32::try_from(at).ok();
                std::cmp::Reverse((is_it, when(at, taken)))
            });
            let mut seen = HashSet::new();
            let mut left = Vec::new();
            for at in places {
                let machine = taken[at].as_ref().and_then(|one| one.machine.clone());
                if machine.is_none() || seen.insert(machine) {
                    left.push(at);
                    continue;
                }
                if let Some(one) = taken[at].take() {
                    let time = crate::clock::for_people(&one.time);
                    self.notes.push(format!(
                        "{}: there is a newer snapshot of {name}, and this one of {time} was left \
                         out",
                        sources[at].shown()
                    ));
                }
                self.tally.leave_out(u32::try_from(at).unwrap_or(u32::MAX));
            }
            if left.len() > 1 {
                let host = taken[left[0]].as_ref().map(|one| one.host.clone()).unwrap_or_default();
                self.notes.push(format!(
                    "{} call themselves {:?}: they are named by where they come from",
                    nest_core::words::counted(left.len(), "side", "sides"),
                    if host.is_empty() { &name } else { &host }
                ));
                for at in left {
                    if let Some(one) = &mut taken[at] {
                        one.side.name =
                            format!("{name} ({})", visible(sources[at].shown().as_bytes()));
                    }
                }
            }
        }
    }
}

/// Takes in what a source says.
fn take(global: &Global, source: &Source, at: u32, tally: &mut Tally) -> Result<Taken, Missing> {
    let missing = |why: String, status| Missing { name: source.shown(), why, status };
    let failed = |failure: Failure| missing(failure.message(), failure.status);
    match source {
        Source::Tree(path) => {
            let global = Global { tree: path.clone(), ..global.clone() };
            let session = Session::open_anyway(&global).map_err(failed)?;
            let add = |snapshot: &Snapshot<'_>| {
                tally.add(at, snapshot);
                taken(snapshot, source.shown())
            };
            export_snapshot::with_snapshot(&session, false, add).map_err(failed)
        }
        Source::File(path) => {
            let text = read_text(path).map_err(|why| missing(why, UNTOUCHED))?;
            if is_snapshot(&text) {
                return from_text(source, &text, at, tally);
            }
            if text.starts_with("dn:") || text.starts_with("version: 1") {
                return from_dump(source, &text, at, tally);
            }
            let form = path.extension().and_then(|ending| ending.to_str());
            let form = form.and_then(|ending| ending.to_ascii_lowercase().parse::<Form>().ok());
            let Some(form) = form else {
                let why = "it is no snapshot, no dump of a directory, and no table that ends in .csv, .json or .toml";
                return Err(missing(why.to_owned(), REFUSED));
            };
            if form == Form::Ldif {
                return from_dump(source, &text, at, tally);
            }
            let session = Session::open_anyway(global).map_err(failed)?;
            let shown = source.shown();
            let roster = Roster::read(vec![RosterSource::new(shown, form, text.into_bytes())]);
            if let Some(fault) = roster.faults.first() {
                let more = match roster.faults.len() {
                    1 => String::new(),
                    all => format!(", and {} more", all - 1),
                };
                let why = format!("line {}: {}{more}", fault.line, fault.message);
                return Err(missing(why, REFUSED));
            }
            let (side, snapshot) = of_roster(&roster, source.in_short(), session.today);
            tally.add(at, &snapshot);
            Ok(Taken::of_side(side))
        }
        Source::Found(path) => {
            let text = read_text(path).map_err(|why| missing(why, UNTOUCHED))?;
            from_text(source, &text, at, tally)
        }
        Source::Text(_, text) => from_text(source, text, at, tally),
        Source::Change(number) => {
            let session = Session::open_anyway(global).map_err(failed)?;
            let loaded = session.load().map_err(failed)?;
            let folder = session.changes_folder().map_err(failed)?;
            let records = match &folder {
                Some(folder) => session.records(folder).map_err(failed)?,
                None => Vec::new(),
            };
            let earlier = after_change(&loaded.book, &records, *number)
                .map_err(|error| missing(error.to_string(), REFUSED))?;
            for told in &earlier.other_hands {
                errln!("{}: {}", source.shown(), visible(told.as_bytes()));
            }
            let snapshot = of_book(&earlier.book, &session.policy);
            tally.add(at, &snapshot);
            Ok(taken(&snapshot, source.shown()))
        }
    }
}

/// Takes in what a directory says.
fn from_dump(source: &Source, text: &str, at: u32, tally: &mut Tally) -> Result<Taken, Missing> {
    let (accounts, faults) = DirectoryAccounts::read(text.as_bytes());
    if let Some(fault) = faults.first() {
        let line =
            text.as_bytes()[..fault.offset].iter().filter(|byte| **byte == b'\n').count() + 1;
        let more = match faults.len() {
            1 => String::new(),
            all => format!(", and {} more", all - 1),
        };
        let why = format!("line {line}: {}{more}", fault.message);
        return Err(Missing { name: source.shown(), why, status: REFUSED });
    }
    let (side, snapshot) = of_dump(&accounts, source.in_short());
    tally.add(at, &snapshot);
    Ok(Taken::of_side(side))
}

/// Whether a text says that it is a snapshot, or at least some document: then what is wrong
/// with it is told.
fn is_snapshot(text: &str) -> bool {
    let start = text.trim_start();
    start.starts_with('{') && start.get(..200).unwrap_or(start).contains("\"document\"")
}

fn from_text(source: &Source, text: &str, at: u32, tally: &mut Tally) -> Result<Taken, Missing> {
    let snapshot = Snapshot::read(text).map_err(|fault| {
        let status = match fault {
            SnapshotFault::Other(_) | SnapshotFault::Newer(_) => REFUSED,
            SnapshotFault::CutOff { .. } | SnapshotFault::Fault { .. } => UNTOUCHED,
        };
        Missing { name: source.shown(), why: fault.to_string(), status }
    })?;
    tally.add(at, &snapshot);
    Ok(taken(&snapshot, source.in_short()))
}

fn taken(snapshot: &Snapshot<'_>, otherwise: String) -> Taken {
    let host = snapshot.host.to_string();
    let name = if host.is_empty() { otherwise } else { host.clone() };
    Taken {
        side: Side { name: visible(name.as_bytes()), tells_users: true, tells_groups: true },
        host,
        machine: snapshot.machine.as_ref().map(ToString::to_string),
        time: snapshot.time.to_string(),
        system: snapshot.system.as_ref().map(ToString::to_string).unwrap_or_default(),
    }
}

/// The text of a file, unpacked where it is packed.
///
/// # Errors
/// Why it can't be read.
fn read_text(path: &Path) -> Result<String, String> {
    /// What zstd begins with, RFC 8878.
    const PACKED: [u8; 4] = [0x28, 0xb5, 0x2f, 0xfd];
    /// No machine says as much.
    const MOST: u64 = 1 << 30;
    let file = std::fs::File::open(path).map_err(|error| format!("it can't be read: {error}"))?;
    let about = file.metadata().map_err(|error| format!("it can't be read: {error}"))?;
    if !about.is_file() {
        return Err("it is no file".to_owned());
    }
    let mut bytes = Vec::with_capacity(usize::try_from(about.len().min(MOST)).unwrap_or(0) + 1);
    let read = (&file).take(MOST + 1).read_to_end(&mut bytes);
    read.map_err(|error| format!("it can't be read: {error}"))?;
    if bytes.starts_with(&PACKED) {
        bytes = nest_host::packed::unpack(&bytes, MOST).map_err(|error| error.to_string())?;
    }
    if bytes.len() as u64 > MOST {
        return Err("it is longer than 1 GiB".to_owned());
    }
    String::from_utf8(bytes)
        .map_err(|error| format!("byte {} is not UTF-8", error.utf8_error().valid_up_to() + 1))
}
