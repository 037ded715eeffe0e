//! The expressions of file contexts: those of PCRE, pcre2pattern(3), from the beginning of a
//! path to its end.

use bstr::BString;
use regex::bytes::{RegexBuilder, RegexSet, RegexSetBuilder};

/// So many bytes the expressions may take when they are made ready.
const MOST: usize = 16 << 20;

/// An expression of a line.
#[derive(Debug)]
pub(super) struct Expression {
    source: BString,
    /// What every path begins with that it fits.
    prefix: BString,
    plain: bool,
}

impl Expression {
    pub fn new(source: &[u8]) -> Self {
        let (mut prefix, mut bytes) = (Vec::new(), source.iter().copied().peekable());
        let mut plain = true;
        while let Some(byte) = bytes.next() {
            match byte {
                b'.' | b'^' | b'$' | b'[' | b'(' | b'|' | b')' => plain = false,
                // The character before it may be there or not.
                b'?' | b'*' | b'{' => {
                    prefix.pop();
                    plain = false;
                }
                b'+' => plain = false,
                b'\\' => match bytes.peek().copied() {
                    Some(escaped) if !escaped.is_ascii_alphanumeric() => {
                        prefix.push(escaped);
                        bytes.next();
                    }
                    _ => plain = false,
                },
                byte => prefix.push(byte),
            }
            if !plain {
                break;
            }
        }
        // One of several has to fit: they have no beginning in common that is known.
        if !plain && has_alternatives(source) {
            prefix.clear();
        }
        Expression { source: source.into(), prefix: prefix.into(), plain }
    }

    /// Whether it is the path itself.
    pub fn is_plain(&self) -> bool {
        self.plain
    }

    pub fn prefix(&self) -> &[u8] {
        &self.prefix
    }

    /// The directory that all it fits is in, with a slash after it; the path itself, where it is
    /// one.
    pub fn folder(&self) -> Vec<u8> {
        match self.plain {
            true => [&self.prefix[..], b"/"].concat(),
            false => {
                let end = self.prefix.iter().rposition(|&byte| byte == b'/');
                self.prefix[..end.map_or(0, |end| end + 1)].to_vec()
            }
        }
    }

    /// Whether it may fit a path, or one below it.
    pub fn may_fit_below(&self, path: &[u8]) -> bool {
        match self.plain || self.prefix.len() > path.len() {
            true => super::is_below(&self.prefix, path),
            false => path.starts_with(&self.prefix),
        }
    }

    /// Whether it fits a path.
    pub fn fits(&self, path: &[u8]) -> bool {
        match self.plain {
            true => self.prefix == path,
            false => builder(&self.pattern()).is_ok_and(|built| built.is_match(path)),
        }
    }

    /// Why it can't be understood.
    pub fn fault(&self) -> Option<String> {
        let fault = match builder(&self.pattern()) {
            Ok(_) => return None,
            Err(regex::Error::CompiledTooBig(_)) => "an expression that is too large".to_owned(),
            Err(regex::Error::Syntax(syntax)) => {
                let last = syntax.lines().last().unwrap_or_default();
                let why = last.trim_start_matches("error: ");
                format!("an expression that can't be understood: {why}")
            }
            Err(other) => format!("an expression that can't be understood: {other}"),
        };
        Some(format!("has {fault}"))
    }

    fn pattern(&self) -> String {
        // What is not UTF-8 stands there byte by byte.
        let mut pattern = String::from("^");
        for byte in self.source.iter() {
            match byte {
                byte if byte.is_ascii() => pattern.push(char::from(*byte)),
                byte => pattern += &format!("\\x{byte:02x}"),
            }
        }
        pattern + "$"
    }
}

/// Whether one of several has to fit, outside of brackets.
fn has_alternatives(source: &[u8]) -> bool {
    let (mut depth, mut escaped, mut class) = (0_u32, false, false);
    for &byte in source {
        match byte {
            _ if escaped => escaped = false,
            b'\\' => escaped = true,
            b']' if class => class = false,
            _ if class => {}
            b'[' => class = true,
            b'(' => depth += 1,
            b')' => depth = depth.saturating_sub(1),
            b'|' if depth == 0 => return true,
            _ => {}
        }
    }
    false
}

fn builder(pattern: &str) -> Result<regex::bytes::Regex, regex::Error> {
    let mut builder = RegexBuilder::new(pattern);
    builder.unicode(false).dot_matches_new_line(true).size_limit(MOST).build()
}

/// All of them at once; nothing where one can't be understood.
pub(super) fn set<'e>(expressions: impl Iterator<Item = &'e Expression>) -> Option<RegexSet> {
    let patterns: Vec<String> = expressions.map(Expression::pattern).collect();
    let mut builder = RegexSetBuilder::new(patterns);
    builder.unicode(false).dot_matches_new_line(true).size_limit(MOST).build().ok()
}
