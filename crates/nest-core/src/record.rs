//! The record of a change: what was decided, and each line as it was and is,
//! without any hash. `docs/formats.md` describes the file it is kept in.

mod alike;
mod runs;
mod told;

#[cfg(test)]
pub(crate) use runs::tests::kept;
pub use runs::write_edits;

use std::collections::BTreeMap;

use bstr::BString;
use serde::{Deserialize, Serialize};

use crate::change::{AccessChange, Decision, NumberChange, Step, Subject};
use crate::drift::Drift;
use crate::order;
use crate::secret::{hash_of, shown};
use crate::surroundings::Inventory;
use crate::table::{Edit, File};
use crate::value::{Author, Day, escaped};

/// The version of records that this program writes and reads.
pub const VERSION: u32 = 1;

/// One change that was carried out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChangeRecord {
    /// The version of the format.
    pub version: u32,
    /// The number of the change, from 1; never given twice.
    pub number: u64,
    /// When, with zone, as RFC 3339 writes it.
    pub time: String,
    /// Who.
    pub by: Author,
    /// The arguments as typed.
    pub arguments: Vec<String>,
    /// What it was for, as the administrator said: a ticket's number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The change that this one took back.
    pub undoes: Option<u64>,
    /// What the receipt told.
    pub told: Told,
    /// The account files as they were left.
    pub left: BTreeMap<File, Left>,
    /// What other hands had done to the files since the change before.
    pub other_hands: Vec<Drift>,
}

impl ChangeRecord {
    /// The day on which it was made, as it is shown; nothing where its time is none.
    pub fn day(&self) -> Option<Day> {
        Day::of_time(&self.time)
    }
}

/// What a receipt tells: a plan, without its hashes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    /// The change in a few words.
    pub summary: String,
    /// It mended the account files: lines that it took out were at odds with others.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub mends: bool,
    /// What it came to, where it was about many accounts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub totals: Vec<Decision>,
    /// Numbers of users and groups that became others, where that was asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub numbers: Vec<NumberChange>,
    /// What was decided, account by account.
    pub subjects: Vec<Subject>,
    /// The lines that came, went or were altered. Many that came one after the
    /// other are written as one run.
    #[serde(with = "runs")]
    pub edits: Vec<RecordedEdit>,
    /// What happened on the tree.
    pub steps: Vec<RecordedStep>,
    /// Who gained and who lost access, account by account.
    #[serde(default, skip_serializing_if = "Vec::is_empty", with = "alike")]
    pub access: Vec<AccessChange>,
    /// What the administrator was to know.
    pub cautions: Vec<String>,
    /// Likely next commands.
    pub next: Vec<String>,
}

/// A line that came, went, or was altered, without its hash.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordedEdit {
    /// The file.
    pub file: File,
    /// The line, counted from 1: of the old file, or of the new one for a line
    /// that came.
    pub line: usize,
    /// The line as it was; nothing for one that came.
    #[serde(with = "escaped::optional")]
    pub before: Option<BString>,
    /// The line as it is; nothing for one that went.
    #[serde(with = "escaped::optional")]
    pub after: Option<BString>,
    /// What became of the hash in it.
    #[serde(default, skip_serializing_if = "Secret::is_none")]
    pub secret: Secret,
}

/// What became of the hash in a line.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Secret {
    /// There was none, and is none.
    #[default]
    None,
    /// The same before and after.
    Kept,
    /// There was none, and is one.
    New,
    /// It was replaced, or went with its line: it is kept nowhere.
    Lost,
}

impl Secret {
    fn is_none(&self) -> bool {
        *self == Secret::None
    }
}

/// A step, and what it made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordedStep {
    /// The step.
    #[serde(flatten)]
    pub step: Step,
    /// What it made, as it was left.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left_as: Option<Inventory>,
}

/// An account file as a change left it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Left {
    /// XXH3, 128 bits, in hexadecimal.
    pub digest: String,
    /// In bytes.
    pub size: u64,
}

impl RecordedEdit {
    /// An edit, without its hash.
    pub fn of(edit: &Edit) -> Self {
        let hash = |line: &Option<BString>| {
            line.as_ref().and_then(|line| hash_of(edit.file, line)).map(<[u8]>::to_vec)
        };
        let secret = match (hash(&edit.before), hash(&edit.after)) {
            (None, None) => Secret::None,
            (None, Some(_)) => Secret::New,
            (before, after) if before == after => Secret::Kept,
            (Some(_), _) => Secret::Lost,
        };
        let show = |line: &Option<BString>| line.as_ref().map(|line| shown(edit.file, line));
        RecordedEdit {
            file: edit.file,
            line: edit.line,
            before: show(&edit.before),
            after: show(&edit.after),
            secret,
        }
    }

    /// Every line of an edit.
    pub(crate) fn lines(edit: &Edit) -> Vec<Self> {
        if !edit.after.as_ref().is_some_and(|after| after.contains(&b'\n')) {
            return vec![Self::of(edit)];
        }
        let one = |(line, after): (usize, &[u8])| {
            let (file, range) = (edit.file, edit.range.clone());
            Self::of(&Edit { file, line, before: None, after: Some(after.into()), range })
        };
        edit.lines_after().map(one).collect()
    }

    /// Whether the line can't be given back: the hash in it was replaced, and is
    /// kept nowhere.
    pub fn is_final(&self) -> bool {
        self.secret == Secret::Lost && self.after.is_some()
    }

    /// The first field of a line.
    fn name_on(line: Option<&BString>) -> Option<&[u8]> {
        line.and_then(|line| line.trim_ascii_start().split(|byte| *byte == b':').next())
    }

    /// Whether it had to do with somebody: the line is about them, or a list on it took them
    /// in or left them out.
    pub fn is_about(&self, name: &[u8]) -> bool {
        let sides = [self.before.as_ref(), self.after.as_ref()];
        if sides.iter().any(|line| RecordedEdit::name_on(*line) == Some(name)) {
            return true;
        }
        let listed = |line: Option<&BString>| {
            line.is_some_and(|line| {
                line.split(|byte| matches!(byte, b':' | b',')).any(|word| word == name)
            })
        };
        let [before, after] = sides.map(listed);
        before != after
    }

    /// What the account or group of the line was called before, where it was called otherwise.
    fn renamed(&self) -> Option<(&[u8], &[u8])> {
        let before = RecordedEdit::name_on(self.before.as_ref())?;
        let after = RecordedEdit::name_on(self.after.as_ref())?;
        (before != after && matches!(self.file, File::Passwd | File::Group))
            .then_some((before, after))
    }

    /// Whether the line speaks of `name`, in any of its fields and lists.
    pub fn mentions(&self, name: &[u8]) -> bool {
        let words = |line: &BString| {
            let mut words = line.split(|byte| matches!(byte, b':' | b','));
            words.any(|word| word == name)
        };
        self.before.as_ref().is_some_and(words) || self.after.as_ref().is_some_and(words)
    }
}

impl Told {
    /// Whether a hash was moved from a line of a file that everybody reads to one that
    /// only root does: then it is not lost.
    pub fn moves_hash(&self, from: File, name: &[u8]) -> bool {
        let to = match from {
            File::Passwd => File::Shadow,
            File::Group => File::Gshadow,
            _ => return false,
        };
        let new = |edit: &&RecordedEdit| edit.file == to && edit.secret == Secret::New;
        self.edits.iter().filter(new).any(|edit| edit.mentions(name))
    }

    /// Whether a line can't be given back, as the hash in it was replaced.
    pub fn has_lost_hash(&self) -> bool {
        self.edits.iter().filter(|edit| edit.is_final()).any(|edit| {
            let line = edit.before.as_ref().map_or(&b""[..], |line| line.trim_ascii_start());
            let name = line.split(|byte| *byte == b':').next().unwrap_or_default();
            !self.moves_hash(edit.file, name)
        })
    }
}

impl ChangeRecord {
    /// Whether the change had to do with the account or group `name`.
    pub fn is_about(&self, name: &[u8]) -> bool {
        self.told.subjects.iter().any(|subject| subject.name == name)
            || self.told.edits.iter().any(|edit| edit.is_about(name))
    }
}

/// The changes that had to do with an account or a group, newest first, also those from before
/// it was called so.
pub fn about<'r>(records: &'r [ChangeRecord], name: &[u8]) -> Vec<&'r ChangeRecord> {
    let mut names: Vec<&[u8]> = vec![name];
    let mut found: Vec<&ChangeRecord> = Vec::new();
    for record in records.iter().rev() {
        if names.iter().any(|name| record.is_about(name)) {
            found.push(record);
        }
        let renamed = record.told.edits.iter().filter_map(RecordedEdit::renamed);
        let earlier: Vec<&[u8]> =
            renamed.filter(|(_, after)| names.contains(after)).map(|(before, _)| before).collect();
        names.extend(earlier);
    }
    found
}

/// The numbers of changes that are undone now: taken back by a change that is
/// not itself undone.
pub fn undone(records: &[ChangeRecord]) -> BTreeMap<u64, u64> {
    let mut undone = BTreeMap::new();
    let mut newest_first: Vec<&ChangeRecord> = records.iter().collect();
    order::sort_by_key(&mut newest_first, |record| std::cmp::Reverse(record.number));
    for record in newest_first {
        if let Some(number) = record.undoes
            && !undone.contains_key(&record.number)
        {
            undone.insert(number, record.number);
        }
    }
    undone
}

/// What it comes to that a change which is itself an undo is taken back, as records tell;
/// nothing of any other, or where the records of the changes before it are gone.
pub fn comes_to(records: &[ChangeRecord], number: u64) -> Option<String> {
    let of = |number: u64| records.iter().find(|record| record.number == number);
    let (mut record, mut undone) = (of(number)?, false);
    record.undoes?;
    // Each takes back one that was there before it.
    while let Some(earlier) = record.undoes.filter(|earlier| *earlier < record.number) {
        (record, undone) = (of(earlier)?, !undone);
    }
    let summary = &record.told.summary;
    match undone {
        true => Some(format!("{summary}, done again")),
        false => Some(format!("{summary}, taken back again")),
    }
}

/// The newest change that is neither undone nor itself an undo.
pub fn newest_to_undo(records: &[ChangeRecord]) -> Option<u64> {
    let undone = undone(records);
    let candidates = records.iter().filter(|record| record.undoes.is_none());
    candidates.map(|record| record.number).filter(|number| !undone.contains_key(number)).max()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::value::Uid;

    pub(crate) fn record(number: u64, undoes: Option<u64>, told: Told) -> ChangeRecord {
        ChangeRecord {
            version: VERSION,
            number,
            time: "2026-11-24T06:00:00+00:00".into(),
            by: Author { uid: Uid(1000), name: Some("sunniva".into()) },
            arguments: vec![],
            note: None,
            undoes,
            told,
            left: BTreeMap::new(),
            other_hands: vec![],
        }
    }

    fn edit(before: Option<&str>, after: Option<&str>) -> RecordedEdit {
        let line = |line: Option<&str>| line.map(BString::from);
        let (before, after) = (line(before), line(after));
        RecordedEdit::of(&Edit { file: File::Shadow, line: 3, before, after, range: 0..0 })
    }

    #[test]
    fn no_hash_is_recorded_only_what_became_of_it() {
        let (one, other) = ("$6$salt$aaaaaaaaaaaa", "$6$salt$bbbbbbbbbbbb");
        let line = |field: &str| format!("maren:{field}:20781:0::7:::");
        let said = |before: Option<&str>, after: Option<&str>| {
            let edit = edit(before.map(line).as_deref(), after.map(line).as_deref());
            let text = serde_json::to_string(&edit).unwrap();
            assert!(!text.contains("salt"), "{text}");
            edit
        };
        assert_eq!(said(Some(one), Some(other)).secret, Secret::Lost);
        assert_eq!(said(Some(one), None).secret, Secret::Lost);
        assert_eq!(said(None, Some(one)).secret, Secret::New);
        assert_eq!(said(Some("!"), Some("*")).secret, Secret::None);
        let locked = said(Some(one), Some(&format!("!{one}")));
        assert_eq!(locked.secret, Secret::Kept);
        assert_eq!(locked.after.unwrap(), "maren:!(hash):20781:0::7:::");
    }

    #[test]
    fn an_undo_of_an_undo_puts_a_change_back_into_force() {
        let told = Told::default;
        let mut records = vec![record(1, None, told()), record(2, None, told())];
        assert_eq!(newest_to_undo(&records), Some(2));
        records.push(record(3, Some(2), told()));
        assert_eq!(newest_to_undo(&records), Some(1));
        records.push(record(4, Some(3), told()));
        assert_eq!(undone(&records), BTreeMap::from([(3, 4)]));
        assert_eq!(newest_to_undo(&records), Some(2));
        assert_eq!(newest_to_undo(&[]), None);
    }

    #[test]
    fn a_long_run_of_added_lines_is_one_entry() {
        let added = |at: usize| {
            let secret = if at >= 80 { Secret::New } else { Secret::None };
            let line = at + 7 + usize::from(at == 99);
            let after = Some(BString::from(format!("crew{at}\u{e9}:x")));
            RecordedEdit { file: File::Shadow, line, before: None, after, secret }
        };
        let edits: Vec<RecordedEdit> = (0..100).map(added).collect();
        let told = Told { edits, ..Told::default() };
        let text = serde_json::to_string(&told).unwrap();
        assert_eq!((text.matches("\"adds\"").count(), text.matches("\"after\"").count()), (1, 20));
        assert_eq!(serde_json::from_str::<Told>(&text).unwrap(), told);
    }

    #[test]
    fn a_record_is_about_everybody_in_its_lines() {
        let told = Told {
            edits: vec![RecordedEdit {
                file: File::Gshadow,
                ..edit(Some("pilots:!:odalys:tavish:::::"), None)
            }],
            ..Told::default()
        };
        let record = record(1, None, told);
        assert!(record.is_about(b"tavish") && record.is_about(b"pilots"));
        assert!(!record.is_about(b"tavi"));
        let text = serde_json::to_string(&record).unwrap();
        assert_eq!(serde_json::from_str::<ChangeRecord>(&text).unwrap(), record);
    }
}
