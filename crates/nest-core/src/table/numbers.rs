//! Numbers that more than one line holds.

use std::collections::HashMap;

use crate::value::IdSet;

/// The lines whose number an earlier line has, as (number, earlier, this), in
/// file order. Numbers come with their lines, twice the same.
pub fn doubled_numbers<I>(numbers: impl Fn() -> I) -> Vec<(u32, u32, u32)>
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
                Some(first) => doubled.push((number, *first, at)),
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
    fn every_later_holder_of_a_number_is_named_with_the_first() {
        let numbers = [(7, 0), (8, 1), (7, 2), (9, 3), (7, 4)];
        assert_eq!(doubled_numbers(|| numbers.into_iter()), [(7, 0, 2), (7, 0, 4)]);
        assert_eq!(doubled_numbers(|| numbers[..2].iter().copied()), []);
    }
}
