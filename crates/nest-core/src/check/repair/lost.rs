//! Lines that a file may have lost: what follows from their being missing is no fault of the
//! other files, and is not mended.

use bstr::ByteSlice;
use hashbrown::{HashMap, HashSet};

use crate::book::Book;
use crate::table::{File, Line, Lines};

/// So many lines may be missing without anybody's taking the file for a damaged one.
const FEW: usize = 2;

/// What may be missing from the files of one tree.
#[derive(Debug, Default)]
pub(in crate::check) struct LostLines {
    /// Files that are empty, torn, or much shorter than the one that goes with them.
    files: HashSet<File>,
    /// The names that lines seem to have which nobody can read, or which are commented out.
    names: HashMap<File, HashSet<Vec<u8>>>,
}

impl LostLines {
    pub fn of(book: &Book) -> Self {
        let mut lost = LostLines::default();
        let mut whole: HashMap<File, usize> = HashMap::new();
        for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
            let Some(lines) = book.lines(file) else { continue };
            let (count, names) = read(lines);
            if count == 0 || ends_in_the_middle(lines) {
                lost.files.insert(file);
            }
            whole.insert(file, count);
            lost.names.insert(file, names);
        }
        // A group needs no line in gshadow: many are made without.
        for (file, other) in [
            (File::Passwd, File::Shadow),
            (File::Shadow, File::Passwd),
            (File::Group, File::Gshadow),
        ] {
            let count = |file| whole.get(&file).copied();
            let (Some(has), Some(should)) = (count(file), count(other)) else { continue };
            if should.saturating_sub(has) > FEW.max(should / 10) {
                lost.files.insert(file);
            }
        }
        lost
    }

    /// Whether the line of a name may have been in a file until something happened to it.
    pub fn may_have_had(&self, file: File, name: &[u8]) -> bool {
        self.files.contains(&file)
            || self.names.get(&file).is_some_and(|names| names.contains(name))
    }
}

/// How many lines can be read, and the names that the others seem to have.
fn read(lines: &Lines) -> (usize, HashSet<Vec<u8>>) {
    let (mut count, mut names) = (0, HashSet::new());
    for line in lines.iter() {
        let text = line.bytes.trim_start_with(|c| {
            c.is_whitespace() || matches!(c, '#' | '"' | '\'' | '\u{feff}' | '+' | '-')
        });
        if line.is_record() && is_whole(line, lines.file()) {
            count += 1;
            // One with something before its name that nobody sees.
            if text.len() == line.bytes.len() {
                continue;
            }
        }
        // Two lines may have become one: any word may be a name.
        let words = text
            .split(|byte| byte.is_ascii_whitespace() || matches!(byte, b':' | b';' | b',' | b'|'));
        names.extend(words.filter(|word| !word.is_empty()).map(<[u8]>::to_vec));
    }
    (count, names)
}

fn is_whole(line: Line<'_>, file: File) -> bool {
    Line { bytes: line.bytes, start: 0 }.is_whole(file)
}

/// Whether the last line has no end, and is cut off.
fn ends_in_the_middle(lines: &Lines) -> bool {
    let last = lines.iter().last();
    last.is_some_and(|last| {
        let has_end = last.start + last.bytes.len() < lines.text().len();
        !has_end && last.is_record() && !is_whole(last, lines.file())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;

    fn lost(passwd: &str, shadow: &str) -> LostLines {
        LostLines::of(&book(&[(File::Passwd, passwd), (File::Shadow, shadow)]))
    }

    #[test]
    fn a_file_that_is_empty_torn_or_too_short_has_lost_lines() {
        let line = |name: &str| format!("{name}:x:1:1::/:/bin/sh\n");
        let hidden = |name: &str| format!("{name}:!:1::::::\n");
        let names: Vec<String> = (0..40).map(|at| format!("crew{at}")).collect();
        let passwd: String = names.iter().map(|name| line(name)).collect();
        let shadow: String = names.iter().map(|name| hidden(name)).collect();
        assert!(!lost(&passwd, &shadow).files.contains(&File::Passwd));
        assert!(lost("", &shadow).files.contains(&File::Passwd));
        assert!(!lost("", &shadow).files.contains(&File::Shadow));
        assert!(lost(&passwd[..passwd.len() - 9], &shadow).files.contains(&File::Passwd));
        // Without its end alone nothing is lost.
        assert!(!lost(&passwd[..passwd.len() - 1], &shadow).files.contains(&File::Passwd));
        let fewer = |count: usize| names[count..].iter().map(|name| line(name)).collect::<String>();
        assert!(!lost(&fewer(4), &shadow).files.contains(&File::Passwd));
        assert!(lost(&fewer(5), &shadow).files.contains(&File::Passwd));
        assert!(lost(&passwd, &hidden("crew1")).files.contains(&File::Shadow));
    }

    #[test]
    fn a_line_that_nobody_can_read_may_be_the_missing_one() {
        let shadow = "maren:!:1::::::\ntavish:!:1::::::\n";
        for passwd in [
            "maren:x:1:1::/:/bin/sh\n#tavish:x:2:2::/:/bin/sh\n",
            "maren:x:1:1::/:/bin/sh\n\u{feff}tavish:x:2:2::/:/bin/sh:\n",
            "maren:x:1:1::/:/bin/sh\nodile:x:3:3::/:/bin/shtavish:x:2:2::/:/bin/sh\n tavish;x;2\n",
        ] {
            let lost = lost(passwd, shadow);
            assert!(lost.may_have_had(File::Passwd, b"tavish"), "{passwd}");
            assert!(!lost.may_have_had(File::Passwd, b"odalys"), "{passwd}");
        }
    }
}
