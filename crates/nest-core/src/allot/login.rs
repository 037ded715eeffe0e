//! Login names for people of whom only the full name is known.

use bstr::{BStr, BString};
use deunicode::deunicode_char;

use crate::policy::Policy;
use crate::value::{MAX_BYTES, NameStyle, check_name};

/// Names that are free, the policy's own choice first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposed {
    /// The names; at least one.
    pub names: Vec<BString>,
    /// Letters of the full name that could not be written in a login name.
    pub lost: String,
}

/// Why there is no name to propose.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoLogin {
    /// Nothing of the full name can be written.
    #[error("no login name can be made of {0:?}: none of its letters can be written in one")]
    Unusable(String),
    /// Everything that could be made of it is taken.
    #[error("every login name that could be made of {0:?} is taken")]
    Taken(String),
}

/// More proposals are no help.
const MOST: usize = 4;

/// What the policy's pattern is followed by, when its name is taken.
const NEXT: [&str; 4] = ["{first}{l}", "{f}{last}", "{first}{last}", "{last}{f}"];

/// Proposes login names, by the policy's pattern and then by others; at last with
/// a number. Letters beyond ASCII are written as the nearest ones within.
///
/// # Errors
/// [`NoLogin`] where no letter of the name can stand in a login name, or every proposal is
/// taken.
pub fn propose_login(
    policy: &Policy,
    full_name: &BStr,
    free: impl Fn(&BString) -> bool,
) -> Result<Proposed, NoLogin> {
    let full_name = full_name.to_string();
    let mut lost = String::new();
    let words: Vec<String> = full_name
        .split_whitespace()
        .map(|word| written(word, &mut lost))
        .filter(|word| !word.is_empty())
        .collect();
    let (Some(first), Some(last)) = (words.first(), words.last()) else {
        return Err(NoLogin::Unusable(full_name));
    };
    let only = words.len() == 1;
    let last = if only { "" } else { last };
    let mut names: Vec<BString> = Vec::new();
    let mut stems: Vec<String> = Vec::new();
    for pattern in std::iter::once(policy.names_login.as_str()).chain(NEXT) {
        let stem = filled(pattern, first, last);
        if !stem.is_empty() && !stems.contains(&stem) {
            stems.push(stem);
        }
    }
    let fits = |stem: &str, number: &str| -> Option<BString> {
        let room = MAX_BYTES - number.len();
        let name = BString::from(format!("{}{number}", &stem[..stem.len().min(room)]));
        (check_name(policy.names_style, name.as_ref()).is_ok() && free(&name)).then_some(name)
    };
    for stem in &stems {
        names.extend(fits(stem, "").filter(|name| !names.contains(name)));
    }
    if let Some(stem) = stems.first() {
        let numbered = (2..10_000).filter_map(|number| fits(stem, &number.to_string()));
        names.extend(numbered.take(usize::from(names.is_empty())));
    }
    names.truncate(MOST);
    match names.is_empty() {
        false => Ok(Proposed { names, lost }),
        // Digits alone are no name, whoever has it.
        true if stems
            .iter()
            .all(|stem| check_name(policy.names_style, stem.as_str().into()).is_err()) =>
        {
            Err(NoLogin::Unusable(full_name))
        }
        true => Err(NoLogin::Taken(full_name)),
    }
}

/// A name that could stand in the place of one that may not be; `None` where
/// nothing of it is left.
pub fn fitted(name: &BStr) -> Option<String> {
    let text = name.to_string();
    let mut lost = String::new();
    let mut fitted: String = text
        .split(|c: char| !c.is_alphanumeric() && !matches!(c, '-' | '_'))
        .map(|part| {
            let parts = part.split_inclusive(['-', '_']).map(|part| {
                let end = part.chars().last().filter(|c| matches!(c, '-' | '_'));
                written(part, &mut lost) + &end.map(String::from).unwrap_or_default()
            });
            parts.collect::<String>()
        })
        .collect();
    fitted.truncate(MAX_BYTES);
    let fitted = fitted.trim_start_matches(|c: char| c.is_ascii_digit() || c == '-').to_owned();
    check_name(NameStyle::Strict, fitted.as_str().into()).is_ok().then_some(fitted)
}

/// The letters and digits of a word within ASCII, in lower case.
fn written(word: &str, lost: &mut String) -> String {
    let mut text = String::new();
    for c in word.chars() {
        match deunicode_char(c) {
            Some(letters) => {
                let letters = letters.chars().filter(char::is_ascii_alphanumeric);
                text.extend(letters.map(|letter| letter.to_ascii_lowercase()));
            }
            None => lost.push(c),
        }
    }
    text
}

fn filled(pattern: &str, first: &str, last: &str) -> String {
    let start = |word: &str| word.chars().take(1).collect::<String>();
    pattern
        .replace("{first}", first)
        .replace("{last}", last)
        .replace("{f}", &start(first))
        .replace("{l}", &start(last))
        .trim_matches(['.', '_', '-'])
        .to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn proposed(policy: &str, full_name: &str, taken: &[&str]) -> Vec<String> {
        let policy = Policy::read("p", policy).unwrap();
        let free = |name: &BString| !taken.iter().any(|taken| name == taken);
        let proposed = propose_login(&policy, full_name.into(), free).unwrap();
        proposed.names.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn the_pattern_comes_first_and_then_the_next_choices() {
        assert_eq!(
            proposed("", "Odalys Brink", &[]),
            ["odalys", "odalysb", "obrink", "odalysbrink"]
        );
        assert_eq!(proposed("", "Odalys Brink", &["odalys", "odalysb"])[0], "obrink");
        let policy = "[names]\nlogin = \"{f}{last}\"";
        assert_eq!(proposed(policy, "Odalys van der Brink", &[])[0], "obrink");
        assert_eq!(proposed(policy, "Odalys", &[])[0], "o");
        assert_eq!(proposed("", "Odalys", &["odalys", "o", "odalys2"])[0], "odalys3");
    }

    #[test]
    fn letters_beyond_ascii_are_written_with_those_within() {
        let first = |full_name| proposed("", full_name, &[]).remove(0);
        assert_eq!(first("Søren Åkesson"), "soren");
        assert_eq!(first("Żaneta Łoś"), "zaneta");
        assert_eq!(first("Ægir O'Hara"), "aegir");
        assert_eq!(first("Ольга"), "ol'ga".replace('\'', ""));
        let policy = Policy::default();
        let lost = propose_login(&policy, "Ma\u{10ffff}ren".into(), |_| true).unwrap();
        assert_eq!((lost.names[0].to_string(), lost.lost.chars().count()), ("maren".into(), 1));
        let none = propose_login(&policy, "\u{10ffff}".into(), |_| true).unwrap_err();
        assert!(none.to_string().contains("none of its letters"), "{none}");
        let taken = propose_login(&policy, "Maren".into(), |_| false).unwrap_err();
        assert_eq!(taken, NoLogin::Taken("Maren".into()));
    }

    #[test]
    fn a_long_name_is_cut_and_keeps_its_number() {
        let long = "Abcdefghijklmnopqrstuvwxyzabcdefghijklmnop";
        let cut = "abcdefghijklmnopqrstuvwxyzabcdef";
        assert_eq!(proposed("", long, &[])[0], cut);
        assert_eq!(proposed("", long, &[cut, "a"])[0], "abcdefghijklmnopqrstuvwxyzabcde2");
    }

    #[test]
    fn an_unfit_name_has_a_fit_one_near() {
        assert_eq!(fitted("Märén-2".into()).as_deref(), Some("maren-2"));
        assert_eq!(fitted("-x y:".into()).as_deref(), Some("xy"));
        assert_eq!(fitted("1004".into()), None);
    }
}
