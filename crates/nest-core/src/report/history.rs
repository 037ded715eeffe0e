//! How many users there were after each change, from what there are now backwards by the records.

use crate::record::ChangeRecord;
use crate::table::File;
use crate::value::Day;

/// What there was after a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moment {
    /// The change; 0 for what there was before the first that is told of.
    pub change: u64,
    /// The day on which it was made.
    pub day: Day,
    /// How many users there were after it.
    pub users: usize,
    /// Whether other hands were at the files between the change before and this one: what they
    /// did is taken for having been there always.
    pub other_hands: bool,
}

/// What there was after each change, the earliest first: as far back as the records go without a
/// gap. A day that a record does not tell is that of the change after it.
pub fn history(records: &[ChangeRecord], users: usize, today: Day) -> Vec<Moment> {
    let mut moments = Vec::new();
    let mut users = users as i64;
    let mut last: Option<(u64, Day)> = None;
    for record in records.iter().rev() {
        if last.is_some_and(|(number, _)| record.number + 1 != number) {
            break;
        }
        let day = record.day().unwrap_or_else(|| last.map_or(today, |(_, day)| day));
        moments.push(Moment {
            change: record.number,
            day,
            users: usize::try_from(users).unwrap_or(0),
            other_hands: !record.other_hands.is_empty(),
        });
        for edit in record.told.edits.iter().filter(|edit| edit.file == File::Passwd) {
            users -= i64::from(edit.after.is_some()) - i64::from(edit.before.is_some());
        }
        last = Some((record.number, day));
    }
    if let Some((_, day)) = last {
        let users = usize::try_from(users).unwrap_or(0);
        moments.push(Moment { change: 0, day, users, other_hands: false });
    }
    moments.reverse();
    moments
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::{RecordedEdit, Secret, Told};

    fn record(number: u64, day: &str, lines: &[(Option<&str>, Option<&str>)]) -> ChangeRecord {
        let edit = |(before, after): &(Option<&str>, Option<&str>)| RecordedEdit {
            file: File::Passwd,
            line: 1,
            before: before.map(Into::into),
            after: after.map(Into::into),
            secret: Secret::None,
        };
        let edits = lines.iter().map(edit).collect();
        ChangeRecord {
            version: 1,
            number,
            time: format!("{day}T08:00:00Z"),
            by: crate::value::Author { uid: crate::value::Uid(0), name: None },
            arguments: Vec::new(),
            note: None,
            undoes: None,
            told: Told { edits, ..Told::default() },
            left: std::collections::BTreeMap::new(),
            other_hands: Vec::new(),
        }
    }

    #[test]
    fn users_are_counted_backwards_until_a_record_is_gone() {
        let (ann, ben) = ("ann:x:1:1:::", "ben:x:2:2:::");
        let records = [
            record(1, "2026-10-01", &[(None, Some(ann))]),
            record(3, "2026-11-02", &[(None, Some(ann)), (None, Some(ben))]),
            record(4, "2026-11-03", &[(Some(ann), Some("anna:x:1:1:::"))]),
            record(5, "nonsense  ", &[(Some(ben), None)]),
        ];
        let found = history(&records, 7, Day(20_781));
        let told: Vec<_> =
            found.iter().map(|one| (one.change, one.day.to_string(), one.users)).collect();
        let at = |change, day: &str, users| (change, day.to_owned(), users);
        assert_eq!(
            told,
            [
                at(0, "2026-11-02", 6),
                at(3, "2026-11-02", 8),
                at(4, "2026-11-03", 8),
                at(5, "2026-11-24", 7),
            ]
        );
        assert!(history(&[], 7, Day(20_781)).is_empty());
    }
}
