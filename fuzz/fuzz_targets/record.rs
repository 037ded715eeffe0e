//! The record of a change: what is read is written back the same, and taking it
//! back ends with a plan or a refusal.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use nest_core::record::{newest_to_undo, undone};
use nest_core::table::{File, Lines};
use nest_core::value::{escape, unescape};

fuzz_target!(|data: &[u8]| {
    assert_eq!(unescape(&escape(data)).as_deref(), Some(data));
    let Ok(record) = nest_host::changes::parse(data, String::new()) else { return };
    let text = nest_host::changes::to_text(&record);
    assert_eq!(nest_host::changes::parse(&text, String::new()).unwrap(), record);
    let records = [record];
    let _ = (undone(&records), newest_to_undo(&records), records[0].is_about(b"maren"));
    for edit in &records[0].told.edits {
        let line = edit.after.clone().unwrap_or_default();
        let lines = Lines::new(File::Passwd, Arc::new(line.to_vec()));
        let _ = lines.insertion();
    }
});
