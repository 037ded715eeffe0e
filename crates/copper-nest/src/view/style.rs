//! The colours: copper for headings, the terminal's own for the rest.

use anstyle::{Ansi256Color, AnsiColor, Color, Style};
use nest_core::check::Severity;

/// Headings.
pub const HEADING: Style = Style::new().fg_color(Some(Color::Ansi256(Ansi256Color(208))));
/// Reasons, sources, places: what one reads second.
pub const QUIET: Style = Style::new().dimmed();
/// What comes.
pub const GOOD: Style = Style::new().fg_color(Some(Color::Ansi(AnsiColor::Green)));
/// What should be looked at.
pub const WARN: Style = Style::new().fg_color(Some(Color::Ansi(AnsiColor::Yellow)));
/// What is wrong.
pub const BAD: Style = Style::new().fg_color(Some(Color::Ansi(AnsiColor::Red)));

/// The colour of a severity.
pub fn of(severity: Severity) -> Style {
    match severity {
        Severity::Error => BAD,
        Severity::Warning => WARN,
        Severity::Note => QUIET,
    }
}
