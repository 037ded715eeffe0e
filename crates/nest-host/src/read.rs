//! Reading account files into memory, or through it.

use std::os::fd::OwnedFd;
use std::sync::Arc;

use memmap2::{Advice, MmapMut, MmapOptions};
use nest_core::table::{Excerpter, Lines, Text};
use rustix::io::Errno;
use xxhash_rust::xxh3::Xxh3;

/// Files from this size on are read into memory of their own, in parallel, and
/// copied by the kernel when they are rewritten.
pub(crate) const LARGE: u64 = 1 << 20;

/// How much of a file is in memory at a time when only some lines are kept:
/// small enough for the processor's cache.
pub(crate) const PIECE: usize = 256 << 10;

/// A text in large pages.
pub(crate) struct Mapped {
    pub map: MmapMut,
    pub length: usize,
}

impl AsRef<[u8]> for Mapped {
    fn as_ref(&self) -> &[u8] {
        &self.map[..self.length]
    }
}

/// The text of a file, in memory.
pub(crate) fn read_text(descriptor: &OwnedFd, size: u64) -> std::io::Result<Text> {
    let size = size as usize;
    if (size as u64) < LARGE {
        let mut text = Vec::with_capacity(size + 1);
        while rustix::io::read(descriptor, rustix::buffer::spare_capacity(&mut text))? > 0 {
            if text.len() == text.capacity() {
                text.reserve(4096);
            }
        }
        return Ok(Arc::new(text));
    }
    let mut map = room_for(size)?;
    let length = fill_new(descriptor, &mut map)?;
    Ok(Arc::new(Mapped { map, length }))
}

/// Reads from the beginning on into memory that nobody has used yet: two threads touch it
/// in half the time.
pub(crate) fn fill_new(descriptor: &OwnedFd, room: &mut [u8]) -> std::io::Result<usize> {
    let half = room.len() / 2;
    let (first, second) = room.split_at_mut(half);
    let (first, second) = std::thread::scope(|scope| {
        let second = scope.spawn(|| fill(descriptor, half, second));
        let first = fill(descriptor, 0, first);
        (first, second.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
    });
    Ok(match first? {
        first if first < half => first,
        first => first + second?,
    })
}

/// Reads from an offset on, as much as there is room for; less only at the end.
pub(crate) fn fill(descriptor: &OwnedFd, from: usize, room: &mut [u8]) -> std::io::Result<usize> {
    let mut length = 0;
    while length < room.len() {
        match rustix::io::pread(descriptor, &mut room[length..], (from + length) as u64) {
            Ok(0) => break,
            Ok(count) => length += count,
            Err(Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(length)
}

/// Memory for a large text.
pub(crate) fn room_for(size: usize) -> std::io::Result<MmapMut> {
    let map = MmapOptions::new().len(size).map_anon()?;
    // Without huge pages half of the time goes into page faults. Only advice:
    // a kernel that has none of it still works.
    let _ = map.advise(Advice::HugePage);
    Ok(map)
}

/// Goes through a file in pieces and keeps what is wanted.
pub(crate) fn read_excerpt(
    descriptor: &OwnedFd,
    mut excerpter: Excerpter,
    mut hashed: Option<&mut Xxh3>,
) -> std::io::Result<Lines> {
    let mut piece = vec![0; PIECE];
    loop {
        match rustix::io::read(descriptor, &mut piece[..]) {
            Ok(0) => return Ok(excerpter.finish()),
            Ok(count) => {
                excerpter.feed(&piece[..count]);
                if let Some(hashed) = &mut hashed {
                    hashed.update(&piece[..count]);
                }
            }
            Err(Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
    }
}
