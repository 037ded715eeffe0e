//! Security labels, as SELinux's file contexts give them to paths: file_contexts(5).
//!
//! - `expression`: the expressions of that format

mod expression;

use std::borrow::Cow;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashMap;
use regex::bytes::RegexSet;

use self::expression::Expression;
use crate::configuration::{ConfigFiles, Place};
use crate::order;
use crate::value::FileKind;
use crate::words::counted;

/// The extended attribute that holds the label of a file, xattr(7).
pub const ATTRIBUTE: &str = "security.selinux";

/// A security label: user, role, type and, where the policy has levels, a range.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Label(BString);

impl Label {
    /// Reads a label as a file of contexts or the attribute has it; nothing for what is none.
    pub fn parse(text: &[u8]) -> Option<Self> {
        let text = text.strip_suffix(b"\0").unwrap_or(text);
        let fits = |part: &[u8]| !part.is_empty() && part.iter().all(u8::is_ascii_graphic);
        let mut parts = text.splitn(4, |&byte| byte == b':');
        let three = (0..3).all(|_| parts.next().is_some_and(fits));
        (three && parts.next().is_none_or(fits)).then(|| Label(text.into()))
    }

    /// The type: what rules are about.
    pub fn type_of(&self) -> &BStr {
        self.0.split(|&byte| byte == b':').nth(2).unwrap_or_default().into()
    }

    /// The label as the attribute has it.
    pub fn as_attribute(&self) -> Vec<u8> {
        [&self.0[..], b"\0"].concat()
    }
}

impl fmt::Display for Label {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// A line of the file contexts.
#[derive(Debug)]
struct Entry {
    place: Place,
    expression: Expression,
    kinds: Option<FileKind>,
    /// None for `<<none>>`: what is there keeps the label that it has.
    label: Option<Label>,
}

/// A line that makes no sense.
#[derive(Debug, Clone, PartialEq, Eq)]
struct FaultyLine {
    /// Where.
    pub place: Place,
    /// What is wrong with it, in words that follow the place.
    pub fault: String,
}

/// What a planner or a rule may ask about the labels of a tree.
pub trait Labels: Sync {
    /// Which label belongs to which path; nothing where the tree has no file contexts.
    ///
    /// # Errors
    /// Why they can't be read, in a sentence without its full stop.
    fn contexts(&self) -> Result<Option<&Arc<FileContexts>>, String>;
    /// The label of what stands at a path, links followed inside the tree; nothing where it has
    /// none.
    ///
    /// # Errors
    /// Why it can't be looked at.
    fn carried(&self, path: &BStr) -> Result<Option<Label>, String>;
    /// The label of what stands at a path, where it keeps the SSH server from reading it or
    /// passing through it.
    fn keeps_ssh_out(&self, path: &BStr, kind: FileKind) -> Option<Carried>;
}

/// What a file carries that has the wrong label.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Carried {
    /// No label.
    Nothing,
    /// This one.
    Label(Label),
}

impl fmt::Display for Carried {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Carried::Nothing => f.write_str("carries no label"),
            Carried::Label(label) => write!(f, "carries the label {label}"),
        }
    }
}

/// Which label belongs to which path.
#[derive(Debug, Default)]
pub struct FileContexts {
    /// From the least to the most particular: the last one that fits is meant.
    entries: Vec<Entry>,
    /// Paths that stand for others, the longest first: those of the machine, and those that
    /// its maker gave.
    aliases: [Vec<(BString, BString)>; 2],
    faulty: Vec<FaultyLine>,
    /// Types that somebody may have given to a file on purpose.
    chosen: Vec<BString>,
    /// What was made ready last: homes often ask for the same.
    ready: Mutex<Option<Arc<Ready>>>,
}

impl FileContexts {
    /// Reads the file contexts below a directory, as `/etc/selinux/default/contexts`; nothing
    /// where there are none.
    ///
    /// # Errors
    /// Which file can't be read, and why.
    pub fn read(files: &dyn ConfigFiles, directory: &BStr) -> Result<Option<Self>, String> {
        let read = |name: &str| {
            let path: BString = [directory.as_bytes(), b"/", name.as_bytes()].concat().into();
            let text = files.read(path.as_bstr()).map_err(|why| format!("{path} {why}"))?;
            Ok::<_, String>((path, text))
        };
        let mut contexts = FileContexts::default();
        for (at, name) in
            ["files/file_contexts", "files/file_contexts.homedirs", "files/file_contexts.local"]
                .into_iter()
                .enumerate()
        {
            match read(name)? {
                (_, None) if at == 0 => return Ok(None),
                (_, None) => {}
                (path, Some(text)) => contexts.add(path.as_bstr(), &text),
            }
        }
        // A path without a pattern is more particular than any pattern.
        order::sort_by_key(&mut contexts.entries, |entry| entry.expression.is_plain());
        for (at, name) in
            ["files/file_contexts.subs", "files/file_contexts.subs_dist"].into_iter().enumerate()
        {
            let (path, text) = read(name)?;
            contexts.add_aliases(at, path.as_bstr(), &text.unwrap_or_default());
        }
        let (_, chosen) = read("customizable_types")?;
        let chosen = chosen.unwrap_or_default();
        contexts.chosen = chosen.lines().map(|line| line.trim().into()).collect();
        Ok(Some(contexts))
    }

    fn add(&mut self, file: &BStr, text: &[u8]) {
        for (place, line) in lines_of(file, text) {
            match entry(line) {
                Ok((expression, kinds, label)) => {
                    self.entries.push(Entry { place, expression, kinds, label });
                }
                Err(fault) => self.faulty.push(FaultyLine { place, fault: fault.to_owned() }),
            }
        }
    }

    fn add_aliases(&mut self, at: usize, file: &BStr, text: &[u8]) {
        for (place, line) in lines_of(file, text) {
            let mut words = line.fields();
            match (words.next(), words.next(), words.next()) {
                (Some(from), Some(to), None) if from.starts_with(b"/") && to.starts_with(b"/") => {
                    let whole = |path: &[u8]| BString::from(path.trim_end_with(|c| c == '/'));
                    self.aliases[at].push((whole(from), whole(to)));
                }
                _ => {
                    let fault = "is not a path and what it stands for".to_owned();
                    self.faulty.push(FaultyLine { place, fault });
                }
            }
        }
        order::sort_by_key(&mut self.aliases[at], |(from, _)| std::cmp::Reverse(from.len()));
    }

    /// The path that one stands for.
    fn real<'p>(&self, path: &'p [u8]) -> Cow<'p, [u8]> {
        let mut real = Cow::Borrowed(path);
        for aliases in &self.aliases {
            let rest = |from: &BString| match real.strip_prefix(&from[..]) {
                Some(rest) if rest.is_empty() || rest.starts_with(b"/") => Some(rest.to_vec()),
                _ => None,
            };
            if let Some((to, rest)) = aliases.iter().find_map(|(from, to)| Some((to, rest(from)?)))
            {
                real = Cow::Owned([&to[..], &rest].concat());
            }
        }
        real
    }

    /// What belongs to a path and to what is below it.
    pub fn below(self: &Arc<Self>, path: &[u8]) -> Arc<Labelling> {
        let base = self.real(path).into_owned();
        let may = |entry: &Entry| entry.expression.may_fit_below(&base);
        let candidates: Vec<usize> =
            (0..self.entries.len()).filter(|&at| may(&self.entries[at])).collect();
        let ready = {
            let mut last = self.ready.lock().unwrap_or_else(PoisonError::into_inner);
            match &*last {
                Some(ready) if ready.candidates == candidates => Arc::clone(ready),
                _ => Arc::clone(last.insert(Arc::new(self.make_ready(candidates)))),
            }
        };
        Arc::new(Labelling { contexts: Arc::clone(self), base, ready })
    }

    fn make_ready(&self, candidates: Vec<usize>) -> Ready {
        let is_plain = |&at: &usize| self.entries[at].expression.is_plain();
        let (plain, mut patterns): (Vec<usize>, Vec<usize>) =
            candidates.iter().copied().partition(is_plain);
        let mut exact: HashMap<BString, Vec<usize>> = HashMap::new();
        for at in plain {
            exact.entry(self.entries[at].expression.prefix().into()).or_default().push(at);
        }
        let set = |patterns: &[usize]| {
            expression::set(patterns.iter().map(|&at| &self.entries[at].expression))
        };
        let mut faulty = Vec::new();
        let all = set(&patterns).or_else(|| {
            patterns.retain(|&at| {
                let Entry { place, expression, .. } = &self.entries[at];
                let fault = expression.fault();
                let line = |fault| FaultyLine { place: place.clone(), fault };
                let is_sound = fault.is_none();
                faulty.extend(fault.map(line));
                is_sound
            });
            set(&patterns)
        });
        let set = all.unwrap_or_else(|| {
            // Each is understood, and all at once are too large: none is gone by.
            let fault = "is one of more lines than can be gone by at once".to_owned();
            let place = patterns.first().map(|&at| self.entries[at].place.clone());
            faulty.extend(place.map(|place| FaultyLine { place, fault }));
            patterns.clear();
            RegexSet::empty()
        });
        Ready { candidates, exact, patterns, set, faulty }
    }

    /// The label of what stands at a path, where it seems to keep the SSH server out: it has
    /// none, or one of a type that belongs to nothing there.
    pub fn seems_closed_to_ssh(
        self: &Arc<Self>,
        path: &BStr,
        kind: FileKind,
        carried: Option<&Label>,
    ) -> Option<Carried> {
        let labelling = self.below(path);
        let entry = labelling.entry_of(path, kind)?;
        let belongs = entry.label.as_ref()?;
        let Some(carried) = carried else { return Some(Carried::Nothing) };
        let near = entry.expression.folder();
        let others =
            self.entries.iter().filter(|other| other.expression.prefix().starts_with(&near));
        let is_fine = self.allows(carried, belongs)
            || others
                .filter_map(|other| other.label.as_ref())
                .any(|other| other.type_of() == carried.type_of());
        (!is_fine).then(|| Carried::Label(carried.clone()))
    }

    /// Whether a file may carry a label although another belongs there: the type is the same,
    /// or one that somebody gives on purpose.
    pub fn allows(&self, carried: &Label, belongs: &Label) -> bool {
        let carried = carried.type_of();
        carried == belongs.type_of() || self.chosen.iter().any(|chosen| *chosen == carried)
    }
}

/// Lines made ready for looking paths up.
#[derive(Debug)]
struct Ready {
    candidates: Vec<usize>,
    exact: HashMap<BString, Vec<usize>>,
    /// The lines of the set, in its order.
    patterns: Vec<usize>,
    set: RegexSet,
    faulty: Vec<FaultyLine>,
}

/// What belongs to a path and to what is below it, ready for many files.
#[derive(Debug)]
pub struct Labelling {
    contexts: Arc<FileContexts>,
    base: Vec<u8>,
    ready: Arc<Ready>,
}

impl Labelling {
    /// The label of a file there; nothing where none is said, or that it keeps its own.
    pub fn of(&self, path: &[u8], kind: FileKind) -> Option<&Label> {
        self.entry_of(path, kind)?.label.as_ref()
    }

    fn entry_of(&self, path: &[u8], kind: FileKind) -> Option<&Entry> {
        let path = self.contexts.real(path);
        let entries = &self.contexts.entries;
        let of_kind = |entry: &&Entry| entry.kinds.is_none_or(|kinds| kinds == kind);
        if !is_below(&path, &self.base) {
            // A path further down may stand for one elsewhere.
            let fits = |entry: &&Entry| of_kind(entry) && entry.expression.fits(&path);
            return entries.iter().rev().find(fits);
        }
        let last = |all: &[usize]| all.iter().rev().map(|&at| &entries[at]).find(of_kind);
        let exact = self.ready.exact.get(&path[..]).and_then(|all| last(all));
        exact.or_else(|| {
            let matching = self.ready.set.matches(&path);
            let mut matching = matching.iter().rev().map(|at| &entries[self.ready.patterns[at]]);
            matching.find(of_kind)
        })
    }

    /// The lines that might be about something there, but can't be understood, and those that
    /// may be about anything; nothing where there are none.
    pub fn faults_in_words(&self) -> Option<String> {
        let mut all = self.contexts.faulty.iter().chain(&self.ready.faulty);
        let FaultyLine { place, fault } = all.next()?;
        let more = match all.count() {
            0 => String::new(),
            more => format!(", and so for {}", counted(more, "line", "lines") + " more"),
        };
        Some(format!("{place} {fault}, and is passed over{more}"))
    }
}

/// Whether a path is another one or below it.
fn is_below(path: &[u8], base: &[u8]) -> bool {
    let base = base.strip_suffix(b"/").unwrap_or(base);
    path.strip_prefix(base).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
}

/// The lines of a file that say something, without spaces around them.
fn lines_of<'t>(file: &BStr, text: &'t [u8]) -> impl Iterator<Item = (Place, &'t [u8])> {
    let lines = text.lines().enumerate().map(|(at, line)| (at, line.trim()));
    let lines = lines.filter(|(_, line)| !line.is_empty() && !line.starts_with(b"#"));
    lines.map(move |(at, line)| (Place { file: file.to_owned(), line: at + 1 }, line))
}

/// A line as its expression, the kind of file it is about, and the label.
fn entry(line: &[u8]) -> Result<(Expression, Option<FileKind>, Option<Label>), &'static str> {
    let mut words = line.fields();
    let (expression, second, third) = (words.next(), words.next(), words.next());
    let (expression, kind, label) = match (expression, second, third, words.next()) {
        (Some(expression), Some(label), None, None) => (expression, None, label),
        (Some(expression), Some(kind), Some(label), None) => (expression, Some(kind), label),
        _ => return Err("is not a path, a kind of file and a label"),
    };
    let kinds = match kind {
        None => None,
        Some(b"--") => Some(FileKind::File),
        Some(b"-d") => Some(FileKind::Directory),
        Some(b"-l") => Some(FileKind::Link),
        Some(b"-p") => Some(FileKind::Fifo),
        Some(b"-s") => Some(FileKind::Socket),
        Some(b"-b" | b"-c") => Some(FileKind::Device),
        Some(_) => return Err("names a kind of file that there is not"),
    };
    let label = match label {
        b"<<none>>" => None,
        label => Some(Label::parse(label).ok_or("has a label that is none")?),
    };
    Ok((Expression::new(expression), kinds, label))
}

#[cfg(test)]
mod tests;
