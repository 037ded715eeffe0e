//! A policy file.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nest_core::policy::{KEYS, Policy};

fuzz_target!(|data: &str| {
    if let Ok(policy) = Policy::read("policy.toml", data) {
        for key in KEYS {
            let _ = ((key.get)(&policy), policy.origin(key.name));
        }
        let _ = (policy.home_of(b"maren"), policy.spool_of(b"maren"));
    }
});
