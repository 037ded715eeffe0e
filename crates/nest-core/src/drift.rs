//! How an account file differs from the way a change left it: how many lines
//! came, went, or were altered by other hands.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::{xxh3_64, xxh3_128};

use crate::table::{File, Lines};
use crate::words::counted;

/// A digest of a whole file: XXH3, 128 bits, in hexadecimal. It tells accidental
/// from intended contents; nobody who could forge it would need to.
pub fn digest(text: &[u8]) -> String {
    format!("{:032x}", xxh3_128(text))
}

/// A line, recognisable but not readable: digests of its first field and of all
/// of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Print(pub u64, pub u64);

/// The prints of all lines of a file.
pub fn prints(lines: &Lines) -> Vec<Print> {
    lines.iter().map(|line| Print(xxh3_64(line.name()), xxh3_64(line.bytes))).collect()
}

/// What other hands did to a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Drift {
    /// The file.
    pub file: File,
    /// The change that had left it otherwise.
    pub since: u64,
    /// How many lines; nothing where the file is too large for its lines to be
    /// told one by one.
    pub lines: Option<DriftedLines>,
}

/// How many lines differ.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct DriftedLines {
    /// Lines that are new.
    pub came: usize,
    /// Lines that are gone.
    pub went: usize,
    /// Lines whose first field is as before and whose rest is not.
    pub altered: usize,
}

impl DriftedLines {
    /// Compares the lines of a file with what they were.
    pub fn between(before: &[Print], now: &[Print]) -> Self {
        let mut whole: HashMap<u64, i64> = HashMap::new();
        before.iter().for_each(|print| *whole.entry(print.1).or_default() += 1);
        let mut fresh: HashMap<u64, usize> = HashMap::new();
        let mut came = 0;
        for print in now {
            let known = whole.entry(print.1).or_default();
            if *known > 0 {
                *known -= 1;
            } else {
                *fresh.entry(print.0).or_default() += 1;
                came += 1;
            }
        }
        let (mut went, mut altered) = (0, 0);
        for print in before {
            let left = whole.entry(print.1).or_default();
            if *left == 0 {
                continue;
            }
            *left -= 1;
            match fresh.get_mut(&print.0).filter(|count| **count > 0) {
                Some(count) => {
                    *count -= 1;
                    altered += 1;
                }
                None => went += 1,
            }
        }
        DriftedLines { came: came - altered, went, altered }
    }
}

impl std::fmt::Display for Drift {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} was edited by other hands since change {}", self.file.path(), self.since)?;
        let Some(DriftedLines { came, went, altered }) = self.lines else { return Ok(()) };
        let counts = [(came, "came"), (went, "went"), (altered, "altered")];
        let counts: Vec<String> = counts
            .into_iter()
            .filter(|(count, _)| *count > 0)
            .map(|(count, what)| format!("{} {what}", counted(count, "line", "lines")))
            .collect();
        match counts.is_empty() {
            true => write!(f, ": the same lines in another order"),
            false => write!(f, ": {}", counts.join(", ")),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    fn between(before: &'static str, now: &'static str) -> String {
        let prints =
            |text: &'static str| prints(&Lines::new(File::Group, Arc::new(text.as_bytes())));
        let lines = Some(DriftedLines::between(&prints(before), &prints(now)));
        let drift = Drift { file: File::Group, since: 4, lines };
        drift.to_string().split_once(": ").unwrap().1.to_owned()
    }

    #[test]
    fn lines_are_told_apart() {
        assert_eq!(between("a:1\nb:2\n", "a:1\nc:3\n"), "1 line came, 1 line went");
        assert_eq!(between("a:1\nb:2\nb:2\n", "a:9\nb:2\n"), "1 line went, 1 line altered");
        assert_eq!(between("", "a\nb\n# x\n"), "3 lines came");
        assert_eq!(between("a\nb\n", "b\na\n"), "the same lines in another order");
        assert_eq!(between("a:1\n", "a:1\na:2\n"), "1 line came");
    }
}
