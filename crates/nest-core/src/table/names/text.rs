//! What is written at the beginning of a text, compared many bytes at a time.

use wide::u8x16;

use crate::table::Line;

/// The name that a line is about; a line without a colon names nobody.
#[inline]
pub(crate) fn name_of(line: &[u8]) -> Option<&[u8]> {
    let line = Line { bytes: line, start: 0 };
    let name = line.name();
    (line.is_record() && name.len() < line.record().len()).then_some(name)
}

/// Whether the line at the beginning of a text, which names somebody, names `name`.
#[inline]
pub(super) fn is_named(text: &[u8], name: &[u8]) -> bool {
    match text.first() {
        Some(first) if first.is_ascii_whitespace() => name_at(text) == Some(name),
        _ => text.len() > name.len() && text[name.len()] == b':' && text.starts_with(name),
    }
}

/// The name of the line at the beginning of a text.
fn name_at(text: &[u8]) -> Option<&[u8]> {
    name_of(&text[..memchr::memchr(b'\n', text).unwrap_or(text.len())])
}

/// Whether the lines at the beginning of two texts, which both name somebody, name the
/// same.
#[inline(always)]
pub(super) fn same_name(one: &[u8], other: &[u8]) -> bool {
    let mut at = 0;
    while let (Some(ours), Some(theirs)) = (block(one, at), block(other, at)) {
        let unlike = !ours.simd_eq(theirs).to_bitmask() & 0xffff;
        let colons = ours.simd_eq(u8x16::splat(b':')).to_bitmask();
        // Alike up to the first colon, and with it.
        if colons != 0 && unlike.trailing_zeros() > colons.trailing_zeros() {
            return true;
        }
        if unlike != 0 {
            // White space before a name is no part of it, and may differ.
            let indented = |text: &[u8]| text.first().is_some_and(u8::is_ascii_whitespace);
            return (indented(one) || indented(other)) && name_at(one) == name_at(other);
        }
        at += 16;
    }
    name_at(one) == name_at(other)
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
