//! A snapshot: it is refused, or what it says can be compared, and written and read back it is
//! the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nest_core::compare::{CompareOptions, Side, Tally, agree, compare};
use nest_core::policy::Policy;
use nest_core::snapshot::Snapshot;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(snapshot) = Snapshot::read(text) else { return };
    let written = snapshot.to_text();
    assert_eq!(Snapshot::read(&written).as_ref(), Ok(&snapshot));
    let mut tally = Tally::default();
    tally.add(0, &snapshot);
    tally.add(1, &Snapshot::default());
    let side = Side { name: "quay".to_owned(), tells_users: true, tells_groups: true };
    let options = CompareOptions { services: true, ..CompareOptions::default() };
    let _ = compare(&tally, &[side.clone(), side], options);
    let _ = agree(&tally, options, &Policy::default());
});
