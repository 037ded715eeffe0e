//! What is kept of a deleted account, and the numbers that are retired: what is read can
//! be asked about, and holds no name that is none.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nest_core::retired::KeptFolder;
use nest_core::retired_ids::RetiredIds;
use nest_host::state::parse;

fuzz_target!(|data: &[u8]| {
    let folder = KeptFolder::parse("user/maren.1002.5").expect("the program names folders so");
    if let Ok(account) = nest_host::kept::parse(data, folder) {
        assert_eq!(account.kept.fault(), None);
        let shown = account.kept.without_hashes();
        assert_eq!(shown.lines.len(), account.kept.lines.len());
    }
    if let Ok(ids) = parse::<RetiredIds>(data, 1) {
        assert!(ids.clone().without(&ids).is_empty());
        assert_eq!(ids.clone().with(&RetiredIds::default()).is_empty(), ids.is_empty());
    }
});
