//! What mends a finding, as it can be pasted.

use nest_core::check::{Command, Remedy};
use nest_core::value::is_unseen;

use crate::cli::Global;

/// The command of a way; nothing for what has to be done by hand.
pub fn pasteable(global: &Global, remedy: &Remedy) -> Option<String> {
    remedy.command.as_ref().map(|command| command_text(global, command))
}

/// The plainest way in one line: a command, or what to do by hand.
pub fn plainest(global: &Global, remedies: &[Remedy]) -> String {
    let Some(first) = remedies.first() else { return String::new() };
    pasteable(global, first).unwrap_or_else(|| first.when.clone())
}

fn command_text(global: &Global, command: &Command) -> String {
    match command {
        Command::Repair(rule) => global.command(&format!("repair --only {}", rule.name)),
        Command::Own(words) => {
            let words: Vec<String> = words.iter().map(|word| quoted(word)).collect();
            global.command(&words.join(" "))
        }
        Command::System(words, paths) => {
            let tree = global.tree.to_string_lossy();
            let tree = tree.trim_end_matches('/').as_bytes();
            let paths = paths.iter().map(|path| quoted(&[tree, path].concat()));
            format!("{words} {}", paths.collect::<Vec<_>>().join(" "))
        }
    }
}

/// A word as a shell takes it; what is not text, or would steer the terminal, as
/// bash, zsh and ksh write it.
fn quoted(word: &[u8]) -> String {
    match std::str::from_utf8(word) {
        Ok(text) if !text.chars().any(|c| c.is_control() || is_unseen(c)) => {
            shell_words::quote(text).into_owned()
        }
        _ => {
            let escaped = word.iter().map(|byte| match byte {
                b'\'' | b'\\' => format!("\\{}", char::from(*byte)),
                b' '..=b'~' => char::from(*byte).to_string(),
                byte => format!("\\x{byte:02x}"),
            });
            format!("$'{}'", escaped.collect::<String>())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_quoted_so_that_a_shell_gives_them_back() {
        let words: [&[u8]; 6] = [
            b"maren",
            b"a b",
            b"it's",
            b"line\nend \xff'\\",
            b"--drop-member",
            "ma\u{200b}ren".as_bytes(),
        ];
        for word in words {
            let script = format!("printf %s {}", quoted(word));
            let run = std::process::Command::new("bash").args(["-c", &script]).output().unwrap();
            assert_eq!(run.stdout, word, "{script}");
            assert!(!quoted(word).contains('\u{200b}'));
        }
    }
}
