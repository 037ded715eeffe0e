//! The words of a line of sudoers(5), one after the other.

use bstr::{BString, ByteSlice};

use super::{CommandRule, Item};

/// Where the words before a colon are the tags of a command.
const TAGS: [&[u8]; 18] = [
    b"EXEC",
    b"NOEXEC",
    b"FOLLOW",
    b"NOFOLLOW",
    b"INTERCEPT",
    b"NOINTERCEPT",
    b"LOG_INPUT",
    b"NOLOG_INPUT",
    b"LOG_OUTPUT",
    b"NOLOG_OUTPUT",
    b"MAIL",
    b"NOMAIL",
    b"PASSWD",
    b"NOPASSWD",
    b"SETENV",
    b"NOSETENV",
    b"LOG_SUBCMDS",
    b"NOLOG_SUBCMDS",
];

/// Where the words before an equals sign are options of a command.
const OPTIONS: [&[u8]; 10] = [
    b"ROLE",
    b"TYPE",
    b"PRIVS",
    b"LIMITPRIVS",
    b"APPARMOR_PROFILE",
    b"CWD",
    b"CHROOT",
    b"TIMEOUT",
    b"NOTBEFORE",
    b"NOTAFTER",
];

/// What is left of a line.
pub(super) struct Cursor<'t>(pub &'t [u8]);

impl Cursor<'_> {
    pub fn blanks(&mut self) {
        self.0 = self.0.trim_ascii_start();
    }

    pub fn take(&mut self, byte: u8) -> bool {
        match self.0.split_first() {
            Some((first, rest)) if *first == byte => {
                self.0 = rest;
                true
            }
            _ => false,
        }
    }

    pub fn expect(&mut self, byte: u8) -> Option<()> {
        self.blanks();
        self.take(byte).then_some(())
    }

    /// Text in quotes, or up to where `ends` says; a backslash takes the next as it is.
    pub fn quoted_or(&mut self, ends: impl Fn(u8) -> bool) -> Option<BString> {
        let (mut word, mut bytes, mut quoted) = (BString::default(), self.0, false);
        let start = bytes.len();
        while let Some((&byte, rest)) = bytes.split_first() {
            match byte {
                b'"' => quoted = !quoted,
                b'\\' if !rest.is_empty() => {
                    word.push(rest[0]);
                    bytes = &rest[1..];
                    continue;
                }
                byte if !quoted && ends(byte) => break,
                byte => word.push(byte),
            }
            bytes = rest;
        }
        self.0 = bytes;
        (start > bytes.len() && !quoted).then_some(word)
    }

    /// The name of a user, a group, a host or an alias.
    pub fn word(&mut self) -> Option<BString> {
        self.blanks();
        // A colon may stand after the percent sign, and in the address of a host.
        let before = self.0;
        let mut prefix = BString::default();
        if before.starts_with(b"%:") {
            prefix = "%:".into();
            self.0 = &before[2..];
        } else {
            let is_address = |byte: &u8| byte.is_ascii_hexdigit() || matches!(byte, b':' | b'.');
            let end = before.iter().position(|byte| !is_address(byte)).unwrap_or(before.len());
            let (address, rest) = before.split_at(end);
            if address.iter().filter(|byte| **byte == b':').count() > 1 {
                let end = rest.iter().position(|byte| !matches!(byte, b'/' | b'0'..=b'9'));
                let (mask, rest) = rest.split_at(end.unwrap_or(rest.len()));
                self.0 = rest;
                return Some([address, mask].concat().into());
            }
        }
        let ends = |byte: u8| {
            byte.is_ascii_whitespace() || matches!(byte, b',' | b'=' | b':' | b'(' | b')' | b'!')
        };
        let word = self.quoted_or(ends)?;
        Some([prefix, word].concat().into())
    }

    /// `a, !b, c`
    pub fn list(&mut self) -> Option<Vec<Item>> {
        let mut items = Vec::new();
        loop {
            let negated = self.negations();
            items.push(Item { negated, word: self.word()? });
            self.blanks();
            if !self.take(b',') {
                return Some(items);
            }
        }
    }

    pub fn negations(&mut self) -> bool {
        let mut negated = false;
        loop {
            self.blanks();
            if !self.take(b'!') {
                return negated;
            }
            negated = !negated;
        }
    }

    /// A command with its arguments: up to a comma, a colon or the end.
    pub fn command(&mut self) -> Option<BString> {
        self.blanks();
        let (mut end, mut digest) = (0, false);
        for scheme in [&b"sha224:"[..], b"sha256:", b"sha384:", b"sha512:"] {
            if self.0.starts_with(scheme) {
                (end, digest) = (scheme.len(), true);
            }
        }
        let mut bytes = self.0.iter().enumerate().skip(end);
        end = self.0.len();
        while let Some((at, byte)) = bytes.next() {
            match byte {
                b'\\' => _ = bytes.next(),
                b',' | b':' => {
                    end = at;
                    break;
                }
                b'=' if !digest && at == 0 => return None,
                _ => {}
            }
        }
        let (command, rest) = self.0.split_at(end);
        self.0 = rest;
        let command = command.trim_ascii();
        let plain = |word: &[u8]| {
            let is_alias = word.first().is_some_and(u8::is_ascii_uppercase)
                && word.iter().all(|byte| {
                    byte.is_ascii_uppercase() || byte.is_ascii_digit() || *byte == b'_'
                });
            let is_path = matches!(word.first(), Some(b'/' | b'^')) || word.starts_with(b"sha");
            is_path || is_alias || matches!(word, b"sudoedit" | b"list")
        };
        let first = command.fields().next()?;
        plain(first).then(|| command.into())
    }

    /// The commands of an alias.
    pub fn commands(&mut self) -> Option<Vec<Item>> {
        let mut items = Vec::new();
        loop {
            let negated = self.negations();
            items.push(Item { negated, word: self.command()? });
            if !self.take(b',') {
                return Some(items);
            }
        }
    }

    /// What a setting is about, where it is about commands or about whom they run as.
    pub fn commands_of_scope(&mut self) -> Option<()> {
        self.quoted_or(|byte| byte.is_ascii_whitespace()).map(drop)
    }

    pub fn setting_name(&mut self) -> Option<BString> {
        let is_name = |byte: &u8| byte.is_ascii_alphanumeric() || *byte == b'_';
        let end = self.0.iter().position(|byte| !is_name(byte)).unwrap_or(self.0.len());
        let (name, rest) = self.0.split_at(end);
        self.0 = rest;
        (!name.is_empty()).then(|| name.into())
    }

    pub fn setting_value(&mut self) -> BString {
        self.blanks();
        self.quoted_or(|byte| byte == b',')
            .map(|value| value.trim_ascii().into())
            .unwrap_or_default()
    }

    /// `(users:groups) OPTION=x TAG: command, command`
    pub fn command_rules(&mut self) -> Option<Vec<CommandRule>> {
        let mut all: Vec<CommandRule> = Vec::new();
        loop {
            // What is said of one command holds for those that follow it.
            let mut rule = all.last().cloned().unwrap_or_default();
            self.blanks();
            if self.take(b'(') {
                rule.run_as = Some(self.run_as()?);
            }
            while self.tag_or_option(&mut rule)? {}
            let negated = self.negations();
            rule.command = Item { negated, word: self.command()? };
            all.push(rule);
            if !self.take(b',') {
                return Some(all);
            }
        }
    }

    /// The users of `(users:groups)`.
    pub fn run_as(&mut self) -> Option<Vec<Item>> {
        self.blanks();
        let users = match self.0.first() {
            Some(b':' | b')') => Vec::new(),
            _ => self.list()?,
        };
        self.blanks();
        if self.take(b':') {
            self.blanks();
            if self.0.first() != Some(&b')') {
                self.list()?;
            }
        }
        self.expect(b')')?;
        Some(users)
    }

    pub fn tag_or_option(&mut self, rule: &mut CommandRule) -> Option<bool> {
        self.blanks();
        let is_word = |byte: &u8| byte.is_ascii_uppercase() || *byte == b'_';
        let end = self.0.iter().position(|byte| !is_word(byte)).unwrap_or(self.0.len());
        let (word, rest) = self.0.split_at(end);
        let rest = rest.trim_ascii_start();
        match rest.first() {
            Some(b':') if TAGS.contains(&word) => {
                match word {
                    b"NOPASSWD" => rule.asks = Some(false),
                    b"PASSWD" => rule.asks = Some(true),
                    _ => {}
                }
                self.0 = &rest[1..];
                Some(true)
            }
            Some(b'=') if OPTIONS.contains(&word) => {
                self.0 = rest[1..].trim_ascii_start();
                let value = self.quoted_or(|byte| byte.is_ascii_whitespace() || byte == b',')?;
                match word {
                    b"NOTBEFORE" => rule.not_before = Some(value),
                    b"NOTAFTER" => rule.not_after = Some(value),
                    _ => {}
                }
                Some(true)
            }
            _ => Some(false),
        }
    }
}
