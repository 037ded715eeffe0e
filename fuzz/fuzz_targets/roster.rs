//! A roster in each of its forms: every row comes to a request or to a fault with its
//! place, and reading it a second time comes to the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nest_core::roster::{Form, Roster, RosterSource};

fuzz_target!(|data: &[u8]| {
    for form in [Form::Csv, Form::Json, Form::Toml] {
        let read = || Roster::read(vec![RosterSource::new("roster", form, data.to_vec())]);
        let roster = read();
        for row in &roster.rows {
            let _ = (roster.line(row), roster.name(row), roster.user(row).is_some());
        }
        let again = read();
        assert_eq!(again.rows.len(), roster.rows.len());
        assert_eq!(again.faults.len(), roster.faults.len());
    }
});
