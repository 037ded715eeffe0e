//! Account files in the mending: what each line has become so far.

use std::sync::Arc;

use bstr::BString;
use hashbrown::HashMap;

use crate::book::{Book, Texts};
use crate::drafting::LineEdits;
use crate::secret::is_kept;
use crate::table::{Edit, File};

/// A line of the files, as it is by now.
#[derive(Debug, Clone)]
struct NameEntry {
    /// Which line of the old file it was; nothing for one that came.
    origin: Option<usize>,
    text: BString,
    gone: bool,
}

/// One file.
#[derive(Debug, Clone)]
struct Lines {
    entries: Vec<NameEntry>,
    /// Whether the last line has its end.
    finished: bool,
}

/// All files. Lines keep their index until [`Working::settle`].
#[derive(Debug, Clone)]
pub(super) struct Working {
    files: [Option<Lines>; 6],
    /// The first line of each name, gathered when one is first asked for.
    names: [Option<HashMap<BString, usize>>; 6],
}

impl Working {
    pub fn new(book: &Book) -> Self {
        let files = File::ALL.map(|file| {
            let lines = book.lines(file)?;
            let entry = |(at, line): (usize, crate::table::Line<'_>)| NameEntry {
                origin: Some(at),
                text: line.bytes.into(),
                gone: false,
            };
            let entries = lines.iter().enumerate().map(entry).collect();
            Some(Lines { entries, finished: lines.is_finished() })
        });
        Working { files, names: Default::default() }
    }

    /// Whether the tree has the file.
    pub fn has(&self, file: File) -> bool {
        self.files[file as usize].is_some()
    }

    /// The line of this index, unless it went.
    pub fn line(&self, file: File, at: usize) -> Option<&BString> {
        let entry = self.files[file as usize].as_ref()?.entries.get(at)?;
        (!entry.gone).then_some(&entry.text)
    }

    /// The first line of this name, those that came included.
    pub fn named(&mut self, file: File, name: &[u8]) -> Option<usize> {
        let lines = self.files[file as usize].as_ref()?;
        let names = self.names[file as usize].get_or_insert_with(|| {
            let mut names = HashMap::with_capacity(lines.entries.len());
            for (at, entry) in lines.entries.iter().enumerate().filter(|(_, entry)| !entry.gone) {
                if let Some(name) = name_of(&entry.text) {
                    names.entry(BString::from(name)).or_insert(at);
                }
            }
            names
        });
        names.get(bstr::BStr::new(name)).copied()
    }

    /// Whether an earlier line that stays reads just the same.
    pub fn is_repeated(&self, file: File, at: usize) -> bool {
        let Some(lines) = &self.files[file as usize] else { return false };
        let Some(entry) = lines.entries.get(at).filter(|entry| !entry.gone) else { return false };
        lines.entries[..at].iter().any(|other| !other.gone && other.text == entry.text)
    }

    /// Puts another text in the place of a line. Returns whether it is another; a line of
    /// which something would be lost stays.
    pub fn alter(&mut self, file: File, at: usize, text: Vec<u8>) -> bool {
        if !self.is_kept(file, at) {
            return false;
        }
        let lines = self.files[file as usize].as_mut();
        let Some(entry) = lines.and_then(|lines| lines.entries.get_mut(at)) else { return false };
        let other = entry.text != text && !entry.gone;
        if other {
            if name_of(&entry.text) != name_of(&text) {
                self.names[file as usize] = None;
            }
            entry.text = text.into();
        }
        other
    }

    /// Takes a line out, unless something of it would be lost.
    pub fn remove(&mut self, file: File, at: usize) -> bool {
        self.is_kept(file, at) && self.take_out(file, at)
    }

    /// Whether undo could give back what is on a line.
    pub fn is_kept(&self, file: File, at: usize) -> bool {
        self.line(file, at).is_none_or(|line| is_kept(file, line))
    }

    /// Takes a line out, whatever is on it.
    pub fn take_out(&mut self, file: File, at: usize) -> bool {
        let lines = self.files[file as usize].as_mut();
        let Some(entry) = lines.and_then(|lines| lines.entries.get_mut(at)) else { return false };
        self.names[file as usize] = None;
        !std::mem::replace(&mut entry.gone, true)
    }

    /// Adds a line at the end. Returns whether it did: not where undo could not find it.
    pub fn add(&mut self, file: File, text: Vec<u8>) -> bool {
        if !is_kept(file, &text) {
            return false;
        }
        if let Some(lines) = self.files[file as usize].as_mut() {
            if let (Some(names), Some(name)) = (&mut self.names[file as usize], name_of(&text)) {
                names.entry(name.into()).or_insert(lines.entries.len());
            }
            lines.entries.push(NameEntry { origin: None, text: text.into(), gone: false });
            lines.finished = true;
            return true;
        }
        false
    }

    /// Gives the last line its end. Returns whether it had none.
    pub fn end(&mut self, file: File) -> bool {
        self.files[file as usize]
            .as_mut()
            .is_some_and(|lines| !std::mem::replace(&mut lines.finished, true))
    }

    /// Forgets the lines that went; what is left is numbered anew.
    pub fn settle(&mut self) {
        self.names = Default::default();
        for lines in self.files.iter_mut().flatten() {
            lines.entries.retain(|entry| !entry.gone);
        }
    }

    /// The book of the files as they are by now.
    pub fn book(&self, old: &Book) -> Book {
        let mut texts = Texts::default();
        for file in File::ALL {
            let Some(lines) = &self.files[file as usize] else { continue };
            let mut text = Vec::new();
            for entry in lines.entries.iter().filter(|entry| !entry.gone) {
                text.extend_from_slice(&entry.text);
                text.push(b'\n');
            }
            if !lines.finished {
                text.pop();
            }
            texts.set(file, Arc::new(text));
        }
        for (file, why) in &old.unreadable {
            texts.set_unreadable(*file, why.clone());
        }
        Book::new(texts)
    }

    /// What has to be done to the files of `book`, which this began with.
    pub fn edits(&self, book: &Book) -> Vec<Edit> {
        let mut draft = LineEdits::new(book);
        for file in File::ALL {
            let (Some(now), Some(old)) = (&self.files[file as usize], book.lines(file)) else {
                continue;
            };
            let mut stays = vec![None; old.len()];
            for entry in now.entries.iter().filter(|entry| !entry.gone) {
                match entry.origin.and_then(|at| stays.get_mut(at)) {
                    Some(place) => *place = Some(&entry.text),
                    None => draft.add(file, entry.text.to_vec()),
                }
            }
            let ends = now.finished && !old.is_finished();
            let last = old.len().saturating_sub(1);
            for (at, (line, now)) in old.iter().zip(stays).enumerate() {
                match now {
                    None => draft.remove(file, line),
                    // One that is altered as well goes, and comes anew with its end.
                    Some(now) if ends && at == last && *now != line.bytes => {
                        draft.remove(file, line);
                        draft.add(file, now.to_vec());
                    }
                    Some(now) if *now != line.bytes => draft.alter(file, line, now.to_vec()),
                    // Its end alone is what it lacks.
                    Some(now) if ends && at == last => draft.alter(file, line, now.to_vec()),
                    Some(_) => {}
                }
            }
        }
        draft.finish()
    }
}

/// What comes before the first colon.
fn name_of(line: &[u8]) -> Option<&[u8]> {
    let line = line.trim_ascii_start();
    line.iter().position(|byte| *byte == b':').map(|at| &line[..at])
}
