//! What all pages have around them: the style, the script, and the policy that lets nothing else
//! be loaded or run.

use base64ct::{Base64, Encoding};
use nest_core::words::grouped;
use sha2::{Digest, Sha256};

/// What is put around the parts of a page.
pub struct Shell {
    /// What it is called.
    pub title: String,
    /// What is told of it before anything else.
    pub facts: Vec<String>,
    /// What is to be known of all of it.
    pub notes: Vec<String>,
    /// Its parts: the place of each, and what it is called.
    pub parts: &'static [(&'static str, &'static str)],
    /// The version of the program.
    pub program: &'static str,
    /// What the page may load and run: itself. Content Security Policy, level 3.
    pub policy: String,
    /// How it looks.
    pub style: &'static str,
    /// What runs before anything is drawn.
    pub early: &'static str,
    /// What sorts, filters and zooms.
    pub script: &'static str,
}

const STYLE: &str = include_str!("../../../templates/report/report.css");
const EARLY: &str = include_str!("../../../templates/report/early.js");
const SCRIPT: &str = include_str!("../../../templates/report/report.js");

impl Shell {
    /// The shell of a page.
    pub fn new(title: String, parts: &'static [(&'static str, &'static str)]) -> Self {
        let hash = |text: &str| {
            format!("'sha256-{}'", Base64::encode_string(&Sha256::digest(text.as_bytes())))
        };
        let policy = format!(
            "default-src 'none'; style-src {}; script-src {} {}; base-uri 'none'; form-action 'none'",
            hash(STYLE),
            hash(EARLY),
            hash(SCRIPT)
        );
        Shell {
            title,
            facts: Vec::new(),
            notes: Vec::new(),
            parts,
            program: env!("CARGO_PKG_VERSION"),
            policy,
            style: STYLE,
            early: EARLY,
            script: SCRIPT,
        }
    }
}

/// A number that is told at a glance, and the command that tells it too.
pub struct Card {
    /// The number.
    pub count: String,
    /// Of what.
    pub what: &'static str,
    /// Whether it is good or bad, as a class of the style.
    pub tone: &'static str,
    /// The command.
    pub command: &'static str,
}

impl Card {
    /// A number that is neither good nor bad.
    pub fn new(count: usize, [one, many]: [&'static str; 2], command: &'static str) -> Self {
        let what = if count == 1 { one } else { many };
        Card { count: grouped(count), what, tone: "", command }
    }

    /// One that is bad unless it is 0.
    pub fn against(self, tone: &'static str) -> Self {
        let tone = if self.count == "0" { "good" } else { tone };
        Card { tone, ..self }
    }
}
