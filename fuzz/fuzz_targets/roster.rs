//! A roster in each of its forms, and a table of numbers: every row comes to a request or to a fault with its
//! place, and reading it a second time comes to the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nest_core::roster::{Form, NumberTable, Roster, RosterSource};

fuzz_target!(|data: &[u8]| {
    for form in [Form::Csv, Form::Json, Form::Toml, Form::Ldif] {
        let read = || Roster::read(vec![RosterSource::new("roster", form, data.to_vec())]);
        let roster = read();
        for row in &roster.rows {
            let _ = (roster.line(row), roster.name(row), roster.user(row).is_some());
        }
        let again = read();
        assert_eq!(again.rows.len(), roster.rows.len());
        assert_eq!(again.faults.len(), roster.faults.len());
        let source = RosterSource::new("numbers", form, data.to_vec());
        let numbers = NumberTable::read(vec![source]);
        numbers.rows.iter().for_each(|row| drop(numbers.place(row)));
        assert!(!numbers.rows.is_empty() || !numbers.faults.is_empty());
    }
});
