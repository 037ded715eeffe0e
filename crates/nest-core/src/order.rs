//! Sorting what is not very much.
//!
//! The standard library's sorts are compiled anew for each type and each way to compare, several
//! kilobytes a time. Here the places are sorted, by one sort for all, and what is sorted is
//! brought to them: that is as stable, and nobody notices the difference below some ten thousand.

use std::cmp::Ordering;

/// Sorts by a comparison; what is equal stays in its order.
pub fn sort_by<T>(all: &mut [T], compare: impl Fn(&T, &T) -> Ordering) {
    if all.len() < 2 {
        return;
    }
    let places = sorted_places(all.len(), &|a, b| compare(&all[a], &all[b]));
    bring(places, &mut |a, b| all.swap(a, b));
}

/// Sorts by a key that each has.
pub fn sort_by_key<T, K: Ord>(all: &mut [T], key: impl Fn(&T) -> K) {
    sort_by(all, |a, b| key(a).cmp(&key(b)));
}

/// Sorts.
pub fn sort<T: Ord>(all: &mut [T]) {
    sort_by(all, T::cmp);
}

/// Which place each has to come from.
fn sorted_places(count: usize, compare: &dyn Fn(usize, usize) -> Ordering) -> Vec<usize> {
    let mut places: Vec<usize> = (0..count).collect();
    places.sort_by(|a, b| compare(*a, *b));
    places
}

/// Brings each from its place, by swaps along the rings that they make up.
fn bring(mut places: Vec<usize>, swap: &mut dyn FnMut(usize, usize)) {
    for start in 0..places.len() {
        let mut at = start;
        while places[at] != start {
            let from = places[at];
            swap(at, from);
            places[at] = at;
            at = from;
        }
        places[at] = at;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn it_is_sorted_as_the_library_does(
            all in proptest::collection::vec((0u8..20, any::<u16>()), 0..200),
        ) {
            let (mut ours, mut theirs) = (all.clone(), all.clone());
            sort_by_key(&mut ours, |one| one.0);
            theirs.sort_by_key(|one| one.0);
            prop_assert_eq!(&ours, &theirs, "what is equal stays in its order");
            sort(&mut ours);
            theirs.sort();
            prop_assert_eq!(&ours, &theirs);
            sort_by(&mut ours, |a, b| b.cmp(a));
            theirs.reverse();
            prop_assert_eq!(ours, theirs);
        }
    }
}
