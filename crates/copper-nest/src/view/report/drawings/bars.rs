//! How many there are of each age.

use nest_core::report::AgeBar;
use nest_core::words::grouped;

use super::Px;

/// How many there are of each age.
pub struct Bars {
    pub id: &'static str,
    pub title: &'static str,
    pub by: String,
    pub alt: String,
    pub height: usize,
    pub bars: Vec<BarDrawn>,
}

/// One of them.
pub struct BarDrawn {
    pub label: &'static str,
    pub count: String,
    pub y: usize,
    pub text_y: usize,
    pub width: Px,
    pub end: Px,
}

/// Draws ages.
pub fn bars(id: &'static str, title: &'static str, by: String, ages: &[AgeBar]) -> Bars {
    const ROW: usize = 22;
    const LEFT: f64 = 140.0;
    const WIDE: f64 = 170.0;
    let most = ages.iter().map(|bar| bar.count).max().unwrap_or(0).max(1);
    let drawn = ages.iter().enumerate().map(|(at, bar)| {
        let width = WIDE * bar.count as f64 / most as f64;
        BarDrawn {
            label: bar.label,
            count: grouped(bar.count),
            y: at * ROW,
            text_y: at * ROW + 13,
            width: Px(width),
            end: Px(LEFT + width + 6.0),
        }
    });
    let told = ages.iter().filter(|bar| bar.count > 0);
    let told: Vec<String> = told.map(|bar| format!("{}: {}", bar.label, bar.count)).collect();
    let alt = match told.is_empty() {
        true => "nobody".to_owned(),
        false => told.join(", "),
    };
    Bars { id, title, by, alt, height: ages.len() * ROW, bars: drawn.collect() }
}

#[cfg(test)]
mod tests {
    use nest_core::report::{Age, by_age};

    use super::*;

    #[test]
    fn a_bar_is_as_long_as_what_it_counts() {
        let ages = [1, 1, 20, 20, 20, 20].map(Age::Days);
        let drawn = bars("passwords", "Passwords", String::new(), &by_age(ages));
        let widths: Vec<String> = drawn.bars.iter().map(|bar| bar.width.to_string()).collect();
        assert_eq!(widths, ["85", "170", "0", "0", "0", "0", "0"]);
        assert_eq!(drawn.alt, "up to 7 days: 2, up to 30 days: 4");
    }
}
