//! The form of each JSON document. The comments are the descriptions in `docs/json.md`.
#![allow(dead_code)]

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::Value;

use super::reports::{Machines, Report};
use super::{Form, Nullable};

/// Every document that the program prints.
pub const ALL: &[Form] = &[
    Form::new::<Users>("users", "list users", Some("users")),
    Form::new::<User>("user", "show user NAME", None),
    Form::new::<UsersThen>("users-then", "list users --at DATE, show user NAME --at DATE", None),
    Form::new::<Groups>("groups", "list groups", Some("groups")),
    Form::new::<Group>("group", "show group NAME", None),
    Form::new::<Ids>("ids", "list ids", Some("spans")),
    Form::new::<NextIds>("next-ids", "list ids --next COUNT", None),
    Form::new::<Id>("id", "show id NUMBER", None),
    Form::new::<Ranges>("ranges", "list ranges", Some("ranges")),
    Form::new::<Keys>("keys", "list keys", Some("keys")),
    Form::new::<Admins>("admins", "list admins", None),
    Form::new::<Retired>("retired", "list retired, show user NAME --retired", Some("retired")),
    Form::new::<Changes>("changes", "list changes", None),
    Form::new::<Change>("change", "show change N", None),
    Form::new::<Rules>("rules", "list rules", Some("rules")),
    Form::new::<Rule>("rule", "show rule NAME", None),
    Form::new::<Policy>("policy", "show policy", Some("settings")),
    Form::new::<Suggestions>("suggestions", "show policy --suggest", None),
    Form::new::<PolicyFaults>("policy-faults", "check --policy-only", None),
    Form::new::<Findings>("findings", "check", None),
    Form::new::<Snapshot>("snapshot", "export snapshot", None),
    Form::new::<Comparison>("comparison", "compare, its first line", None),
    Form::new::<Difference>("difference", "compare, each further line", None),
    Form::new::<Report>("report", "report", None),
    Form::new::<Machines>("machines", "report SIDE..., report --from DIR", None),
    Form::new::<Handover>("handover", "handover DUMP", None),
    Form::new::<Trace>("trace", "trace user, trace group, trace id, trace orphans", None),
    Form::new::<Receipt>("receipt", "every command that makes a change", None),
    Form::new::<Recovery>("recovery", "recover", None),
    Form::new::<Refused>("error", "any command that did not do what it was asked", None),
];

/// What is said of a key, wherever one is told of.
macro_rules! key {
    ($(#[$about:meta])* $name:ident { $($own:tt)* }) => {
        $(#[$about])*
        #[derive(Deserialize, JsonSchema)]
        #[serde(deny_unknown_fields)]
        pub struct $name {
            $($own)*
            algorithm: String,
            /// Null where the algorithm leaves no choice.
            bits: Nullable<u32>,
            /// SHA256 of the key.
            fingerprint: String,
            comment: String,
            /// Options before the key.
            options: String,
            file: String,
            line: u64,
            /// Whether it lets somebody in.
            works: bool,
            /// What keeps it from that.
            fault: Nullable<String>,
            /// Why it is too weak.
            weakness: Nullable<String>,
            /// Present and true where texts are written with \xNN.
            escaped: Option<bool>,
        }
    };
}

/// What is said of a finding.
macro_rules! finding {
    ($(#[$about:meta])* $name:ident { $($own:tt)* }) => {
        $(#[$about])*
        #[derive(Deserialize, JsonSchema)]
        #[serde(deny_unknown_fields)]
        pub struct $name {
            $($own)*
            rule: String,
            severity: String,
            file: String,
            line: Nullable<u64>,
            /// What it is about, as [check] accept names it.
            subject: String,
            message: String,
            /// The plainest command that mends it.
            remedy: Nullable<String>,
            /// All of them, and when each is the right one.
            remedies: Vec<Remedy>,
        }
    };
}

/// What is told of a change.
macro_rules! told {
    ($(#[$about:meta])* $name:ident { $($own:tt)* }) => {
        $(#[$about])*
        #[derive(Deserialize, JsonSchema)]
        #[serde(deny_unknown_fields)]
        pub struct $name {
            $($own)*
            /// The change in words.
            summary: String,
            /// The users that are new.
            users: Vec<MadeUser>,
            /// Lines of account files and of other files; hashes are shown as (hash).
            edits: Vec<Edit>,
            /// What is done besides, in words.
            steps: Vec<String>,
            /// Who gains and who loses access.
            access: Vec<Access>,
            cautions: Vec<String>,
            /// Commands that may be wanted next.
            next: Vec<String>,
            /// Of a change of many: how much of what.
            totals: Option<BTreeMap<String, String>>,
            /// Numbers that become others.
            numbers: Option<Vec<NewNumber>>,
        }
    };
}

/// A list of users.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Users {
    /// In the order of etc/passwd.
    users: Vec<User>,
}

/// One user.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct User {
    /// Login name.
    name: String,
    /// User number; null where the field is none.
    uid: Nullable<u32>,
    /// person or service.
    kind: String,
    /// What makes it that, in words.
    kind_by: String,
    /// First part of the GECOS field.
    full_name: String,
    /// The group of new files.
    primary_group: PrimaryGroup,
    /// The groups that list the user.
    groups: Vec<OfGroup>,
    /// Whether the user administers the machine.
    admin: bool,
    /// The home directory.
    home: Home,
    /// Shell; /bin/sh where the field is empty.
    shell: String,
    /// The password; null where etc/shadow can't be read.
    password: Nullable<Password>,
    /// First day on which the account no longer works; null for never.
    expires: Nullable<String>,
    /// Whether the account is suspended.
    suspended: bool,
    /// Since when, and why; null where nothing is known of it.
    suspension: Nullable<Suspension>,
    /// Subordinate ranges.
    ranges: RangesOfUser,
    /// Whether the user can sign in.
    sign_in: SignIn,
    /// When sign-in is allowed.
    hours: WindowHalf,
    /// From where it is.
    places: WindowHalf,
    /// The last sign-in; null where there was none, or it is not known.
    last_seen: Nullable<Visit>,
    /// Whether the logs could be read.
    last_seen_known: bool,
    /// Where the user is signed in now.
    signed_in: Vec<Visit>,
    /// Public keys that are looked for at sign-in.
    keys: Vec<Key>,
    /// The ways to become root, or to run something as root.
    powers: Vec<Power>,
    /// Present and true where texts hold what JSON can't: written as \xNN.
    escaped: Option<bool>,
}

/// A primary group.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrimaryGroup {
    /// Null where no group has the number.
    name: Nullable<String>,
    gid: Nullable<u32>,
}

/// A group that a user is in.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OfGroup {
    name: String,
    gid: Nullable<u32>,
}

/// A home directory.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Home {
    path: String,
    /// Whether there is a directory.
    exists: Nullable<bool>,
}

/// What etc/shadow says; never a hash.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Password {
    /// set, locked, none, never, open, or what else the field holds.
    state: String,
    /// How it is hashed.
    scheme: Nullable<String>,
    /// Day of the last change.
    changed: Nullable<String>,
    /// Days after which it must be changed.
    renew_days: Nullable<i64>,
    /// Days for which it can't be.
    hold_days: Nullable<i64>,
    /// Days of reminding before.
    remind_days: Nullable<i64>,
    /// Days after that in which it still works.
    late_days: Nullable<i64>,
}

/// Why an account is suspended.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Suspension {
    /// The day.
    since: String,
    reason: String,
    /// The expiry that comes back with resume.
    expires: Nullable<String>,
}

/// Subordinate ranges of a user.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RangesOfUser {
    uid: Vec<RangeOfUser>,
    gid: Vec<RangeOfUser>,
}

/// A subordinate range.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RangeOfUser {
    start: u32,
    count: u64,
}

/// Whether a user can sign in; null is not known.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// By password.
    password: Nullable<bool>,
    /// Whether a new one is asked for then.
    must_change: Nullable<bool>,
    /// Whether it is also asked for at a sign-in by key.
    must_change_by_key: Nullable<bool>,
    /// By password over SSH.
    password_over_ssh: Nullable<bool>,
    /// By key.
    keys: Nullable<bool>,
    /// By any way, at this moment.
    now: Nullable<bool>,
    /// What is not understood and may change the answer.
    may_differ_by: Vec<String>,
    /// What keeps the user out, in words.
    reasons: Vec<String>,
}

/// When, or from where, sign-in is allowed.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WindowHalf {
    /// As it is written on the command line.
    value: String,
    /// Whether anything is kept out.
    restricted: bool,
    /// The lines that say so.
    lines: Vec<String>,
    /// The services that keep to it.
    kept_by: Vec<String>,
    /// Why it is not known for sure.
    not_known: Vec<String>,
}

/// A sign-in.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Visit {
    /// RFC 3339.
    time: Nullable<String>,
    terminal: String,
    from: String,
}

key! {
    /// A public key.
    Key {}
}

/// A way to become root, or to run something as root.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Power {
    /// uid, sudo, doas, group or key.
    by: String,
    /// The same in words, with the place.
    words: String,
    /// Whether it amounts to being root.
    root: bool,
    /// Whose password is asked for: own, root's, none; empty for uid 0.
    asks: String,
    /// The line, as it stands.
    text: String,
    /// "everything", or a list of commands; null where it is not known.
    runs: Value,
    /// What "everything" leaves out.
    but: Option<Vec<String>>,
    /// Why it is not known.
    unknown: Option<String>,
    file: Option<String>,
    line: Option<u64>,
    /// The word of the line that fits the user.
    word: Option<String>,
    group: Option<String>,
    fingerprint: Option<String>,
    comment: Option<String>,
}

/// A list of groups.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Groups {
    /// In the order of etc/group.
    groups: Vec<Group>,
}

/// One group.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Group {
    name: String,
    gid: Nullable<u32>,
    /// people, services or private.
    kind: String,
    /// The members that it lists.
    members: Vec<String>,
    /// The users who have it as primary group.
    primary_members: Vec<String>,
    /// Who may alter its members.
    admins: Vec<String>,
    /// Null where etc/gshadow can't be read.
    has_password: Nullable<bool>,
    /// Whether its members administer the machine.
    makes_admins: bool,
    /// Other groups with the same number.
    same_gid: Vec<String>,
    /// Present and true where texts are written with \xNN.
    escaped: Option<bool>,
}

/// The spans of numbers.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Ids {
    spans: Vec<Span>,
}

/// A span of numbers; what is used outside the spans has no other counts.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Span {
    /// people, services, subordinate; more people, more services outside those.
    name: String,
    first: u32,
    last: u32,
    used: u64,
    retired: Option<u64>,
    avoided: Option<u64>,
    free: Option<u64>,
    /// The number that is given next; null for none.
    next: Option<u32>,
    /// Of what is outside: the numbers.
    ids: Option<Vec<String>>,
}

/// The numbers that are given next.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NextIds {
    people: Vec<u32>,
    services: Vec<u32>,
    subordinate: Vec<FirstAndLast>,
}

/// A range by its ends.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FirstAndLast {
    first: u32,
    last: u32,
}

/// Who stands behind a number.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Id {
    id: u32,
    held_by: Vec<Holder>,
}

/// What holds or covers a number.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Holder {
    /// uid, gid or both.
    #[serde(rename = "as")]
    held_as: String,
    /// In words.
    holder: String,
    file: Nullable<String>,
    line: Nullable<u64>,
}

/// Subordinate ranges, and the gaps between them.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Ranges {
    ranges: Vec<Range>,
}

/// A subordinate range, or a gap.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Range {
    /// uid or gid.
    what: String,
    start: u32,
    count: u64,
    /// Null for a gap.
    owner: Nullable<String>,
    /// Whether it overlaps the one before.
    overlaps: bool,
}

/// A list of keys.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Keys {
    keys: Vec<KeyOfUser>,
}

key! {
    /// A key with its owner.
    KeyOfUser {
        /// Whose it is.
        name: String,
        /// Who has it too.
        others: Vec<String>,
    }
}

/// Who can become root, or run something as root.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Admins {
    admins: Vec<Admin>,
    /// What could not be read or understood, in words.
    unclear: Vec<String>,
}

/// An account and its ways to root.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Admin {
    name: String,
    uid: Nullable<u32>,
    /// person or service.
    kind: String,
    /// Whether it can become root.
    root: bool,
    ways: Vec<Power>,
    sign_in: AdminSignIn,
    /// Since which change; null where the records don't say.
    since: Nullable<Since>,
    /// Present and true where texts are written with \xNN.
    escaped: Option<bool>,
}

/// Whether an administrator can sign in.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AdminSignIn {
    password: bool,
    keys: bool,
    reasons: Vec<String>,
}

/// A change and its day.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Since {
    change: u64,
    day: String,
}

/// Deleted accounts that are kept.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Retired {
    retired: Vec<RetiredAccount>,
}

/// A deleted account.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RetiredAccount {
    /// user or group.
    thing: String,
    name: String,
    id: u32,
    /// When it was deleted, RFC 3339.
    time: String,
    by: Author,
    /// The change that did.
    change: u64,
    /// The day.
    kept_until: String,
    /// The groups that it was in.
    groups: Vec<String>,
    /// Home, mail and the like.
    belongings: Vec<Belonging>,
    /// Whether it was suspended.
    suspended: bool,
}

/// Something that belonged to a deleted account.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Belonging {
    /// home, mail spool, crontab.
    what: String,
    path: String,
    /// stays, set-aside, archived, erased or given.
    became: String,
    /// Where it is now.
    place: String,
    files: u64,
    bytes: u64,
}

/// Who did something.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Author {
    uid: u32,
    name: Nullable<String>,
}

/// A list of changes.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Changes {
    /// Newest first.
    changes: Vec<Change>,
    /// What other hands did since the newest.
    other_hands: Vec<OtherHands>,
}

/// What somebody did to an account file by other means.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OtherHands {
    file: String,
    /// The change after which it was.
    since: u64,
    /// What differs, in words.
    lines: Nullable<Value>,
}

told! {
    /// One change, as it was told when it was made.
    Change {
        change: u64,
        /// RFC 3339.
        time: String,
        by: Author,
        /// What was typed.
        arguments: Vec<String>,
        note: Nullable<String>,
        /// The change that it took back.
        undoes: Nullable<u64>,
        /// The change that took it back.
        undone_by: Nullable<u64>,
        /// What other hands did before it.
        other_hands: Vec<OtherHands>,
    }
}

told! {
    /// What a change does, or did.
    Receipt {
        /// Its number; null where nothing was recorded.
        change: Nullable<u64>,
        /// Whether nothing was done.
        dry_run: bool,
        /// Of repair: what is left to be decided.
        left: Option<Vec<Finding>>,
    }
}

/// A user that was made.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MadeUser {
    name: String,
    uid: Nullable<u32>,
    gid: Nullable<u32>,
    home: String,
    shell: String,
}

/// A line that came, went or became another.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Edit {
    file: String,
    /// Null in other files than the account files.
    line: Nullable<u64>,
    /// Null where it came.
    before: Nullable<String>,
    /// Null where it went.
    after: Nullable<String>,
}

/// Access that somebody gains or loses.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Access {
    name: String,
    /// root, administrator, like-root, sign-in, group and so on.
    kind: String,
    gains: bool,
    group: Nullable<String>,
    /// In words.
    text: String,
}

/// A number that becomes another.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNumber {
    /// user or group.
    kind: String,
    name: String,
    old: Nullable<u32>,
    new: Nullable<u32>,
    /// How many files change hands; null where none were looked at.
    files: Nullable<u64>,
}

/// The rules of check.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rules {
    rules: Vec<Rule>,
}

/// A rule of check.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    name: String,
    /// error, warning or note.
    severity: String,
    family: String,
    finds: String,
    why: String,
    remedy: String,
    /// Whether repair mends it.
    repaired: bool,
}

/// The settings in force.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Policy {
    settings: Vec<Setting>,
}

/// A setting.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Setting {
    /// Section and key, with a dot between.
    key: String,
    value: Value,
    /// file or built-in.
    source: String,
    file: Nullable<String>,
    line: Nullable<u64>,
    meaning: String,
}

/// Settings that would suit a tree.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Suggestions {
    /// What the system calls itself, os-release(5); null where it does not say.
    system: Nullable<String>,
    /// How many people were looked at.
    people: u64,
    /// Of how many settings the policy of the tree says something already.
    settled: u64,
    suggestions: Vec<SuggestedSetting>,
}

/// A setting that would suit the tree better than the built-in one.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SuggestedSetting {
    /// Section and key, with a dot between.
    key: String,
    built_in: Value,
    /// The value as it is written in a policy.
    value: String,
    why: String,
}

/// What is wrong with a policy.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PolicyFaults {
    /// The file; null where there is none.
    policy: Nullable<String>,
    faults: Vec<PolicyFault>,
}

/// A fault of a policy.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PolicyFault {
    file: String,
    line: Nullable<u64>,
    message: String,
}

/// What check found.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Findings {
    /// What the machine is called; empty where nothing says so.
    host: String,
    tree: String,
    /// RFC 3339.
    time: String,
    /// The version of the program.
    program: String,
    /// A digest of the policy in force.
    policy: String,
    /// The rules that ran.
    rules: Vec<String>,
    findings: Vec<Finding>,
    counts: Counts,
    /// What the policy accepts.
    accepted: Vec<AcceptedFinding>,
    /// The rules that could not run, or not wholly.
    skipped: Vec<Skipped>,
    /// With --since-last: when that was.
    since: Option<String>,
    /// With --since-last: how many were known already.
    known: Option<Counts>,
    /// With --since-last: what is no longer found.
    gone: Option<Vec<Gone>>,
}

/// How many of each severity.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Counts {
    error: u64,
    warning: u64,
    note: u64,
}

finding! {
    /// A finding.
    Finding {}
}

finding! {
    /// A finding that the policy accepts.
    AcceptedFinding {
        /// Why it is accepted.
        reason: String,
        /// By whom.
        by: Nullable<String>,
        /// Until which day.
        until: Nullable<String>,
    }
}

/// A command that mends a finding.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Remedy {
    when: String,
    /// Null for what has to be done by hand.
    command: Nullable<String>,
}

/// A rule that was not judged.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Skipped {
    rule: String,
    why: String,
}

/// What was found before and is gone.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Gone {
    rule: String,
    text: String,
}

/// Files of an owner.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Trace {
    /// orphans, or whose files in words.
    looked_for: String,
    files: u64,
    bytes: u64,
    owners: Vec<Owner>,
    /// Owners inside of subordinate ranges.
    in_ranges: Vec<Owner>,
    directories: Vec<Directory>,
    /// What could not be read.
    unread: Vec<Unread>,
    /// Other file systems that were left out.
    left_out: Vec<LeftOut>,
    /// With --all: every path.
    paths: Option<Vec<String>>,
    /// Files that name the user.
    named_in: Option<Vec<String>>,
    /// Present and true where texts are written with \xNN.
    escaped: Option<bool>,
}

/// An owner of files.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Owner {
    /// uid or gid.
    what: String,
    id: u32,
    /// Who is behind the number, in words.
    behind: String,
    files: u64,
    bytes: u64,
}

/// A directory with such files.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Directory {
    path: String,
    files: u64,
    bytes: u64,
}

/// A place that could not be read.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Unread {
    path: String,
    why: String,
}

/// A file system that was left out.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LeftOut {
    path: String,
    kind: String,
}

/// What recover did, or would do: one of the two keys is there.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Recovery {
    /// Null where nothing stood unfinished.
    recovered: Option<Recovered>,
    /// With --dry-run: null where nothing does.
    unfinished: Option<Unfinished>,
}

/// What was recovered.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Recovered {
    change: Nullable<u64>,
    summary: String,
    /// Whether the change was finished; else it was rolled back.
    finished: bool,
    notes: Vec<String>,
}

/// What stands unfinished.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Unfinished {
    what: String,
    /// finished or rolled-back.
    would_be: String,
    /// The tree that it comes from, where that is another.
    other_tree: Nullable<String>,
    effects: Vec<String>,
}

/// Why a command did not do what it was asked. The exit status says how things stand.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Refused {
    error: Refusal,
}

/// A refusal, or a failure.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Refusal {
    /// One word for machines.
    kind: String,
    message: String,
    /// The command that goes round it.
    remedy: Nullable<String>,
    /// Everything that is wrong with a table.
    faults: Option<Vec<TableFault>>,
}

/// Something wrong with a table.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TableFault {
    file: Nullable<String>,
    line: Nullable<u64>,
    /// The character of the line, counted from 1.
    character: Nullable<u64>,
    /// The cell of a spreadsheet.
    cell: Nullable<String>,
    column: Nullable<String>,
    message: String,
    /// What could be put there.
    instead: Nullable<String>,
}

/// What the files of one machine say; nothing of it is secret.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Snapshot {
    /// The version of the program that took it.
    program: String,
    /// What the machine calls itself; empty where nothing says so.
    host: String,
    /// Tells two machines of one name apart: a digest of machine-id(5).
    machine: Option<String>,
    /// RFC 3339.
    time: String,
    /// What the system calls itself, os-release(5).
    system: Option<String>,
    /// A digest of all settings.
    policy: String,
    users: Vec<SnapshotUser>,
    groups: Vec<SnapshotGroup>,
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SnapshotUser {
    /// As all texts of a snapshot: what is not UTF-8 and control characters as \xNN, a backslash twice.
    name: String,
    /// Missing where it is no number.
    uid: Option<u32>,
    /// Of the primary group.
    gid: Option<u32>,
    /// The name of the primary group.
    primary: Option<String>,
    full_name: String,
    home: String,
    shell: String,
    /// person or service.
    kind: String,
    /// A day, or never; missing where the shadow file has no line of the user.
    expires: Option<String>,
    /// password, key, password and key, or no: and the reason.
    sign_in: Option<String>,
    /// By what the user can become root; empty where there is no way.
    root: Vec<String>,
    /// Fingerprints of the keys that let the user in.
    keys: Vec<String>,
    /// Subordinate uids: the first of each range, and how many.
    uids: Option<Vec<(u32, u64)>>,
    /// Subordinate gids, likewise.
    gids: Option<Vec<(u32, u64)>>,
    /// Where the home comes from, if that is another machine.
    home_from: Option<String>,
    /// With --count-files: how many files carry the uid.
    files: Option<u64>,
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SnapshotGroup {
    name: String,
    gid: Option<u32>,
    /// private, people or services.
    kind: String,
    members: Option<Vec<String>>,
    admins: Option<Vec<String>>,
    /// With --count-files: how many files carry the gid.
    files: Option<u64>,
}

/// What was compared. It is on a line of its own, and so is each difference after it.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Comparison {
    sides: Vec<ComparedSide>,
    /// The side that is as it should be.
    against: Nullable<String>,
    not_compared: Vec<NotCompared>,
    /// What else is to be known, in words.
    notes: Vec<String>,
    /// How many users were compared.
    users: u64,
    groups: u64,
    /// How many lines follow.
    differing: u64,
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ComparedSide {
    name: String,
    /// When its snapshot was taken.
    time: Nullable<String>,
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NotCompared {
    name: String,
    why: String,
}

/// One thing in which sides differ.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Difference {
    /// user, group, uid, gid, uids, gids or policy.
    kind: String,
    /// Which one; empty for the policy.
    name: String,
    /// How many sides have it.
    on: u64,
    /// How many say whether they have it.
    of: u64,
    fields: Vec<DifferenceField>,
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct DifferenceField {
    /// present, uid, gid, primary, full-name, home, shell, groups, root, sign-in, expires, keys,
    /// admins, name, ranges or policy.
    field: String,
    /// What should be first, then what most say.
    values: Vec<DifferenceValue>,
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct DifferenceValue {
    value: String,
    /// Whether it is what should be.
    expected: bool,
    /// How many sides say so.
    count: u64,
    /// Which; null for the first value where that is said by more than 50, and --all is not given.
    sides: Nullable<Vec<String>>,
}

/// Whom a directory can take over.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Handover {
    people: Vec<HandedOver>,
    /// Groups that stand before those of the directory, in words.
    groups: Vec<String>,
    /// What is asked for users beside the files.
    asks: Nullable<String>,
    /// How many are ready.
    ready: u64,
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HandedOver {
    name: String,
    ready: bool,
    /// What stands in the way.
    faults: Vec<String>,
    /// Groups that the directory does not have.
    leaves: Vec<String>,
    /// What is otherwise there.
    notes: Vec<String>,
    /// Present and true where texts are written with \xNN.
    escaped: Option<bool>,
}

/// What the account files said at the end of an earlier day.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct UsersThen {
    /// The day.
    at: String,
    /// The last change that had been made by then.
    change: u64,
    /// What is to be known of it, in words: what other hands did since.
    notes: Vec<String>,
    users: Vec<UserThen>,
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct UserThen {
    /// As all texts here: what is not UTF-8 and control characters as \\xNN, a backslash twice.
    name: String,
    uid: Nullable<u32>,
    gid: Nullable<u32>,
    /// person or service.
    kind: String,
    /// The name of the primary group.
    primary: Nullable<String>,
    /// The groups that list the user.
    groups: Vec<String>,
    full_name: String,
    home: String,
    shell: String,
    /// A day, or never; null where the user was suspended, or had no line in the shadow file.
    expires: Nullable<String>,
}
