//! Why requests are refused: the words of all refusals stand here.

use bstr::BString;
use strum::IntoStaticStr;

use crate::allot::Holder;
use crate::refusal::{HomeTrouble, KeyTrouble, LineTrouble, NotKept};
use crate::retired::BelongingKind;
use crate::roster::Fault;
use crate::surroundings::{Process, list_processes};
use crate::table::File;
use crate::value::{ExpiryFault, Gid, IdSpan, KeyFault, NameFault, Uid};
use crate::windows::WindowTrouble;
use crate::words::{agree, also, counted, gone, nearest, some, things};

/// Why a request is refused. `Display` gives the reason in words.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum Reason {
    /// A home that can't be had.
    #[error(transparent)]
    #[strum(transparent)]
    Home(#[from] HomeTrouble),
    /// Keys that can't be added or dropped.
    #[error(transparent)]
    #[strum(transparent)]
    Key(#[from] KeyTrouble),
    /// A window that an account can't have.
    #[error(transparent)]
    #[strum(transparent)]
    Window(#[from] WindowTrouble),
    /// More accounts would go than a table that is whole leaves out.
    #[error(
        "{count} of {of} accounts would be {verb}, as no row names them, and {most} at most may be: the table may be cut off"
    )]
    TooManyOthers { count: usize, of: usize, most: usize, verb: &'static str },
    /// Several accounts that can't be had, each for a reason of its own.
    #[error("{} stand in the way{}", counted(all.len(), "thing", "things"), each_of(.all))]
    EachRefused { all: Vec<(BString, String)> },
    /// An account that a new one can't be like.
    #[error("{name} is {is}, and the new account would not be")]
    NotAlike { name: BString, is: &'static str },
    /// A line that is not taken out.
    #[error(transparent)]
    #[strum(transparent)]
    Line(#[from] LineTrouble),
    /// A directory that can't take accounts over.
    #[error("{why}")]
    NotHandedOver { why: String },
    /// A name that can't be.
    #[error("the name {0}")]
    UnfitName(NameFault),
    /// A name that no file can be called by.
    #[error(
        "files are named after it, and {name} is no name of a file: it holds a slash, is a dot, or is too long"
    )]
    NoFileName { name: BString },
    /// The same name twice in one call.
    #[error("the name comes twice in one call")]
    NameTwice,
    /// The name is a user's.
    #[error("{file}:{line} already has a user of that name (uid {uid})", file = File::Passwd.path())]
    UserExists { line: usize, uid: BString },
    /// The name is a group's.
    #[error("{file}:{line} already has a group of that name (gid {gid}), which would be the private group's", file = File::Group.path())]
    GroupExists { line: usize, gid: BString },
    /// The name is a group's.
    #[error("{file}:{line} already has a group of that name (gid {gid})", file = File::Group.path())]
    GroupNameTaken { line: usize, gid: BString },
    /// Only a leftover line of a group.
    #[error("there is no group {name}: only {file}:{line} is left over from one", file = File::Gshadow.path())]
    OnlyGshadow { name: BString, line: usize },
    /// The same thing is to come and to go.
    #[error("{one} and {other} both name {name}")]
    BothWays { one: &'static str, other: &'static str, name: BString },
    /// A group that can't be left.
    #[error("{group} is the primary group of {user}")]
    PrimaryOf { group: BString, user: BString },
    /// A group that can't go.
    #[error("it is the primary group of {}", some(.users))]
    StillPrimary { users: Vec<BString> },
    /// A group that makes administrators.
    #[error("it is an administrators' group, and {} {} the machine through it", some(.members), agree(&.members.len(), "administers", "administer"))]
    AdminGroup { members: Vec<BString> },
    /// What can't be set aside, packed or given away.
    #[error("its {what} {path} {fault}")]
    NotToBeTaken { what: BelongingKind, path: BString, fault: String },
    /// A directory to hide things in that is not root's.
    #[error("{0}: somebody has planted it, or opened it to others")]
    Planted(String),
    /// Without state a deleted account can only be gone.
    #[error("with --state none there is nowhere to keep a deleted account")]
    NowhereToRetire,
    /// A home to be given to somebody who has none.
    #[error("{user} can't be given the files: {fault}")]
    CanNotBeGiven { user: BString, fault: String },
    /// The primary group of an account to be restored is gone.
    #[error("its primary group, gid {gid}, is gone")]
    PrimaryGone { gid: Gid },
    /// Where the home was there is something else.
    #[error("{path}, where its {what} was, is {taken} now")]
    BelongingTaken { what: BelongingKind, path: BString, taken: String },
    /// Where a belonging was it can't be put back.
    #[error("its {what} can't be put back at {path}: {fault}")]
    NoWayBack { what: BelongingKind, path: BString, fault: String },
    /// Something to be erased that holds somebody else's files.
    #[error("its {what}, set aside as {path}, {fault}")]
    NotToBeErased { what: BelongingKind, path: BString, fault: String },
    /// Files that are where they should go.
    #[error("both are {0}")]
    SameOwner(String),
    /// The system's own files.
    #[error("root's files are the system itself: given away, nothing would start any more")]
    RootsFiles,
    /// A user without a group to give files to.
    #[error("{user} has no group of its own: whose the files of a group become has to be said")]
    NoOwnGroup { user: BString },
    /// A place that can't be walked from.
    #[error("{path} {fault}")]
    NoSuchPlace { path: BString, fault: String },
    /// Files that could not be looked at.
    #[error("the files could not be counted: {0}")]
    NotCounted(String),
    /// What is kept of deleted accounts does not help.
    #[error(transparent)]
    #[strum(transparent)]
    Kept(#[from] NotKept),
    /// Rows of a roster that can't be had.
    #[error("{} wrong{}", things(.faults.len()), also(*.span_full))]
    Roster { faults: Vec<Fault>, span_full: usize },
    /// Accounts of another tree of which it is not said what becomes of them.
    #[error("{} to be decided", counted(.faults.len(), "thing is", "things are"))]
    Undecided { faults: Vec<Fault> },
    /// Decisions that were written when the files of the trees were others.
    #[error(
        "the decisions are for another state of the trees: accounts here or in {tree} were changed since they were written"
    )]
    OtherState { tree: String },
    /// Files of another system that may be anywhere.
    #[error(
        "the table is about files that were copied from another system, and --paths does not say where they are: everywhere else the same numbers are other people's"
    )]
    CopiedWhere,
    /// A place that holds homes of others too.
    #[error("{path} holds the homes of others too, whose files carry numbers of this system: {}", some(.names))]
    HomesOfOthers { path: BString, names: Vec<BString> },
    /// Decisions about names that do not come.
    #[error("the decisions name {}, which {} not among what comes", some(.names), if .names.len() == 1 { "is" } else { "are" })]
    NobodyToDecide { names: Vec<BString> },
    /// A range of the administrator's choice that is not free.
    #[error("the range {span} is not free: an id, another range or an avoided span is in it")]
    RangeTaken { span: IdSpan },
    /// A range that is to move is not the account's.
    #[error("{span} is no range of theirs")]
    NotTheirRange { span: IdSpan },
    /// A group of that name is made by the same request.
    #[error("a group of that name, with gid {gid}, is made as well; name it as the primary group")]
    GroupInPlan { gid: BString },
    /// A group of a service.
    #[error(
        "{loss}; its gid {gid} is one of the services', and what runs with it may stop working"
    )]
    IsServiceGroup { loss: String, gid: Gid },
    /// A leftover record of that name in another file.
    #[error("{}:{line} already has a line for that name, left over from an earlier account", .file.path())]
    Leftover { file: File, line: usize },
    /// The name is known to the system's name services.
    #[error("the system's name services already know a {what} of that name")]
    ServiceKnows { what: &'static str },
    /// The name services gave no answer.
    #[error("the system's name services gave no answer, which is not a no: {0}")]
    ServiceFailed(String),
    /// A line that must be edited can't be.
    #[error("{}:{line} {fault}; it can't be edited safely", .file.path())]
    Damaged { file: File, line: usize, fault: String },
    /// A file of 0 bytes that can't be empty.
    #[error("{} is empty (0 bytes), which no sound system has; put a copy of it back first", .0.path())]
    Empty(File),
    /// Options that only make sense for one account.
    #[error("{0} is for one account, and several were named")]
    OneOnly(&'static str),
    /// Options that contradict each other.
    #[error("{0} and {1} contradict each other")]
    Contradiction(&'static str, &'static str),
    /// The id is held.
    #[error("{what} {id} {holder}")]
    IdTaken { what: &'static str, id: u32, holder: Holder },
    /// The name services know a holder of the id.
    #[error("{what} {id} belongs to {holder} in the system's name services")]
    IdInService { what: &'static str, id: u32, holder: BString },
    /// Ids that must not be used.
    #[error("{what} {id} is reserved: {why}")]
    IdReserved { what: &'static str, id: u32, why: &'static str },
    /// No free id.
    #[error("no id is free in {span}, the span of {setting}{}", avoided_there(*.avoided))]
    SpanFull { span: IdSpan, setting: String, avoided: u64 },
    /// No gap for a range.
    #[error("no gap of {count} ids is left in {span}, the span of {setting}")]
    RangesFull { count: u32, span: IdSpan, setting: String },
    /// A user that is not there.
    #[error("there is no user {name}{}", nearest(.near))]
    NoUser { name: BString, near: Option<BString> },
    /// A group that is not there.
    #[error("there is no group {name}{}", nearest(.near))]
    NoGroup { name: BString, near: Option<BString> },
    /// None of the administrators' groups exists.
    #[error("none of the administrators' groups exists: {groups} ({setting})")]
    NoAdminGroup { groups: String, setting: String },
    /// A path that can't be in an account file.
    #[error("the {what} {path} {fault}")]
    BadPath { what: &'static str, path: BString, fault: &'static str },
    /// A part of the GECOS field that it can't hold.
    #[error("the {} holds {fault}, which the account files can't hold there", part.replace('_', " "))]
    BadGecos { part: &'static str, fault: &'static str },
    /// No date.
    #[error(transparent)]
    BadDate(#[from] ExpiryFault),
    /// An expiry that is over.
    #[error("the expiry {0} is not in the future: the account would never work")]
    ExpiryPast(crate::value::Day),
    /// No shadow file to hold the expiry.
    #[error("this tree has no etc/shadow, and an expiry is kept nowhere else")]
    NoShadowForExpiry,
    /// Keys that are none.
    #[error("{path} {fault}")]
    BadKeys { path: String, fault: KeyFault },
    /// Root would lose something.
    #[error("{loss}, and no other account has uid 0: it is root")]
    IsRoot { loss: String },
    /// The administrator's own account would.
    #[error("{loss}, and it is your own account")]
    IsMe { loss: String },
    /// A service would.
    #[error("{loss}; it is a service (uid {uid}), and what runs under it would stop working")]
    IsService { loss: String, uid: Uid },
    /// Nobody could administer the machine.
    #[error("{loss}, and no other account can sign in as administrator")]
    LastAdmin { loss: String },
    /// Processes run under an account that would become another one.
    #[error("{loss}, and {} under it{}", counted(processes.len(), "process runs", "processes run"), list_processes(.processes))]
    Busy { loss: String, processes: Vec<Process> },
    /// Nothing to rename.
    #[error("that is its name already")]
    SameName,
    /// No shadow file for a hash.
    #[error(
        "this tree has no etc/shadow, and a hash is never written to etc/passwd, which everybody can read"
    )]
    NoShadowForPassword,
    /// No line in the shadow file.
    #[error("etc/shadow has no line for {name}, and what was asked is kept there")]
    NoShadowLine { name: BString },
    /// A suspended account's expiry is not its own.
    #[error("it is suspended, and the expiry that stands there now is part of that")]
    IsSuspended,
    /// A password that could never be changed.
    #[error("a password that is to be renewed after {renew} days can't be held for {hold}")]
    HoldAboveRenew { hold: i64, renew: i64 },
    /// A change that is undone.
    #[error("change {by} has taken it back already")]
    UndoneAlready { by: u64 },
    /// A line that other changes, or other hands, have altered.
    #[error("{}:{line} has changed since\n  it was left as   {left}\n  and is now       {}", .file.path(), gone(.now))]
    LineChanged { file: File, line: usize, left: BString, now: Option<BString> },
    /// A password that was replaced.
    #[error("it replaced the password of {name}, and a replaced hash is kept nowhere")]
    HashNotKept { name: BString },
    /// A line of which a part was hidden.
    #[error(
        "in the line of {name} stood what may be a hash, in a place where none belongs: it was not recorded, and can't be put back"
    )]
    PartNotKept { name: BString },
    /// Something has taken the place of a line that went.
    #[error("{}:{line} is a line of {name} again", .file.path())]
    PlaceTaken { file: File, line: usize, name: BString },
    /// Something on the tree that can't be taken back.
    #[error("{0}")]
    StepStands(String),
    /// Keys that are there.
    #[error(
        "{0} exists already: make the account without the key, and add it then by change user --add-key"
    )]
    KeysExist(BString),
}

/// Each name with its reason, a line each: the first of very many.
fn each_of(all: &[(BString, String)]) -> String {
    const MOST: usize = 40;
    let width = all.iter().take(MOST).map(|(name, _)| name.len()).max().unwrap_or(0);
    let mut text = String::new();
    for (name, reason) in all.iter().take(MOST) {
        text += &format!("\n  {:width$}  {reason}", name.to_string());
    }
    if all.len() > MOST {
        text += &format!("\n  and {} more", all.len() - MOST);
    }
    text
}

/// How many ids of a span are not given since the policy avoids them.
fn avoided_there(count: u64) -> String {
    match count {
        0 => String::new(),
        1 => "; 1 of them is avoided, by ids.avoid".to_owned(),
        _ => format!("; {count} of them are avoided, by ids.avoid"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::{Day, NameStyle};

    #[test]
    fn every_reason_reads_as_a_sentence() {
        let name = || BString::from("pilots");
        let holder = Holder::Group("pilots".into());
        let span = IdSpan::fixed(1000, 1002);
        let setting = || "people.ids, built in".to_owned();
        let cases = [
            (
                Reason::UnfitName(NameFault::Style(NameStyle::Strict, 'M')),
                "the name holds 'M'; names of the strict style are made of lower-case letters, digits, _ and -, and begin with a letter or _",
            ),
            (Reason::NameTwice, "the name comes twice in one call"),
            (
                Reason::UserExists { line: 7, uid: "1002".into() },
                "etc/passwd:7 already has a user of that name (uid 1002)",
            ),
            (
                Reason::GroupExists { line: 8, gid: "210".into() },
                "etc/group:8 already has a group of that name (gid 210), which would be the private group's",
            ),
            (
                Reason::Leftover { file: File::Subuid, line: 3 },
                "etc/subuid:3 already has a line for that name, left over from an earlier account",
            ),
            (
                Reason::Damaged { file: File::Group, line: 4, fault: "has no readable gid".into() },
                "etc/group:4 has no readable gid; it can't be edited safely",
            ),
            (
                Reason::Empty(File::Shadow),
                "etc/shadow is empty (0 bytes), which no sound system has; put a copy of it back first",
            ),
            (Reason::OneOnly("--uid"), "--uid is for one account, and several were named"),
            (Reason::IdTaken { what: "gid", id: 210, holder }, "gid 210 is the group pilots's"),
            (
                Reason::IdReserved { what: "uid", id: 65535, why: "why" },
                "uid 65535 is reserved: why",
            ),
            (
                Reason::SpanFull { span, setting: setting(), avoided: 0 },
                "no id is free in 1000-1002, the span of people.ids, built in",
            ),
            (
                Reason::SpanFull { span, setting: setting(), avoided: 2 },
                "no id is free in 1000-1002, the span of people.ids, built in; 2 of them are \
                 avoided, by ids.avoid",
            ),
            (
                Reason::RangesFull { count: 9, span, setting: setting() },
                "no gap of 9 ids is left in 1000-1002, the span of people.ids, built in",
            ),
            (
                Reason::NoGroup { name: "pilot".into(), near: Some(name()) },
                "there is no group pilot; the nearest is pilots",
            ),
            (Reason::NoGroup { name: "pilot".into(), near: None }, "there is no group pilot"),
            (
                Reason::BadGecos { part: "full_name", fault: "a colon" },
                "the full name holds a colon, which the account files can't hold there",
            ),
            (
                Reason::ExpiryPast(Day(20781)),
                "the expiry 2026-11-24 is not in the future: the account would never work",
            ),
            (
                Reason::BadKeys { path: "keys".into(), fault: KeyFault::NotAKey { line: 3 } },
                "keys line 3 is no public key",
            ),
            (
                Reason::KeysExist("/home/maren/.ssh/authorized_keys".into()),
                "/home/maren/.ssh/authorized_keys exists already: make the account without the key, and add it then by change user --add-key",
            ),
        ];
        for (reason, says) in cases {
            assert_eq!(reason.to_string(), says);
        }
    }
}
