//! How hard a password is to guess, by an estimate of the guesses it takes.

use zxcvbn::{Score, zxcvbn};

/// A verdict on a password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Strength {
    /// From 0, guessed at once, to 4.
    pub score: u8,
    /// The verdict as a sentence that follows "the password is".
    pub verdict: String,
}

/// Judges a password. `known` are words that a guesser would try first: the
/// account's own names.
pub fn strength(password: &[u8], known: &[&str]) -> Strength {
    // Long passwords are judged by their beginning: the estimate takes time that
    // grows faster than they do, and nobody guesses a hundred letters.
    let text: String = String::from_utf8_lossy(password).chars().take(100).collect();
    let entropy = zxcvbn(&text, known);
    let score = match entropy.score() {
        Score::Zero => 0,
        Score::One => 1,
        Score::Two => 2,
        Score::Three => 3,
        _ => 4,
    };
    // What a thief of the file could do with one good computer: ten thousand
    // tries a second.
    let seconds = entropy.guesses() as f64 / 10_000.0;
    let time = match seconds {
        seconds if seconds < 1.0 => "at once",
        seconds if seconds < 120.0 => "within seconds",
        seconds if seconds < 7_200.0 => "in minutes",
        seconds if seconds < 172_800.0 => "in hours",
        seconds if seconds < 5_184_000.0 => "in days",
        seconds if seconds < 63_072_000.0 => "in months",
        _ => "never",
    };
    let lower = text.to_lowercase();
    let own = known.iter().any(|word| word.len() > 2 && lower.contains(&word.to_lowercase()));
    let why = match (own, entropy.feedback().and_then(|feedback| feedback.warning())) {
        (true, _) => ": built on the account's own name".to_owned(),
        (false, Some(warning)) => format!(": {}", reason(&warning.to_string())),
        (false, None) => String::new(),
    };
    let verdict = match time {
        "never" => format!("not guessed in years{why}"),
        time => format!("guessed {time}{why}"),
    };
    Strength { score, verdict }
}

/// The estimator's warning in our words.
fn reason(warning: &str) -> &'static str {
    let warning = warning.to_lowercase();
    let table = [
        ("keyboard", "keys beside each other"),
        ("rows of keys", "keys beside each other"),
        ("repeat", "the same again and again"),
        ("sequence", "a sequence anybody would try"),
        ("year", "a year"),
        ("date", "a date"),
        ("surname", "a name"),
        ("name", "a name"),
        ("word by itself", "a single word"),
        ("common password", "among the passwords that everybody uses"),
        ("top-", "among the passwords that everybody uses"),
        ("similar", "close to a password that many use"),
    ];
    let found = table.iter().find(|(part, _)| warning.contains(part));
    found.map_or("of a kind that is tried early", |(_, reason)| reason)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_verdict_reads_as_a_sentence() {
        let judged = strength(b"maren2026", &["maren", "Maren Solvik"]);
        assert!(judged.verdict.ends_with(": built on the account's own name"), "{judged:?}");
        assert!(judged.score < 2, "{judged:?}");
        let judged = strength(b"password1", &[]);
        assert_eq!(judged.verdict, "guessed at once: among the passwords that everybody uses");
        let judged = strength(b"kelp-Harbour.91 tern", &["maren"]);
        assert_eq!((judged.score, judged.verdict.as_str()), (4, "not guessed in years"));
        strength(&[b'a'; 511], &[]);
    }
}
