//! The entries of a text, RFC 2849.

use std::borrow::Cow;

use base64ct::{Base64, Encoding};
use bstr::ByteSlice;

/// An entry as it stands in a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadEntry<'t> {
    /// Where it begins, in bytes.
    pub offset: usize,
    /// Its name.
    pub dn: Cow<'t, [u8]>,
    /// Its attributes, in their order.
    attributes: Vec<Attribute<'t>>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Attribute<'t> {
    /// What it is called, without options.
    name: &'t [u8],
    value: Value<'t>,
    offset: usize,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Value<'t> {
    Bytes(Cow<'t, [u8]>),
    /// It is to be had somewhere else.
    Elsewhere,
}

/// What is wrong with a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LdifFault {
    /// Where, in bytes.
    pub offset: usize,
    /// What is wrong.
    pub message: String,
    /// What to write instead; may be empty.
    pub instead: &'static str,
}

impl LdifFault {
    /// A fault at a place.
    pub(super) fn new(offset: usize, message: impl Into<String>, instead: &'static str) -> Self {
        LdifFault { offset, message: message.into(), instead }
    }
}

impl ReadEntry<'_> {
    /// Where an attribute stands; where the entry begins, if it has none of that name.
    pub fn place(&self, name: &str) -> usize {
        let named = self.named(name).next();
        named.map_or(self.offset, |attribute| attribute.offset)
    }

    fn named<'e>(&'e self, name: &str) -> impl Iterator<Item = &'e Attribute<'e>> {
        let is_it = move |attribute: &&'e Attribute<'_>| {
            attribute.name.eq_ignore_ascii_case(name.as_bytes())
        };
        self.attributes.iter().filter(is_it)
    }

    /// The values of an attribute.
    ///
    /// # Errors
    /// One of them is to be had somewhere else: nothing is fetched.
    pub fn values(&self, name: &str) -> Result<Vec<&[u8]>, LdifFault> {
        let mut values = Vec::new();
        for attribute in self.named(name) {
            match &attribute.value {
                Value::Bytes(bytes) => values.push(&**bytes),
                Value::Elsewhere => {
                    return Err(LdifFault::new(
                        attribute.offset,
                        format!(
                            "{name} is a place where the value is to be had, and nothing is fetched"
                        ),
                        "the value itself",
                    ));
                }
            }
        }
        Ok(values)
    }

    /// The first value of an attribute.
    ///
    /// # Errors
    /// Those of [`ReadEntry::values`].
    pub fn value(&self, name: &str) -> Result<Option<&[u8]>, LdifFault> {
        match self.named(name).next().map(|attribute| &attribute.value) {
            None => Ok(None),
            Some(Value::Bytes(bytes)) => Ok(Some(bytes)),
            Some(Value::Elsewhere) => self.values(name).map(|_| None),
        }
    }

    /// Whether it is of a class.
    pub fn is_a(&self, class: &str) -> bool {
        self.named("objectClass").any(|attribute| match &attribute.value {
            Value::Bytes(bytes) => bytes.eq_ignore_ascii_case(class.as_bytes()),
            Value::Elsewhere => false,
        })
    }
}

/// A line without its continuations folded into it.
struct Folded<'t> {
    offset: usize,
    text: Cow<'t, [u8]>,
}

/// Lines of a text, with those that continue one put onto it, and comments left out; an empty one
/// is where an entry ends.
struct FoldedLines<'t> {
    text: &'t [u8],
    at: usize,
}

impl<'t> FoldedLines<'t> {
    fn plain(&mut self) -> Option<(usize, &'t [u8])> {
        if self.at >= self.text.len() {
            return None;
        }
        let from = self.at;
        let rest = &self.text[from..];
        let end = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
        self.at = from + end + 1;
        let line = &rest[..end];
        Some((from, line.strip_suffix(b"\r").unwrap_or(line)))
    }
}

impl<'t> Iterator for FoldedLines<'t> {
    type Item = Folded<'t>;

    fn next(&mut self) -> Option<Folded<'t>> {
        loop {
            let (offset, line) = self.plain()?;
            let mut text = Cow::Borrowed(line);
            while self.text.get(self.at) == Some(&b' ') {
                let Some((_, more)) = self.plain() else { break };
                text.to_mut().extend_from_slice(&more[1..]);
            }
            if !text.starts_with(b"#") {
                return Some(Folded { offset, text });
            }
        }
    }
}

/// Reads all entries. What is at fault is left out, and told.
pub fn read(text: &[u8]) -> (Vec<ReadEntry<'_>>, Vec<LdifFault>) {
    let (mut entries, mut faults) = (Vec::new(), Vec::new());
    let mut entry: Option<ReadEntry<'_>> = None;
    let start = if text.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
    for line in (FoldedLines { text, at: start }) {
        if line.text.is_empty() {
            entries.extend(entry.take());
            continue;
        }
        let (offset, parsed) = (line.offset, attribute(text, line));
        let attribute = match parsed {
            Ok(attribute) => attribute,
            Err(fault) => {
                faults.push(fault);
                // Without one of its lines it would be another entry.
                if let Some(entry) = &mut entry {
                    entry.dn = Cow::Borrowed(b"");
                }
                continue;
            }
        };
        match (&mut entry, attribute) {
            (None, Attribute { name, value: Value::Bytes(version), .. })
                if entries.is_empty() && name.eq_ignore_ascii_case(b"version") =>
            {
                if version.trim() != b"1" {
                    let message = format!("this is LDIF of version {}", version.as_bstr());
                    faults.push(LdifFault::new(offset, message, "version: 1, RFC 2849"));
                    return (entries, faults);
                }
            }
            (None, Attribute { name, value: Value::Bytes(dn), .. })
                if name.eq_ignore_ascii_case(b"dn") =>
            {
                entry = Some(ReadEntry { offset, dn, attributes: Vec::new() });
            }
            (None, _) => {
                let message = "an entry begins with the line of its name";
                faults.push(LdifFault::new(
                    offset,
                    message,
                    "dn: uid=maren,ou=people,dc=gullhaven,dc=example",
                ));
                // The rest of it would say the same.
                entry = Some(ReadEntry { offset, dn: Cow::Borrowed(b""), attributes: Vec::new() });
            }
            (Some(entry), attribute) => {
                if attribute.name.eq_ignore_ascii_case(b"changetype") {
                    let message = "this is a record of a change, and no entry";
                    faults.push(LdifFault::new(offset, message, "a dump of the directory"));
                }
                entry.attributes.push(attribute);
            }
        }
    }
    entries.extend(entry);
    entries.retain(|entry| !entry.dn.is_empty());
    (entries, faults)
}

/// Reads a line.
fn attribute<'t>(text: &'t [u8], line: Folded<'t>) -> Result<Attribute<'t>, LdifFault> {
    let offset = line.offset;
    let Some(colon) = line.text.find_byte(b':') else {
        let message = "this is no line of an entry: it has no colon";
        return Err(LdifFault::new(offset, message, "NAME: VALUE"));
    };
    let is_name = |name: &[u8]| {
        !name.is_empty()
            && name.iter().all(|byte| byte.is_ascii_alphanumeric() || b"-;.".contains(byte))
    };
    if !is_name(&line.text[..colon]) {
        let message = "what stands before the colon is no name of an attribute";
        return Err(LdifFault::new(offset, message, "NAME: VALUE"));
    }
    // The name stands in the text as it is, however long the rest: unless the line is broken in
    // the middle of it.
    let (name, folded) = match &text[offset..].get(..colon) {
        Some(name) if **name == line.text[..colon] => (*name, true),
        _ => (&b""[..], false),
    };
    if !folded {
        let message = "the name of an attribute is broken over two lines";
        return Err(LdifFault::new(offset, message, "NAME: VALUE"));
    }
    let name = name.split(|byte| *byte == b';').next().unwrap_or(name);
    let kind = line.text.get(colon + 1).copied();
    let from = colon + 1 + usize::from(matches!(kind, Some(b':' | b'<')));
    let value = match line.text {
        Cow::Borrowed(line) => Cow::Borrowed(line[from..].trim_start_with(|c| c == ' ')),
        Cow::Owned(line) => Cow::Owned(line[from..].trim_start_with(|c| c == ' ').to_vec()),
    };
    let value = match kind {
        Some(b'<') => Value::Elsewhere,
        Some(b':') => {
            let decoded =
                value.to_str().ok().and_then(|text| Base64::decode_vec(text.trim_end()).ok());
            Value::Bytes(Cow::Owned(decoded.ok_or_else(|| {
                let message = format!("the value of {} is no base64, RFC 4648", name.as_bstr());
                LdifFault::new(offset, message, "one colon, where the value is a plain text")
            })?))
        }
        _ => Value::Bytes(value),
    };
    Ok(Attribute { name, value, offset })
}
