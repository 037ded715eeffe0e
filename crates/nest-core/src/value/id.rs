//! User and group ids, as the C library reads them.

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
pub fn read_id(text: &[u8]) -> Option<u32> {
    if let Some(plain) = read_plain_id(text) {
        return Some(plain);
    }
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
    if text.is_empty() || text.len() > 10 || (text[0] == b'0' && text.len() > 1) {
        return None;
    }
    let mut value = 0u64;
    for &byte in text {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        value = value * 10 + u64::from(digit);
    }
    u32::try_from(value).ok()
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
    matches!(id, 65534 | 65535 | u32::MAX)
}

#[cfg(test)]
mod tests {
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
