//! Indexes over a table, for work that looks up more than a few lines.

use std::collections::HashMap;
use std::hash::BuildHasher;
use std::sync::Arc;

use hashbrown::{DefaultHashBuilder, HashTable};

use super::{File, Lines};
use crate::allot::IdSet;

/// The first line of each name. Lines that repeat a name are kept apart.
#[derive(Debug)]
pub struct NameIndex {
    /// Line indexes, counted from 0: the text itself is not copied.
    slots: Arc<HashTable<u32>>,
    hasher: DefaultHashBuilder,
    /// The file whose lines these are in step with, if they were found to be.
    pub in_step_with: Option<File>,
    /// Lines whose name an earlier line has, as (earlier, this), in file order.
    pub doubled: Vec<(u32, u32)>,
}

impl NameIndex {
    /// Indexes the records of `lines`, well-formed or not.
    pub fn build(lines: &Lines) -> Self {
        let hasher = DefaultHashBuilder::default();
        let mut slots = HashTable::with_capacity(lines.len());
        let mut doubled = Vec::new();
        let name_at = |at: u32| lines.get(at as usize).name();
        for at in 0..lines.len() as u32 {
            let line = lines.get(at as usize);
            let name = line.name();
            // Without a colon it names nobody.
            if !line.is_record() || name.len() == line.record().len() {
                continue;
            }
            let hash = hasher.hash_one(name);
            match slots.find(hash, |&slot| name_at(slot) == name) {
                Some(&first) => doubled.push((first, at)),
                None => {
                    slots.insert_unique(hash, at, |&slot| hasher.hash_one(name_at(slot)));
                }
            }
        }
        NameIndex { slots: Arc::new(slots), hasher, in_step_with: None, doubled }
    }

    /// The index of lines that are in step with those of `file`, as this is of those:
    /// each name is on the line of the same number.
    pub fn of_lines_in_step(&self, file: File) -> Self {
        let (slots, hasher) = (Arc::clone(&self.slots), self.hasher.clone());
        NameIndex { slots, hasher, in_step_with: Some(file), doubled: self.doubled.clone() }
    }

    /// How many different names there are.
    pub fn len(&self) -> usize {
        self.slots.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    /// The first line with this name, counted from 0.
    pub fn find(&self, lines: &Lines, name: &[u8]) -> Option<usize> {
        let hash = self.hasher.hash_one(name);
        self.slots
            .find(hash, |&slot| lines.get(slot as usize).name() == name)
            .map(|&slot| slot as usize)
    }
}

/// Looks up names that come in about the order of the lines they are on, as those of
/// one file do in the other: mostly it is the line after the last one.
pub struct InStep<'t> {
    index: &'t NameIndex,
    lines: &'t Lines,
    next: usize,
}

impl<'t> InStep<'t> {
    /// Looks up in these lines, of which this is the index.
    pub fn new(index: &'t NameIndex, lines: &'t Lines) -> Self {
        InStep { index, lines, next: 0 }
    }

    /// The first line with this name, counted from 0.
    #[inline]
    pub fn find(&mut self, name: &[u8]) -> Option<usize> {
        // With doubled names the line at hand may not be the first.
        if self.index.doubled.is_empty() && self.next < self.lines.len() {
            let text = &self.lines.text()[self.lines.start(self.next)..];
            let plain = !matches!(name.first(), None | Some(b'#' | b'+' | b'-' | b' ' | b'\t'));
            if plain
                && text.len() > name.len()
                && text[name.len()] == b':'
                && text.starts_with(name)
            {
                self.next += 1;
                return Some(self.next - 1);
            }
        }
        let found = self.index.find(self.lines, name)?;
        self.next = found + 1;
        Some(found)
    }
}

/// The lines whose number an earlier line has, as (earlier, this), in file
/// order. Numbers come with their lines, twice the same.
pub fn doubled_numbers<I>(numbers: impl Fn() -> I) -> Vec<(u32, u32)>
where
    I: Iterator<Item = (u32, u32)>,
{
    let mut seen = IdSet::default();
    let mut again: HashMap<u32, Option<u32>> = HashMap::new();
    for (number, _) in numbers() {
        if !seen.insert(number) {
            again.insert(number, None);
        }
    }
    if again.is_empty() {
        return Vec::new();
    }
    let mut doubled = Vec::new();
    for (number, at) in numbers() {
        if let Some(first) = again.get_mut(&number) {
            match first {
                Some(first) => doubled.push((*first, at)),
                None => *first = Some(at),
            }
        }
    }
    doubled
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_found_in_step_as_they_are_by_the_index() {
        for text in ["a:x\nb:x\nc:x\nd", "c:x\na:x\n a:x\n#b:\nb:x\n", "a:1\nb:2\na:3\n", ""] {
            let lines = Lines::new(File::Passwd, Arc::new(text.as_bytes().to_vec()));
            let index = NameIndex::build(&lines);
            let mut step = InStep::new(&index, &lines);
            for name in ["a", "b", "c", "d", "a", "x", "", "#b", "b", "c"] {
                let name = name.as_bytes();
                assert_eq!(step.find(name), index.find(&lines, name), "{text:?} {name:?}");
            }
        }
    }

    #[test]
    fn files_in_step_share_what_is_looked_up() {
        let lines = |text: &str| Lines::new(File::Passwd, Arc::new(text.as_bytes().to_vec()));
        let passwd = lines("a:x\nb:x\n#c\n d:x\na:x\ne");
        let index = NameIndex::build(&passwd);
        for (text, is) in [
            ("a:!:\nb:*:\n#d:\nd:\na:1\nf", true),
            ("a:!:\nb:*:\nc:\nd:\na:1\nf", false),
            ("a:!:\nb:*:\n#d:\nd:\na:1\n", false),
            ("a:!:\nb\n#d:\nd:\na:1\nf", false),
            ("a:!:\nbb:\n#d:\nd:\na:1\nf", false),
        ] {
            let shadow = lines(text);
            assert_eq!(shadow.is_in_step_with(&passwd), is, "{text}");
            if is {
                let (alike, own) =
                    (index.of_lines_in_step(File::Passwd), NameIndex::build(&shadow));
                assert_eq!((&alike.doubled, alike.len()), (&own.doubled, own.len()));
                for name in [&b"a"[..], b"b", b"d", b"e", b"f", b"x"] {
                    assert_eq!(alike.find(&shadow, name), own.find(&shadow, name));
                }
            }
        }
    }

    #[test]
    fn every_later_holder_of_a_number_is_named_with_the_first() {
        let numbers = [(7, 0), (8, 1), (7, 2), (9, 3), (7, 4)];
        assert_eq!(doubled_numbers(|| numbers.into_iter()), [(0, 2), (0, 4)]);
        assert_eq!(doubled_numbers(|| numbers[..2].iter().copied()), []);
    }
}
