//! Reads sudoers(5): aliases, settings, includes, and who may run what.

use bstr::{BStr, BString, ByteSlice};

use super::cursor::Cursor;
use super::{AliasKind, Privilege, Setting, SettingScope, Sudoers, UserRule};
use crate::configuration::{ConfigFiles, Place};

/// Where it begins.
const FILE: &str = "etc/sudoers";

/// How deep files may include others: sudo gives up beyond.
const DEPTH: usize = 128;

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
