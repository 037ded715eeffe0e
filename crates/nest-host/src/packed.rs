//! Documents packed with zstd, RFC 8878.

use std::io::{Error, ErrorKind, Read};

/// Packs a document: the same text gives the same bytes.
///
/// # Errors
/// Those of the packer.
pub fn pack(text: &[u8]) -> std::io::Result<Vec<u8>> {
    /// Higher ones take long and give little.
    const LEVEL: i32 = 9;
    zstd::stream::encode_all(text, LEVEL)
}

/// Unpacks one of at most so many bytes.
///
/// # Errors
/// It is cut off, at fault, or longer.
pub fn unpack(packed: &[u8], most: u64) -> std::io::Result<Vec<u8>> {
    let mut text = Vec::new();
    let failed = |error: Error| match error.kind() {
        ErrorKind::UnexpectedEof => Error::other("it is packed, and cut off"),
        _ => Error::other(format!("it is packed, and can't be unpacked: {error}")),
    };
    let decoder = zstd::stream::read::Decoder::new(packed).map_err(failed)?;
    decoder.take(most + 1).read_to_end(&mut text).map_err(failed)?;
    match text.len() as u64 > most {
        true => Err(Error::other(format!("unpacked it is longer than {} MiB", most >> 20))),
        false => Ok(text),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_packed_comes_back_and_no_bomb_does() {
        let text = b"maren ".repeat(10_000);
        let packed = pack(&text).unwrap();
        assert!(packed.len() < 200);
        assert_eq!(unpack(&packed, 60_000).unwrap(), text);
        let told = |packed: &[u8], most| unpack(packed, most).unwrap_err().to_string();
        assert_eq!(told(&packed, 59_999), "unpacked it is longer than 0 MiB");
        assert_eq!(told(&packed[..packed.len() / 2], 60_000), "it is packed, and cut off");
        assert!(told(b"maren", 10).starts_with("it is packed, and can't be unpacked: "));
    }
}
