//! What a line that can't be read should probably say.

use bstr::{BString, ByteSlice};

use super::{Command, Remedy};
use crate::book::Book;
use crate::context::PlanContext;
use crate::secret::shown;
use crate::table::{File, Gshadow, Line, Record};
use crate::value::{NameStyle, PasswordField, check_name, is_unseen, read_plain_id};

/// A line as it probably should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Correction {
    /// The line; two where two had become one.
    pub lines: Vec<BString>,
    /// What seems to be wrong, in words that follow a colon.
    pub what: &'static str,
}

/// What can't stand in a file as it is: why not, in words that follow "it".
pub(super) fn fault_of(file: File, line: &[u8]) -> Option<String> {
    if line.iter().any(|byte| byte.is_ascii_control()) {
        return Some("holds control characters".into());
    }
    let read = Line { bytes: line, start: 0 };
    if !read.is_record() || line.trim_ascii().len() != line.len() {
        return Some("begins or ends as no record does".into());
    }
    if !read.is_whole(file) {
        let count = memchr::memchr_iter(b':', line).count() + 1;
        return Some(format!("has {count} fields, not {}", file.fields()));
    }
    let is_range = matches!(file, File::Subuid | File::Subgid);
    if !is_range && let Err(fault) = check_name(NameStyle::Loose, read.name().into()) {
        return Some(format!("has a name that {fault}"));
    }
    let mut first = None;
    super::lines::numbers(file, read, |_, _, message| {
        first.get_or_insert(message);
    });
    if let Some(message) = first {
        return Some(format!("has a number that is none: {}", message.trim_end_matches('.')));
    }
    let home = line.split(|byte| *byte == b':').nth(5).filter(|_| file == File::Passwd);
    let relative = home.is_some_and(|home| !home.is_empty() && !home.starts_with(b"/"));
    relative.then(|| "has a home that does not begin at /".into())
}

/// The line as it should probably be, unless nobody can say.
pub(super) fn correct(book: &Book, file: File, line: &[u8]) -> Option<Correction> {
    let plain = line
        .trim_start_with(|c| c.is_whitespace() || is_unseen(c) || matches!(c, '#' | '"' | '\''));
    let plain = plain.trim_end_with(|c| c.is_whitespace() || matches!(c, '"' | '\''));
    let sound = |text: &[u8]| fault_of(file, text).is_none();
    if plain.len() < line.len() && sound(plain) {
        return one(plain, "something stands before its name that does not belong there");
    }
    for separator in [b';', b'|', b'\t', b' '] {
        if !plain.contains(&b':') {
            let replaced = plain.replace([separator], ":");
            if sound(&replaced) {
                return one(&replaced, "the fields are separated by something else than colons");
            }
        }
    }
    let fields: Vec<&[u8]> = plain.split_str(":").collect();
    joined(book, file, &fields)
        .or_else(|| match file {
            File::Passwd => of_user(book, &fields),
            File::Group => of_group(book, &fields),
            File::Shadow => of_shadow(&fields),
            File::Gshadow | File::Subuid | File::Subgid => None,
        })
        .filter(|correction| correction.lines.iter().all(|line| sound(line)))
}

fn one(line: &[u8], what: &'static str) -> Option<Correction> {
    Some(Correction { lines: vec![line.into()], what })
}

const MOST_NAME: usize = 256;

/// Two lines that have become one: the end of the first and the name of the second stand in
/// one field.
fn joined(book: &Book, file: File, fields: &[&[u8]]) -> Option<Correction> {
    let count = file.fields();
    if fields.len() != 2 * count - 1 {
        return None;
    }
    let (end, rest) = (fields[count - 1], &fields[count..]);
    let known = |name: &[u8]| {
        let others = [File::Passwd, File::Shadow, File::Group, File::Gshadow];
        let others = others.into_iter().filter(|other| *other != file);
        others.into_iter().any(|other| !book.named(other, name).is_empty())
    };
    // The longest name that another file knows; none is longer than this.
    let at = (end.len().saturating_sub(MOST_NAME)..end.len()).find(|at| known(&end[*at..]))?;
    let mut first = fields[..count - 1].to_vec();
    first.push(&end[..at]);
    let second: Vec<&[u8]> = [&[&end[at..]], rest].concat();
    let lines = vec![first.join(&b':').into(), second.join(&b':').into()];
    Some(Correction { lines, what: "two lines seem to have become one" })
}

fn is_number(field: &[u8]) -> bool {
    read_plain_id(field).is_some()
}

fn is_password(field: &[u8]) -> bool {
    field.is_empty()
        || field == b"x"
        || PasswordField::is_harmless(field)
        || field.starts_with(b"$")
}

/// A shell that lets nobody in.
const NOBODYS: &[u8] = b"/usr/sbin/nologin";

/// Whether a path is a shell's, by its last part.
fn is_shell(path: &[u8]) -> bool {
    let last = path.rsplit(|byte| *byte == b'/').next().unwrap_or(path);
    last.ends_with(b"sh") || matches!(last, b"nologin" | b"false" | b"true" | b"sync")
}

fn of_user(book: &Book, fields: &[&[u8]]) -> Option<Correction> {
    let path = |field: &[u8]| field.starts_with(b"/");
    let joined = |fields: &[&[u8]]| fields.join(&b':');
    match fields {
        [name, password, uid, gid, home, shell]
            if is_password(password) && is_number(uid) && is_number(gid) =>
        {
            let (line, what) = match (path(home), path(shell)) {
                (true, true) => (
                    joined(&[name, password, uid, gid, b"", home, shell]),
                    "the full name seems to be missing",
                ),
                // A path that is no shell's is the home. None is handed out that lets in.
                (false, true) if !is_shell(shell) => (
                    joined(&[name, password, uid, gid, home, shell, NOBODYS]),
                    "the shell seems to be missing",
                ),
                _ => return None,
            };
            one(&line, what)
        }
        [name, uid, gid, full, home, shell] if is_number(uid) && is_number(gid) => one(
            &joined(&[name, b"x", uid, gid, full, home, shell]),
            "the password field seems to be missing",
        ),
        [name, password, id, full, home, shell]
            if is_password(password) && is_number(id) && path(home) =>
        {
            // Whether it is the uid or the gid that is missing, the group of its name says.
            let own = book.group(name).and_then(|(_, group)| group.gid())?.to_string();
            one(
                &joined(&[name, password, id, own.as_bytes(), full, home, shell]),
                "the gid seems to be missing",
            )
        }
        [name, password, uid, gid, full, home, shell, rest @ ..]
            if path(home)
                && path(shell)
                && !rest.is_empty()
                && rest.iter().all(|field| field.is_empty()) =>
        {
            one(
                &joined(&[name, password, uid, gid, full, home, shell]),
                "there are colons too many at its end",
            )
        }
        [name, password, uid, gid, rest @ .., home, shell]
            if is_number(uid) && is_number(gid) && path(home) && rest.len() > 1 =>
        {
            let full = rest.join(&b' ');
            let full = full.split_str("  ").collect::<Vec<_>>().join(&b' ');
            one(
                &joined(&[name, password, uid, gid, full.trim_ascii(), home, shell]),
                "the full name seems to hold a colon",
            )
        }
        _ => None,
    }
}

fn of_group(book: &Book, fields: &[&[u8]]) -> Option<Correction> {
    let are_users = |list: &&[u8]| {
        let mut names = list.split(|byte| *byte == b',').filter(|name| !name.is_empty());
        names.all(|name| book.user(name).is_some())
    };
    match fields {
        [name, password, gid] if is_password(password) && is_number(gid) => {
            // The other list says who was in it.
            let other = book.named(File::Gshadow, name).into_iter().next();
            let other = other.and_then(|line| Gshadow::read(line.record()));
            let members = other.map_or(&b""[..], |group| group.members);
            one(
                &[name, *password, gid, members].join(&b':'),
                "the list of members seems to be missing",
            )
        }
        [name, gid, list] if is_number(gid) => {
            one(&[*name, b"x", gid, list].join(&b':'), "the password field seems to be missing")
        }
        [name, password, gid, lists @ ..]
            if is_number(gid) && lists.len() > 1 && lists.iter().all(are_users) =>
        {
            let names: Vec<&[u8]> = lists.iter().copied().filter(|list| !list.is_empty()).collect();
            let list = names.join(&b',');
            one(
                &[name, *password, gid, &list].join(&b':'),
                "the members seem to be separated by colons",
            )
        }
        _ => None,
    }
}

fn of_shadow(fields: &[&[u8]]) -> Option<Correction> {
    let days = |field: &&[u8]| field.is_empty() || is_number(field);
    let wanted = File::Shadow.fields();
    let mut all = fields.to_vec();
    if fields.len() < 3 || !fields[2..].iter().all(days) {
        return None;
    }
    let what = match fields.len() < wanted {
        true => "the fields at its end seem to be missing",
        false => {
            let over = all.split_off(wanted);
            if over.iter().any(|field| !field.is_empty()) {
                return None;
            }
            "there are colons too many at its end"
        }
    };
    all.resize(wanted, b"");
    one(&all.join(&b':'), what)
}

/// The command that puts the probable line in its place; none where it would show a hash.
pub(super) fn command(context: PlanContext<'_>, file: File, number: usize) -> Option<Command> {
    let lines = context.book.lines(file)?;
    let line = lines.get(number.checked_sub(1).filter(|at| *at < lines.len())?);
    command_for(file, number, &correct(context.book, file, line.bytes)?)
}

/// See [`command`].
pub(super) fn command_for(file: File, number: usize, correction: &Correction) -> Option<Command> {
    if correction.lines.iter().any(|line| shown(file, line) != *line) {
        return None;
    }
    let place = format!("{}:{number}", file.path());
    let mut words: Vec<BString> = vec!["repair".into()];
    for line in &correction.lines {
        words.extend(["--set".into(), place.clone().into(), line.clone()]);
    }
    Some(Command::Own(words))
}

/// What to do about a line that nobody can read, of which this may be made.
pub(super) fn remedies(file: File, number: usize, correction: Option<&Correction>) -> Vec<Remedy> {
    let place = format!("{}:{number}", file.path());
    let command = correction.and_then(|correction| command_for(file, number, correction));
    let first = match command {
        Some(command) => Remedy { when: String::new(), command: Some(command) },
        None => {
            let line = if file.is_secret() { "-, and type the line" } else { "'LINE'" };
            let when = format!("write the line as it should be: repair --set {place} {line}");
            Remedy { when, command: None }
        }
    };
    vec![first, Remedy::or("if it is to go", Remedy::taking_out(file, number))]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;

    fn corrected(file: File, line: &str) -> Option<(Vec<String>, &'static str)> {
        let book = book(&[
            (File::Passwd, "maren:x:1004:1004::/home/maren:/bin/sh\n"),
            (File::Group, "maren:x:1004:\nperrin:x:1005:\n"),
            (File::Shadow, "perrin:!:1::::::\n"),
        ]);
        let correction = correct(&book, file, line.as_bytes())?;
        let lines = correction.lines.iter().map(ToString::to_string).collect();
        Some((lines, correction.what))
    }

    #[test]
    fn what_seems_to_be_missing_is_put_in() {
        let sound = "perrin:x:1005:1005:Perrin Vale:/home/perrin:/bin/bash";
        let unnamed = "perrin:x:1005:1005::/home/perrin:/bin/bash";
        let no_shell = "perrin:x:1005:1005:Perrin Vale:/home/perrin:/usr/sbin/nologin";
        for (line, wanted, what) in [
            ("perrin:x:1005:1005:/home/perrin:/bin/bash", unnamed, "full name"),
            ("perrin:x:1005:1005:Perrin Vale:/home/perrin", no_shell, "shell"),
            ("perrin:1005:1005:Perrin Vale:/home/perrin:/bin/bash", sound, "password field"),
            ("perrin:x:1005:Perrin Vale:/home/perrin:/bin/bash", sound, "gid"),
            ("perrin:x:1005:1005:Perrin:Vale:/home/perrin:/bin/bash", sound, "a colon"),
            ("perrin;x;1005;1005;Perrin Vale;/home/perrin;/bin/bash", sound, "separated"),
            ("\u{feff}perrin:x:1005:1005:Perrin Vale:/home/perrin:/bin/bash", sound, "before"),
            ("perrin:x:1005:1005:Perrin Vale:/home/perrin:/bin/bash::", sound, "too many"),
        ] {
            let (lines, told) = corrected(File::Passwd, line).unwrap_or_else(|| panic!("{line}"));
            assert_eq!(lines, [wanted], "{line}");
            assert!(told.contains(what), "{line}: {told}");
        }
        assert_eq!(corrected(File::Passwd, "perrin"), None);
        assert_eq!(corrected(File::Passwd, "perrin:x:ten:1005::/home/perrin"), None);
    }

    #[test]
    fn the_other_files_are_corrected_too() {
        let line = |file, line| corrected(file, line).unwrap().0.concat();
        assert_eq!(line(File::Group, "pilots:x:210"), "pilots:x:210:");
        assert_eq!(line(File::Group, "pilots:210:maren"), "pilots:x:210:maren");
        assert_eq!(line(File::Group, "pilots:x:210::maren"), "pilots:x:210:maren");
        assert_eq!(line(File::Shadow, "maren:!:20781:0"), "maren:!:20781:0:::::");
        assert_eq!(corrected(File::Shadow, "maren:!:20781:0::7::::9"), None);
        assert_eq!(corrected(File::Subuid, "maren:7"), None);
        // Two in one.
        let both = "odile:x:3:3::/:/bin/shperrin:x:1005:1005::/home/perrin:/bin/sh";
        let (lines, _) = corrected(File::Passwd, both).unwrap();
        assert_eq!(lines.len(), 2);
        assert_eq!(lines[0], "odile:x:3:3::/:/bin/sh");
    }

    #[test]
    fn no_command_shows_a_hash() {
        let hash = Correction { lines: vec!["maren:$6$a$bcdefghijklm:1::::::".into()], what: "" };
        assert_eq!(command_for(File::Shadow, 3, &hash), None);
        let none = Correction { lines: vec!["maren:!:1::::::".into()], what: "" };
        assert!(command_for(File::Shadow, 3, &none).is_some());
    }
}
