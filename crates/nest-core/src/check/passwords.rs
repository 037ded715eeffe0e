//! Password fields that are no sound hash: plain-password, unmatched-password, shared-hash.

use bstr::BStr;
use hashbrown::HashMap;
use rayon::prelude::*;

use super::{Checker, Example, Family, PLAIN, Pass, Remedy, Rule, Severity, new_password};
use crate::secret::hash_of;
use crate::table::{Column, File, Line, Lines};
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
    let same = doubled(lines);
    if same.is_empty() {
        return;
    }
    let mut first: HashMap<&[u8], Line<'_>> = HashMap::new();
    for line in lines.iter().filter(|line| line.is_record() && line.is_whole(File::Shadow)) {
        let Some(hash) = hash_of(File::Shadow, line.record()).map(unlocked) else { continue };
        if hash.len() < SHORTEST || same.binary_search(&print(hash)).is_err() {
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

/// The end of a hash, which is the digest's: hardly two have the same.
fn print(hash: &[u8]) -> u64 {
    hash.last_chunk::<8>().map_or(0, |end| u64::from_le_bytes(*end))
}

/// Those that are there twice, sorted.
fn doubled(lines: &Lines) -> Vec<u64> {
    let parts = lines.sweep(Vec::new, |prints: &mut Vec<u64>, _, text| {
        crate::table::each_line(text, |row| {
            if let Some(hash) = row.field(1).filter(|hash| hash.len() >= SHORTEST) {
                prints.push(print(hash));
            }
        });
    });
    let mut prints = parts.concat();
    prints.par_sort_unstable();
    let mut same: Vec<u64> =
        prints.windows(2).filter(|pair| pair[0] == pair[1]).map(|pair| pair[0]).collect();
    same.dedup();
    same
}
