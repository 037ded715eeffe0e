//! The form of lines: malformed-line, bad-number, bad-name, stray-space,
//! missing-newline, compat-line.

use bstr::ByteSlice;

use super::correction::{self, correct};
use super::repair::mends;
use super::trailing::trailing_choice;
use super::{
    ALL, Checker, Example, Family, Mark, Mend, PLAIN, Pass, Remedy, Rule, Severity, free_name,
};
use crate::context::PlanContext;
use crate::table::{
    Column, File, Group, GroupField, Line, Lines, Passwd, PasswdField, Record, Shadow, ShadowField,
    SubId, SubIdField,
};
use crate::value::{NameStyle, check_name, escape, read_id, read_plain_id, read_signed};
use crate::words::counted;

pub(super) const PASSES: &[Pass] = &[(
    &[&MALFORMED_LINE, &MISSING_NEWLINE, &STRAY_SPACE, &BAD_NUMBER, &BAD_NAME, &COMPAT_LINE],
    form,
)];

static MALFORMED_LINE: Rule = Rule {
    name: "malformed-line",
    severity: Severity::Error,
    family: Family::Lines,
    reads: ALL,
    finds: "a line with too few or too many fields, or with NUL bytes",
    why: "The C library passes such a line over, or takes one field for another: \
              the account is gone, or somebody else.",
    remedy: "Write the line as it should be: copper-nest repair --set FILE:LINE 'LINE'. Fields \
                 are separated by single colons.",
    bad: Example::with(&[
        (
            File::Passwd,
            "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nperrin:x:1005:1005:/home/perrin:/bin/bash\n",
        ),
        (File::Group, "maren:x:1004:\nperrin:x:1005:\n"),
    ]),
    by_line: true,
    taken_out: true,
    blocks: true,
    ..PLAIN
};

static MISSING_NEWLINE: Rule = Rule {
    name: "missing-newline",
    severity: Severity::Warning,
    family: Family::Lines,
    reads: ALL,
    finds: "a file whose last line has no line end",
    why: "The next program that adds a line may add it to the end of that one, and two accounts are lost.",
    remedy: "Add a line end to the file.",
    bad: Example::with(&[(File::Passwd, "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash")]),
    mend: Mend::Beside(mends::end),
    ..PLAIN
};

static STRAY_SPACE: Rule = Rule {
    name: "stray-space",
    severity: Severity::Warning,
    family: Family::Lines,
    reads: ALL,
    finds: "white space before or after a record",
    why: "The C library passes it over at the start and keeps it at the end, where it becomes part of the shell, or of the last member. Other programs read it differently.",
    remedy: "Take the space out.",
    bad: Example::with(&[(File::Group, " maren:x:1004:\n")]),
    by_line: true,
    mend: Mend::Line(mends::trim),
    ..PLAIN
};

static BAD_NUMBER: Rule = Rule {
    name: "bad-number",
    severity: Severity::Error,
    family: Family::Lines,
    reads: ALL,
    finds: "a number that is not written as plain decimal digits, or out of range",
    why: "Programs read such a number differently. The C library takes 00, +0 and a \
              negative number for ids that nobody meant, and passes other lines over.",
    remedy: "Write the number in plain digits, without sign, spaces or leading zeros.",
    bad: Example::with(&[(
        File::Passwd,
        "maren:x:01004:1004:Maren Solvik:/home/maren:/bin/bash\n",
    )]),
    by_line: true,
    mend: Mend::Line(mends::number),
    taken_out: true,
    blocks: true,
    ..PLAIN
};

static BAD_NAME: Rule = Rule {
    name: "bad-name",
    severity: Severity::Warning,
    family: Family::Lines,
    reads: ALL,
    finds: "a name that programs stumble over",
    why: "Longer names than 32 bytes are cut in the records of sign-ins; a name of digits alone is taken for a number, and one that begins with -, + or # means something else to programs.",
    remedy: "Rename it: copper-nest rename user, or rename group.",
    bad: Example::with(&[
        (
            File::Passwd,
            "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n1007:x:1005:1004::/nonexistent:/bin/sh\n",
        ),
        (File::Shadow, "maren:!:20781:0::7:::\n1007:!:20781::::::\n"),
    ]),
    by_line: true,
    taken_out: true,
    ..PLAIN
};

static COMPAT_LINE: Rule = Rule {
    name: "compat-line",
    severity: Severity::Note,
    family: Family::Lines,
    reads: &[File::Passwd, File::Shadow, File::Group, File::Gshadow],
    finds: "a line that begins with + or -, which brings in or shuts out accounts of a directory",
    why: "Only the C library in its compat mode reads such lines. Everywhere else they do nothing, and people are surprised to be missing, or there.",
    remedy: "Say in etc/nsswitch.conf where accounts come from, and take the line out.",
    bad: Example::with(&[(
        File::Passwd,
        "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n+\n",
    )]),
    by_line: true,
    taken_out: true,
    ..PLAIN
};

fn form(checker: &mut Checker<'_>) {
    let book = checker.context.book;
    for lines in File::ALL.iter().filter_map(|file| book.lines(*file)) {
        find_odd(checker, lines);
        find_broken(checker, lines);
    }
}

/// Lines that can't be read.
fn find_broken(checker: &mut Checker<'_>, lines: &Lines) {
    let (malformed, number) = (checker.wanted(&MALFORMED_LINE), checker.wanted(&BAD_NUMBER));
    let (book, prefilter) = (checker.context.book, checker.prefilter);
    if malformed.is_some() && prefilter.holds_nul(lines.file()) {
        find_nul(checker, lines);
    }
    for line in prefilter.lines(book, lines.file()).filter(Line::is_record) {
        let count = memchr::memchr_iter(b':', line.record()).count() + 1;
        if count != lines.file().fields() {
            if malformed.is_some() {
                wrong_count(checker, lines, line, count);
            }
        } else if let Some(rule) = number {
            numbers(lines.file(), line, |field, read, message| {
                let remedy = match read {
                    true => Remedy::repair(rule),
                    false => Remedy::take_out(lines.file(), lines.number(line.start)),
                };
                checker.find(rule, (lines, line), field, message, remedy);
            });
        }
    }
}

/// What is odd about lines that can be read all the same.
fn find_odd(checker: &mut Checker<'_>, lines: &Lines) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let (name, space) = (checker.wanted(&BAD_NAME), checker.wanted(&STRAY_SPACE));
    let compat = checker.wanted(&COMPAT_LINE).filter(|rule| rule.reads.contains(&lines.file()));
    let number = |line: Line<'_>| lines.number(line.start);
    for line in prefilter.lines(context.book, lines.file()) {
        if let Some(rule) = compat.filter(|_| line.is_compat()) {
            let what = if line.bytes.starts_with(b"+") { "brings in" } else { "shuts out" };
            let message = format!("the line {what} accounts of a directory, in compat mode only.");
            let remedy = Remedy::take_out(lines.file(), number(line));
            checker.find(rule, (lines, line), Mark::Line, message, remedy);
        }
        if !line.is_record() {
            continue;
        }
        let bytes = line.bytes;
        let ends = |byte: &u8| matches!(byte, b' ' | b'\t' | b'\r');
        if let Some(rule) = space
            && (bytes.first().is_some_and(ends) || bytes.last().is_some_and(ends))
        {
            let message = match bytes.last() {
                Some(b'\r') => "a carriage return ends the line, and becomes part of it.",
                Some(byte) if ends(byte) => "white space ends the line, and becomes part of it.",
                _ => "white space begins the line; not every program passes it over.",
            };
            let (message, remedy) = match trailing_choice(context.book, lines.file(), bytes) {
                _ if !line.is_whole(lines.file()) => {
                    (message.to_owned(), Remedy::take_out(lines.file(), number(line)))
                }
                None => (message.to_owned(), Remedy::repair(rule)),
                Some(choice) => choice.told(context, lines.file(), number(line), message),
            };
            checker.find(rule, (lines, line), Mark::Line, message, remedy);
        }
        let owner = matches!(lines.file(), File::Subuid | File::Subgid);
        if let Some(rule) = name.filter(|_| !owner)
            && let Err(fault) = check_name(NameStyle::Loose, line.name().into())
        {
            let message = format!("the name {} {fault}.", visible(line.name()));
            let remedy = another_name(context, lines, line);
            checker.find(rule, (lines, line), Column::NAME, message, remedy);
        }
    }
    let unfinished = checker.wanted(&MISSING_NEWLINE).filter(|_| !lines.is_finished());
    if let Some(rule) = unfinished {
        let line = lines.around(lines.text().len() - 1);
        let message = "the last line has no line end: what is added next may run into it.";
        checker.find(rule, (lines, line), Mark::Line, message, Remedy::repair(rule));
    }
}

/// Another name for what has one that can't be.
pub(super) fn another_name(context: PlanContext<'_>, lines: &Lines, line: Line<'_>) -> Vec<Remedy> {
    let (file, name) = (lines.file(), line.name());
    let owner = if file.is_of_groups() { File::Group } else { File::Passwd };
    let whole = line.is_whole(file);
    // A line that can't be read has more wrong with it than its name.
    if name.is_empty() || !whole || context.book.named(owner, name).is_empty() {
        return Remedy::take_out(file, lines.number(line.start));
    }
    Remedy::rename(owner, name, &free_name(context.book, name.into()))
}

/// A name as it can stand in a sentence.
fn visible(name: &[u8]) -> String {
    escape(name)
}

fn find_nul(checker: &mut Checker<'_>, lines: &Lines) {
    let mut from = 0;
    while let Some(at) = lines.text()[from..].find_byte(0) {
        let line = lines.around(from + at);
        from = (line.range().end + 1).min(lines.text().len());
        let message = "the line holds NUL bytes, at which C programs stop reading it.";
        let remedy = Remedy::take_out(lines.file(), lines.number(line.start));
        checker.find(&MALFORMED_LINE, (lines, line), Mark::Line, message, remedy);
    }
}

fn wrong_count(checker: &mut Checker<'_>, lines: &Lines, line: Line<'_>, count: usize) {
    let (fields, wanted) = (counted(count, "field", "fields"), lines.file().fields());
    let correction = correct(checker.context.book, lines.file(), line.bytes);
    let what = match &correction {
        Some(correction) => correction.what,
        None => "programs pass it over or misread it",
    };
    let message = format!("the line has {fields}, not {wanted}: {what}.");
    let number = lines.number(line.start);
    let remedy = correction::remedies(lines.file(), number, correction.as_ref());
    checker.find(&MALFORMED_LINE, (lines, line), Mark::Line, message, remedy);
}

/// The last day of the year 9999, the last that a date can be written of.
pub(super) const LAST_DAY: i64 = 2_932_896;

/// Calls `tell` for each number of the line that is not plain, with the field,
/// whether the C library reads it all the same, and the message.
pub(super) fn numbers(file: File, line: Line<'_>, mut tell: impl FnMut(Column, bool, String)) {
    let record = line.record();
    let mut id = |field: Column, what: &str, text: &[u8]| {
        let shown = text.as_bstr();
        match (read_plain_id(text), read_id(text)) {
            (Some(u32::MAX), _) => {
                tell(field, false, format!("{what} {} means \"no id\" to the kernel.", u32::MAX));
            }
            (Some(_), _) => {}
            (None, Some(read)) => {
                let message = format!(
                    "{what} \"{shown}\" is not a plain number; the C library reads it as {read}."
                );
                tell(field, true, message);
            }
            (None, None) => {
                let message =
                    format!("{what} \"{shown}\" is no number: the C library passes the line over.");
                tell(field, false, message);
            }
        }
    };
    match file {
        File::Passwd => {
            let Some(user) = Passwd::read(record) else { return };
            id(PasswdField::Uid.into(), "uid", user.uid);
            id(PasswdField::Gid.into(), "gid", user.gid);
        }
        File::Group => {
            let Some(group) = Group::read(record) else { return };
            id(GroupField::Gid.into(), "gid", group.gid);
        }
        File::Shadow => {
            let Some(shadow) = Shadow::read(record) else { return };
            let odd = shadow.numbers().into_iter().filter(|(.., text)| read_signed(text).is_err());
            for (field, what, text) in odd {
                let message = format!(
                    "the {what}, \"{}\", is no number: the C library passes the line over.",
                    text.as_bstr()
                );
                tell(field.into(), false, message);
            }
            if let Some(day) = shadow.aging().expires.filter(|day| day.0 > LAST_DAY) {
                let message = format!("the day of expiry, {}, is after the year 9999.", day.0);
                tell(ShadowField::Expires.into(), false, message);
            }
        }
        File::Gshadow => {}
        File::Subuid | File::Subgid => {
            let Some(range) = SubId::read(record) else { return };
            let plain = [
                (SubIdField::First, "first id", range.first),
                (SubIdField::Count, "count", range.count),
            ];
            let odd: Vec<_> =
                plain.iter().filter(|(.., text)| read_plain_id(text).is_none()).collect();
            for (field, what, text) in &odd {
                let message = format!("the {what}, \"{}\", is no plain number.", text.as_bstr());
                tell((*field).into(), false, message);
            }
            if odd.is_empty() && range.span().is_none() {
                let message = "the range is empty, or runs past the largest id, 4294967295.";
                tell(SubIdField::Count.into(), false, message.into());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(file: File, line: &str) -> Vec<(Column, String)> {
        let mut all = Vec::new();
        let line = Line { bytes: line.as_bytes(), start: 0 };
        numbers(file, line, |field, _, message| all.push((field, message)));
        all
    }

    #[test]
    fn each_number_is_judged_as_the_c_library_reads_it() {
        let both = told(File::Passwd, "maren:x:+0:ten:::");
        assert!(both[0].1.contains("reads it as 0") && both[1].1.contains("is no number"));
        assert_eq!((both[0].0, both[1].0), (PasswdField::Uid.into(), PasswdField::Gid.into()));
        assert!(told(File::Group, "crew:x:4294967295:")[0].1.contains("no id"));
        assert_eq!(told(File::Shadow, "maren:!:soon:0::7:-1::").len(), 2);
        assert!(told(File::Subuid, "maren:4294967295:2")[0].1.contains("runs past"));
        assert_eq!(told(File::Subuid, "maren:1:-5")[0].0, SubIdField::Count.into());
        assert_eq!(told(File::Passwd, "maren:x:1004:1004:::"), []);
    }
}
