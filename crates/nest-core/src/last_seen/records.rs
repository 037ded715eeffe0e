//! The logs of records of one length, as the C library writes them: utmp(5). A record has 384
//! bytes where its times have 32 bits, and 400 where they have 64; numbers are those of the
//! machine that wrote it, which may not be the one that reads.

use bstr::{BString, ByteSlice};

use super::Visit;
use crate::value::Day;

/// What a record is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LoginKind {
    /// Somebody signed in.
    SignedIn,
    /// A session ended.
    Ended,
    /// Anything else: the machine was started, say.
    Other,
}

/// A record of utmp or wtmp.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Login {
    /// What it is about.
    pub kind: LoginKind,
    /// Who.
    pub name: BString,
    /// The process.
    pub pid: u32,
    /// When, and where.
    pub visit: Visit,
}

/// `ut_type` of somebody who signed in, and of a session that ended.
const SIGNED_IN: i16 = 7;
const ENDED: i16 = 8;

/// The highest `ut_type`.
const MOST: i16 = 9;

/// Where the parts of a record stand.
const PID: usize = 4;
const LINE: usize = 8;
const NAME: usize = 44;
const HOST: usize = 76;
/// Where the time stands, and how long a record is: with times of 32 bits, and of 64.
const SHORT: (usize, usize) = (340, 384);
const LONG: (usize, usize) = (344, 400);

/// Whether a log may have such a time: from 1980 to now, and a day more for clocks that differ.
fn is_in_time(at: i64, today: Day) -> bool {
    (3652..=today.0 + 1).contains(&at.div_euclid(86_400))
}

/// How records of utmp and wtmp are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LoginLayout {
    swapped: bool,
    wide: bool,
}

impl LoginLayout {
    /// The layout of a log that begins so: that by which its first records look most like
    /// records.
    pub fn of(beginning: &[u8], today: Day) -> Self {
        const LOOKED_AT: usize = 16;
        let fits = |layout: &LoginLayout| {
            let records = beginning.chunks_exact(layout.length()).take(LOOKED_AT);
            let sound = |record: &&[u8]| {
                let kind = number(record, 0, 2, layout.swapped);
                let padding = record[2] == 0 && record[3] == 0;
                kind <= MOST as u64 && padding && is_in_time(layout.time(record), today)
            };
            records.filter(sound).count()
        };
        let all = [(true, true), (false, true), (true, false), (false, false)];
        let all = all.map(|(swapped, wide)| LoginLayout { swapped, wide });
        all.into_iter().max_by_key(fits).expect("BUG: there are layouts")
    }

    /// How long a record is, in bytes.
    pub fn length(self) -> usize {
        if self.wide { LONG.1 } else { SHORT.1 }
    }

    fn time(self, record: &[u8]) -> i64 {
        match self.wide {
            true => number(record, LONG.0, 8, self.swapped) as i64,
            false => i64::from(number(record, SHORT.0, 4, self.swapped) as u32),
        }
    }

    /// The records of a text that begins with one. What is none is passed over, and so is a
    /// part of one at the end.
    pub fn logins(self, text: &[u8]) -> impl Iterator<Item = Login> {
        text.chunks_exact(self.length()).filter_map(move |record| {
            let kind = number(record, 0, 2, self.swapped) as i16;
            if !(0..=MOST).contains(&kind) {
                return None;
            }
            let (line, from) = (word(record, LINE, 32), word(record, HOST, 256));
            Some(Login {
                kind: match kind {
                    SIGNED_IN => LoginKind::SignedIn,
                    ENDED => LoginKind::Ended,
                    _ => LoginKind::Other,
                },
                name: word(record, NAME, 32),
                pid: number(record, PID, 4, self.swapped) as u32,
                visit: Visit { at: self.time(record), line, from },
            })
        })
    }
}

/// A number of up to eight bytes, the lowest first unless they are swapped.
fn number(record: &[u8], at: usize, bytes: usize, swapped: bool) -> u64 {
    let bytes = &record[at..at + bytes];
    let fold = |value: u64, byte: &u8| value << 8 | u64::from(*byte);
    match swapped {
        true => bytes.iter().fold(0, fold),
        false => bytes.iter().rev().fold(0, fold),
    }
}

/// Text up to the first byte that is zero.
fn word(record: &[u8], at: usize, most: usize) -> BString {
    let text = &record[at..at + most];
    text[..text.find_byte(0).unwrap_or(most)].into()
}

/// How the records of a log with a place for each uid are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UidLogLayout {
    swapped: bool,
    wide: bool,
}

impl UidLogLayout {
    /// The layout of a log, by a part of it that begins at an offset.
    pub fn of(offset: u64, part: &[u8], today: Day) -> Self {
        let fits = |layout: &UidLogLayout| {
            let length = layout.length() as u64;
            let first = (offset.next_multiple_of(length) - offset) as usize;
            let records = part.get(first..).unwrap_or_default().chunks_exact(layout.length());
            let visits = records.filter_map(|record| layout.read(record));
            visits.filter(|visit| is_in_time(visit.at, today)).count()
        };
        let all = [(true, true), (false, true), (true, false), (false, false)];
        let all = all.map(|(swapped, wide)| UidLogLayout { swapped, wide });
        all.into_iter().max_by_key(fits).expect("BUG: there are layouts")
    }

    /// How long a record is.
    pub fn length(self) -> usize {
        if self.wide { 8 + 32 + 256 } else { 4 + 32 + 256 }
    }

    /// What a record says; nothing where it is empty, or cut off.
    pub fn read(self, record: &[u8]) -> Option<Visit> {
        let record = record.get(..self.length())?;
        let bytes = if self.wide { 8 } else { 4 };
        let at = number(record, 0, bytes, self.swapped);
        let (line, from) = (word(record, bytes, 32), word(record, bytes + 32, 256));
        let at = i64::try_from(at).ok().filter(|at| *at != 0)?;
        Some(Visit { at, line, from })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: Day = Day(20_785);

    /// A record as a machine with these habits writes it.
    fn record(kind: i16, name: &str, at: u64, swapped: bool, wide: bool) -> Vec<u8> {
        let (time, length) = if wide { LONG } else { SHORT };
        let mut record = vec![0; length];
        let mut put = |place: usize, bytes: usize, value: u64| {
            let little = &value.to_le_bytes()[..bytes];
            let bytes: Vec<u8> = match swapped {
                true => little.iter().rev().copied().collect(),
                false => little.to_vec(),
            };
            record[place..place + bytes.len()].copy_from_slice(&bytes);
        };
        put(0, 2, kind as u64);
        put(PID, 4, 4711);
        put(time, if wide { 8 } else { 4 }, at);
        record[LINE..LINE + 5].copy_from_slice(b"pts/3");
        record[NAME..NAME + name.len()].copy_from_slice(name.as_bytes());
        record[HOST..HOST + 9].copy_from_slice(b"10.20.0.7");
        record
    }

    #[test]
    fn records_are_read_whichever_machine_wrote_them() {
        for (swapped, wide) in [(false, false), (true, false), (false, true), (true, true)] {
            let mut text = record(2, "reboot", 1_790_000_000, swapped, wide);
            text.extend(record(7, "maren", 1_790_000_100, swapped, wide));
            text.extend(record(8, "", 1_790_000_200, swapped, wide));
            text.extend(b"cut off");
            let all: Vec<Login> = LoginLayout::of(&text, NOW).logins(&text).collect();
            assert_eq!(all.len(), 3, "{swapped} {wide}");
            assert_eq!((all[1].kind, all[1].pid), (LoginKind::SignedIn, 4711));
            assert_eq!((&all[1].name[..], all[1].visit.at), (&b"maren"[..], 1_790_000_100));
            assert_eq!(
                (all[1].visit.line.to_string(), all[1].visit.from.to_string()),
                ("pts/3".into(), "10.20.0.7".into())
            );
            assert_eq!((all[0].kind, all[2].kind), (LoginKind::Other, LoginKind::Ended));
        }
        assert_eq!(LoginLayout::of(b"", NOW).logins(&[0xff; 1000]).count(), 0);
    }

    #[test]
    fn a_log_by_uid_is_read_by_its_layout() {
        for (swapped, wide) in [(false, false), (true, false), (false, true), (true, true)] {
            let layout = UidLogLayout { swapped, wide };
            let mut record = vec![0; layout.length()];
            assert_eq!(layout.read(&record), None);
            let little = 1_790_000_000_u64.to_le_bytes();
            let bytes = if wide { 8 } else { 4 };
            for at in 0..bytes {
                record[if swapped { bytes - 1 - at } else { at }] = little[at];
            }
            record[bytes..bytes + 4].copy_from_slice(b"tty1");
            let found = UidLogLayout::of(record.len() as u64 * 1000, &record, NOW);
            assert_eq!(found, layout);
            assert_eq!(found.read(&record).unwrap().at, 1_790_000_000);
            assert_eq!(found.read(&record).unwrap().line, "tty1");
            assert_eq!(found.read(&record[..100]), None);
        }
    }
}
