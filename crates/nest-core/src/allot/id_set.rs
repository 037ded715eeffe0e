//! A set of ids that stays small when they lie close together.

const PAGE_BITS: u32 = 16;
const WORDS: usize = (1 << PAGE_BITS) / 64;

/// A set of 32-bit ids: a page of bits for each 65,536 of them that are used.
#[derive(Debug)]
pub struct IdSet {
    pages: Vec<Option<Box<[u64; WORDS]>>>,
}

impl Default for IdSet {
    fn default() -> Self {
        IdSet { pages: vec![None; 1 << (32 - PAGE_BITS)] }
    }
}

impl IdSet {
    /// Adds an id. Returns whether it was new.
    #[inline]
    pub fn insert(&mut self, id: u32) -> bool {
        let page =
            self.pages[(id >> PAGE_BITS) as usize].get_or_insert_with(|| Box::new([0; WORDS]));
        let word = &mut page[(id as usize & 0xffff) / 64];
        let bit = 1 << (id % 64);
        let new = *word & bit == 0;
        *word |= bit;
        new
    }

    /// Whether the id is in.
    #[inline]
    pub fn contains(&self, id: u32) -> bool {
        match &self.pages[(id >> PAGE_BITS) as usize] {
            Some(page) => page[(id as usize & 0xffff) / 64] & (1 << (id % 64)) != 0,
            None => false,
        }
    }

    /// The highest id from `first` to `last` that is in.
    pub fn highest_in(&self, first: u32, last: u32) -> Option<u32> {
        for page in (first >> PAGE_BITS..=last >> PAGE_BITS).rev() {
            let Some(words) = &self.pages[page as usize] else {
                continue;
            };
            for word in (0..WORDS).rev() {
                let base = (page << PAGE_BITS) + (word * 64) as u32;
                if base > last || base + 63 < first {
                    continue;
                }
                let mut bits = words[word];
                while bits != 0 {
                    let id = base + 63 - bits.leading_zeros();
                    if (first..=last).contains(&id) {
                        return Some(id);
                    }
                    bits &= !(1 << (id % 64));
                }
            }
        }
        None
    }

    /// Puts all ids of `other` in.
    pub fn extend(&mut self, other: IdSet) {
        for (page, theirs) in self.pages.iter_mut().zip(other.pages) {
            match (page.as_mut(), theirs) {
                (Some(ours), Some(theirs)) => {
                    ours.iter_mut().zip(theirs.iter()).for_each(|(a, b)| *a |= b);
                }
                (None, Some(theirs)) => *page = Some(theirs),
                (_, None) => {}
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_go_in_and_are_found() {
        let mut set = IdSet::default();
        for id in [0, 63, 64, 65535, 65536, u32::MAX] {
            assert!(set.insert(id) && !set.insert(id) && set.contains(id));
        }
        assert!(!set.contains(1));
        assert_eq!(set.highest_in(0, 65535), Some(65535));
        assert_eq!(set.highest_in(1, 65534), Some(64));
        assert_eq!(set.highest_in(65, 65534), None);
        assert_eq!(set.highest_in(u32::MAX, u32::MAX), Some(u32::MAX));
    }
}
