//! What is to be run once, at a time: at(1) keeps a file for each job, which belongs to whom it
//! runs as.

use std::collections::{BTreeMap, HashMap};

use rustix::fs::FileType;

use crate::tree::Tree;

/// Where the jobs are.
const FOLDERS: [&str; 2] = ["var/spool/cron/atjobs", "var/spool/at"];

/// How many jobs each uid has, by the folder they are in.
pub(super) type AtJobs = HashMap<u32, BTreeMap<&'static str, usize>>;

/// Counts the jobs of everybody.
pub(super) fn at_jobs(tree: &Tree) -> AtJobs {
    let mut jobs = AtJobs::new();
    for folder in FOLDERS {
        for job in tree.files_in(folder) {
            let Ok(stat) = tree.stat(&job) else { continue };
            if FileType::from_raw_mode(stat.st_mode).is_file() {
                *jobs.entry(stat.st_uid).or_default().entry(folder).or_default() += 1;
            }
        }
    }
    jobs
}
