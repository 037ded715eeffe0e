//! Lines that a file may have lost: empty-file, shrunk-file. What follows from their being
//! missing is no fault of the other files, and is not mended.

use bstr::{BStr, ByteSlice};
use hashbrown::HashMap;

use super::{Checker, Command, Example, Family, PLAIN, Pass, Remedy, Rule, Severity, correction};
use crate::context::PlanContext;
use crate::table::{File, Lines};
use crate::value::bytes_in_words;
use crate::words::counted;

pub(super) const PASSES: &[Pass] = &[(&[&EMPTY_FILE], empty), (&[&SHRUNK_FILE], shrunk)];

static EMPTY_FILE: Rule = Rule {
    name: "empty-file",
    severity: Severity::Error,
    family: Family::Lines,
    finds: "passwd, group or shadow with nothing in it",
    why: "Nobody has an account, a group or a password any more. What the other files still say \
              is not at fault, and nothing of it is mended as long as this file is empty.",
    remedy: "Put a copy of the file back: a backup's, or what the package brings.",
    bad: Example::with(&[(File::Group, "")]),
    ..PLAIN
};

static SHRUNK_FILE: Rule = Rule {
    name: "shrunk-file",
    severity: Severity::Warning,
    family: Family::Lines,
    reads: &[File::Passwd, File::Shadow],
    finds: "a file that is much shorter than it was, or than the one that goes with it",
    why: "A full disk, an editor that was cut off, or a wrong redirection takes lines away. What \
              follows from their being missing is not mended until the file is looked at.",
    remedy: "Compare it with a backup. Where it is as it should be, the next change makes it the \
                 new measure.",
    bad: Example::with(&[(File::Passwd, super::rule::MAREN), (File::Shadow, MANY)]),
    ..PLAIN
};

/// Hidden lines of more accounts than there are.
const MANY: &str = "maren:!:20781:0::7:::\nperrin:!:1::::::\nodalys:!:1::::::\nhesper:!:1::::::\n";

/// So many lines may be missing without anybody's taking the file for a damaged one.
const FEW: usize = 2;

/// What may be missing from the files of one tree.
#[derive(Debug, Default)]
pub(super) struct LostLines {
    /// Files that may have lost any line.
    files: HashMap<File, Loss>,
    /// The names that lines seem to have which nobody can read, or which are commented out,
    /// and the first of those lines.
    names: HashMap<File, HashMap<Vec<u8>, usize>>,
}

/// What may have happened to a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Loss {
    /// The file is empty.
    Empty,
    /// It ends in the middle of its last line.
    Torn,
    /// So many names of another file have no line in it.
    Short(File, usize),
    /// It was so many bytes longer after the last change.
    Shrunk(u64),
    /// It takes in accounts of a directory, by this line.
    Compat(usize),
    /// A line that can't be read may be the one.
    Unread(usize),
}

impl Loss {
    /// What may have happened, in a sentence.
    pub fn told(self, file: File) -> String {
        let path = file.path();
        match self {
            Loss::Empty => format!("{path} is empty: lines are missing there"),
            Loss::Torn => format!("{path} ends in the middle of a line: more may be missing there"),
            Loss::Short(other, count) => format!(
                "{} of {} have no line in {path}, which may have lost them",
                counted(count, "name", "names"),
                other.path()
            ),
            Loss::Shrunk(bytes) => format!(
                "{path} is {} shorter than the last change left it, and may have lost the line",
                bytes_in_words(bytes)
            ),
            Loss::Compat(line) => {
                format!("{path}:{line} brings in accounts of a directory, which may know it")
            }
            Loss::Unread(line) => format!("{path}:{line}, which nobody can read, may be its line"),
        }
    }

    /// What to do about it.
    fn remedies(self, context: PlanContext<'_>, file: File) -> Vec<Remedy> {
        let path = file.path();
        let corrected = match self {
            Loss::Unread(line) => correction::command(context, file, line),
            _ => None,
        };
        let copy = format!("put the copy of {path} back that a backup or a package has");
        let look = Remedy::or("to see what was done last", Command::own([b"list", b"changes"]));
        match (self, corrected) {
            (_, Some(command)) => {
                vec![Remedy { when: String::new(), command: Some(command) }, look]
            }
            (Loss::Unread(line), None) => {
                let mend = format!("mend {path}:{line} first: repair --set {path}:{line} 'LINE'");
                [Remedy::by_hand(mend), vec![look]].concat()
            }
            (Loss::Compat(line), None) => Remedy::by_hand(format!(
                "ask the directory that {path}:{line} brings in, or take that line out first"
            )),
            (_, None) => [Remedy::by_hand(copy), vec![look]].concat(),
        }
    }
}

impl LostLines {
    /// Goes through passwd, shadow, group and gshadow.
    pub fn of(context: PlanContext<'_>) -> Self {
        let mut lost = LostLines::default();
        let book = context.book;
        for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
            let Some(lines) = book.lines(file) else { continue };
            let read = Read::of(lines);
            let loss = match () {
                () if read.whole == 0 => Some(Loss::Empty),
                () if ends_in_the_middle(lines) => Some(Loss::Torn),
                () => short(context, file).or_else(|| shrunk_since(context, file)),
            };
            let loss = loss.or(read.compat.map(Loss::Compat));
            loss.map(|loss| lost.files.insert(file, loss));
            lost.names.insert(file, read.names);
        }
        lost
    }

    /// What may have happened to the line of a name in a file, if anything may.
    pub fn loss_of(&self, file: File, name: &[u8]) -> Option<Loss> {
        let unread = self.names.get(&file).and_then(|names| names.get(name));
        unread.map(|line| Loss::Unread(*line)).or_else(|| self.files.get(&file).copied())
    }

    /// Whether the line of a name may have been in a file until something happened to it.
    pub fn may_have_had(&self, file: File, name: &[u8]) -> bool {
        self.loss_of(file, name).is_some()
    }
}

impl Checker<'_> {
    /// What a missing line makes of a finding: its message with what may have happened, and
    /// what to do about that; or else as it is.
    pub(super) fn or_lost(
        &self,
        (file, name): (File, &[u8]),
        message: String,
        remedies: impl FnOnce() -> Vec<Remedy>,
    ) -> (String, Vec<Remedy>) {
        let lost = self.prefilter.lost(self.context);
        let in_brief = self.selection.in_brief;
        tell((self.context, in_brief), lost.loss_of(file, name), file, message, remedies)
    }
}

/// See [`Checker::or_lost`]. In brief there are no remedies.
pub(super) fn tell(
    (context, in_brief): (PlanContext<'_>, bool),
    loss: Option<Loss>,
    file: File,
    message: String,
    remedies: impl FnOnce() -> Vec<Remedy>,
) -> (String, Vec<Remedy>) {
    match loss {
        // What happened to a whole file is a finding of its own, which is brief enough.
        None | Some(Loss::Empty | Loss::Short(..) | Loss::Shrunk(_)) if in_brief => {
            (message, Vec::new())
        }
        Some(loss) => {
            let message = format!("{} {}.", message, loss.told(file));
            (message, loss.remedies(context, file))
        }
        None => (message, remedies()),
    }
}

fn empty(checker: &mut Checker<'_>) {
    let book = checker.context.book;
    for file in [File::Passwd, File::Group, File::Shadow] {
        if book.lines(file).is_none_or(|lines| !lines.is_empty()) {
            continue;
        }
        let what = if file == File::Group { "group" } else { "account" };
        let message = format!("the file is empty (0 bytes): no {what} is found in it.");
        let remedies = Loss::Empty.remedies(checker.context, file);
        checker.find_about(&EMPTY_FILE, file, message, remedies);
    }
}

fn shrunk(checker: &mut Checker<'_>) {
    let context = checker.context;
    for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
        let lines = context.book.lines(file).filter(|lines| !lines.is_empty());
        let Some(loss) =
            lines.and_then(|_| shrunk_since(context, file).or_else(|| short(context, file)))
        else {
            continue;
        };
        let message = match loss {
            Loss::Shrunk(bytes) => format!(
                "the file is {} shorter than the last change left it.",
                bytes_in_words(bytes)
            ),
            loss => format!("{}.", loss.told(file)),
        };
        let remedies = loss.remedies(context, file);
        checker.find_about(&SHRUNK_FILE, file, message, remedies);
    }
}

/// Whether many names of the file that goes with this one have no line in it.
fn short(context: PlanContext<'_>, file: File) -> Option<Loss> {
    // A group needs no line in gshadow: many are made without.
    let other = match file {
        File::Passwd => File::Shadow,
        File::Shadow => File::Passwd,
        File::Group => File::Gshadow,
        File::Gshadow | File::Subuid | File::Subgid => return None,
    };
    let book = context.book;
    let (lines, _) = (book.lines(other)?, book.lines(file)?);
    let starts = book.names().lacking(other, file);
    if starts.len() <= FEW {
        return None;
    }
    // Of accounts without an x in passwd no line is missing in shadow, and what other files
    // of accounts know is missing in none.
    let elsewhere = context.world.elsewhere();
    let is_missing = |start: &&u32| {
        let line = lines.at(**start as usize);
        let shadowed = || line.record().split(|byte| *byte == b':').nth(1) == Some(b"x");
        line.is_record()
            && !elsewhere.has(file, BStr::new(line.name()))
            && (other != File::Passwd || shadowed())
    };
    let missing = starts.iter().filter(is_missing).count();
    (missing > FEW.max(lines.len() / 10)).then_some(Loss::Short(other, missing))
}

/// Whether a file lost more than a tenth, and more than a few lines, since the last change.
fn shrunk_since(context: PlanContext<'_>, file: File) -> Option<Loss> {
    let then = context.world.size_left(file)?;
    let lines = context.book.lines(file)?;
    let now = lines.file_length() as u64;
    let less = then.checked_sub(now).filter(|less| *less > then / 10)?;
    let line = now / (lines.len().max(1) as u64);
    (less > line * FEW as u64).then_some(Loss::Shrunk(less))
}

/// What one file has.
struct Read {
    /// How many lines can be read.
    whole: usize,
    /// The names that the others seem to have, with the first line of each.
    names: HashMap<Vec<u8>, usize>,
    /// The first line that brings in accounts of a directory.
    compat: Option<usize>,
}

impl Read {
    fn of(lines: &Lines) -> Self {
        let mut read = Read { whole: 0, names: HashMap::new(), compat: None };
        for (at, line) in lines.iter().enumerate() {
            let text = line.bytes.trim_start_with(|c| {
                c.is_whitespace() || matches!(c, '#' | '"' | '\'' | '\u{feff}' | '+' | '-')
            });
            if line.bytes.starts_with(b"+") {
                read.compat.get_or_insert(at + 1);
            }
            if line.is_record() && line.is_whole(lines.file()) {
                read.whole += 1;
                // One with something before its name that nobody sees.
                if text.len() == line.bytes.len() {
                    continue;
                }
            }
            // Two lines may have become one: any word may be a name.
            let words = text.split(|byte| {
                byte.is_ascii_whitespace() || matches!(byte, b':' | b';' | b',' | b'|')
            });
            for word in words.filter(|word| !word.is_empty()) {
                read.names.entry_ref(word).or_insert(at + 1);
            }
        }
        read
    }
}

/// Whether the last line has no end, and is cut off.
fn ends_in_the_middle(lines: &Lines) -> bool {
    let last = lines.iter().last();
    last.is_some_and(|last| {
        let has_end = last.start + last.bytes.len() < lines.text().len();
        !has_end && last.is_record() && !last.is_whole(lines.file())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::test_support::World;
    use crate::value::Day;

    fn lost(passwd: &str, shadow: &str) -> LostLines {
        let book = book(&[(File::Passwd, passwd), (File::Shadow, shadow)]);
        let (policy, world) = (Policy::default(), World::default());
        let today = Day(20781);
        LostLines::of(PlanContext {
            book: &book,
            policy: &policy,
            world: &world,
            today,
            change: None,
        })
    }

    #[test]
    fn a_file_that_is_empty_torn_or_too_short_has_lost_lines() {
        let line = |name: &str| format!("{name}:x:1:1::/:/bin/sh\n");
        let hidden = |name: &str| format!("{name}:!:1::::::\n");
        let names: Vec<String> = (0..40).map(|at| format!("crew{at}")).collect();
        let passwd: String = names.iter().map(|name| line(name)).collect();
        let shadow: String = names.iter().map(|name| hidden(name)).collect();
        assert!(!lost(&passwd, &shadow).files.contains_key(&File::Passwd));
        assert!(lost("", &shadow).files.contains_key(&File::Passwd));
        assert!(!lost("", &shadow).files.contains_key(&File::Shadow));
        assert!(lost(&passwd[..passwd.len() - 9], &shadow).files.contains_key(&File::Passwd));
        // Without its end alone nothing is lost.
        assert!(!lost(&passwd[..passwd.len() - 1], &shadow).files.contains_key(&File::Passwd));
        let fewer = |count: usize| names[count..].iter().map(|name| line(name)).collect::<String>();
        assert!(!lost(&fewer(4), &shadow).files.contains_key(&File::Passwd));
        assert!(lost(&fewer(5), &shadow).files.contains_key(&File::Passwd));
        assert!(lost(&passwd, &hidden("crew1")).files.contains_key(&File::Shadow));
    }

    #[test]
    fn a_line_that_nobody_can_read_may_be_the_missing_one() {
        let shadow = "maren:!:1::::::\ntavish:!:1::::::\n";
        for passwd in [
            "maren:x:1:1::/:/bin/sh\n#tavish:x:2:2::/:/bin/sh\n",
            "maren:x:1:1::/:/bin/sh\n\u{feff}tavish:x:2:2::/:/bin/sh:\n",
            "maren:x:1:1::/:/bin/sh\nodile:x:3:3::/:/bin/shtavish:x:2:2::/:/bin/sh\n tavish;x;2\n",
        ] {
            let lost = lost(passwd, shadow);
            assert!(lost.may_have_had(File::Passwd, b"tavish"), "{passwd}");
            assert!(!lost.may_have_had(File::Passwd, b"odalys"), "{passwd}");
        }
    }
}
