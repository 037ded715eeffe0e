//! A journal.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(entry) = nest_host::journal::parse(data, String::new()) {
        entry.effects.iter().for_each(|effect| drop(effect.describe()));
    }
});
