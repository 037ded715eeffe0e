//! The parts of the GECOS field of passwd(5): the full name, and after it, between commas, a
//! room, a telephone at work, one at home, and what else there is.

use bstr::{BString, ByteSlice};

/// The parts after the full name. Of those that are asked for, nothing stays as it is, and an
/// empty text is none.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct GecosParts {
    /// The room.
    pub room: Option<BString>,
    /// The telephone at work.
    pub phone_work: Option<BString>,
    /// The telephone at home.
    pub phone_home: Option<BString>,
    /// What else there is, which may hold commas.
    pub other: Option<BString>,
    /// The whole field as it is, where the parts would not give it back.
    pub whole: Option<BString>,
}

/// How many parts there are, the full name among them.
const PARTS: usize = 5;

impl GecosParts {
    /// The parts that a field has; of a field that they would not give back it is kept whole too.
    pub fn of(field: &[u8]) -> Self {
        let mut parts = field.splitn(PARTS, |byte| *byte == b',').skip(1);
        let mut part = || parts.next().filter(|part| !part.is_empty()).map(BString::from);
        let mut found = GecosParts {
            room: part(),
            phone_work: part(),
            phone_home: part(),
            other: part(),
            whole: None,
        };
        let full_name = field.split(|byte| *byte == b',').next().unwrap_or_default();
        if found.over(Some(full_name), b"") != field {
            found.whole = Some(field.into());
        }
        found
    }

    /// Whether anything is asked for.
    pub fn asks(&self) -> bool {
        *self != GecosParts::default()
    }

    /// A field with the full name and these parts in place of those that it has. It keeps the
    /// commas that it has, and gets none that say nothing.
    pub fn over(&self, full_name: Option<&[u8]>, field: &[u8]) -> BString {
        if let Some(whole) = &self.whole {
            return whole.clone();
        }
        let old: Vec<&[u8]> = field.splitn(PARTS, |byte| *byte == b',').collect();
        let asked = [
            full_name,
            self.room.as_ref().map(|part| part.as_bytes()),
            self.phone_work.as_ref().map(|part| part.as_bytes()),
            self.phone_home.as_ref().map(|part| part.as_bytes()),
            self.other.as_ref().map(|part| part.as_bytes()),
        ];
        let parts = asked
            .iter()
            .enumerate()
            .map(|(at, part)| part.or_else(|| old.get(at).copied()).unwrap_or_default());
        let mut parts: Vec<&[u8]> = parts.collect();
        while parts.len() > old.len() && parts.last().is_some_and(|part| part.is_empty()) {
            parts.pop();
        }
        bstr::join(",", parts).into()
    }

    /// Each part that is asked for, as tables call it.
    pub fn named(&self) -> impl Iterator<Item = (&'static str, &BString)> {
        let all = [
            ("room", &self.room),
            ("phone_work", &self.phone_work),
            ("phone_home", &self.phone_home),
            ("other", &self.other),
            ("gecos", &self.whole),
        ];
        all.into_iter().filter_map(|(what, part)| Some((what, part.as_ref()?)))
    }

    /// What the field can't hold: the part, and the character in words.
    pub fn faults(&self) -> Vec<(&'static str, &'static str)> {
        let fault = |(what, part): (&'static str, &BString)| {
            let commas = matches!(what, "other" | "gecos");
            Some((what, unfit(part).filter(|fault| !commas || *fault != COMMA)?))
        };
        self.named().filter_map(fault).collect()
    }
}

const COMMA: &str = "a comma";

/// The first character of a text that a part of the field can't hold, in words.
pub fn unfit(text: &[u8]) -> Option<&'static str> {
    let is_plain = |byte: &u8| (b' '..=b'~').contains(byte) && !matches!(byte, b':' | b',');
    if text.iter().all(is_plain) {
        return None;
    }
    let unfit = |sign| match sign {
        ':' => Some("a colon"),
        ',' => Some(COMMA),
        '\n' | '\r' => Some("a line end"),
        sign if char::is_control(sign) => Some("a control character"),
        _ => None,
    };
    // Of several the comma is the one that another part could hold.
    let mut found = text.chars().filter_map(unfit);
    let first = found.next()?;
    Some(if first == COMMA { found.find(|fault| *fault != COMMA).unwrap_or(first) } else { first })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_give_their_field_back() {
        for field in [
            "",
            "Maren Solvik",
            "Maren Solvik,,,",
            "Maren Solvik,,,,",
            "Maren Solvik,Quay 3,+47 1,+47 2",
            "Maren Solvik,,,,pier 4, door 2",
            ",,555",
            ",",
        ] {
            let parts = GecosParts::of(field.as_bytes());
            let full_name = field.split(',').next().unwrap();
            assert_eq!(parts.over(Some(full_name.as_bytes()), b""), field);
            assert_eq!(parts.over(None, field.as_bytes()), field);
        }
        assert_eq!(GecosParts::of(b"Maren Solvik,Quay 3").whole, None);
        assert!(GecosParts::of(b"Maren Solvik,,,").whole.is_some());
    }

    #[test]
    fn what_is_asked_for_takes_the_place_of_what_is_there() {
        let room = GecosParts { room: Some("Quay 4".into()), ..GecosParts::default() };
        assert_eq!(room.over(None, b"Maren"), "Maren,Quay 4");
        assert_eq!(room.over(Some(b"Odile"), b"Maren,Quay 3,1,,"), "Odile,Quay 4,1,,");
        let none = GecosParts { phone_work: Some("".into()), ..GecosParts::default() };
        assert_eq!(none.over(None, b"Maren,Quay 3,1"), "Maren,Quay 3,");
        assert_eq!(none.over(None, b"Maren"), "Maren");
    }

    #[test]
    fn what_the_field_cannot_hold_is_named_with_its_part() {
        let parts = GecosParts {
            room: Some("Quay, 4".into()),
            other: Some("a, b".into()),
            phone_home: Some("1:2".into()),
            whole: Some("a,b\n".into()),
            ..GecosParts::default()
        };
        let faults = [("room", "a comma"), ("phone_home", "a colon"), ("gecos", "a line end")];
        assert_eq!(parts.faults(), faults);
    }
}
