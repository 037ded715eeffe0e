//! What mends a finding: commands to be pasted.

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashMap;
use rayon::prelude::*;

use super::{Finding, Mend, Rule, correction};
use crate::account::{AccountKind, kind_of, kind_of_user};
use crate::allot::{Allotter, IdUse};
use crate::context::PlanContext;
use crate::table::File;
use crate::value::Uid;

/// A way to mend a finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remedy {
    /// When this is the right one, in a few words; empty where it plainly is. Without
    /// commands, what to do by hand, in a sentence without its full stop.
    pub when: String,
    /// What to run. It is one command: of two, the second may be refused.
    pub command: Option<Command>,
}

/// A command.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Command {
    /// `repair`, of what this rule found.
    Repair(&'static Rule),
    /// One of this program: the words after its name and its global options.
    Own(Vec<BString>),
    /// One of the system: its words, and paths in the tree that come last.
    System(String, Vec<BString>),
}

impl Command {
    /// A command of this program.
    pub(super) fn own<const N: usize>(words: [&[u8]; N]) -> Self {
        Command::Own(words.into_iter().map(BString::from).collect())
    }
}

impl Remedy {
    /// The one command that plainly mends it.
    pub(super) fn of_command<const N: usize>(words: [&[u8]; N]) -> Vec<Self> {
        Self::of_one(Command::own(words))
    }

    /// A command that plainly mends it.
    pub(super) fn of_one(command: Command) -> Vec<Self> {
        vec![Remedy { when: String::new(), command: Some(command) }]
    }

    /// Another way, for when the first is not the right one.
    pub(super) fn or(when: impl Into<String>, command: Command) -> Self {
        Remedy { when: when.into(), command: Some(command) }
    }

    /// `repair` mends it by itself.
    pub(super) fn repair(rule: &'static Rule) -> Vec<Self> {
        Self::of_one(Command::Repair(rule))
    }

    /// Whether `repair` would do it in the line of the finding.
    pub(super) fn alters_the_line(&self) -> bool {
        let alters = |command: &Command| match command {
            Command::Repair(rule) => matches!(rule.mend, Mend::Line(_)),
            Command::Own(_) | Command::System(..) => false,
        };
        self.command.as_ref().is_some_and(alters)
    }

    /// The line is taken out: that is for the administrator to decide, and where it may be
    /// somebody's it is rather written anew.
    pub(super) fn take_out(file: File, line: usize) -> Vec<Self> {
        match file {
            File::Subuid | File::Subgid => Self::of_one(Self::taking_out(file, line)),
            _ => correction::remedies(file, line, None),
        }
    }

    /// That command.
    pub(super) fn taking_out(file: File, line: usize) -> Command {
        let place = format!("{}:{line}", file.path());
        Command::own([b"repair", b"--take-out", place.as_bytes()])
    }

    /// No command can do it.
    pub(super) fn by_hand(what: impl Into<String>) -> Vec<Self> {
        vec![Remedy { when: what.into(), command: None }]
    }

    /// A new name for a user, or for a group.
    pub(super) fn rename(file: File, old: &[u8], new: &[u8]) -> Vec<Self> {
        let thing: &[u8] = if file == File::Group { b"group" } else { b"user" };
        Self::of_command([b"rename", thing, b"--", old, new])
    }
}

/// Stands for the next free number until all findings are there: each that needs one
/// gets another.
const NEXT: &[u8] = b"\0next";

/// A number of its own for a user or a group.
pub(super) fn another_number(file: File, name: &[u8]) -> Vec<Remedy> {
    match file {
        File::Group => Remedy::of_command([b"change", b"group", name, b"--gid", NEXT]),
        _ => Remedy::of_command([b"change", b"user", name, b"--uid", NEXT]),
    }
}

/// Where a name can't be edited for another fault, that one is to be mended first.
pub(super) fn unblock(findings: &mut [Finding]) {
    let mut blocks: HashMap<(bool, BString), String> = HashMap::new();
    for finding in findings.iter() {
        if finding.rule.blocks && !matches!(finding.file, File::Subuid | File::Subgid) {
            let whose = (finding.file.is_of_groups(), finding.subject.clone());
            let place = || format!("{}:{}", finding.file.path(), finding.line);
            blocks.entry(whose).or_insert_with(place);
        }
    }
    if blocks.is_empty() {
        return;
    }
    let by_name = |command: &Command| match command {
        Command::Own(words) => words.first().is_some_and(|verb| !MENDING.contains(&&verb[..])),
        Command::Repair(_) | Command::System(..) => false,
    };
    for finding in findings.iter_mut().filter(|finding| !finding.rule.blocks) {
        let whose = (finding.file.is_of_groups(), finding.subject.clone());
        let Some(place) = blocks.get(&whose) else { continue };
        if finding.remedies.iter().filter_map(|remedy| remedy.command.as_ref()).any(by_name) {
            let first = format!("mend {place} first, which stands in the way");
            finding.remedies = Remedy::by_hand(first);
        }
    }
}

/// Verbs that need no line in order.
const MENDING: [&[u8]; 4] = [b"repair", b"trace", b"recover", b"list"];

/// Puts numbers in.
pub(super) fn number(context: PlanContext<'_>, findings: &mut [Finding]) {
    let waits = |command: &Command| match command {
        Command::Own(words) => words.iter().any(|word| word == NEXT),
        _ => false,
    };
    let waiting = |finding: &Finding| {
        finding.remedies.iter().filter_map(|remedy| remedy.command.as_ref()).any(waits)
    };
    // They may be very many, and few wait for a number.
    if !findings.par_iter().any(waiting) {
        return;
    }
    let remedies = findings.iter_mut().flat_map(|finding| &mut finding.remedies);
    let PlanContext { book, policy, world, .. } = context;
    let mut allotter = Allotter::new(book, policy, world);
    for remedy in remedies {
        let mut full = false;
        if let Some(command) = &mut remedy.command {
            let Command::Own(words) = command else { continue };
            for word in words.iter_mut().filter(|word| *word == NEXT) {
                match allotter.choose(IdUse::Uid, AccountKind::Person, None) {
                    Ok(free) => *word = free.id.to_string().into(),
                    Err(_) => full = true,
                }
            }
        }
        if full {
            remedy.command = None;
            remedy.when = "no number is free: widen people.ids in the policy first".to_owned();
        }
    }
}

/// Verbs that can take something from a service.
const MOVING: [&[u8]; 4] = [b"rename", b"delete", b"change", b"repair"];

/// Lets commands pass that a guard would stand before, since they are about a service.
pub(super) fn wave_services_through(context: PlanContext<'_>, findings: &mut [Finding]) {
    let PlanContext { book, policy, .. } = context;
    let is_service = |thing: &[u8], name: &[u8]| match thing {
        b"group" => book
            .group(name)
            .is_some_and(|(_, group)| kind_of(policy, group.gid()) == AccountKind::Service),
        _ => book.user(name).is_some_and(|(_, user)| {
            let shadow = || book.shadow(name).map(|(_, shadow)| shadow);
            let is_root = user.uid() == Some(Uid::ROOT);
            !is_root && kind_of_user(policy, &user, shadow).0 == AccountKind::Service
        }),
    };
    // The account or the group whose line a place is.
    let named = |place: &[u8]| {
        let (file, line) = place.rsplit_once_str(":")?;
        let files: [(File, &[u8]); 2] = [(File::Passwd, b"user"), (File::Group, b"group")];
        let (file, thing) = files.into_iter().find(|(known, _)| known.path().as_bytes() == file)?;
        let line = line.to_str().ok()?.parse::<usize>().ok()?.checked_sub(1)?;
        let lines = book.lines(file).filter(|lines| line < lines.len())?;
        Some((thing, lines.get(line).name()))
    };
    findings.par_iter_mut().for_each(|finding| {
        let commands = finding.remedies.iter_mut().filter_map(|remedy| remedy.command.as_mut());
        for command in commands {
            let Command::Own(words) = command else { continue };
            // There may be very many, and most of them move nobody.
            let verb = words.first().map(|verb| &verb[..]);
            if !verb.is_some_and(|verb| MOVING.contains(&verb)) {
                continue;
            }
            let plain: Vec<&[u8]> =
                words.iter().map(|word| &word[..]).filter(|word| *word != b"--").collect();
            let moves = |option: &&[u8]| matches!(*option, b"--uid" | b"--gid" | b"--home");
            let guarded = match plain.as_slice() {
                [b"rename" | b"delete", thing, name, ..] => is_service(thing, name),
                [b"change", thing, name, rest @ ..] => {
                    rest.iter().any(moves) && is_service(thing, name)
                }
                [b"repair", b"--take-out", place] => {
                    named(place).is_some_and(|(thing, name)| is_service(thing, name))
                }
                _ => false,
            };
            if guarded {
                let end = words.iter().position(|word| word == "--").unwrap_or(words.len());
                words.insert(end, "--even-service".into());
            }
        }
    });
}

/// A name that nobody has in any of the account files, made from one that somebody
/// has or that can't be.
pub(super) fn free_name(book: &crate::book::Book, name: &BStr) -> BString {
    let fitted = crate::allot::fitted(name).unwrap_or_else(|| "user".into());
    let taken = |name: &str| book.names().entry(name.as_bytes()).is_some();
    if !taken(&fitted) {
        return fitted.into();
    }
    // Room for the number within what a name may be long.
    let short: String = fitted.chars().take(28).collect();
    let numbered = (2..10_000).map(|at| format!("{short}{at}"));
    numbered.into_iter().find(|name| !taken(name)).unwrap_or(fitted).into()
}
