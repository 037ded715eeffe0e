//! Characters that nobody sees.

/// Whether a character is one that nobody sees: marks of byte order and of direction, and such of no width.
pub fn is_unseen(c: char) -> bool {
    matches!(c, '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{115f}' | '\u{1160}' | '\u{17b4}'..='\u{17b5}'
        | '\u{180b}'..='\u{180f}' | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}'
        | '\u{2060}'..='\u{206f}' | '\u{3164}' | '\u{fe00}'..='\u{fe0f}' | '\u{feff}'
        | '\u{ffa0}' | '\u{e0000}'..='\u{e0fff}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_are_seen_and_marks_of_direction_are_not() {
        assert!(['a', 'ø', '船', '\u{301}', ' '].into_iter().all(|c| !is_unseen(c)));
        assert!(['\u{200b}', '\u{202e}', '\u{feff}', '\u{ad}'].into_iter().all(is_unseen));
    }
}
