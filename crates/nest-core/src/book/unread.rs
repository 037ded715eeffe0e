//! Lines that are meant as records and can't be read as such.

use crate::book::Book;
use crate::table::{File, Record, SubId, each_row};

impl Book {
    /// The numbers of the lines of a file that can't be read as records, and that whoever goes
    /// through these passes over.
    pub fn unread_lines(&self, file: File) -> Vec<usize> {
        let Some(lines) = self.lines(file) else { return Vec::new() };
        let found = lines.sweep(Vec::new, |found: &mut Vec<usize>, from, text| {
            each_row(text, |row| {
                let unread = match file {
                    File::Subuid | File::Subgid => {
                        SubId::read(row.line).and_then(|range| range.span()).is_none()
                    }
                    _ => row.count() != file.fields(),
                };
                if unread {
                    found.push(from + row.start);
                }
            });
        });
        found.into_iter().flatten().map(|start| lines.number(start)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;

    #[test]
    fn what_is_no_record_is_told_from_what_is_none_to_be() {
        let book = book(&[
            (File::Passwd, "# crew\n\nmaren:x:1004:1004:::\n+\nmaren\n  odile:x:7:7:::\nx:y:\n"),
            (File::Subuid, "maren:1000:10\nmaren:1000\nodile:x:10\nodile:5:0\n"),
        ]);
        assert_eq!(book.unread_lines(File::Passwd), [5, 7]);
        assert_eq!(book.unread_lines(File::Subuid), [2, 3, 4]);
        assert_eq!(book.unread_lines(File::Group), [0; 0]);
    }
}
