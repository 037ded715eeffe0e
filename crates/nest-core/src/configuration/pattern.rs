//! Patterns, as the SSH server's configuration, ssh_config(5), and sudo have them: `*` for any bytes, `?` for one,
//! lists with commas in which `!` takes out.

/// Whether a name fits a pattern.
pub fn fits(name: &[u8], pattern: &[u8]) -> bool {
    let (mut at, mut next) = (0, 0);
    // Where the last star stands, and how much of the name it takes.
    let mut star: Option<(usize, usize)> = None;
    while at < name.len() {
        match pattern.get(next) {
            Some(b'*') => {
                star = Some((next, at));
                next += 1;
            }
            Some(&byte) if byte == b'?' || byte == name[at] => {
                at += 1;
                next += 1;
            }
            _ => {
                let Some((stands, taken)) = star else { return false };
                star = Some((stands, taken + 1));
                at = taken + 1;
                next = stands + 1;
            }
        }
    }
    pattern[next..].iter().all(|&byte| byte == b'*')
}

/// Whether one of some names fits a list of patterns: one that is taken out keeps all out.
pub fn fits_list<'a>(names: &[impl AsRef<[u8]>], list: &'a [u8]) -> bool {
    let fits_any = |pattern: &[u8]| names.iter().any(|name| fits(name.as_ref(), pattern));
    let taken_out = |pattern: &'a [u8]| pattern.strip_prefix(b"!").is_some_and(fits_any);
    let patterns = || list.split(|&byte| byte == b',');
    !patterns().any(taken_out)
        && patterns().any(|pattern| !pattern.starts_with(b"!") && fits_any(pattern))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stars_take_any_bytes_and_question_marks_one() {
        for (name, pattern, wanted) in [
            ("maren", "maren", true),
            ("maren", "mar*", true),
            ("maren", "*", true),
            ("", "*", true),
            ("maren", "m*r*n", true),
            ("maren", "m*r?n", true),
            ("maren", "?aren", true),
            ("maren", "mare", false),
            ("maren", "?", false),
            ("maren", "Maren", false),
            ("aXbXc", "*X?", true),
        ] {
            assert_eq!(fits(name.as_bytes(), pattern.as_bytes()), wanted, "{name} {pattern}");
        }
    }

    #[test]
    fn what_a_list_takes_out_is_out() {
        assert!(fits_list(&["maren"], b"tavish,mar*"));
        assert!(!fits_list(&["maren"], b"*,!maren"));
        assert!(!fits_list(&["maren"], b"!tavish"));
        assert!(fits_list(&["crew", "pilots"], b"pilots"));
        assert!(!fits_list(&["crew", "pilots"], b"!crew,pilots"));
    }
}
