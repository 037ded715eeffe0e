//! What is written at the beginning of a text, compared many bytes at a time.

use wide::u8x16;

use crate::table::{Line, each_line};

/// The name that a line is about; a line without a colon names nobody.
#[inline]
pub(crate) fn name_of(line: &[u8]) -> Option<&[u8]> {
    let line = Line { bytes: line, start: 0 };
    let name = line.name();
    (line.is_record() && name.len() < line.record().len()).then_some(name)
}

/// Tells the name of each line of a text that names somebody, and where the line begins.
#[inline(always)]
pub(super) fn each_name<'t>(text: &'t [u8], mut tell: impl FnMut(&'t [u8], usize)) {
    each_line(text, |row| {
        if let Some(name) = name_of(row.line) {
            tell(name, row.start);
        }
    });
}

/// Whether a line that names somebody names `name`.
#[inline]
pub(super) fn is_named(line: &[u8], name: &[u8]) -> bool {
    match line.first() {
        Some(first) if first.is_ascii_whitespace() => name_of(line) == Some(name),
        _ => line.len() > name.len() && line[name.len()] == b':' && line.starts_with(name),
    }
}

/// Whether the lines of a group and of its gshadow at the beginning of two texts write
/// their members alike.
pub(crate) fn same_list(group: &[u8], gshadow: &[u8]) -> bool {
    let (ours, theirs) = (after_third_colon(group), after_third_colon(gshadow));
    let mut at = 0;
    while let (Some(ours), Some(theirs)) = (block(ours, at), block(theirs, at)) {
        let unlike = !ours.simd_eq(theirs).to_bitmask() & 0xffff;
        let ends = ours.simd_eq(u8x16::splat(b'\n')).to_bitmask();
        if unlike != 0 || ends != 0 {
            return ends != 0 && unlike.trailing_zeros() > ends.trailing_zeros();
        }
        at += 16;
    }
    let list = |text: &[u8]| -> Vec<u8> {
        let rest = &text[at.min(text.len())..];
        rest[..memchr::memchr(b'\n', rest).unwrap_or(rest.len())].to_vec()
    };
    list(ours) == list(theirs)
}

#[inline(always)]
pub(crate) fn block(text: &[u8], at: usize) -> Option<u8x16> {
    Some(u8x16::new(text.get(at..at + 16)?.try_into().ok()?))
}

/// The rest of a text after its third colon.
#[inline]
fn after_third_colon(text: &[u8]) -> &[u8] {
    let (mut at, mut missing) = (0, 3);
    while let Some(block) = block(text, at) {
        let mut colons = block.simd_eq(u8x16::splat(b':')).to_bitmask();
        let count = colons.count_ones();
        if count >= missing {
            for _ in 1..missing {
                colons &= colons - 1;
            }
            return &text[at + colons.trailing_zeros() as usize + 1..];
        }
        missing -= count;
        at += 16;
    }
    let rest = &text[at..];
    let colon = memchr::memchr_iter(b':', rest).nth(missing as usize - 1);
    colon.map_or(b"", |colon| &rest[colon + 1..])
}
