//! User and group ids, as the C library reads them.

use derive_more::{Display, Into};
use serde::{Deserialize, Serialize};

use super::IdSpan;

/// The number of a user.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Display, Into, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Uid(pub u32);

/// The number of a group.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Display, Into, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Gid(pub u32);

impl Uid {
    /// Root's, who may do everything.
    pub const ROOT: Uid = Uid(0);
}

impl Gid {
    /// That of root's group.
    pub const ROOT: Gid = Gid(0);
}

/// Reads an id the way the C library's account-file readers do: leading white
/// space, an optional sign and decimal digits, with nothing after them.
///
/// `00`, `+0`, ` 0` and `-0` are all 0. `None` where the C library passes the
/// whole line over: for what is no number, negative, or above 4294967295.
///
/// ```
/// use nest_core::value::read_id;
/// assert_eq!(read_id(b"1004"), Some(1004));
/// assert_eq!(read_id(b" +00"), Some(0));
/// assert_eq!(read_id(b"-1"), None);
/// assert_eq!(read_id(b"10x"), None);
/// ```
#[inline]
pub fn read_id(text: &[u8]) -> Option<u32> {
    read_plain_id(text).or_else(|| read_odd_id(text))
}

#[cold]
fn read_odd_id(text: &[u8]) -> Option<u32> {
    let rest = text.trim_ascii_start();
    let (negative, digits) = match rest.split_first()? {
        (b'-', digits) => (true, digits),
        (b'+', digits) => (false, digits),
        _ => (false, rest),
    };
    if digits.is_empty() || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let value = digits
        .iter()
        .try_fold(0u64, |sum, digit| sum.checked_mul(10)?.checked_add(u64::from(digit - b'0')))?;
    // The sign is applied to 64 bits, so that -1 is far too large.
    u32::try_from(if negative { value.wrapping_neg() } else { value }).ok()
}

/// Reads an id that is written plainly: decimal digits without sign, spaces or
/// leading zeros, at most 4294967295. `None` for every other spelling.
#[inline]
pub fn read_plain_id(text: &[u8]) -> Option<u32> {
    let (digits, rest) = text.split_at_checked(8).unwrap_or((text, b""));
    if text.is_empty() || rest.len() > 2 || (text[0] == b'0' && text.len() > 1) {
        return None;
    }
    let mut value = eight_digits(digits)?;
    for &byte in rest {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        value = value.wrapping_mul(10).wrapping_add(u64::from(digit));
    }
    u32::try_from(value).ok()
}

/// The number that up to eight digits write, all of them at once: byte by byte takes
/// three times as long, and large files are full of numbers.
#[inline]
fn eight_digits(text: &[u8]) -> Option<u64> {
    const ZEROS: u64 = u64::from_le_bytes([b'0'; 8]);
    let bytes = match (text.first_chunk::<4>(), text.last_chunk::<4>()) {
        (Some(first), Some(last)) => {
            // Four and four: those in the middle are the same in both.
            let last = u64::from(u32::from_le_bytes(*last)) << (8 * (text.len() - 4));
            u64::from(u32::from_le_bytes(*first)) | last
        }
        _ => text.iter().rev().fold(0, |bytes, byte| bytes << 8 | u64::from(*byte)),
    };
    let missing = 8 * (8 - text.len() as u32);
    let bytes = bytes.checked_shl(missing)? | ZEROS.checked_shr(64 - missing).unwrap_or(0);
    let values = bytes.wrapping_sub(ZEROS);
    // A digit is a zero and at most nine more.
    if (values | bytes.wrapping_add(0x4646_4646_4646_4646)) & 0x8080_8080_8080_8080 != 0 {
        return None;
    }
    // Neighbours are put together: digits to pairs, pairs to fours, fours to all.
    let pairs = values.wrapping_mul(10).wrapping_add(values >> 8) & 0x00ff_00ff_00ff_00ff;
    let fours = pairs.wrapping_mul(100).wrapping_add(pairs >> 16) & 0x0000_ffff_0000_ffff;
    Some((fours.wrapping_mul(10_000).wrapping_add(fours >> 32)) & 0xffff_ffff)
}

/// A field of days that holds no number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NotANumber;

/// Reads a number of days from a shadow field. An empty field is `Ok(None)`, and
/// so is 4294967295, which the C library's 32 bits turn into -1.
///
/// # Errors
/// [`NotANumber`], also for a negative number: the C library passes the whole
/// line over.
pub fn read_signed(text: &[u8]) -> Result<Option<i64>, NotANumber> {
    if text.is_empty() {
        return Ok(None);
    }
    let value = i64::from(read_id(text).ok_or(NotANumber)?.cast_signed());
    Ok((value != -1).then_some(value))
}

/// Whether the id is never allotted and never accepted for a new holder: 65534
/// (the kernel's stand-in for ids it can't show), 65535 (it meant "no id" when
/// ids had 16 bits) and 4294967295 (it means "no id" to the kernel).
pub fn is_reserved(id: u32) -> bool {
    reserved_spans().iter().any(|span| span.contains(id))
}

/// The spans of those ids.
pub fn reserved_spans() -> [IdSpan; 2] {
    [IdSpan::fixed(65534, 65535), IdSpan::single(u32::MAX)]
}

/// What a reserved id means.
pub fn reserved_for(id: u32) -> &'static str {
    match id {
        65534 => "the kernel shows it for ids it can't show",
        65535 => "it meant \"no id\" when ids had 16 bits, and some programs still read it so",
        _ => "it means \"no id\" to the kernel",
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn ids_are_read_as_the_c_library_reads_them() {
        for (text, value) in [
            ("0", Some(0)),
            ("00", Some(0)),
            ("+7", Some(7)),
            ("\t 7", Some(7)),
            ("-0", Some(0)),
            ("-5", None),
            ("-18446744073709551611", Some(5)),
            ("4294967295", Some(u32::MAX)),
            ("4294967296", None),
            ("99999999999999999999999", None),
            ("", None),
            ("+", None),
            ("- 5", None),
            ("7 ", None),
            ("0x10", None),
        ] {
            assert_eq!(read_id(text.as_bytes()), value, "{text:?}");
        }
    }

    #[test]
    fn only_one_spelling_of_an_id_is_plain() {
        assert_eq!(read_plain_id(b"4294967295"), Some(u32::MAX));
        for text in ["00", "+0", " 0", "", "4294967296", "12345678901"] {
            assert_eq!(read_plain_id(text.as_bytes()), None, "{text:?}");
        }
    }

    proptest! {
        /// Many digits at once are read as one after the other is.
        #[test]
        fn plain_ids_are_read_as_numbers_are(text in "[0-9/:]{0,3}|[0-9]{0,12}|[0-9]{7,9}[/:x]?") {
            let plain = text.parse::<u32>().ok().filter(|id| id.to_string() == text);
            prop_assert_eq!(read_plain_id(text.as_bytes()), plain);
        }

        #[test]
        fn what_is_no_digit_is_no_id(text in proptest::collection::vec(any::<u8>(), 0..11)) {
            let plain = std::str::from_utf8(&text).ok().and_then(|text| text.parse::<u32>().ok());
            let plain = plain.filter(|id| id.to_string().as_bytes() == text);
            prop_assert_eq!(read_plain_id(&text), plain);
        }
    }

    #[test]
    fn an_empty_day_field_and_minus_one_mean_none() {
        assert_eq!(read_signed(b""), Ok(None));
        assert_eq!(read_signed(b"4294967295"), Ok(None));
        assert_eq!(read_signed(b"-1"), Err(NotANumber));
        assert_eq!(read_signed(b"2147483648"), Ok(Some(-2147483648)));
        assert_eq!(read_signed(b" 5"), Ok(Some(5)));
        assert_eq!(read_signed(b"20781"), Ok(Some(20781)));
        assert_eq!(read_signed(b"soon"), Err(NotANumber));
    }
}
