//! Names of entries, RFC 4514.

use bstr::{BString, ByteSlice};

/// The name of an entry below another: `uid=maren,ou=people,dc=gullhaven,dc=example`.
pub(super) fn below(kind: &str, value: &[u8], parent: &str) -> Vec<u8> {
    let mut name = Vec::with_capacity(kind.len() + value.len() + parent.len() + 2);
    name.extend_from_slice(kind.as_bytes());
    name.push(b'=');
    escape_onto(&mut name, value);
    name.push(b',');
    name.extend_from_slice(parent.as_bytes());
    name
}

/// Puts a value into a name.
pub(super) fn escape_onto(name: &mut Vec<u8>, value: &[u8]) {
    for (at, byte) in value.iter().enumerate() {
        let ends = at == 0 || at + 1 == value.len();
        match byte {
            b'"' | b'+' | b',' | b';' | b'<' | b'>' | b'\\' | b'=' => {
                name.extend_from_slice(&[b'\\', *byte]);
            }
            b'#' if at == 0 => name.extend_from_slice(b"\\#"),
            b' ' if ends => name.extend_from_slice(b"\\ "),
            0 => name.extend_from_slice(b"\\00"),
            byte => name.push(*byte),
        }
    }
}

/// The parts of the first step of a name, each with its kind in small letters: mostly one.
pub(super) fn first_step(name: &[u8]) -> Vec<(String, BString)> {
    let mut parts = Vec::new();
    let (mut kind, mut value) = (BString::default(), None::<BString>);
    // Blanks at the ends mean nothing, but for those that are escaped.
    let (mut at, mut escaped_to) = (0, 0);
    while at <= name.len() {
        let byte = name.get(at).copied();
        at += 1;
        match (byte, &mut value) {
            (None | Some(b',' | b';' | b'+'), _) => {
                if let Some(mut value) = value.take() {
                    while value.len() > escaped_to && value.ends_with(b" ") {
                        value.pop();
                    }
                    escaped_to = 0;
                    let kind = kind.trim().to_str_lossy().to_ascii_lowercase();
                    parts.push((kind, value));
                }
                kind.clear();
                if byte != Some(b'+') {
                    break;
                }
            }
            (Some(b'='), None) => value = Some(BString::default()),
            (Some(b'\\'), Some(value)) => {
                let digits = name.get(at..at + 2).filter(|it| it.iter().all(u8::is_ascii_hexdigit));
                let digits = digits.and_then(|digits| digits.to_str().ok());
                let code = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok());
                match (code, name.get(at)) {
                    (Some(code), _) => {
                        value.push(code);
                        at += 2;
                    }
                    (None, Some(byte)) => {
                        value.push(*byte);
                        at += 1;
                    }
                    (None, None) => {}
                }
                escaped_to = value.len();
            }
            (Some(b' '), Some(value)) if value.is_empty() => {}
            (Some(byte), Some(value)) => value.push(byte),
            (Some(byte), None) => kind.push(byte),
        }
    }
    parts
}

/// A name as names are compared: without blanks around its signs, in small letters.
pub(super) fn plain(name: &[u8]) -> Vec<u8> {
    let mut plain = Vec::with_capacity(name.len());
    let mut blanks = 0;
    let mut bytes = name.trim().iter().copied().peekable();
    while let Some(byte) = bytes.next() {
        match byte {
            b'\\' => {
                plain.extend(std::iter::repeat_n(b' ', std::mem::take(&mut blanks)));
                plain.push(byte);
                plain.extend(bytes.next().map(|byte| byte.to_ascii_lowercase()));
            }
            b' ' => blanks += 1,
            b',' | b'=' | b'+' => {
                blanks = 0;
                plain.push(byte);
                while bytes.next_if_eq(&b' ').is_some() {}
            }
            byte => {
                plain.extend(std::iter::repeat_n(b' ', std::mem::take(&mut blanks)));
                plain.push(byte.to_ascii_lowercase());
            }
        }
    }
    plain
}

/// Whether an entry is below another, at any depth.
pub(super) fn is_below(name: &[u8], parent: &str) -> bool {
    let (name, parent) = (plain(name), plain(parent.as_bytes()));
    name.strip_suffix(&parent[..]).is_some_and(|rest| rest.ends_with(b","))
}

/// What is wrong with the name of a base.
///
/// # Errors
/// What is, in words that follow it.
pub(super) fn check(name: &str) -> Result<(), &'static str> {
    let mut rest = name.as_bytes();
    loop {
        let step = first_step(rest);
        if step.is_empty() || step.iter().any(|(kind, value)| kind.is_empty() || value.is_empty()) {
            return Err("is no name of an entry; write dc=gullhaven,dc=example, say");
        }
        let mut escaped = false;
        let end = rest.iter().position(|byte| {
            let ends = *byte == b',' && !escaped;
            escaped = *byte == b'\\' && !escaped;
            ends
        });
        match end {
            Some(end) => rest = &rest[end + 1..],
            None => return Ok(()),
        }
    }
}
