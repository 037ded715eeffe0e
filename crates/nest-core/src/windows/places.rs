//! The places of an account, as people write them: `10.20.0.0/16, console, host.example`.

use std::fmt;
use std::net::IpAddr;

/// Why places can't be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlacesFault {
    /// Nothing, or a comma with nothing beside it.
    #[error("a place is missing; for no restriction write anywhere")]
    Empty,
    /// A word that means something else in the file.
    #[error(
        "\"{0}\" has a meaning of its own in the file: for no restriction write anywhere, for the machine itself console"
    )]
    Reserved(String),
    /// `anywhere` beside others.
    #[error("anywhere is no restriction at all: it can't stand beside other places")]
    Anywhere,
    /// No network.
    #[error("\"{0}\" is no network: {1}")]
    NoNetwork(String, String),
    /// No name of a host.
    #[error(
        "\"{0}\" is no place: write a network (10.20.0.0/16), an address, the name of a host, or console"
    )]
    NoPlace(String),
    /// More than a line takes.
    #[error(
        "these are too many places for one line of the file: name networks in the place of single addresses"
    )]
    TooMany,
}

/// The places from which an account may sign in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Places(Vec<String>);

/// What stands for the machine itself, here and in the file.
const CONSOLE: &str = "console";
pub(super) const LOCAL: &str = "LOCAL";

impl Places {
    /// As many bytes as an old module takes of a line, with room to spare.
    const MOST: usize = 900;

    /// Reads them; nothing is no restriction: `anywhere`.
    ///
    /// # Errors
    /// Where it can't be read, and why.
    pub fn parse(text: &str) -> Result<Option<Self>, PlacesFault> {
        let is_anywhere = |text: &str| text.trim().eq_ignore_ascii_case("anywhere");
        if is_anywhere(text) {
            return Ok(None);
        }
        let mut places: Vec<String> = Vec::new();
        for part in text.split(',') {
            if is_anywhere(part) {
                return Err(PlacesFault::Anywhere);
            }
            let place = read_place(part.trim())?;
            if !places.contains(&place) {
                places.push(place);
            }
        }
        let places = Places(places);
        if places.field().len() > Places::MOST {
            return Err(PlacesFault::TooMany);
        }
        Ok(Some(places))
    }

    /// Those of a field of the file, where each is one that could be asked for.
    pub(super) fn of_field(words: &[&[u8]]) -> Option<Self> {
        let read = |word: &&[u8]| {
            let word = std::str::from_utf8(word).ok()?;
            if word.eq_ignore_ascii_case(LOCAL) {
                Some(CONSOLE.to_owned())
            } else {
                read_place(word).ok()
            }
        };
        words.iter().map(read).collect::<Option<_>>().map(Places)
    }

    /// As the field of the file has them; the format is that of access.conf(5).
    pub(super) fn field(&self) -> String {
        let words = self.0.iter().map(|place| if place == CONSOLE { LOCAL } else { place });
        words.collect::<Vec<_>>().join(" ")
    }

    /// Whether the machine itself is one.
    pub fn has_console(&self) -> bool {
        self.0.iter().any(|place| place == CONSOLE)
    }

    /// Those that are names: they count only where a service looks up who comes.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        let is_name = |place: &&str| {
            *place != CONSOLE && !place.contains('/') && place.parse::<IpAddr>().is_err()
        };
        self.0.iter().map(String::as_str).filter(is_name)
    }
}

/// `10.20.0.0/16, console`.
impl fmt::Display for Places {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.join(", "))
    }
}

fn read_place(text: &str) -> Result<String, PlacesFault> {
    let lower = text.to_ascii_lowercase();
    if ["all", "local", "none", "except"].contains(&lower.as_str()) {
        return Err(PlacesFault::Reserved(text.to_owned()));
    }
    if lower.is_empty() {
        return Err(PlacesFault::Empty);
    }
    if lower == CONSOLE || lower.parse::<IpAddr>().is_ok() {
        return Ok(lower);
    }
    if let Some((address, length)) = lower.split_once('/') {
        return read_network(text, address, length);
    }
    let of_numbers = lower.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
    let is_label = |label: &str| {
        let fine = label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
        (1..=63).contains(&label.len()) && fine && !label.starts_with('-') && !label.ends_with('-')
    };
    // With a dot before it a name stands for all hosts of that domain.
    let name = lower.strip_prefix('.').unwrap_or(&lower);
    if of_numbers || name.len() > 253 || !name.split('.').all(is_label) {
        return Err(PlacesFault::NoPlace(text.to_owned()));
    }
    Ok(lower)
}

fn read_network(text: &str, address: &str, length: &str) -> Result<String, PlacesFault> {
    let no = |why: String| PlacesFault::NoNetwork(text.to_owned(), why);
    let ip: IpAddr = address.parse().map_err(|_| no(format!("\"{address}\" is no address")))?;
    let bits = if ip.is_ipv4() { 32 } else { 128 };
    let digits = length.bytes().all(|byte| byte.is_ascii_digit());
    let length: u32 = length
        .parse()
        .ok()
        .filter(|length| digits && (1..=bits).contains(length))
        .ok_or_else(|| no(format!("after the / stands a number from 1 to {bits}")))?;
    let base = match ip {
        IpAddr::V4(ip) => {
            let mask = u32::MAX << (32 - length);
            IpAddr::V4((u32::from(ip) & mask).into())
        }
        IpAddr::V6(ip) => {
            let mask = u128::MAX << (128 - length);
            IpAddr::V6((u128::from(ip) & mask).into())
        }
    };
    if base != ip {
        return Err(no(format!("{base}/{length} is one, {ip} a single address")));
    }
    Ok(format!("{base}/{length}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> String {
        match Places::parse(text) {
            Ok(Some(places)) => places.to_string(),
            Ok(None) => "anywhere".to_owned(),
            Err(fault) => fault.to_string(),
        }
    }

    #[test]
    fn places_come_back_in_one_form() {
        for (written, told) in [
            ("10.20.0.0/16, console,host.example", "10.20.0.0/16, console, host.example"),
            ("Console, CONSOLE", "console"),
            ("2001:DB8::/32, 2001:db8::7", "2001:db8::/32, 2001:db8::7"),
            (".ferries.example", ".ferries.example"),
            ("10.20.0.7", "10.20.0.7"),
            ("Anywhere", "anywhere"),
        ] {
            assert_eq!(read(written), told, "{written}");
        }
        let places = Places::parse("console, 10.0.0.0/8, quay").unwrap().unwrap();
        assert_eq!(places.field(), "LOCAL 10.0.0.0/8 quay");
        assert_eq!(Places::of_field(&[b"LOCAL", b"10.0.0.0/8", b"quay"]), Some(places.clone()));
        assert_eq!(places.names().collect::<Vec<_>>(), ["quay"]);
        assert_eq!(Places::of_field(&[b"@crew"]), None);
    }

    #[test]
    fn what_is_no_place_is_told() {
        let many: Vec<String> = (0..100).map(|at| format!("10.20.30.{at}")).collect();
        for (written, word) in [
            ("", "missing"),
            ("console,", "missing"),
            ("ALL", "meaning of its own"),
            ("local", "meaning of its own"),
            ("EXCEPT", "meaning of its own"),
            ("console, anywhere", "can't stand beside"),
            ("10.20.0.0/33", "from 1 to 32"),
            ("0.0.0.0/0", "from 1 to 32"),
            ("10.20.0.5/16", "10.20.0.0/16 is one"),
            ("2001:db8::1/32", "2001:db8::/32 is one"),
            ("10.20.0/16", "\"10.20.0\" is no address"),
            ("10.20.", "no place"),
            ("a host", "no place"),
            ("@crew", "no place"),
            ("a:b", "no place"),
            ("(crew)", "no place"),
            ("-quay", "no place"),
            ("quay\n+:ALL:ALL", "no place"),
            (&many.join(","), "too many"),
        ] {
            let told = read(written);
            assert!(told.contains(word), "{written}: {told}");
        }
    }
}
