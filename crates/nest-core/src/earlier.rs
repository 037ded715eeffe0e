//! The account files as they were after an earlier change: from what they are now, backwards by
//! the records. Hashes are not among what they hold.

use std::sync::Arc;

use bstr::{BString, ByteSlice};

use crate::book::{Book, Texts};
use crate::order;
use crate::record::{ChangeRecord, RecordedEdit};
use crate::secret::shown;
use crate::table::File;

/// The account files of an earlier time.
#[derive(Debug)]
pub struct Earlier {
    /// What they held.
    pub book: Book,
    /// Where other hands were at the files since, in words: what they did is taken for having
    /// been there always.
    pub other_hands: Vec<String>,
}

/// Why an earlier state can't be told.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoEarlier {
    /// The change is none that was made.
    #[error("there is no change {0}: the newest is {1}")]
    NotMade(u64, u64),
    /// A record that is needed is gone.
    #[error(
        "how the files were after change {0} can't be told: the record of change {1} is gone, and \
         it would have to be taken back first"
    )]
    RecordGone(u64, u64),
}

/// The files as they were after the change of this number; 0 is before the first.
///
/// # Errors
/// Why that can't be told.
pub fn after_change(
    book: &Book,
    records: &[ChangeRecord],
    number: u64,
) -> Result<Earlier, NoEarlier> {
    let newest = records.iter().map(|record| record.number).max().unwrap_or(0);
    if number > newest {
        return Err(NoEarlier::NotMade(number, newest));
    }
    let mut files: Vec<(File, Option<Vec<BString>>)> =
        File::ALL.into_iter().map(|file| (file, lines_of(book, file))).collect();
    let mut other_hands = Vec::new();
    for wanted in (number + 1..=newest).rev() {
        let Some(record) = records.iter().find(|record| record.number == wanted) else {
            return Err(NoEarlier::RecordGone(number, wanted));
        };
        for (file, lines) in &mut files {
            let edits = record.told.edits.iter().filter(|edit| edit.file == *file);
            let edits: Vec<&RecordedEdit> = edits.collect();
            if let (false, Some(lines)) = (edits.is_empty(), lines) {
                take_back(lines, &edits);
            }
        }
        other_hands.extend(record.other_hands.iter().map(ToString::to_string));
    }
    let mut texts = Texts::default();
    for (file, lines) in files {
        if let Some(lines) = lines {
            let mut text = lines.join(&b"\n"[..]);
            text.extend_from_slice(if text.is_empty() { b"" } else { b"\n" });
            texts.set(file, Arc::new(text));
        }
    }
    other_hands.reverse();
    Ok(Earlier { book: Book::new(texts), other_hands })
}

/// The lines of a file, without hashes; nothing where there is none.
fn lines_of(book: &Book, file: File) -> Option<Vec<BString>> {
    let lines = book.lines(file)?;
    Some(lines.iter().map(|line| shown(file, line.bytes)).collect())
}

/// Takes the edits of one change to one file back.
fn take_back(lines: &mut Vec<BString>, edits: &[&RecordedEdit]) {
    for edit in edits {
        let Some(after) = &edit.after else { continue };
        // Where other hands altered the line it is the one with that name.
        let is_named = |line: &BString| name_of(line) == name_of(after);
        let near = edit.line.saturating_sub(1);
        let at = match lines.get(near) == Some(after) {
            true => Some(near),
            false => lines
                .iter()
                .position(|line| line == after)
                .or_else(|| lines.iter().position(is_named)),
        };
        match (at, &edit.before) {
            (Some(at), Some(before)) => lines[at] = before.clone(),
            (Some(at), None) => _ = lines.remove(at),
            (None, Some(before)) => lines.push(before.clone()),
            (None, None) => {}
        }
    }
    // Lines that went are numbered as they stood then: from the first on each finds its place.
    let mut gone: Vec<(usize, &BString)> = edits
        .iter()
        .filter(|edit| edit.after.is_none())
        .filter_map(|edit| Some((edit.line, edit.before.as_ref()?)))
        .collect();
    order::sort_by_key(&mut gone, |(line, _)| *line);
    for (line, before) in gone {
        let at = line.saturating_sub(1).min(lines.len());
        lines.insert(at, before.clone());
    }
}

fn name_of(line: &[u8]) -> &[u8] {
    line.split_str(":").next().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::Told;
    use crate::record::tests::record;
    use crate::table::Edit;

    fn edit(line: usize, before: Option<&str>, after: Option<&str>) -> RecordedEdit {
        let of = |line: Option<&str>| line.map(BString::from);
        let (before, after) = (of(before), of(after));
        RecordedEdit::of(&Edit { file: File::Passwd, line, before, after, range: 0..0 })
    }

    fn book(text: &str) -> Book {
        crate::test_support::book(&[(File::Passwd, text)])
    }

    fn passwd(book: &Book) -> String {
        book.users.lines().iter().map(|line| format!("{}\n", line.bytes.as_bstr())).collect()
    }

    const MAREN: &str = "maren:x:1004:1004::/home/maren:/bin/sh";

    #[test]
    fn each_change_is_taken_back_from_the_newest_on() {
        let told = |edits| Told { edits, ..Told::default() };
        let renamed = MAREN.replace("maren", "mara");
        let records = [
            record(1, None, told(vec![edit(2, None, Some(MAREN))])),
            record(2, None, told(vec![edit(2, Some(MAREN), Some(&renamed))])),
            record(3, None, told(vec![edit(1, Some("root:x:0:0::/:/bin/sh"), None)])),
        ];
        let now = book(&format!("{renamed}\nodd:x:7:7::/:/bin/sh\n"));
        let then = |number| passwd(&after_change(&now, &records, number).unwrap().book);
        let root = "root:x:0:0::/:/bin/sh\n";
        let odd = "odd:x:7:7::/:/bin/sh\n";
        assert_eq!(then(3), format!("{renamed}\n{odd}"));
        assert_eq!(then(2), format!("{root}{renamed}\n{odd}"));
        assert_eq!(then(1), format!("{root}{MAREN}\n{odd}"));
        assert_eq!(then(0), format!("{root}{odd}"));
        assert_eq!(after_change(&now, &records, 4).unwrap_err(), NoEarlier::NotMade(4, 3));
        let gap = &records[1..];
        assert!(after_change(&now, gap, 1).is_ok());
        assert_eq!(after_change(&now, gap, 0).unwrap_err(), NoEarlier::RecordGone(0, 1));
    }

    #[test]
    fn a_line_that_other_hands_altered_is_known_by_its_name() {
        let told = Told { edits: vec![edit(1, None, Some(MAREN))], ..Told::default() };
        let now = book(&format!("{}\n", MAREN.replace("/bin/sh", "/bin/zsh")));
        let then = after_change(&now, &[record(1, None, told)], 0).unwrap();
        assert_eq!(passwd(&then.book), "");
    }
}
