//! The forms of reports: what the lists print, put together, and what is added up besides.
#![allow(dead_code)]

use schemars::JsonSchema;
use serde::Deserialize;

use super::Nullable;
use super::forms::{
    AcceptedFinding, Admin, Change, Counts, Difference, Finding, FirstAndLast, Group, NotCompared,
    OtherHands, Range, RetiredAccount, Setting, Skipped, Span, User,
};

/// One tree.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Report {
    /// What the machine is called; empty where nothing says so.
    host: String,
    /// What its operating system calls itself; likewise.
    system: String,
    tree: String,
    /// RFC 3339.
    time: String,
    /// The version of the program.
    program: String,
    /// A digest of the policy in force.
    policy: String,
    /// What is to be known of all of it, in words.
    notes: Vec<String>,
    totals: Totals,
    /// In the order of etc/passwd.
    users: Vec<User>,
    /// In the order of etc/group.
    groups: Vec<Group>,
    admins: Vec<Admin>,
    /// What could not be read or understood of who can become root.
    unclear: Vec<String>,
    matrix: Matrix,
    spans: Vec<Span>,
    ranges: Vec<Range>,
    retired: Vec<RetiredAccount>,
    map: NumberMap,
    ages: Ages,
    ends: Ends,
    /// The rules that ran.
    rules: Vec<String>,
    findings: Vec<Finding>,
    counts: Counts,
    /// What the policy accepts.
    accepted: Vec<AcceptedFinding>,
    /// The rules that could not run, or not wholly.
    skipped: Vec<Skipped>,
    /// The day since which changes are told.
    since: String,
    /// How many users there were after each change, the earliest first, as far as the records go.
    history: Vec<Moment>,
    /// Newest first.
    changes: Vec<Change>,
    /// What other hands did since the newest.
    other_hands: Vec<OtherHands>,
    settings: Vec<Setting>,
}

/// What is counted at a glance.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Totals {
    people: u64,
    services: u64,
    groups: u64,
    can_sign_in: u64,
    suspended: u64,
    can_become_root: u64,
    findings: Counts,
    changes: u64,
}

/// Who of the people is in which group; groups of somebody's own are left out.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Matrix {
    groups: Vec<String>,
    people: Vec<MatrixRow>,
}

/// One of them.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MatrixRow {
    name: String,
    /// Null where it is the own one.
    primary: Nullable<String>,
    /// Those that list the user.
    listed: Vec<String>,
}

/// Where the numbers are.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NumberMap {
    lanes: Vec<Lane>,
    /// The parts in which something is.
    parts: Vec<FirstAndLast>,
}

/// What holds numbers in one way.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Lane {
    /// uids, gids, uid-ranges, gid-ranges, retired or avoided.
    what: String,
    marks: Vec<Mark>,
}

/// Numbers that follow each other.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Mark {
    first: u32,
    last: u32,
    /// How many of them are held.
    count: u64,
    /// By whom, or why.
    words: String,
}

/// How many people there are of each age.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Ages {
    /// Since the password was set.
    passwords: Vec<AgeBar>,
    /// Since the line of the account came, as far as the records go.
    accounts: Vec<AgeBar>,
    /// Since the last sign-in.
    seen: Vec<AgeBar>,
}

/// How many are older than those before, and not older than this.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AgeBar {
    label: String,
    /// Null where there is no most, or no days.
    most_days: Nullable<i64>,
    count: u64,
}

/// What ends when.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Ends {
    /// Before today.
    past: Vec<End>,
    /// From today on, within a year.
    coming: Vec<End>,
    /// How many more end after that.
    later: u64,
}

/// What ends on a day.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct End {
    day: String,
    /// account, password or acceptance.
    what: String,
    /// Whose, or what is accepted.
    names: Vec<String>,
}

/// What there was after a change.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Moment {
    /// 0 for what there was before the first.
    change: u64,
    day: String,
    users: u64,
    /// Whether other hands were at the files since the change before.
    other_hands: bool,
}

/// Many machines.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Machines {
    /// RFC 3339.
    time: String,
    machines: Vec<Machine>,
    not_compared: Vec<NotCompared>,
    /// What else is to be known, in words.
    notes: Vec<String>,
    /// How many names of users were compared.
    users: u64,
    groups: u64,
    /// How many differences there are.
    differing: u64,
    /// Each user across the machines.
    across: Vec<Across>,
    differences: Vec<Difference>,
}

/// One machine.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Machine {
    name: String,
    /// What its operating system calls itself; empty where nothing says so.
    system: String,
    /// When its snapshot was taken.
    time: Nullable<String>,
    people: u64,
    services: u64,
    groups: u64,
    can_sign_in: u64,
    /// Users who can become root, or run something as root.
    root: u64,
}

/// A user across the machines.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Across {
    name: String,
    /// person or service.
    kind: String,
    full_name: String,
    /// Those of most machines first.
    uids: Vec<u32>,
    /// On how many machines it is.
    on: u64,
    /// On how many it can sign in.
    can_sign_in: u64,
    /// On how many it can become root, or run something as root.
    root: u64,
    /// On which; null where these are more than 50.
    root_on: Nullable<Vec<String>>,
}
