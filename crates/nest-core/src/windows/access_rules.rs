//! Rules about places, access.conf(5), read as pam_access(8) reads them.
//!
//! The first line that fits a sign-in decides; where none does, it may pass.

use bstr::{BStr, BString, ByteSlice};

use super::Who;
use super::own::Owned;
use super::places::LOCAL;
use crate::configuration::Place;

/// A line of the file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct AccessRule {
    pub place: Place,
    /// Whether it is the account's own, as the mark before it says.
    pub owned: bool,
    /// The line as it is.
    pub text: BString,
    /// Whether it lets in or keeps out.
    pub lets_in: bool,
    pub users: Vec<BString>,
    pub origins: Vec<BString>,
}

/// How much of what is asked about a rule fits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reach {
    /// None.
    None,
    /// Part of it, or it can't be told how much.
    Part,
    /// All.
    All,
}

impl Reach {
    fn not(self) -> Reach {
        match self {
            Reach::None => Reach::All,
            Reach::Part => Reach::Part,
            Reach::All => Reach::None,
        }
    }

    pub fn and(self, other: Reach) -> Reach {
        match (self, other) {
            (Reach::None, _) | (_, Reach::None) => Reach::None,
            (Reach::All, Reach::All) => Reach::All,
            _ => Reach::Part,
        }
    }

    fn or(self, other: Reach) -> Reach {
        self.not().and(other.not()).not()
    }
}

/// From where a sign-in comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Origin {
    /// From a terminal of the machine.
    Terminal,
    /// From another machine, whichever.
    Elsewhere,
}

impl AccessRule {
    /// Whether it is about an account.
    pub fn is_about(&self, who: &Who<'_>) -> Reach {
        listed(&self.users, &|word| user_fits(word, who))
    }

    /// How much of an origin it is about.
    pub fn covers(&self, origin: Origin) -> Reach {
        listed(&self.origins, &|word| origin_fits(word, origin))
    }
}

/// Reads the rules of a file; lines that the module passes over are none.
pub(crate) fn read(file: &str, text: &[u8]) -> Vec<AccessRule> {
    let mut owned = Owned::default();
    let mut rules = Vec::new();
    for (at, line) in text.split_inclusive(|&byte| byte == b'\n').enumerate() {
        let is_own = owned.takes(line);
        let Some(line) = line.strip_suffix(b"\n") else { continue };
        if line.starts_with(b"#") {
            continue;
        }
        let trimmed = line.trim_ascii_end();
        let fields: Vec<&[u8]> = trimmed.splitn(3, |&byte| byte == b':').collect();
        let [permission, users, origins] = fields.as_slice() else { continue };
        let lets_in = match permission.first() {
            Some(b'+') => true,
            Some(b'-') => false,
            _ => continue,
        };
        let words = |field: &[u8]| -> Vec<BString> {
            let words = field.split(|byte| b", \t".contains(byte));
            words.filter(|word| !word.is_empty()).map(BString::from).collect()
        };
        let (users, origins) = (words(users), words(origins));
        let place = Place { file: file.into(), line: at + 1 };
        let text = BString::from(line);
        rules.push(AccessRule { place, owned: is_own, text, lets_in, users, origins });
    }
    rules
}

/// Whether a name can stand in the file for itself alone.
pub(super) fn can_hold(name: &[u8]) -> bool {
    let plain = |byte: &u8| byte.is_ascii_graphic() && !b"@():,#".contains(byte);
    let reserved: [&[u8]; 4] = [b"all", b"none", b"except", b"local"];
    !name.is_empty()
        && name.iter().all(plain)
        && !name.starts_with(b"-")
        && !reserved.contains(&name.to_ascii_lowercase().as_slice())
}

fn is_word(word: &[u8], wanted: &str) -> bool {
    word.eq_ignore_ascii_case(wanted.as_bytes())
}

/// What a list comes to: one of its words fits, and none of those after `EXCEPT`.
fn listed(words: &[BString], fits: &dyn Fn(&BStr) -> Reach) -> Reach {
    let at = words.iter().position(|word| is_word(word, "EXCEPT"));
    let (listed_words, but) = words.split_at(at.unwrap_or(words.len()));
    let one = listed_words.iter().fold(Reach::None, |reach, word| reach.or(fits(word.as_bstr())));
    match but {
        [] => one,
        [_, but @ ..] => one.and(listed(but, fits).not()),
    }
}

fn user_fits(word: &BStr, who: &Who<'_>) -> Reach {
    let yes = |fits: bool| if fits { Reach::All } else { Reach::None };
    if let Some(group) = word.strip_prefix(b"(").and_then(|word| word.strip_suffix(b")")) {
        return yes(who.is_in(group));
    }
    match word.find_byte(b'@') {
        // A netgroup, which name services know.
        Some(0) => Reach::Part,
        // Of one machine.
        Some(at) => yes(is_user(&word[..at], who)).and(Reach::Part),
        None => yes(is_user(word, who)),
    }
}

fn is_user(word: &[u8], who: &Who<'_>) -> bool {
    is_word(word, "ALL") || word.eq_ignore_ascii_case(who.name) || who.is_in(word)
}

fn origin_fits(word: &BStr, origin: Origin) -> Reach {
    if is_word(word, "ALL") {
        return Reach::All;
    }
    let is_local = is_word(word, LOCAL);
    match origin {
        Origin::Terminal if is_local => Reach::All,
        Origin::Elsewhere if is_local => Reach::None,
        Origin::Elsewhere => Reach::Part,
        Origin::Terminal if names_terminal(word) => Reach::Part,
        Origin::Terminal => Reach::None,
    }
}

/// Whether a word is one of the names that terminals have.
fn names_terminal(word: &[u8]) -> bool {
    let starts: [&[u8]; 6] = [b"tty", b"pts/", b"hvc", b"console", b"lxc/", b":"];
    starts.iter().any(|start| word.starts_with(start)) && !word.contains_str("::")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_say_whom_and_from_where() {
        let text = "# all\n-:ALL EXCEPT root (crew):LOCAL\n+ : maren pilots : 10.20. quay tty1\n\
            -:@night:ALL\nx:a:b\n-:a\n# copper-nest: places of maren\n\
            -:maren:ALL EXCEPT LOCAL 10.0.0.0/8\n-:x@quay:ALL\n-:none";
        let rules = read("etc/security/access.conf", text.as_bytes());
        let lines: Vec<usize> = rules.iter().map(|rule| rule.place.line).collect();
        assert_eq!(lines, [2, 3, 4, 8, 9]);
        assert_eq!(rules.iter().map(|rule| rule.owned).position(|owned| owned), Some(3));
        let crew = || vec![BString::from("crew")];
        let pilots = || vec![BString::from("pilots")];
        let nobody = Vec::new;
        let maren = Who { name: b"maren", uid: None, groups: &crew };
        let tavish = Who { name: b"tavish", uid: None, groups: &pilots };
        let hesper = Who { name: b"hesper", uid: None, groups: &nobody };
        let about = |at: usize| [&maren, &tavish, &hesper].map(|who| rules[at].is_about(who));
        let [all, none, part] = [Reach::All, Reach::None, Reach::Part];
        assert_eq!(about(0), [none, all, all]);
        assert_eq!(about(1), [all, all, none]);
        assert_eq!(about(2), [part; 3]);
        assert_eq!(about(3), [all, none, none]);
        let covers =
            |at: usize| [Origin::Terminal, Origin::Elsewhere].map(|from| rules[at].covers(from));
        assert_eq!(covers(0), [all, none]);
        assert_eq!(covers(1), [part, part]);
        assert_eq!(covers(3), [none, part]);
    }
}
