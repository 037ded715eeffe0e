//! Sizes of files, for people.

use crate::words::counted;

/// A size for people: `812 bytes`, `4.1 MB`.
pub fn bytes_in_words(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["kB", "MB", "GB", "TB", "PB"];
    if bytes < 1000 {
        return counted(bytes, "byte", "bytes");
    }
    let (mut size, mut unit) = (bytes as f64 / 1000.0, 0);
    while size >= 999.95 && unit + 1 < UNITS.len() {
        size /= 1000.0;
        unit += 1;
    }
    format!("{size:.1} {}", UNITS[unit])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_told_in_words() {
        let told = [1, 999, 1000, 999_949, 999_950, 4_100_000, u64::MAX].map(bytes_in_words);
        let expected =
            ["1 byte", "999 bytes", "1.0 kB", "999.9 kB", "1.0 MB", "4.1 MB", "18446.7 PB"];
        assert_eq!(told, expected);
    }
}
