//! The colours. Each is seen against black and against white alike, at a contrast of at least
//! 4.5 to 1 (WCAG 2.2, 1.4.3), which few are: nobody has to say what their terminal looks like.

use anstyle::{Ansi256Color, Color, Effects, Style};
use nest_core::check::Severity;

/// Copper, for headings.
pub const COPPER: u8 = 131;
const GREEN: u8 = 29;
const RED: u8 = 163;
const GREY: u8 = 243;

const fn coloured(index: u8) -> Style {
    Style::new().fg_color(Some(Color::Ansi256(Ansi256Color(index))))
}

/// Headings, and what is drawn.
pub const HEADING: Style = coloured(COPPER);
/// Reasons, sources, places: what one reads second.
pub const QUIET: Style = coloured(GREY);
/// What comes, and what is as it should be.
pub const GOOD: Style = coloured(GREEN);
/// What should be looked at.
pub const WARN: Style = Style::new().effects(Effects::BOLD);
/// What goes, and what is wrong.
pub const BAD: Style = coloured(RED);

/// The colour of a severity.
pub fn of(severity: Severity) -> Style {
    match severity {
        Severity::Error => BAD,
        Severity::Warning => WARN,
        Severity::Note => QUIET,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The luminance of a colour of the cube of 216, or of the greys.
    fn luminance(index: u8) -> f64 {
        let [red, green, blue] = match index.checked_sub(232) {
            Some(grey) => [8 + 10 * grey; 3],
            None => {
                let level = |step: u8| if step == 0 { 0 } else { 55 + 40 * step };
                let cube = index - 16;
                [level(cube / 36), level(cube / 6 % 6), level(cube % 6)]
            }
        };
        let linear = |channel: u8| {
            let share = f64::from(channel) / 255.0;
            if share <= 0.04045 { share / 12.92 } else { ((share + 0.055) / 1.055).powf(2.4) }
        };
        0.2126 * linear(red) + 0.7152 * linear(green) + 0.0722 * linear(blue)
    }

    #[test]
    fn every_colour_is_seen_on_black_and_on_white() {
        for index in [COPPER, GREEN, RED, GREY] {
            let on_black = (luminance(index) + 0.05) / 0.05;
            let on_white = 1.05 / (luminance(index) + 0.05);
            assert!(on_black >= 4.5 && on_white >= 4.5, "{index}: {on_black}, {on_white}");
        }
    }
}
