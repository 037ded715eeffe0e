//! Reads sudoers(5): aliases, settings, includes, and who may run what.

use bstr::{BStr, BString, ByteSlice};

use super::{AliasKind, CommandRule, Item, Privilege, Setting, SettingScope, Sudoers, UserRule};
use crate::configuration::{ConfigFiles, Place};

/// Where it begins.
const FILE: &str = "etc/sudoers";

/// How deep files may include others: sudo gives up beyond.
const DEPTH: usize = 128;

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

/// Reads all of it, for the machine that is called `host`.
pub(super) fn read(files: &dyn ConfigFiles, host: &BStr) -> Sudoers {
    let mut reader = Reader { files, host, found: Sudoers::default() };
    reader.file(FILE.into(), 0);
    reader.found
}

struct Reader<'f> {
    files: &'f dyn ConfigFiles,
    host: &'f BStr,
    found: Sudoers,
}

impl Reader<'_> {
    fn file(&mut self, path: &BStr, depth: usize) {
        let text = match self.files.read(path) {
            Ok(Some(text)) => text,
            Ok(None) => return,
            Err(why) => return self.found.unread.push(format!("{path} {why}")),
        };
        self.found.files += 1;
        for (number, line) in logical_lines(&text) {
            let place = Place { file: path.into(), line: number };
            if let Some(included) = included(&line) {
                self.include(included, path, depth);
            } else {
                self.line(&place, &line);
            }
        }
    }

    fn include(&mut self, (name, directory): (BString, bool), from: &BStr, depth: usize) {
        if depth >= DEPTH {
            let told = format!("{from} is included too deep, and sudo reads no further");
            return self.found.unread.push(told);
        }
        let name = name.replace("%h", self.host);
        let path: BString = match name.strip_prefix(b"/") {
            Some(from_root) => from_root.into(),
            None => {
                let parent = from.rsplit_once_str("/").map_or(&b""[..], |(parent, _)| parent);
                [parent, b"/", &name].concat().into()
            }
        };
        if !directory {
            return self.file(path.as_bstr(), depth + 1);
        }
        let path = path.trim_end_with(|c| c == '/').as_bstr();
        let pattern = BString::from([path.as_bytes(), b"/*"].concat());
        match self.files.named(pattern.as_bstr()) {
            Ok(files) => {
                for file in files {
                    let name = file.rsplit_once_str("/").map_or(&file[..], |(_, name)| name);
                    // Editors' copies and what packages leave behind are passed over.
                    if !name.ends_with(b"~") && !name.contains(&b'.') {
                        self.file(file.as_bstr(), depth + 1);
                    }
                }
            }
            Err(why) => self.found.unread.push(format!("{path} {why}")),
        }
    }

    fn line(&mut self, place: &Place, line: &[u8]) {
        let text = line.trim_ascii();
        if text.is_empty() || is_comment(text) {
            return;
        }
        let read = match alias_kind(text) {
            Some((kind, rest)) => self.aliases(kind, rest),
            None => match text.strip_prefix(b"Defaults") {
                Some(rest) if !rest.first().is_some_and(u8::is_ascii_alphanumeric) => {
                    self.settings(rest)
                }
                _ => user_rule(text, place).map(|rule| self.found.rules.push(rule)),
            },
        };
        if read.is_none() {
            self.found.faulty.push((place.clone(), text.into()));
        }
    }

    /// `NAME = a, b : OTHER = c`
    fn aliases(&mut self, kind: AliasKind, rest: &[u8]) -> Option<()> {
        let mut text = Cursor(rest);
        loop {
            let name = text.word()?;
            text.expect(b'=')?;
            let items = match kind {
                AliasKind::Command => text.commands()?,
                AliasKind::User | AliasKind::RunAs | AliasKind::Host => text.list()?,
            };
            self.found.aliases.insert((kind, name), items);
            text.blanks();
            match text.0.first() {
                None => return Some(()),
                Some(b':') => text.0 = &text.0[1..],
                Some(_) => return None,
            }
        }
    }

    /// `@host, :user or >user, then settings`
    fn settings(&mut self, rest: &[u8]) -> Option<()> {
        let mut text = Cursor(rest);
        let scope = match rest.first() {
            Some(b':') => {
                text.0 = &rest[1..];
                SettingScope::Users(text.list()?)
            }
            Some(b'@') => {
                text.0 = &rest[1..];
                SettingScope::Hosts(text.list()?)
            }
            Some(b'>' | b'!') => {
                text.0 = &rest[1..];
                text.commands_of_scope()?;
                SettingScope::Other
            }
            _ => SettingScope::All,
        };
        loop {
            text.blanks();
            let mut on = true;
            while text.take(b'!') {
                on = !on;
                text.blanks();
            }
            let name = text.setting_name()?;
            text.blanks();
            let mut value = None;
            if text.0.starts_with(b"+=") || text.0.starts_with(b"-=") {
                text.0 = &text.0[2..];
                text.setting_value();
            } else if text.take(b'=') {
                value = Some(text.setting_value());
            }
            self.found.settings.push(Setting { scope: scope.clone(), name, on, value });
            text.blanks();
            match text.0.first() {
                None => return Some(()),
                Some(b',') => text.0 = &text.0[1..],
                Some(_) => return None,
            }
        }
    }
}

/// Lines as they are meant, each with the number of the first that it is written on: a
/// backslash at the end goes on.
fn logical_lines(text: &[u8]) -> Vec<(usize, Vec<u8>)> {
    let (mut all, mut open) = (Vec::new(), None);
    for (at, line) in text.lines().enumerate() {
        let (number, mut whole) = open.take().unwrap_or((at + 1, Vec::new()));
        let comment = is_comment(whole.trim_ascii()) || whole.is_empty() && is_comment(line);
        match line.strip_suffix(b"\\").filter(|_| !comment) {
            Some(goes_on) => {
                whole.extend_from_slice(goes_on);
                open = Some((number, whole));
            }
            None => {
                whole.extend_from_slice(line);
                all.push((number, without_comment(&whole)));
            }
        }
    }
    all.extend(open);
    all
}

/// A number sign that is no `#include` and no uid.
fn is_comment(text: &[u8]) -> bool {
    let text = text.trim_ascii();
    let rest = text.strip_prefix(b"#");
    rest.is_some_and(|rest| {
        !rest.first().is_some_and(u8::is_ascii_digit) && included(text).is_none()
    })
}

/// A line without the comment at its end.
fn without_comment(line: &[u8]) -> Vec<u8> {
    if included(line).is_some() {
        return line.to_vec();
    }
    let (mut quoted, mut before) = (false, b' ');
    for (at, &byte) in line.iter().enumerate() {
        match byte {
            _ if before == b'\\' => {}
            b'"' => quoted = !quoted,
            b'#' if !quoted => {
                let number = line.get(at + 1).is_some_and(u8::is_ascii_digit);
                let in_word = matches!(before, b'%' | b':' | b'!' | b',' | b'(' | b'>')
                    || before.is_ascii_whitespace();
                if !(number && in_word) {
                    return line[..at].to_vec();
                }
            }
            _ => {}
        }
        before = if before == b'\\' { b' ' } else { byte };
    }
    line.to_vec()
}

/// The file or directory that a line includes, and whether it is a directory.
fn included(line: &[u8]) -> Option<(BString, bool)> {
    let line = line.trim_ascii();
    let rest = line.strip_prefix(b"@").or_else(|| line.strip_prefix(b"#"))?;
    let (rest, directory) = match rest.strip_prefix(b"includedir") {
        Some(rest) => (rest, true),
        None => (rest.strip_prefix(b"include")?, false),
    };
    if !rest.first()?.is_ascii_whitespace() {
        return None;
    }
    let mut text = Cursor(rest);
    text.blanks();
    Some((text.quoted_or(|byte| byte.is_ascii_whitespace())?, directory))
}

fn alias_kind(text: &[u8]) -> Option<(AliasKind, &[u8])> {
    let kinds: [(&[u8], AliasKind); 5] = [
        (b"User_Alias", AliasKind::User),
        (b"Runas_Alias", AliasKind::RunAs),
        (b"Host_Alias", AliasKind::Host),
        (b"Cmnd_Alias", AliasKind::Command),
        (b"Cmd_Alias", AliasKind::Command),
    ];
    kinds.into_iter().find_map(|(word, kind)| {
        let rest = text.strip_prefix(word)?;
        rest.first()?.is_ascii_whitespace().then_some((kind, rest))
    })
}

/// `users hosts = commands : hosts = commands`
fn user_rule(line: &[u8], place: &Place) -> Option<UserRule> {
    let mut text = Cursor(line);
    let users = text.list()?;
    let mut privileges = Vec::new();
    loop {
        let hosts = text.list()?;
        text.expect(b'=')?;
        privileges.push(Privilege { hosts, commands: text.command_rules()? });
        text.blanks();
        match text.0.first() {
            None => break,
            Some(b':') => text.0 = &text.0[1..],
            Some(_) => return None,
        }
    }
    Some(UserRule { place: place.clone(), text: line.into(), users, privileges })
}

/// What is left of a line.
struct Cursor<'t>(&'t [u8]);

impl Cursor<'_> {
    fn blanks(&mut self) {
        self.0 = self.0.trim_ascii_start();
    }

    fn take(&mut self, byte: u8) -> bool {
        match self.0.split_first() {
            Some((first, rest)) if *first == byte => {
                self.0 = rest;
                true
            }
            _ => false,
        }
    }

    fn expect(&mut self, byte: u8) -> Option<()> {
        self.blanks();
        self.take(byte).then_some(())
    }

    /// Text in quotes, or up to where `ends` says; a backslash takes the next as it is.
    fn quoted_or(&mut self, ends: impl Fn(u8) -> bool) -> Option<BString> {
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
    fn word(&mut self) -> Option<BString> {
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
    fn list(&mut self) -> Option<Vec<Item>> {
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

    fn negations(&mut self) -> bool {
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
    fn command(&mut self) -> Option<BString> {
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
    fn commands(&mut self) -> Option<Vec<Item>> {
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
    fn commands_of_scope(&mut self) -> Option<()> {
        self.quoted_or(|byte| byte.is_ascii_whitespace()).map(drop)
    }

    fn setting_name(&mut self) -> Option<BString> {
        let is_name = |byte: &u8| byte.is_ascii_alphanumeric() || *byte == b'_';
        let end = self.0.iter().position(|byte| !is_name(byte)).unwrap_or(self.0.len());
        let (name, rest) = self.0.split_at(end);
        self.0 = rest;
        (!name.is_empty()).then(|| name.into())
    }

    fn setting_value(&mut self) -> BString {
        self.blanks();
        self.quoted_or(|byte| byte == b',')
            .map(|value| value.trim_ascii().into())
            .unwrap_or_default()
    }

    /// `(users:groups) OPTION=x TAG: command, command`
    fn command_rules(&mut self) -> Option<Vec<CommandRule>> {
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
    fn run_as(&mut self) -> Option<Vec<Item>> {
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

    fn tag_or_option(&mut self, rule: &mut CommandRule) -> Option<bool> {
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
