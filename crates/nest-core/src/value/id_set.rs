//! A set of ids that stays small when they lie close together.

const PAGE_BITS: u32 = 16;
const WORDS: usize = (1 << PAGE_BITS) / 64;

/// So many pages are kept side by side.
const SHELF: usize = 256;

/// A set of 32-bit ids: a page of bits for each 65,536 of them of which some are
/// in, and none for those of which all are. An empty one takes next to nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IdSet {
    shelves: Vec<Option<Box<[Page; SHELF]>>>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Page {
    Empty,
    Full,
    Some(Box<[u64; WORDS]>),
}

impl Default for IdSet {
    fn default() -> Self {
        IdSet { shelves: vec![None; (1 << (32 - PAGE_BITS)) / SHELF] }
    }
}

impl Page {
    /// The page as bits; `None` for a full one.
    fn bits(&mut self) -> Option<&mut [u64; WORDS]> {
        if matches!(self, Page::Empty) {
            *self = Page::Some(Box::new([0; WORDS]));
        }
        match self {
            Page::Some(bits) => Some(bits),
            _ => None,
        }
    }

    /// Returns whether all bits of the other page were new.
    fn extend(&mut self, other: &Page) -> bool {
        match (&mut *self, other) {
            (_, Page::Empty) => true,
            (Page::Empty, theirs) => {
                *self = theirs.clone();
                true
            }
            (Page::Some(ours), Page::Some(theirs)) => {
                let mut shared = 0;
                for (ours, theirs) in ours.iter_mut().zip(theirs.iter()) {
                    shared |= *ours & theirs;
                    *ours |= theirs;
                }
                shared == 0
            }
            (_, theirs) => {
                if matches!(theirs, Page::Full) {
                    *self = Page::Full;
                }
                false
            }
        }
    }

    #[inline(always)]
    fn word(&self, at: usize) -> u64 {
        match self {
            Page::Empty => 0,
            Page::Full => u64::MAX,
            Page::Some(bits) => bits[at],
        }
    }
}

impl IdSet {
    /// The page of this number.
    #[inline(always)]
    fn page(&self, number: u32) -> &Page {
        match &self.shelves[number as usize / SHELF] {
            Some(shelf) => &shelf[number as usize % SHELF],
            None => &Page::Empty,
        }
    }

    #[inline]
    fn page_mut(&mut self, number: u32) -> &mut Page {
        let shelf = &mut self.shelves[number as usize / SHELF];
        let shelf = shelf.get_or_insert_with(|| Box::new([const { Page::Empty }; SHELF]));
        &mut shelf[number as usize % SHELF]
    }

    /// Adds an id. Returns whether it was new.
    #[inline]
    pub fn insert(&mut self, id: u32) -> bool {
        let shelf = &mut self.shelves[id as usize >> PAGE_BITS >> SHELF.ilog2()];
        let Some(Page::Some(bits)) =
            shelf.as_mut().map(|shelf| &mut shelf[id as usize >> PAGE_BITS & (SHELF - 1)])
        else {
            return self.insert_on_new_page(id);
        };
        let word = &mut bits[(id as usize & 0xffff) / 64];
        let bit = 1 << (id % 64);
        let new = *word & bit == 0;
        *word |= bit;
        new
    }

    #[cold]
    fn insert_on_new_page(&mut self, id: u32) -> bool {
        // On a full page it is already.
        self.page_mut(id >> PAGE_BITS).bits().is_some() && self.insert(id)
    }

    /// Adds the ids from `first` to `last`.
    pub fn insert_span(&mut self, first: u32, last: u32) {
        for number in first >> PAGE_BITS..=last >> PAGE_BITS {
            let base = number << PAGE_BITS;
            let from = first.max(base) - base;
            let to = last.min(base + 0xffff) - base;
            let page = self.page_mut(number);
            if (from, to) == (0, 0xffff) {
                *page = Page::Full;
            }
            let Some(bits) = page.bits() else { continue };
            for word in from / 64..=to / 64 {
                let low = from.max(word * 64) - word * 64;
                let high = to.min(word * 64 + 63) - word * 64;
                bits[word as usize] |= (u64::MAX >> (63 - high)) & (u64::MAX << low);
            }
        }
    }

    /// Whether the id is in.
    #[inline(always)]
    pub fn contains(&self, id: u32) -> bool {
        let page = self.page(id >> PAGE_BITS);
        page.word((id as usize & 0xffff) / 64) & (1 << (id % 64)) != 0
    }

    /// The lowest id from `first` on that is not in.
    pub fn first_absent(&self, first: u32) -> Option<u32> {
        let mut id = first;
        loop {
            let page = self.page(id >> PAGE_BITS);
            if matches!(page, Page::Full) {
                id = (id | 0xffff).checked_add(1)?;
                continue;
            }
            let word = page.word((id as usize & 0xffff) / 64) >> (id % 64);
            let run = word.trailing_ones();
            if run < 64 - id % 64 {
                return Some(id + run);
            }
            id = (id | 63).checked_add(1)?;
        }
    }

    /// The highest id from `first` to `last` that is in.
    pub fn highest_in(&self, first: u32, last: u32) -> Option<u32> {
        for number in (first >> PAGE_BITS..=last >> PAGE_BITS).rev() {
            let page = self.page(number);
            if matches!(page, Page::Empty) {
                continue;
            }
            let base = number << PAGE_BITS;
            let from = (first.max(base) - base) / 64;
            let to = (last.min(base + 0xffff) - base) / 64;
            for word in (from..=to).rev() {
                let start = base + word * 64;
                let mut bits = page.word(word as usize);
                if start < first {
                    bits &= u64::MAX << (first - start);
                }
                if last - start < 63 {
                    bits &= u64::MAX >> (63 - (last - start));
                }
                if bits != 0 {
                    return Some(start + 63 - bits.leading_zeros());
                }
            }
        }
        None
    }

    /// Puts all ids of `other` in. Returns whether all of them were new.
    pub fn extend(&mut self, other: &IdSet) -> bool {
        let mut new = true;
        for (shelf, theirs) in self.shelves.iter_mut().zip(&other.shelves) {
            let Some(theirs) = theirs else { continue };
            let shelf = shelf.get_or_insert_with(|| Box::new([const { Page::Empty }; SHELF]));
            for (page, theirs) in shelf.iter_mut().zip(theirs.iter()) {
                new &= page.extend(theirs);
            }
        }
        new
    }

    /// Whether every id is in `other` too.
    pub fn is_within(&self, other: &IdSet) -> bool {
        let pages = 0..(self.shelves.len() * SHELF) as u32;
        let shelved = pages.filter(|number| self.shelves[*number as usize / SHELF].is_some());
        shelved.map(|number| (self.page(number), other.page(number))).all(|pair| match pair {
            (Page::Empty, _) | (_, Page::Full) => true,
            (ours, theirs) => (0..WORDS).all(|at| ours.word(at) & !theirs.word(at) == 0),
        })
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
        assert_eq!(set.first_absent(0), Some(1));
        assert_eq!(set.first_absent(63), Some(65));
        assert_eq!(set.first_absent(65535), Some(65537));
        assert_eq!(set.first_absent(u32::MAX), None);
        assert_eq!(set.highest_in(0, 65535), Some(65535));
        assert_eq!(set.highest_in(1, 65534), Some(64));
        assert_eq!(set.highest_in(65, 65534), None);
        assert_eq!(set.highest_in(u32::MAX, u32::MAX), Some(u32::MAX));
    }

    #[test]
    fn what_is_put_in_twice_is_told() {
        let with = |spans: &[(u32, u32)]| {
            let mut set = IdSet::default();
            spans.iter().for_each(|(first, last)| set.insert_span(*first, *last));
            set
        };
        let mut set = with(&[(5, 9), (65_530, 65_540)]);
        assert!(set.extend(&with(&[(10, 12), (70_000, 400_000)])));
        assert!(!set.extend(&with(&[(12, 13)])) && set.contains(13));
        assert!(!set.extend(&with(&[(131_072, 196_607)])) && !set.extend(&with(&[(0, 65_535)])));
        assert_eq!(set.first_absent(0), Some(65_541));
        assert!(set.is_within(&with(&[(0, u32::MAX)])) && !set.is_within(&IdSet::default()));
    }

    #[test]
    fn spans_go_in_whole_and_only_they() {
        for (first, last) in [(5, 5), (60, 70), (65500, 65600), (100, 300_000), (0, u32::MAX)] {
            let mut set = IdSet::default();
            set.insert_span(first, last);
            assert!(
                set.contains(first)
                    && set.contains(last)
                    && set.contains(first + (last - first) / 2)
            );
            assert!(first == 0 || !set.contains(first - 1), "{first}");
            assert!(last == u32::MAX || !set.contains(last + 1), "{last}");
            assert_eq!(set.highest_in(0, u32::MAX), Some(last));
            assert_eq!(set.first_absent(first), last.checked_add(1));
            let mut other = IdSet::default();
            other.insert(7);
            other.extend(&set);
            assert!(other.contains(7) && other.contains(last));
            assert!(set.is_within(&other) && other.is_within(&set) == set.contains(7));
        }
    }
}
