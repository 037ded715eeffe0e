//! What was done: the records of changes, their numbers, and the account files as
//! the last change left them.

use std::collections::BTreeMap;

use bstr::ByteSlice;
use nest_core::drift::{Drift, DriftedLines, Print, digest, prints};
use nest_core::record::{ChangeRecord, Left, VERSION};
use nest_core::secret::without_hashes;
use nest_core::table::{File, Lines};
use nest_core::value::{Day, PlainName};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};

use crate::digest::digest_of_file;
use crate::journal::Journal;
use crate::place::Place;
use crate::read::LARGE;
use crate::state::{self, Fault, Folder, Fresh, PassedOver};
use crate::store::{FileIdentity, Loaded, Original};
use crate::tree::Tree;
use crate::untrusted::{open_entry, read_opened};
use crate::words::why;

/// The folder of the records in the state folder.
const FOLDER: PlainName = PlainName::fixed("changes");

/// Why the records can't be had.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum ChangesError {
    /// It can't be understood.
    #[error("{path} {fault}")]
    Fault { path: String, fault: Fault },
    /// There is no such change.
    #[error("there is no change {number}{}", .newest.map(|newest| format!("; the newest is {newest}")).unwrap_or_default())]
    NoSuchChange { number: u64, newest: Option<u64> },
}

/// `left.json`: the account files as the last change left them.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LeftBehind {
    version: u32,
    /// The highest number that was given to a change, also to one that a crash
    /// cut off.
    pub number: u64,
    /// The change that left the files so.
    pub since: u64,
    files: BTreeMap<File, LeftFile>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct LeftFile {
    digest: String,
    #[serde(rename = "seal")]
    identity: FileIdentity,
    /// The prints of its lines; nothing for a large file.
    lines: Option<Vec<Print>>,
}

impl LeftBehind {
    /// Its name in the state folder.
    pub(crate) const NAME: PlainName = PlainName::fixed("left.json");

    /// Reads it. What is damaged counts as not there: it only serves to tell
    /// what other hands did.
    pub fn read(state: &Folder) -> Self {
        let text = state.read(&LeftBehind::NAME).ok().flatten().unwrap_or_default();
        state::parse(&text, VERSION).unwrap_or_default()
    }

    /// How many bytes each account file had then.
    pub fn sizes(&self) -> BTreeMap<File, u64> {
        self.files.iter().map(|(file, left)| (*file, left.identity.size())).collect()
    }

    /// Writes it, flushed with its directory. Where it can't be written there is none:
    /// an old one would blame other hands for what this program did.
    ///
    /// # Errors
    /// The system's, where the file or its directory can't be written; then there is none.
    pub fn write(&self, state: &Folder) -> std::io::Result<()> {
        let left = LeftBehind { version: VERSION, ..self.clone() };
        let text = serde_json::to_vec(&left).map_err(std::io::Error::from)?;
        state.write(&LeftBehind::NAME, &text).inspect_err(|_| state.remove(&LeftBehind::NAME))?;
        Ok(state.flush()?)
    }

    /// What other hands did to the files since they were left.
    ///
    /// # Errors
    /// The system's, where a file that was not loaded whole can't be read.
    pub fn drift(&self, loaded: &Loaded) -> std::io::Result<Vec<Drift>> {
        let mut drifts = Vec::new();
        for (file, left) in &self.files {
            let since = self.since;
            let Some(original) = loaded.originals.get(file) else {
                if !loaded.book.unreadable.contains_key(file) {
                    let lines = left.lines.as_ref().map(|lines| DriftedLines::between(lines, &[]));
                    drifts.push(Drift { file: *file, since, lines });
                }
                continue;
            };
            if original.identity == left.identity
                || digest_of_file(&original.descriptor)? == left.digest
            {
                continue;
            }
            let lines = loaded.book.lines(*file).filter(|lines| !lines.is_excerpt());
            let lines = left.lines.as_ref().zip(lines);
            let lines = lines.map(|(before, now)| DriftedLines::between(before, &prints(now)));
            drifts.push(Drift { file: *file, since, lines });
        }
        Ok(drifts)
    }

    /// Notes the files as they stand in the tree now, after change `number`.
    /// Files the change did not touch keep what is known of them, if they are
    /// still so.
    pub fn note(&mut self, tree: &Tree, loaded: &Loaded, record: &ChangeRecord) {
        self.number = self.number.max(record.number);
        self.since = record.number;
        let touched = |file: &File| record.left.contains_key(file);
        for file in File::ALL {
            let Ok(located) = tree.locate(file.path()) else { continue };
            let place = Place { directory: located.directory, name: located.name };
            let Ok(Some((identity, text))) = small_text(&place) else {
                self.files.remove(&file);
                continue;
            };
            match text {
                Some(text) => {
                    let digest = digest(&text);
                    let lines = prints(&Lines::new(file, std::sync::Arc::new(text)));
                    self.files.insert(file, LeftFile { digest, identity, lines: Some(lines) });
                }
                None => {
                    let digest = match record.left.get(&file) {
                        Some(left) => Some(left.digest.clone()),
                        None => self.known_digest(&file, loaded.originals.get(&file)),
                    };
                    match digest {
                        Some(digest) => {
                            self.files.insert(file, LeftFile { digest, identity, lines: None });
                        }
                        None if !touched(&file) => {
                            self.files.remove(&file);
                        }
                        None => {}
                    }
                }
            }
        }
    }

    /// The digest of a large file that no change touched: as it is known, else
    /// nothing, since reading it would take longer than the change.
    fn known_digest(&self, file: &File, original: Option<&Original>) -> Option<String> {
        let left = self.files.get(file)?;
        (original?.identity == left.identity).then(|| left.digest.clone())
    }
}

/// A file's identity, and its text when it is small; `None` when it is not there.
fn small_text(place: &Place) -> std::io::Result<Option<(FileIdentity, Option<Vec<u8>>)>> {
    let (file, stat) = match open_entry(&place.directory, &place.name) {
        Ok(opened) => opened,
        Err(error) if error.is_missing() => return Ok(None),
        Err(error) => return Err(error.into()),
    };
    let identity = FileIdentity::of(&stat);
    if stat.st_size as u64 >= LARGE {
        return Ok(Some((identity, None)));
    }
    Ok(Some((identity, Some(read_opened((file, stat), LARGE)?))))
}

/// The digest and size of a file as a change left it.
pub(crate) fn left(digest: String, size: u64) -> Left {
    Left { digest, size }
}

/// The number the next change will have.
///
/// # Errors
/// [`ChangesError`] where the folder of the records can't be listed.
pub fn next_number(state: Option<&Folder>) -> Result<u64, ChangesError> {
    let Some(state) = state else { return Ok(1) };
    let newest = numbers(state)?.into_iter().max().unwrap_or(0);
    Ok(newest.max(LeftBehind::read(state).number).saturating_add(1))
}

/// No change ever gets a number beyond this one: a file that is named so is a stray.
const MOST: u64 = 1 << 53;

/// The numbers of the changes that are kept, in no order.
fn numbers(state: &Folder) -> Result<Vec<u64>, ChangesError> {
    let unread = |error: Errno| ChangesError::Fault {
        path: state.shown(&FOLDER),
        fault: Fault::Unread(why(error)),
    };
    let Some(folder) = state.inner_if_there(&FOLDER).map_err(unread)? else {
        return Ok(Vec::new());
    };
    let number = |name: &PlainName| {
        let number: u64 = name.as_str().strip_suffix(".json")?.parse().ok()?;
        // Written as this program writes it.
        (number < MOST && record_name(number) == *name).then_some(number)
    };
    Ok(folder.names().map_err(unread)?.iter().filter_map(number).collect())
}

fn record_name(number: u64) -> PlainName {
    PlainName::parse(format!("{number}.json")).expect("BUG: a number is no plain name")
}

/// The records of changes, and what of them was passed over.
#[derive(Debug, Default)]
pub struct Records {
    /// The records, oldest first.
    pub all: Vec<ChangeRecord>,
    /// What could not be understood.
    pub passed_over: Vec<PassedOver>,
}

/// All records. One that can't be understood keeps none of the others.
///
/// # Errors
/// [`ChangesError`], where they can't be listed.
pub fn read_records(state: &Folder) -> Result<Records, ChangesError> {
    let mut numbers = numbers(state)?;
    numbers.sort_unstable();
    let mut records = Records::default();
    for number in numbers {
        match read(state, number) {
            Ok(record) => records.all.push(record),
            Err(ChangesError::Fault { path, fault }) => {
                records.passed_over.push(PassedOver::new(path, &fault));
            }
            // It went while we looked.
            Err(ChangesError::NoSuchChange { .. }) => {}
        }
    }
    Ok(records)
}

/// One record.
///
/// # Errors
/// [`ChangesError`] where there is no such record, or it can't be read or understood.
pub fn read(state: &Folder, number: u64) -> Result<ChangeRecord, ChangesError> {
    let name = record_name(number);
    let missing = || {
        let newest = numbers(state).ok().and_then(|numbers| numbers.into_iter().max());
        ChangesError::NoSuchChange { number, newest }
    };
    let path = format!("{}/{name}", state.shown(&FOLDER));
    let unread = |error: std::io::Error| ChangesError::Fault {
        path: path.clone(),
        fault: Fault::Unread(why(error)),
    };
    let folder = state.inner_if_there(&FOLDER).map_err(|error| unread(error.into()))?;
    let text = folder.ok_or_else(missing)?.read(&name).map_err(unread)?.ok_or_else(missing)?;
    let record = parse(&text, path.clone())?;
    if record.number != number {
        let fault = Fault::Damaged(format!("it says that it is change {}", record.number));
        return Err(ChangesError::Fault { path, fault });
    }
    Ok(record)
}

/// Reads a record. Any bytes may come in.
///
/// # Errors
/// [`ChangesError::Fault`], also for what this program could not have written.
pub fn parse(text: &[u8], path: String) -> Result<ChangeRecord, ChangesError> {
    let record = state::parse::<ChangeRecord>(text, VERSION).and_then(|record| {
        match record.told.steps.iter().find_map(|step| step.step.fault()) {
            Some(fault) => Err(Fault::Damaged(fault)),
            None => Ok(record),
        }
    });
    record.map_err(|fault| ChangesError::Fault { path, fault })
}

/// The file that holds a record.
pub fn to_text(record: &ChangeRecord) -> Vec<u8> {
    let text = String::from_utf8(state::to_text(record)).expect("BUG: JSON is not UTF-8");
    without_hashes(&text).into_owned().into_bytes()
}

/// The file that holds a record whose lines are written in between: what comes before
/// them, and what comes after.
pub(crate) fn around_edits(record: &ChangeRecord) -> (Vec<u8>, Vec<u8>) {
    // A quote in a text is escaped: only the key itself reads so.
    const NONE: &[u8] = b"\"edits\": []";
    let mut text = to_text(record);
    let after = text.find(NONE).map_or(text.len(), |at| at + NONE.len() - 1);
    let rest = [b"\n    ", &text[after..]].concat();
    text.truncate(after);
    (text, rest)
}

/// Writes a record beside its name, flushed: room for it is had before the change
/// happens.
///
/// # Errors
/// The system's, above all for want of room: then no record waits.
pub(crate) fn stage(state: &Folder, record: &ChangeRecord) -> std::io::Result<()> {
    state.inner(&FOLDER)?.write_beside(&record_name(record.number), &to_text(record))?;
    Ok(())
}

/// Begins a record beside its name, to be written bit by bit.
///
/// # Errors
/// The system's, where no file can be made there.
pub(crate) fn begin(state: &Folder, number: u64) -> std::io::Result<Fresh> {
    state.inner(&FOLDER)?.begin(&record_name(number))
}

/// Removes a record that was written beside its name.
pub(crate) fn discard(state: &Folder, number: u64) {
    if let Ok(Some(folder)) = state.inner_if_there(&FOLDER) {
        folder.remove_beside(&record_name(number));
    }
    state.remove_empty(&FOLDER);
}

/// The digests of the record that waits beside its name, and of the one that has it.
///
/// # Errors
/// The system's, where one of them is there and can't be read.
pub(crate) fn digests(state: &Folder, number: u64) -> std::io::Result<[Option<String>; 2]> {
    let Some(folder) = state.inner_if_there(&FOLDER)? else { return Ok([None, None]) };
    let name = record_name(number);
    Ok([folder.digest_beside(&name)?, folder.digest(&name)?])
}

/// Gives a record that waits beside its name that name. With a record that holds
/// everything that is written anew where nothing waits.
///
/// # Errors
/// The system's, where it can't be renamed, or its list not be written anew.
pub(crate) fn publish(
    state: &Folder,
    number: u64,
    whole: Option<&ChangeRecord>,
) -> std::io::Result<()> {
    let (folder, name) = (state.inner(&FOLDER)?, record_name(number));
    match (folder.publish(&name), whole) {
        (Err(Errno::NOENT), Some(record)) => folder.write(&name, &to_text(record))?,
        // It was published before a crash.
        (Err(Errno::NOENT), None) if folder.read_head(&name, 0)?.is_some() => {}
        (published, _) => published?,
    }
    Ok(folder.flush()?)
}

/// Flushes the folder of the records.
///
/// # Errors
/// The system's, where the disk won't take it.
pub(crate) fn flush(state: &Folder) -> std::io::Result<()> {
    match state.inner_if_there(&FOLDER)? {
        Some(folder) => Ok(folder.flush()?),
        None => Ok(()),
    }
}

/// Takes the list of files that a change gave another number over from the journal.
///
/// # Errors
/// The system's, where the list can't be moved; in the journal it stays.
pub(crate) fn take_list(
    state: &Folder,
    number: u64,
    list: &PlainName,
    (journal, sound): (&Journal, &PlainName),
) -> std::io::Result<()> {
    journal.move_kept(sound, &state.inner(&FOLDER)?, &list_name(number, list)?)
}

/// The name among the records of a list of files, by the one it has in the journal.
fn list_name(number: u64, list: &PlainName) -> std::io::Result<PlainName> {
    PlainName::parse(format!("{number}.{list}")).map_err(std::io::Error::other)
}

/// The list of files that was taken over from the journal, opened; `None` where it was not
/// yet.
///
/// # Errors
/// The system's, where the list is there and can't be opened.
pub(crate) fn list(
    state: &Folder,
    number: u64,
    list: &PlainName,
) -> std::io::Result<Option<std::fs::File>> {
    let Some(folder) = state.inner_if_there(&FOLDER)? else { return Ok(None) };
    folder.open_if_there(&list_name(number, list)?)
}

/// The lists of files that a change gave other numbers, opened.
///
/// # Errors
/// The system's, and one where no such list is kept.
pub(crate) fn kept_lists(state: &Folder, number: u64) -> std::io::Result<Vec<std::fs::File>> {
    let all = lists_of(state, number, "files")?;
    if all.is_empty() {
        let message = format!("which files change {number} gave away is not kept any more");
        return Err(std::io::Error::other(message));
    }
    Ok(all)
}

/// The list of files that carried the new numbers of a change before it; empty where there
/// was none.
///
/// # Errors
/// The system's, where it can't be read.
pub(crate) fn kept_there(state: &Folder, number: u64) -> std::io::Result<Vec<u8>> {
    let mut all = Vec::new();
    for mut file in lists_of(state, number, "there")? {
        std::io::Read::read_to_end(&mut file, &mut all)?;
    }
    Ok(all)
}

fn lists_of(state: &Folder, number: u64, kind: &str) -> std::io::Result<Vec<std::fs::File>> {
    let Some(folder) = state.inner_if_there(&FOLDER)? else { return Ok(Vec::new()) };
    let start = format!("{number}.{kind}-");
    let names = folder.names()?.into_iter().filter(|name| name.as_str().starts_with(&start));
    names.map(|name| folder.open_file(&name)).collect()
}

/// When a change was made, without reading all of its record.
fn time_of(folder: &Folder, number: u64) -> Option<String> {
    const HEAD: u64 = 512;
    let head = folder.read_head(&record_name(number), HEAD).ok()??;
    let after = &head[head.find(b"\"time\":")? + 7..];
    let time = after.split_str("\"").nth(1)?;
    Some(time.to_str().ok()?.to_owned())
}

/// Removes the records that are older than `keep_days`; the newest stays, so that
/// its number is not given again.
pub(crate) fn tidy(state: &Folder, today: Day, keep_days: u32) {
    let (Ok(numbers), Ok(Some(folder))) = (numbers(state), state.inner_if_there(&FOLDER)) else {
        return;
    };
    let newest = numbers.iter().copied().max().unwrap_or(0);
    let names = folder.names().unwrap_or_default();
    let mut old: Vec<u64> = numbers.into_iter().filter(|number| *number != newest).collect();
    old.sort_unstable();
    for number in old {
        let Some(time) = time_of(&folder, number) else { continue };
        let day = Day::of_time(&time);
        // Records are in order of time: the rest is younger.
        if day.is_none_or(|day| day.0 + i64::from(keep_days) >= today.0) {
            break;
        }
        let start = format!("{number}.");
        let of_it = names.iter().filter(|name| name.as_str().starts_with(&start));
        of_it.for_each(|name| folder.remove(name));
    }
}
