//! Reads the SSH server's configuration, sshd_config(5), as far as it says who may sign in.
//!
//! Of each keyword the first value counts; lists of users and groups add up. What stands in a
//! `Match` block comes before what stands outside.

use bstr::{BStr, BString, ByteSlice};

use super::Criterion;
use crate::configuration::{ConfigFiles, Place};

/// What matters here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::IntoStaticStr)]
#[strum(ascii_case_insensitive)]
#[expect(missing_docs, reason = "they are the keywords of sshd_config(5)")]
pub enum Keyword {
    AllowUsers,
    DenyUsers,
    AllowGroups,
    DenyGroups,
    PubkeyAuthentication,
    PasswordAuthentication,
    #[strum(
        to_string = "KbdInteractiveAuthentication",
        serialize = "KbdInteractiveAuthentication",
        serialize = "ChallengeResponseAuthentication",
        serialize = "SkeyAuthentication"
    )]
    KbdInteractiveAuthentication,
    PermitEmptyPasswords,
    PermitRootLogin,
    AuthorizedKeysFile,
    StrictModes,
    UsePAM,
    AuthenticationMethods,
    AuthorizedKeysCommand,
    TrustedUserCAKeys,
}

impl Keyword {
    /// Whether each line adds to the ones before.
    fn adds_up(self) -> bool {
        matches!(
            self,
            Keyword::AllowUsers | Keyword::DenyUsers | Keyword::AllowGroups | Keyword::DenyGroups
        )
    }
}

/// A line that is set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting {
    /// What is set.
    pub keyword: Keyword,
    /// To what.
    pub words: Vec<BString>,
    /// Where.
    pub place: Place,
}

/// Lines that hold for all, or for those who meet some criteria.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Block {
    /// All have to be met.
    pub criteria: Vec<Criterion>,
    /// Of a `Match` block, where it begins.
    pub place: Option<Place>,
    /// What it sets, in their order.
    pub settings: Vec<Setting>,
}

impl Block {
    /// What it sets a keyword to.
    pub fn get(&self, keyword: Keyword) -> Option<&Setting> {
        self.settings.iter().find(|setting| setting.keyword == keyword)
    }

    /// All that it sets a keyword to.
    pub fn all(&self, keyword: Keyword) -> impl Iterator<Item = &Setting> {
        self.settings.iter().filter(move |setting| setting.keyword == keyword)
    }
}

/// How deep files may include others: the server gives up beyond.
const DEPTH: usize = 16;

/// Reads a configuration with all that it includes: the block that holds for all, and the
/// others.
///
/// # Errors
/// Why it can't be told what it says.
pub fn read(path: &BStr, text: &[u8], files: &dyn ConfigFiles) -> Result<Vec<Block>, Unread> {
    let mut reader = Reader { files, blocks: vec![Block::default()], at: 0 };
    reader.file(path, text, 0)?;
    Ok(reader.blocks)
}

/// Why a configuration is of no use.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unread {
    /// It could not be read.
    #[error("{0} {1}")]
    Unreadable(BString, String),
    /// A file includes itself, or too many are included by one another.
    #[error("{0} is included {DEPTH} levels deep, and the SSH server does not start with that")]
    TooDeep(BString),
}

struct Reader<'f> {
    files: &'f dyn ConfigFiles,
    blocks: Vec<Block>,
    /// The block that lines go to.
    at: usize,
}

impl Reader<'_> {
    fn file(&mut self, path: &BStr, text: &[u8], depth: usize) -> Result<(), Unread> {
        if depth >= DEPTH {
            return Err(Unread::TooDeep(path.into()));
        }
        // A block of this file may narrow the one that it is included in.
        let outer = self.at;
        for (number, line) in text.lines().enumerate() {
            let Some((keyword, words)) = split(line) else { continue };
            let place = || Place { file: path.into(), line: number + 1 };
            if keyword.eq_ignore_ascii_case(b"Include") {
                let here = self.at;
                for pattern in words {
                    self.include(pattern.as_bstr(), depth)?;
                    self.at = here;
                }
            } else if keyword.eq_ignore_ascii_case(b"Match") {
                let mut criteria = self.blocks[outer].criteria.clone();
                criteria.extend(Criterion::read(&words));
                self.blocks.push(Block { criteria, place: Some(place()), settings: Vec::new() });
                self.at = self.blocks.len() - 1;
            } else if let Ok(Ok(keyword)) = keyword.to_str().map(str::parse::<Keyword>) {
                let block = &mut self.blocks[self.at];
                if keyword.adds_up() || block.get(keyword).is_none() {
                    block.settings.push(Setting { keyword, words, place: place() });
                }
            }
        }
        self.at = outer;
        Ok(())
    }

    fn include(&mut self, pattern: &BStr, depth: usize) -> Result<(), Unread> {
        let pattern = match pattern.strip_prefix(b"/") {
            Some(from_root) => BString::from(from_root),
            None => [b"etc/ssh/", pattern.as_bytes()].concat().into(),
        };
        let unread = |why| Unread::Unreadable(pattern.clone(), why);
        for path in self.files.named(pattern.as_bstr()).map_err(unread)? {
            let unread = |why| Unread::Unreadable(path.clone(), why);
            if let Some(text) = self.files.read(path.as_bstr()).map_err(unread)? {
                self.file(path.as_bstr(), &text, depth + 1)?;
            }
        }
        Ok(())
    }
}

/// The keyword of a line and what follows it; nothing where the line is blank or a comment.
fn split(line: &[u8]) -> Option<(&[u8], Vec<BString>)> {
    let line = line.trim_ascii();
    if line.is_empty() || line.starts_with(b"#") {
        return None;
    }
    let end = line.find_byteset(b" \t=").unwrap_or(line.len());
    let (keyword, rest) = line.split_at(end);
    let rest = rest.trim_ascii_start();
    let rest = rest.strip_prefix(b"=").unwrap_or(rest).trim_ascii_start();
    Some((keyword, words(rest)))
}

/// Words between blanks, up to a comment; quotes keep blanks in, and a backslash a quote.
fn words(text: &[u8]) -> Vec<BString> {
    let (mut words, mut word): (Vec<BString>, Option<BString>) = (Vec::new(), None);
    let mut quote = None;
    let mut bytes = text.iter().copied().peekable();
    while let Some(byte) = bytes.next() {
        let next = bytes.peek().copied();
        match (byte, quote) {
            (b'#', None) if word.is_none() => break,
            (b' ' | b'\t', None) => words.extend(word.take()),
            (b'"' | b'\'', None) => {
                quote = Some(byte);
                word.get_or_insert_default();
            }
            (_, Some(open)) if byte == open => quote = None,
            (b'\\', _) if matches!(next, Some(b'"' | b'\'' | b'\\')) => {
                word.get_or_insert_default().extend(next);
                bytes.next();
            }
            _ => word.get_or_insert_default().push(byte),
        }
    }
    words.extend(word);
    words
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::configuration::WrittenFiles;

    fn blocks(files: Vec<(&'static str, &'static str)>) -> Result<Vec<Block>, Unread> {
        let text = files[0].1.as_bytes();
        read(files[0].0.into(), text, &WrittenFiles(files))
    }

    fn said(block: &Block) -> Vec<String> {
        let setting = |setting: &Setting| {
            let keyword: &str = setting.keyword.into();
            format!("{} {keyword} {}", setting.place, bstr::join(" ", &setting.words).as_bstr())
        };
        block.settings.iter().map(setting).collect()
    }

    #[test]
    fn the_first_value_counts_and_lists_add_up() {
        let text = "# PubkeyAuthentication no\r\n  UsePAM = yes # all\r\nusepam no\r\n\
                    AllowUsers \"ma ren\" tavish\r\nX11Forwarding yes\r\nallowusers it\\\"s\r\n\
                    challengeresponseauthentication=no\r\n";
        let blocks = blocks(vec![("etc/ssh/sshd_config", text)]).unwrap();
        assert_eq!(
            said(&blocks[0]),
            [
                "etc/ssh/sshd_config:2 UsePAM yes",
                "etc/ssh/sshd_config:4 AllowUsers ma ren tavish",
                "etc/ssh/sshd_config:6 AllowUsers it\"s",
                "etc/ssh/sshd_config:7 KbdInteractiveAuthentication no",
            ]
        );
    }

    #[test]
    fn what_is_included_stands_in_its_place_and_blocks_end_with_their_file() {
        let blocks = blocks(vec![
            (
                "etc/ssh/sshd_config",
                "Include /etc/ssh/d/*.conf\nUsePAM no\nMatch Group crew\nInclude d/inner\n\
                 StrictModes no\nMatch all\nPermitRootLogin no\n",
            ),
            ("etc/ssh/d/a.conf", "UsePAM yes\nMatch User maren\nUsePAM no\n"),
            ("etc/ssh/d/b.conf", "PasswordAuthentication no\n"),
            ("etc/ssh/d/inner", "PubkeyAuthentication no\nMatch User tavish\nAllowUsers x\n"),
        ])
        .unwrap();
        assert_eq!(
            said(&blocks[0]),
            ["etc/ssh/d/a.conf:1 UsePAM yes", "etc/ssh/d/b.conf:1 PasswordAuthentication no",]
        );
        let crew = &blocks[2];
        assert_eq!(
            said(crew),
            ["etc/ssh/d/inner:1 PubkeyAuthentication no", "etc/ssh/sshd_config:5 StrictModes no"]
        );
        assert_eq!(blocks[3].criteria.len(), 2, "{blocks:?}");
        assert_eq!(said(&blocks[3]), ["etc/ssh/d/inner:3 AllowUsers x"]);
        assert_eq!(blocks[4].criteria, []);
        assert_eq!(said(&blocks[4]), ["etc/ssh/sshd_config:7 PermitRootLogin no"]);
    }

    #[test]
    fn a_file_that_includes_itself_is_told() {
        let unread = blocks(vec![("etc/ssh/sshd_config", "Include sshd_config\n")]).unwrap_err();
        assert_eq!(
            unread.to_string(),
            "etc/ssh/sshd_config is included 16 levels deep, and the SSH server does not start \
             with that"
        );
    }
}
