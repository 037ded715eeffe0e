//! The list of the files that get other numbers: what each is like before. It is written while
//! a walk goes on, by several threads, and read again piece by piece, so that no number of
//! files is too many for the memory.
//!
//! An entry is `UID.GID`, words about what the kernel clears or keeps apart, and the path,
//! each with a space after it, and ends with a byte 0. The path is written as what it has in
//! common with the one before: `COUNT:REST`, the count in bytes. An entry that has nothing in
//! common begins a part that can be read by itself. The lists of earlier builds hold the paths
//! alone, and a path that has nothing in common is written there as it is. See
//! `docs/formats.md`.

use std::io::{Error, Read, Result};

use nest_core::ownership::Owner;
use nest_core::value::{Gid, TreePath, Uid};

use crate::walk::common_prefix;

/// So many bytes of a list are written and read in one go.
pub(super) const PART: usize = 64 << 10;

/// A set-id bit or a capability, which the kernel clears, and what the file was that had it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Bits {
    /// The permission bits.
    pub mode: u32,
    /// The extended attribute with the capabilities; empty where there are none.
    pub capabilities: Vec<u8>,
    /// Device and inode.
    pub identity: (u64, u64),
    /// The SHA-256 of the contents.
    pub digest: String,
}

/// One file, as it was when the list was made.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Entry {
    /// Whose it is; nothing in the lists of earlier builds.
    pub owner: Option<Owner>,
    /// Whose it becomes, where the mapping of numbers alone does not say so.
    pub target: Option<Owner>,
    /// What the kernel clears.
    pub bits: Option<Bits>,
    /// Its access control list, and that of what will be made in it, where they name a number
    /// that becomes another one.
    pub lists: [Option<Vec<u8>>; 2],
}

impl Entry {
    /// The words before the path.
    fn head(&self) -> String {
        let mut head = String::new();
        if let Some(Owner { uid, gid }) = self.owner {
            head += &format!("{uid}.{gid} ");
        }
        if let Some(Owner { uid, gid }) = self.target {
            head += &format!("t{uid}.{gid} ");
        }
        if let Some(Bits { mode, capabilities, identity, digest }) = &self.bits {
            let capabilities = hexadecimal(capabilities);
            head += &format!("b{mode:o},{capabilities},{},{},{digest} ", identity.0, identity.1);
        }
        for (word, list) in ["a", "d"].into_iter().zip(&self.lists) {
            if let Some(list) = list {
                head += &format!("{word}{} ", hexadecimal(list));
            }
        }
        head
    }

    /// What [`Entry::head`] wrote, without the last space.
    fn read(head: &[u8]) -> Option<Self> {
        let mut entry = Entry::default();
        for word in std::str::from_utf8(head).ok()?.split(' ').filter(|word| !word.is_empty()) {
            match word.as_bytes()[0] {
                b'a' => entry.lists[0] = Some(from_hexadecimal(&word[1..])?),
                b'd' => entry.lists[1] = Some(from_hexadecimal(&word[1..])?),
                b'b' => {
                    let mut parts = word[1..].split(',');
                    let mut part = || parts.next();
                    let mode = u32::from_str_radix(part()?, 8).ok()?;
                    let capabilities = from_hexadecimal(part()?)?;
                    let identity = (part()?.parse().ok()?, part()?.parse().ok()?);
                    let digest = part()?.to_owned();
                    entry.bits = Some(Bits { mode, capabilities, identity, digest });
                }
                b't' => entry.target = Some(owner(&word[1..])?),
                _ => entry.owner = Some(owner(word)?),
            }
        }
        Some(entry)
    }
}

fn owner(text: &str) -> Option<Owner> {
    let (uid, gid) = text.split_once('.')?;
    Some(Owner { uid: Uid(uid.parse().ok()?), gid: Gid(gid.parse().ok()?) })
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn from_hexadecimal(text: &str) -> Option<Vec<u8>> {
    let digits = |at: usize| u8::from_str_radix(text.get(at..at + 2)?, 16).ok();
    (0..text.len()).step_by(2).map(digits).collect()
}

/// A part of a list in the making, that can be read by itself.
#[derive(Debug, Default)]
pub(super) struct Part {
    pub text: Vec<u8>,
    last: Vec<u8>,
}

impl Part {
    pub fn push(&mut self, entry: &Entry, path: &[u8]) {
        let common = common_prefix(&self.last, path);
        let head = format!("{}{common}:", entry.head());
        self.text.extend_from_slice(head.as_bytes());
        self.text.extend_from_slice(&path[common..]);
        self.text.push(0);
        self.last.truncate(common);
        self.last.extend_from_slice(&path[common..]);
    }

    /// The part, where it is long enough; then another one is begun.
    pub fn take_full(&mut self) -> Option<Vec<u8>> {
        (self.text.len() >= PART).then(|| std::mem::take(self).text)
    }

    /// The same in the order of the paths.
    ///
    /// # Errors
    /// Where it makes no sense.
    pub fn sorted(parts: &[Part]) -> Result<Vec<u8>> {
        let mut all = Vec::new();
        for part in parts {
            let mut entries = Entries::of(&part.text);
            while let Some((entry, path)) = entries.next()? {
                all.push((path.to_vec(), entry));
            }
        }
        all.sort_unstable_by(|(one, _), (other, _)| one.cmp(other));
        let mut sorted = Part::default();
        all.iter().for_each(|(path, entry)| sorted.push(entry, path));
        Ok(sorted.text)
    }
}

/// Reads a part of a list.
pub(super) struct Entries<'l> {
    rest: &'l [u8],
    path: Vec<u8>,
}

fn damaged() -> Error {
    Error::other("the list of files is damaged")
}

impl<'l> Entries<'l> {
    pub fn of(part: &'l [u8]) -> Self {
        Entries { rest: part, path: Vec::new() }
    }

    /// The next entry with its path; `None` after the last one.
    ///
    /// # Errors
    /// Where it makes no sense.
    pub fn next(&mut self) -> Result<Option<(Entry, &[u8])>> {
        if self.rest.is_empty() {
            return Ok(None);
        }
        let end = memchr::memchr(0, self.rest).ok_or_else(damaged)?;
        let (text, rest) = self.rest.split_at(end);
        self.rest = &rest[1..];
        let (head, common, own) = cut(text).ok_or_else(damaged)?;
        let entry = Entry::read(head).ok_or_else(damaged)?;
        if common > self.path.len() {
            return Err(damaged());
        }
        // What is in common was judged with the path before, but for the name that goes on.
        let judged = memchr::memrchr(b'/', &self.path[..common]).unwrap_or_default();
        self.path.truncate(common);
        self.path.extend_from_slice(own);
        match TreePath::fits(&self.path[judged..]) {
            true => Ok(Some((entry, &self.path))),
            false => Err(damaged()),
        }
    }
}

/// An entry as its words, how much of the path is that of the one before, and the rest of it.
fn cut(text: &[u8]) -> Option<(&[u8], usize, &[u8])> {
    if text.first() == Some(&b'/') {
        return Some((b"", 0, text));
    }
    // No word holds a colon.
    let colon = memchr::memchr(b':', text)?;
    let (before, own) = (&text[..colon], &text[colon + 1..]);
    let count = memchr::memrchr(b' ', before).map_or(0, |space| space + 1);
    let common = std::str::from_utf8(&before[count..]).ok()?.parse().ok()?;
    Some((&before[..count], common, own))
}

/// Cuts a list into parts that can be read by themselves.
pub(super) struct Parts<R> {
    list: R,
    read: Vec<u8>,
    ended: bool,
    /// How many bytes of the list came before the next part.
    pub reached: u64,
}

impl<R: Read> Parts<R> {
    pub fn of(list: R, reached: u64) -> Self {
        Parts { list, read: Vec::new(), ended: false, reached }
    }

    /// The next part; `None` after the last one.
    ///
    /// # Errors
    /// The system's, and one for what is no list.
    pub fn next(&mut self) -> Result<Option<Vec<u8>>> {
        let mut looked = 0;
        loop {
            if let Some(end) = self.end_of_part(&mut looked) {
                let rest = self.read.split_off(end);
                let part = std::mem::replace(&mut self.read, rest);
                self.reached += part.len() as u64;
                return Ok(Some(part));
            }
            if self.ended {
                let part = std::mem::take(&mut self.read);
                self.reached += part.len() as u64;
                return Ok((!part.is_empty()).then_some(part));
            }
            let before = self.read.len();
            (&mut self.list).take(PART as u64).read_to_end(&mut self.read)?;
            self.ended = self.read.len() == before;
        }
    }

    /// Where a part that is long enough ends: before an entry that has nothing in common with
    /// the one before.
    fn end_of_part(&self, looked: &mut usize) -> Option<usize> {
        let mut at = (*looked).max(PART.min(self.read.len()));
        while let Some(end) = self.read.get(at..).and_then(|rest| memchr::memchr(0, rest)) {
            let next = at + end + 1;
            let rest = &self.read[next..];
            let entry = &rest[..memchr::memchr(0, rest)?];
            if cut(entry).is_some_and(|(_, common, _)| common == 0) {
                return Some(next);
            }
            at = next;
            *looked = at;
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(list: &[u8]) -> Result<Vec<(Entry, String)>> {
        let (mut all, mut entries) = (Vec::new(), Entries::of(list));
        while let Some((entry, path)) = entries.next()? {
            all.push((entry, String::from_utf8_lossy(path).into_owned()));
        }
        Ok(all)
    }

    fn paths(list: &[u8]) -> Result<Vec<String>> {
        Ok(read(list)?.into_iter().map(|(_, path)| path).collect())
    }

    fn owned(uid: u32, gid: u32) -> Entry {
        Entry { owner: Some(Owner { uid: Uid(uid), gid: Gid(gid) }), ..Entry::default() }
    }

    #[test]
    fn a_list_takes_little_more_than_what_its_paths_have_of_their_own() {
        let all: Vec<String> = (1..=2000).map(|depth| "/d".repeat(depth)).collect();
        let mut part = Part::default();
        all.iter().for_each(|path| part.push(&owned(1001, 210), path.as_bytes()));
        assert!(part.text.len() < 2000 * 20, "{}", part.text.len());
        assert_eq!(paths(&part.text).unwrap(), all);
        let mut other = Part::default();
        other.push(&owned(7, 7), b"/a/b");
        let sorted = read(&Part::sorted(&[part, other]).unwrap()).unwrap();
        assert_eq!((sorted.len(), &sorted[0]), (2001, &(owned(7, 7), "/a/b".to_owned())));
    }

    #[test]
    fn what_is_noted_of_a_file_is_read_again() {
        let digest = "e3b0".to_owned();
        let bits = Bits { mode: 0o4755, capabilities: vec![1, 0, 0, 2], identity: (3, 4), digest };
        let lists = [Some(vec![2, 0, 0, 0]), Some(Vec::new())];
        let target = owned(1002, 210).owner;
        let entry = Entry { bits: Some(bits), target, lists, ..owned(1001, 210) };
        let mut part = Part::default();
        part.push(&entry, b"/srv/a: b.c");
        assert_eq!(read(&part.text).unwrap(), [(entry, "/srv/a: b.c".to_owned())]);
    }

    #[test]
    fn lists_of_earlier_builds_are_read_and_those_that_make_no_sense_refused() {
        let old = read(b"/home/maren\x006:tavish\0/home\0").unwrap();
        let old: Vec<_> = old.iter().map(|(entry, path)| (entry.owner, path.as_str())).collect();
        assert_eq!(old, [(None, "/home/maren"), (None, "/home/tavish"), (None, "/home")]);
        assert_eq!(paths(b"").unwrap(), [""; 0]);
        let no_lists = [
            &b"/home"[..],
            b"home\0",
            b"/a\x009:b\0",
            b"x:b\0",
            b"\0",
            b"/a/../b\0",
            b"/a/.\x004:./b\0",
            b"/a/x\x003:../b\0",
            b"0:b\0",
            b"1.x 0:/b\0",
            b"1.1 bx 0:/b\0",
            b"1.1 a0 0:/b\0",
        ];
        for list in no_lists {
            assert!(read(list).is_err(), "{}", String::from_utf8_lossy(list));
        }
    }

    #[test]
    fn a_list_is_cut_into_parts_that_can_be_read_by_themselves() {
        let mut list = Vec::new();
        let mut all = Vec::new();
        for directory in 0..30 {
            let mut part = Part::default();
            for file in 0..2000 {
                let path = format!("/srv/{directory}/{file}");
                part.push(&owned(1, 2), path.as_bytes());
                all.push(path);
            }
            list.extend(part.text);
        }
        let (mut parts, mut found, mut places) = (Parts::of(&list[..], 0), Vec::new(), vec![0]);
        while let Some(part) = parts.next().unwrap() {
            found.extend(paths(&part).unwrap());
            places.push(parts.reached);
        }
        assert_eq!(found, all);
        assert_eq!(*places.last().unwrap(), list.len() as u64);
        assert!(places.len() > 5, "{places:?}");
        // From where a part ends the rest is read.
        let reached = places[3];
        let mut parts = Parts::of(&list[reached as usize..], reached);
        let mut rest = Vec::new();
        while let Some(part) = parts.next().unwrap() {
            rest.extend(paths(&part).unwrap());
        }
        assert!(all.ends_with(&rest) && !rest.is_empty() && rest.len() < all.len());
    }
}
