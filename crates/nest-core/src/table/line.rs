//! One line of a file.

use std::ops::Range;

use bstr::ByteSlice;
use memchr::memchr;

use super::File;
use crate::table::Column;

/// One line, without its newline.
#[derive(Debug, Clone, Copy)]
pub struct Line<'a> {
    /// The bytes, newline left out.
    pub bytes: &'a [u8],
    /// Where they begin in the file.
    pub start: usize,
}

impl<'a> Line<'a> {
    /// The bytes of the line in the file, newline left out.
    pub fn range(&self) -> Range<usize> {
        self.start..self.start + self.bytes.len()
    }

    /// The line as a record: the C library passes over leading white space.
    pub fn record(&self) -> &'a [u8] {
        match self.bytes.first() {
            Some(byte) if byte.is_ascii_whitespace() => self.bytes.trim_ascii_start(),
            _ => self.bytes,
        }
    }

    /// Whether the line is meant as a record: not blank, no comment, no compat
    /// line. It may still be malformed.
    pub fn is_record(&self) -> bool {
        !matches!(self.record().first(), None | Some(b'#' | b'+' | b'-'))
    }

    /// Whether the line has as many fields as the lines of its file have.
    pub fn is_whole(&self, file: File) -> bool {
        memchr::memchr_iter(b':', self.record()).count() + 1 == file.fields()
    }

    /// Whether the line is a compat line, which stands for entries of a
    /// directory (`+` takes them in, `-` leaves them out).
    pub fn is_compat(&self) -> bool {
        matches!(self.record().first(), Some(b'+' | b'-'))
    }

    /// The first field, for a record.
    pub fn name(&self) -> &'a [u8] {
        let record = self.record();
        &record[..memchr(b':', record).unwrap_or(record.len())]
    }
}

/// The name on a line of its own.
pub(crate) fn name_on(line: &[u8]) -> &[u8] {
    Line { bytes: line, start: 0 }.name()
}

/// A line with some fields replaced; white space before the record stays.
pub(crate) fn with_fields<C: Into<Column> + Copy>(line: &[u8], fields: &[(C, &[u8])]) -> Vec<u8> {
    let mut parts: Vec<&[u8]> = line.split_str(":").collect();
    let indent = line.len() - line.trim_ascii_start().len();
    let mut first = line[..indent].to_vec();
    for &(column, value) in fields {
        let column: Column = column.into();
        let Some(part) = parts.get_mut(column.index()) else { continue };
        if column == Column::NAME {
            first.extend_from_slice(value);
        } else {
            *part = value;
        }
    }
    if first.len() > indent
        && let Some(part) = parts.first_mut()
    {
        *part = &first;
    }
    parts.join(&b':')
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::PasswdField;

    #[test]
    fn fields_are_replaced_and_all_else_stays() {
        let line = b" maren:x:1004:1004:M\xf8,,:/home/maren:/bin/sh\r";
        assert_eq!(
            with_fields(line, &[(PasswdField::Name, b"marlo"), (PasswdField::Uid, b"7")]),
            b" marlo:x:7:1004:M\xf8,,:/home/maren:/bin/sh\r"
        );
        assert_eq!(with_fields(b"a:b", &[(PasswdField::Home, b"x")]), b"a:b");
    }
}
