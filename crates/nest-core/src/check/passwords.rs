//! Password fields that are no sound hash: plain-password, unmatched-password, shared-hash.

use bstr::BStr;
use hashbrown::HashMap;

use super::{Checker, Example, Family, PLAIN, Pass, Remedy, Rule, Severity, new_password};
use crate::order;
use crate::secret::hash_of;
use crate::table::{Column, File, Line};
use crate::value::{FieldFault, PasswordField};

pub(super) const PASSES: &[Pass] =
    &[(&[&PLAIN_PASSWORD, &UNMATCHED_PASSWORD], fields), (&[&SHARED_HASH], shared)];

static PLAIN_PASSWORD: Rule = Rule {
    name: "plain-password",
    severity: Severity::Error,
    family: Family::SignIn,
    reads: &[File::Passwd, File::Shadow],
    finds: "a password field that seems to hold the password itself",
    why: "Whoever reads the file, or a copy of it, has the password; and it lets nobody in, since \
              only hashes are compared. The field is not shown.",
    remedy: "Set the password, which hashes it: copper-nest password user NAME, or password group.",
    bad: Example::with(&[(File::Shadow, "maren:harbour-light:20781:0::7:::\n")]),
    by_line: true,
    ..PLAIN
};

static UNMATCHED_PASSWORD: Rule = Rule {
    name: "unmatched-password",
    severity: Severity::Warning,
    family: Family::SignIn,
    reads: &[File::Passwd, File::Shadow],
    finds: "a password hash that is cut off, or of a scheme that nothing knows",
    why: "No password matches it: its owner is kept out, and nobody meant that. It looks like a \
              password that is set.",
    remedy: "Set the password again, or say that there is none: copper-nest password user NAME \
                 --none.",
    bad: Example::with(&[(File::Shadow, "maren:$6$Gullhaven$0123456789abcdef:20781:0::7:::\n")]),
    by_line: true,
    ..PLAIN
};

static SHARED_HASH: Rule = Rule {
    name: "shared-hash",
    severity: Severity::Warning,
    family: Family::SignIn,
    reads: &[File::Shadow],
    finds: "two accounts with one password hash, salt and all",
    why: "Somebody copied it: whoever knows the one password knows the other, and changing the \
              one leaves the other as it was.",
    remedy: "Have one of the two set anew: copper-nest password user NAME.",
    bad: Example::with(&[
        (
            File::Passwd,
            "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nperrin:x:1005:1004::/nonexistent:/bin/sh\n",
        ),
        (File::Shadow, SAME),
    ]),
    good: Example::with(&[
        (
            File::Passwd,
            "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nperrin:x:1005:1004::/nonexistent:/bin/sh\n",
        ),
        (File::Shadow, OTHERS),
    ]),
    ..PLAIN
};

/// The same hash twice.
const SAME: &str = "\
maren:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::
perrin:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::
";

/// Two of them.
const OTHERS: &str = "\
maren:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::
perrin:$y$j9T$5sCFlkFK8AI5yNLvAOEZl4$Pn70F8hFaZBvz2uF6Yp8T5sCFlkFK8AI5yNLvAOEZl1:20781:0::7:::
";

fn fields(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let (plain, unmatched) = (checker.wanted(&PLAIN_PASSWORD), checker.wanted(&UNMATCHED_PASSWORD));
    let book = context.book;
    for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
        let Some(lines) = book.lines(file) else { continue };
        for line in prefilter.lines(book, file).filter(Line::is_record) {
            if !line.is_whole(file) {
                continue;
            }
            let field = line.record().split(|byte| *byte == b':').nth(1).unwrap_or_default();
            let Some(fault) = PasswordField::fault(field) else { continue };
            let name = BStr::new(line.name());
            let (rule, message) = match fault {
                FieldFault::Plain => (
                    plain,
                    format!(
                        "the password field of {name} is no hash: it seems to be the password itself."
                    ),
                ),
                FieldFault::CutOff(scheme) => (
                    unmatched,
                    format!("the {scheme} hash of {name} is cut off: no password matches it."),
                ),
                FieldFault::UnknownScheme => (
                    unmatched,
                    format!("the hash of {name} is of no known scheme: no password matches it."),
                ),
            };
            let Some(rule) = rule else { continue };
            let remedy = match file.is_of_groups() {
                true => Remedy::of_command([b"password", b"group", name, b"--none"]),
                false => new_password(context, name),
            };
            checker.find(rule, (lines, line), Column::PASSWORD, message, remedy);
        }
    }
}

fn shared(checker: &mut Checker<'_>) {
    let book = checker.context.book;
    let Some(lines) = book.lines(File::Shadow) else { return };
    let same = doubled(&checker.prefilter.prints);
    if same.is_empty() {
        return;
    }
    let mut first: HashMap<&[u8], Line<'_>> = HashMap::new();
    for line in lines.iter().filter(|line| line.is_record() && line.is_whole(File::Shadow)) {
        let Some(hash) = hash_of(File::Shadow, line.record()).map(unlocked) else { continue };
        if print(hash).is_none_or(|print| same.binary_search(&print).is_err()) {
            continue;
        }
        let other = *first.entry(hash).or_insert(line);
        if other.name() == line.name() {
            continue;
        }
        let (name, twin) = (BStr::new(line.name()), BStr::new(other.name()));
        let number = lines.number(other.start);
        let message = format!("{name} has the same password hash as {twin} (line {number}).");
        let remedy = new_password(checker.context, name);
        checker
            .find(&SHARED_HASH, (lines, line), Column::PASSWORD, message, remedy)
            .relate(lines, other);
    }
}

/// No hash is shorter.
const SHORTEST: usize = 13;

/// Without what locks it.
fn unlocked(hash: &[u8]) -> &[u8] {
    &hash[hash.iter().take_while(|byte| **byte == b'!').count()..]
}

/// The end of what may be a hash, which is the digest's: hardly two have the same.
#[inline(always)]
pub(super) fn print(hash: &[u8]) -> Option<u64> {
    let end = hash.last_chunk::<8>().filter(|_| hash.len() >= SHORTEST)?;
    Some(u64::from_le_bytes(*end))
}

/// Those that are there twice, sorted.
fn doubled(prints: &[u64]) -> Vec<u64> {
    // So many places are told apart; of very many prints a few fall on one place.
    const PLACES: u32 = 25;
    let place = |print: u64| {
        let mixed = print.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> (64 - PLACES);
        (mixed as usize / 64, 1_u64 << (mixed % 64))
    };
    let (mut once, mut twice) = (vec![0_u64; 1 << (PLACES - 6)], vec![0_u64; 1 << (PLACES - 6)]);
    for print in prints {
        let (at, bit) = place(*print);
        twice[at] |= once[at] & bit;
        once[at] |= bit;
    }
    let again = prints.iter().filter(|print| {
        let (at, bit) = place(**print);
        twice[at] & bit != 0
    });
    let mut again: Vec<u64> = again.copied().collect();
    order::sort(&mut again);
    let pairs = again.windows(2).filter(|pair| pair[0] == pair[1]);
    let mut same: Vec<u64> = pairs.map(|pair| pair[0]).collect();
    same.dedup();
    same
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hashes_that_are_there_twice_are_found_among_many() {
        let of = |at: u64| print(format!("$y$j9T$salt${at:043}").as_bytes()).unwrap();
        let mut prints: Vec<u64> = (0..100_000).map(of).collect();
        assert_eq!(doubled(&prints), [0; 0]);
        prints.extend([of(7), of(99_999), of(7)]);
        let mut wanted = [of(7), of(99_999)];
        order::sort(&mut wanted);
        assert_eq!(doubled(&prints), wanted);
        assert_eq!(print(b"!"), None);
    }
}
