//! Splitting a line at its colons.

use wide::{u8x16, u8x64};

/// How many bytes are looked at together. Lines are short: a search for one
/// colon after the other would start anew too often.
const BLOCK: usize = 16;

/// How many bytes of a text are gone through in one go: a bit of a word each.
const STRIDE: usize = 64;

/// Calls `tell` with the place of each such byte until it says to stop.
#[inline(always)]
pub fn each_byte(byte: u8, line: &[u8], mut tell: impl FnMut(usize) -> bool) {
    let wanted = u8x16::splat(byte);
    let mut base = 0;
    while base < line.len() {
        let block: [u8; BLOCK] = match line.get(base..base + BLOCK) {
            // The length is right, so this is only a copy.
            Some(block) => block.try_into().unwrap_or_default(),
            None => {
                let rest = &line[base..];
                let mut block = [0; BLOCK];
                block[..rest.len()].copy_from_slice(rest);
                block
            }
        };
        let mut mask = u8x16::new(block).simd_eq(wanted).to_bitmask();
        while mask != 0 {
            if !tell(base + mask.trailing_zeros() as usize) {
                return;
            }
            mask &= mask - 1;
        }
        base += BLOCK;
    }
}

/// Splits a line into exactly `N` fields; `None` when it has more or fewer.
#[inline]
pub(super) fn split<const N: usize>(line: &[u8]) -> Option<[&[u8]; N]> {
    let mut fields = [&b""[..]; N];
    let (mut start, mut at) = (0, 0);
    each_byte(b':', line, |colon| {
        if at < N - 1 {
            fields[at] = &line[start..colon];
            start = colon + 1;
        }
        at += 1;
        at < N
    });
    fields[N - 1] = &line[start..];
    (at == N - 1).then_some(fields)
}

/// The most colons that a row tells the places of; no file has more.
const MOST_COLONS: usize = 8;

/// A line and where its first colons are.
#[derive(Debug)]
pub struct SplitLine<'a> {
    /// The line, without newline.
    pub line: &'a [u8],
    /// Where it begins in the text.
    pub start: usize,
    colons: [u32; MOST_COLONS + 1],
    count: usize,
}

impl<'a> SplitLine<'a> {
    /// How many fields there are; nine for nine or more.
    pub fn count(&self) -> usize {
        self.count + 1
    }

    /// The line from the colon on that ends the field at `at`; nothing if none does.
    #[inline]
    pub fn after(&self, at: usize) -> &'a [u8] {
        match at < self.count {
            true => &self.line[self.colons[at] as usize..],
            false => b"",
        }
    }

    /// The field at `at`, counted from 0, if there are as many and fewer than
    /// nine before it.
    #[inline]
    pub fn field(&self, at: usize) -> Option<&'a [u8]> {
        if at > self.count {
            return None;
        }
        let start = if at == 0 { 0 } else { self.colons[at - 1] as usize + 1 };
        let end = if at < self.count { self.colons[at] as usize } else { self.line.len() };
        Some(&self.line[start..end])
    }
}

/// Goes through lines of a text and their colons in one sweep, which is several
/// times as fast as looking for the ends of lines and then for colons. Only
/// records are told, without the white space before them.
pub fn each_row<'a>(text: &'a [u8], mut tell: impl FnMut(&SplitLine<'a>)) {
    each_line(text, |row| {
        let line = row.line;
        match line.first() {
            None | Some(b'#' | b'+' | b'-') => return,
            Some(first) if first.is_ascii_whitespace() => {}
            _ => return tell(row),
        }
        // Rare enough to be done again, for the line without its white space.
        let line = line.trim_ascii_start();
        if !matches!(line.first(), None | Some(b'#' | b'+' | b'-')) {
            let start = row.start + row.line.len() - line.len();
            let (mut colons, mut count) = ([0; MOST_COLONS + 1], 0);
            each_byte(b':', line, |at| {
                colons[count] = at as u32;
                count += 1;
                count < MOST_COLONS
            });
            tell(&SplitLine { line, start, colons, count });
        }
    });
}

/// The same for every line, records or not, as it is. Returns whether a NUL byte is
/// among them.
#[inline(always)]
pub fn each_line<'a>(text: &'a [u8], mut tell: impl FnMut(&SplitLine<'a>)) -> bool {
    let (colon, newline) = (u8x64::splat(b':'), u8x64::splat(b'\n'));
    // One row for all, as to copy what was just written would wait for the writing.
    let mut row = SplitLine { line: b"", start: 0, colons: [0; MOST_COLONS + 1], count: 0 };
    let mut base = 0;
    let mut lowest = u8x64::splat(u8::MAX);
    // A newline is thought after a last line that has none.
    let end = text.len() + usize::from(text.last().is_some_and(|last| *last != b'\n'));
    while base < end {
        let rest = &text[base.min(text.len())..];
        // The newline that is thought after the last line.
        let mut thought = 0;
        let bytes: [u8; STRIDE] = match rest.first_chunk() {
            Some(bytes) => *bytes,
            None => {
                let mut padded = [b' '; STRIDE];
                padded[..rest.len()].copy_from_slice(rest);
                if end > text.len() {
                    thought = 1 << rest.len();
                }
                padded
            }
        };
        let bytes = u8x64::new(bytes);
        lowest = lowest.min(bytes);
        let newlines = bytes.simd_eq(newline).to_bitmask() | thought;
        let mut both = bytes.simd_eq(colon).to_bitmask() | newlines;
        while both != 0 {
            let bit = both.trailing_zeros();
            let at = base + bit as usize;
            both &= both - 1;
            if newlines >> bit & 1 == 1 {
                row.line = &text[row.start..at];
                row.count = row.count.min(MOST_COLONS);
                tell(&row);
                row.start = at + 1;
                row.count = 0;
            } else {
                // One place more than is looked at, for all that are too many.
                row.colons[row.count.min(MOST_COLONS)] = (at - row.start) as u32;
                row.count += 1;
            }
        }
        base += STRIDE;
    }
    lowest.simd_eq(u8x64::splat(0)).to_bitmask() != 0
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn splitting_is_what_it_says(line in "[:a-z]{0,60}") {
            let plain: Vec<&[u8]> = line.as_bytes().split(|&byte| byte == b':').collect();
            let split = split::<4>(line.as_bytes()).map(|fields| fields.to_vec());
            prop_assert_eq!(split, (plain.len() == 4).then(|| plain.clone()));
        }

        /// Where a row begins, and every line of the text.
        #[test]
        fn rows_stand_where_they_say(text in "[:a#+ \\n]{0,80}") {
            let mut lines = Vec::new();
            each_line(text.as_bytes(), |row| {
                assert_eq!(row.line, &text.as_bytes()[row.start..row.start + row.line.len()]);
                lines.push(row.line);
            });
            let all = text.strip_suffix('\n').unwrap_or(&text).split('\n').map(str::as_bytes);
            let all: Vec<&[u8]> = if text.is_empty() { Vec::new() } else { all.collect() };
            prop_assert_eq!(lines, all);
            each_row(text.as_bytes(), |row| {
                assert!(text.as_bytes()[row.start..].starts_with(row.line));
                assert!(!row.line[0].is_ascii_whitespace());
            });
        }

        /// Wherever it stands, and whatever the lines before it.
        #[test]
        fn nul_bytes_are_noticed(text in "[:a\\n]{0,150}", at in 0usize..150) {
            let mut text = text.into_bytes();
            let holds = |text: &[u8]| each_line(text, |_| ());
            prop_assert!(!holds(&text));
            if at < text.len() {
                text[at] = 0;
                prop_assert!(holds(&text));
            }
        }

        #[test]
        fn rows_are_the_records_of_the_lines(text in "[:a#+ \\n]{0,80}") {
            let mut rows = Vec::new();
            each_row(text.as_bytes(), |row| {
                let fields: Vec<&[u8]> = (0..row.count()).filter_map(|at| row.field(at)).collect();
                rows.push(fields);
            });
            let lines = text.split('\n').map(|line| line.trim_ascii_start().as_bytes());
            let records = lines.filter(|line| !matches!(line.first(), None | Some(b'#' | b'+')));
            let plain: Vec<Vec<&[u8]>> = records
                .map(|line| {
                    let mut fields: Vec<&[u8]> = line.splitn(9, |&byte| byte == b':').collect();
                    if let Some(last) = fields.get_mut(8) {
                        *last = &line[line.len() - last.len()..];
                    }
                    fields
                })
                .collect();
            prop_assert_eq!(rows, plain);
        }
    }
}
