//! What modules say about an account, so far as that can be told without asking them.

use bstr::{BString, ByteSlice};

use super::stack::{Answer, Module};
use crate::windows::Who;

/// Modules that let a sound local account pass.
const PASS: [&[u8]; 16] = [
    b"pam_unix",
    b"pam_permit",
    b"pam_nologin",
    b"pam_access",
    b"pam_time",
    b"pam_localuser",
    b"pam_faillock",
    b"pam_shells",
    b"pam_limits",
    b"pam_mkhomedir",
    b"pam_securetty",
    b"pam_cap",
    b"pam_loginuid",
    b"pam_env",
    b"pam_systemd",
    b"pam_tally2",
];

/// Modules that know only accounts of other places.
const OTHERS: [&[u8]; 6] =
    [b"pam_sss", b"pam_ldap", b"pam_winbind", b"pam_krb5", b"pam_systemd_home", b"pam_nis"];

/// From here on up people have their numbers, where the modules are not told otherwise.
const FIRST_PERSON: u32 = 1000;

/// What a module may answer: one thing, or two where that can't be told.
pub(super) fn possible_answers(module: &Module, who: &Who<'_>) -> &'static [Answer] {
    const EITHER: &[Answer] = &[Answer::Success, Answer::Refusal];
    let of = |met: Option<bool>| match met {
        Some(true) => &[Answer::Success][..],
        Some(false) => &[Answer::Refusal],
        None => EITHER,
    };
    let name = module.name.as_slice();
    match name {
        b"pam_deny" => &[Answer::Refusal],
        b"pam_warn" | b"pam_echo" | b"pam_debug" => &[Answer::Ignore],
        b"pam_succeed_if" => of(succeeds_if(&module.words, who)),
        b"pam_usertype" => of(user_type(&module.words, who)),
        name if OTHERS.contains(&name) => &[Answer::UnknownUser],
        name if PASS.contains(&name) => &[Answer::Success],
        _ => EITHER,
    }
}

fn user_type(words: &[BString], who: &Who<'_>) -> Option<bool> {
    let is_system = who.uid?.0 < FIRST_PERSON;
    words.iter().find_map(|word| match word.as_slice() {
        b"issystem" => Some(is_system),
        b"isregular" => Some(!is_system),
        _ => None,
    })
}

/// Whether an account meets all conditions; nothing where that can't be told.
fn succeeds_if(words: &[BString], who: &Who<'_>) -> Option<bool> {
    let flags = ["debug", "quiet", "quiet_fail", "quiet_success", "audit"];
    let words: Vec<&[u8]> = words
        .iter()
        .map(|word| word.as_slice())
        .filter(|word| !flags.iter().any(|flag| flag.as_bytes() == *word))
        .collect();
    let mut all = Some(true);
    for condition in words.chunks(3) {
        match met(condition, who) {
            Some(true) => {}
            Some(false) => return Some(false),
            None => all = None,
        }
    }
    all
}

fn met(condition: &[&[u8]], who: &Who<'_>) -> Option<bool> {
    let [attribute, sign, value] = condition else { return None };
    let number = || value.to_str().ok()?.parse::<u32>().ok();
    match (*attribute, *sign) {
        (b"uid", sign) => {
            let (uid, value) = (who.uid?.0, number()?);
            match sign {
                b"<" | b"lt" => Some(uid < value),
                b"<=" | b"le" => Some(uid <= value),
                b">" | b"gt" => Some(uid > value),
                b">=" | b"ge" => Some(uid >= value),
                b"eq" => Some(uid == value),
                b"ne" => Some(uid != value),
                _ => None,
            }
        }
        (b"user", b"=") => Some(who.name == *value),
        (b"user", b"!=") => Some(who.name != *value),
        (b"user", b"in") => Some(value.split(|&byte| byte == b':').any(|name| name == who.name)),
        (b"user", b"notin") => Some(value.split(|&byte| byte == b':').all(|name| name != who.name)),
        (b"user", b"ingroup") => {
            Some(value.split(|&byte| byte == b':').any(|name| who.is_in(name)))
        }
        (b"user", b"notingroup") => {
            Some(!value.split(|&byte| byte == b':').any(|name| who.is_in(name)))
        }
        _ => None,
    }
}
