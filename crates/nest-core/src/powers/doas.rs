//! Who may become root by doas: doas.conf(5). The last line that is about somebody counts.

use bstr::{BStr, BString, ByteSlice};

use crate::configuration::{ConfigFiles, Place};
use crate::sudo::{AskedFor, Asker, Gives, Grant, Named};
use crate::value::{Gid, Uid};

/// Where it is configured: the first that there is.
const FILES: [&str; 2] = ["etc/doas.conf", "usr/local/etc/doas.conf"];

/// What doas is configured to do.
#[derive(Debug, Clone, Default)]
pub struct Doas {
    rules: Vec<Rule>,
    /// Lines that doas would not understand; it then does nothing at all.
    pub faulty: Vec<(Place, BString)>,
    /// Why it could not be read.
    pub unread: Option<String>,
}

#[derive(Debug, Clone)]
struct Rule {
    place: Place,
    text: BString,
    permits: bool,
    asks: bool,
    who: Named,
    word: BString,
    /// Whether it is about becoming root.
    as_root: bool,
    /// One command, with its arguments; everything where there is none.
    command: Option<BString>,
}

impl Doas {
    /// Reads the configuration of a tree.
    pub fn read(files: &dyn ConfigFiles) -> Self {
        let mut doas = Doas::default();
        for path in FILES {
            match files.read(path.into()) {
                Ok(Some(text)) => {
                    doas.lines(path, &text);
                    break;
                }
                Ok(None) => {}
                Err(why) => {
                    doas.unread = Some(format!("{path} {why}"));
                    break;
                }
            }
        }
        doas
    }

    fn lines(&mut self, path: &str, text: &[u8]) {
        let mut open: Option<(usize, Vec<u8>)> = None;
        for (at, line) in text.lines().enumerate() {
            let (number, mut whole) = open.take().unwrap_or((at + 1, Vec::new()));
            match line.strip_suffix(b"\\") {
                Some(goes_on) => {
                    whole.extend_from_slice(goes_on);
                    open = Some((number, whole));
                    continue;
                }
                None => whole.extend_from_slice(line),
            }
            let place = Place { file: path.into(), line: number };
            match words(&whole) {
                Some(words) if words.is_empty() => {}
                words => match words.and_then(|words| rule(&words, &place, &whole)) {
                    Some(rule) => self.rules.push(rule),
                    None => self.faulty.push((place, whole.trim_ascii().into())),
                },
            }
        }
    }

    /// Whether anything is configured.
    pub fn is_configured(&self) -> bool {
        !self.rules.is_empty()
    }

    /// What it gives an account as root.
    pub fn grants(&self, asker: &Asker<'_>) -> Vec<Grant> {
        let mut grants: Vec<Grant> = Vec::new();
        if !self.faulty.is_empty() {
            return grants;
        }
        for rule in self.rules.iter().filter(|rule| rule.as_root && rule.who.means(asker)) {
            match (&rule.command, rule.permits) {
                (None, false) => grants.clear(),
                (Some(command), false) => {
                    for grant in &mut grants {
                        match &mut grant.gives {
                            Gives::Everything { but } => but.push(command.clone()),
                            Gives::Commands(some) => some.retain(|other| other != command),
                            Gives::Unknown(_) => {}
                        }
                    }
                }
                (command, true) => grants.push(Grant {
                    place: rule.place.clone(),
                    text: rule.text.clone(),
                    by: rule.word.clone(),
                    gives: match command {
                        None => Gives::Everything { but: Vec::new() },
                        Some(command) => Gives::Commands(vec![command.clone()]),
                    },
                    asks: if rule.asks { AskedFor::Own } else { AskedFor::Nobody },
                }),
            }
        }
        grants.retain(|grant| grant.gives != Gives::Commands(Vec::new()));
        grants
    }

    /// Every account and group that a line gives something to, with the lines.
    pub fn named(&self) -> Vec<(Named, &Place)> {
        let permits = self.rules.iter().filter(|rule| rule.permits);
        permits.map(|rule| (rule.who.clone(), &rule.place)).collect()
    }
}

/// The words of a line, without its comment; quotes keep blanks in.
fn words(line: &[u8]) -> Option<Vec<BString>> {
    let (mut words, mut word, mut quoted): (Vec<BString>, Option<BString>, bool) =
        (Vec::new(), None, false);
    let mut bytes = line.iter().copied();
    while let Some(byte) = bytes.next() {
        match byte {
            b'\\' => word.get_or_insert_default().push(bytes.next()?),
            b'"' => {
                quoted = !quoted;
                word.get_or_insert_default();
            }
            b'#' if !quoted => break,
            b'{' | b'}' if !quoted => {
                words.extend(word.take());
                words.push(BString::from(vec![byte]));
            }
            byte if byte.is_ascii_whitespace() && !quoted => words.extend(word.take()),
            byte => word.get_or_insert_default().push(byte),
        }
    }
    words.extend(word);
    (!quoted).then_some(words)
}

/// `permit|deny [options] identity [as target] [cmd command [args …]]`
fn rule(words: &[BString], place: &Place, text: &[u8]) -> Option<Rule> {
    let mut words = words.iter().map(|word| word.as_bstr()).peekable();
    let permits = match words.next()? {
        word if word == "permit" => true,
        word if word == "deny" => false,
        _ => return None,
    };
    let mut asks = true;
    let word = loop {
        let word = words.next()?;
        match word.as_bytes() {
            b"nopass" => asks = false,
            b"persist" | b"keepenv" | b"nolog" => {}
            b"setenv" => {
                let opens = words.next()? == "{";
                if !opens || !words.by_ref().any(|word| word == "}") {
                    return None;
                }
            }
            _ => break word,
        }
    };
    let mut as_root = true;
    if words.next_if(|word| *word == "as").is_some() {
        let target = words.next()?;
        as_root = target == "root" || target == "0";
    }
    let mut command = None;
    if words.next_if(|word| *word == "cmd").is_some() {
        let mut whole = vec![words.next()?];
        if words.next_if(|word| *word == "args").is_some() {
            whole.extend(words.by_ref());
        }
        command = Some(bstr::join(" ", whole).into());
    }
    if words.next().is_some() {
        return None;
    }
    let (place, text) = (place.clone(), text.trim_ascii().into());
    let (who, word) = (who(word)?, word.into());
    Some(Rule { place, text, permits, asks, who, word, as_root, command })
}

fn who(word: &BStr) -> Option<Named> {
    let number = |text: &[u8]| std::str::from_utf8(text).ok()?.parse::<u32>().ok();
    match word.strip_prefix(b":") {
        Some([]) => None,
        Some(group) => Some(match number(group) {
            Some(gid) => Named::Gid(Gid(gid)),
            None => Named::Group(group.into()),
        }),
        None => Some(match number(word) {
            Some(uid) => Named::Uid(Uid(uid)),
            None => Named::User(word.into()),
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::configuration::WrittenFiles;

    fn given(text: &'static str) -> Vec<String> {
        let doas = Doas::read(&WrittenFiles(vec![("etc/doas.conf", text)]));
        let groups = || vec![(Gid(1004), &b"maren"[..]), (Gid(10), b"wheel")];
        let asker = Asker { name: b"maren", uid: Some(Uid(1004)), groups: &groups };
        let told =
            |grant: Grant| format!("{} {} {:?} {}", grant.place, grant.by, grant.gives, grant.asks);
        let faulty = doas.faulty.iter().map(|(place, _)| format!("{place} is faulty"));
        doas.grants(&asker).into_iter().map(told).chain(faulty).collect()
    }

    #[test]
    fn the_last_line_that_is_about_somebody_counts() {
        let all = given("# us\npermit persist :wheel\n");
        assert_eq!(all, ["etc/doas.conf:2 :wheel Everything { but: [] } own"]);
        assert_eq!(given("permit :wheel\ndeny maren\n"), [""; 0]);
        let all =
            given("permit nopass setenv { -ENV PS1=$DOAS } maren as root cmd /bin/ls args -l\n");
        assert_eq!(all, [r#"etc/doas.conf:1 maren Commands(["/bin/ls -l"]) none"#]);
        assert_eq!(given("permit maren as tide\npermit tavish\n"), [""; 0]);
        assert!(given("permit 1004\ndeny :wheel cmd /bin/sh\n")[0].contains(r#"but: ["/bin/sh"]"#));
    }

    #[test]
    fn one_faulty_line_makes_doas_do_nothing() {
        for line in [
            "permit",
            "allow maren",
            "permit maren as",
            "permit maren cmd",
            "permit setenv maren",
            "permit : x",
        ] {
            let text: &'static str = Box::leak(format!("permit maren\n{line}\n").into_boxed_str());
            assert_eq!(given(text), ["etc/doas.conf:2 is faulty"], "{line}");
        }
    }
}
