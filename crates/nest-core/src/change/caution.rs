//! What a change should make its administrator think about. The words of all
//! cautions stand here.

use std::collections::HashMap;
use std::mem::{Discriminant, discriminant};

use bstr::BString;

use crate::configuration::Place;
use crate::surroundings::{Mention, Process, count_processes, list_mentions, verb_of};
use crate::table::File;
use crate::value::{Day, Gid, IdSpan, Uid};
use crate::windows::Half;
use crate::words::{agree, counted};

/// One caution. `Display` gives the sentence.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum Caution {
    /// Others of the same kind were left out.
    #[error("{more} more like this")]
    MoreAlike { more: usize },
    /// A shell that is not in the tree.
    #[error("the shell {shell} does not exist in this tree: {name} can't sign in until it does")]
    ShellMissing { name: BString, shell: BString },
    /// A shell that can't be started.
    #[error("the shell {shell} can't be executed: {name} can't sign in until it can")]
    ShellNotExecutable { name: BString, shell: BString },
    /// A person's shell that `etc/shells` leaves out.
    #[error("the shell {shell} is not in etc/shells: some services will turn {name} away")]
    ShellUnlisted { name: BString, shell: BString },
    /// Lines elsewhere that grant something to the name.
    #[error("{} already {} {name}: what stands there is granted to the new account", list_mentions(.places), verb_of(.places))]
    Mentioned { name: BString, places: Vec<Mention> },
    /// A name that a deleted account had.
    #[error(
        "an earlier account was called {name} (id {id}, now retired): what was granted to it by name is granted to the new one"
    )]
    EarlierHolder { name: BString, id: u32 },
    /// An id outside its span.
    #[error(
        "{what} {id} lies outside the {kind} {span}, where new numbers are taken from{}",
        .counts_as.map(|other| format!(": {name} counts as {other}")).unwrap_or_default()
    )]
    OutsideSpan {
        what: &'static str,
        name: BString,
        id: u32,
        kind: &'static str,
        span: IdSpan,
        /// What it is by that number, where that is something else.
        counts_as: Option<&'static str>,
    },
    /// A number that was somebody else's.
    #[error("{}", reused(.what, .id, .earlier, .since.as_deref(), .files.as_ref()))]
    Reused {
        what: &'static str,
        id: u32,
        earlier: BString,
        /// The day from which on it was nobody's, where that is known.
        since: Option<String>,
        /// How many files carry it still; why that is not known. Nothing where that is told by
        /// itself.
        files: Option<Result<usize, String>>,
    },
    /// An id the policy avoids.
    #[error("{what} {id} lies in the avoided span {span} ({why})")]
    Avoided { what: &'static str, id: u32, span: IdSpan, why: String },
    /// A shared uid.
    #[error("uid {uid} is {other}'s too: each of them owns the other's files")]
    SharedUid { uid: Uid, other: BString },
    /// A shared gid.
    #[error("gid {gid} is {other}'s too: each of them may do what files grant the other")]
    SharedGid { gid: Gid, other: BString },
    /// A group that is called like a user.
    #[error(
        "there is a user {name} too: its primary group stays the one of gid {gid}, this one is not made its own"
    )]
    NameOfUser { name: BString, gid: BString },
    /// A line of gshadow that was missing.
    #[error("the group {group} had no line in etc/gshadow; one is made")]
    GshadowLineMade { group: BString },
    /// A file that was missing.
    #[error(
        "this tree had no etc/gshadow, where passwords and administrators of groups are kept; it is made, with a line for every group"
    )]
    GshadowMade,
    /// A member whom only the name services know.
    #[error("{name} is not a local account: the system's name services know that user")]
    OfDirectory { name: BString },
    /// A member whom a directory may know.
    #[error("{name} is not a local account; this tree also asks {sources} for users")]
    Unlisted { name: BString, sources: String },
    /// A member whom nobody knows.
    #[error(
        "{name} is not an account, and this tree takes accounts from its files alone: check will call that member a ghost"
    )]
    UnlistedGhost { name: BString },
    /// A name that was given twice.
    #[error("{name} was named twice, and is listed once")]
    NamedTwice { name: BString },
    /// A number that groups share.
    #[error("gid {gid} stays {other}'s: users who have it as primary group, and files, keep it")]
    GidStays { gid: Gid, other: BString },
    /// The policy names a group by its old name.
    #[error("the policy names {name}: {settings}; change it there too")]
    PolicyNames { name: BString, settings: String },
    /// Lines elsewhere that name a group which goes.
    #[error("{} still {} {name}", list_mentions(.places), verb_of(.places))]
    StillNamed { name: BString, places: Vec<Mention> },
    /// A second uid 0.
    #[error(
        "{name} has uid 0: it is root under another name, and everything root may do, {name} may do"
    )]
    SecondRoot { name: BString },
    /// No shadow file.
    #[error(
        "this tree has no etc/shadow: no password can be set, and passwords and accounts don't age or expire"
    )]
    NoShadow,
    /// No gshadow file.
    #[error("this tree has no etc/gshadow: groups have neither administrators nor passwords")]
    NoGshadow,
    /// A member list that had to be tidied.
    #[error("the list of members of {group} held empty entries or spaces; they are taken out")]
    ListTidied { group: BString },
    /// A home that is adopted.
    #[error("{home} exists and is adopted: what is in it keeps its owners")]
    HomeAdopted { home: BString },
    /// A skeleton with programs that run as somebody else.
    #[error(
        "{count} in {skeleton} {}: the copies are the new user's, and get no such bit",
        agree(count, "has a set-id bit", "have set-id bits")
    )]
    SkeletonSetId { skeleton: BString, count: usize },
    /// A skeleton with files that may be other files too.
    #[error("{} in {skeleton}: what the new user gets a copy of may be another file's", counted(*count, "file has another name besides the one", "files have other names besides those"))]
    SkeletonLinked { skeleton: BString, count: usize },
    /// Files that carry a number which somebody gets.
    #[error("{} {what} {id} already, and {} {name}'s from then on", counted(*.count, "file carries", "files carry"), agree(.count, "is", "are"))]
    CarriedAlready { what: &'static str, id: u32, name: BString, count: u64 },
    /// Something that could not be counted.
    #[error("{path} could not be looked into ({why}), and is not counted")]
    Uncounted { path: BString, why: String },
    /// A home in a directory of somebody else's.
    #[error("{parent} belongs to {owner}, who can put another home in the place of {home}")]
    HomeInOthers { home: BString, parent: BString, owner: BString },
    /// A home that another account has too.
    #[error("{home} is also the home of {other}")]
    HomeShared { home: BString, other: BString },
    /// A group that lists the name already.
    #[error(
        "etc/group:{line} already lists {name} in {group}: the new account is a member at once"
    )]
    ListedAlready { name: BString, group: BString, line: usize },
    /// A change of groups.
    #[error("takes effect at {name}'s next sign-in")]
    NextSignIn { name: BString },
    /// A change of groups of many.
    #[error("takes effect at the next sign-in of each of the {count}")]
    NextSignIns { count: usize },
    /// A home that stays where it is.
    #[error(
        "{path} stays where it is and belongs to number {uid}, which nobody is given as long as it is retired"
    )]
    BelongingStays { path: BString, uid: Uid },
    /// A home that stays and has another owner already.
    #[error("{path} stays where it is and belongs to number {uid}, which another account has too")]
    BelongingShared { path: BString, uid: Uid },
    /// A home that stays, and whose number may be given to somebody else.
    #[error(
        "{path} stays where it is and belongs to number {uid}: with no state kept, the next account may get that number, and these files"
    )]
    BelongingExposed { path: BString, uid: Uid },
    /// A number without a holder.
    #[error("nobody has uid {uid}: whoever gets it owns these files")]
    NobodyHas { uid: Uid },
    /// The same of a group.
    #[error("no group has gid {gid}: whoever is in one that gets it may do what these files grant")]
    NoGroupHas { gid: Gid },
    /// What the look at the tree brought up.
    #[error("{0}")]
    Noted(String),
    /// What is purged can't come back.
    #[error("{name} can't be restored any more, and this can't be taken back")]
    Purges { name: BString },
    /// A suspension that comes back too.
    #[error("{name} was suspended and still is: resume lets the account in again")]
    StillSuspended { name: BString },
    /// Something that can't be taken back.
    #[error("{path} is erased for good: neither undo nor restore brings it back")]
    Erases { path: BString },
    /// A deletion that nothing is kept of.
    #[error("no state is kept: {name} can't be restored")]
    NothingKept { name: BString },
    /// What a group's password means.
    #[error(
        "whoever learns the password of {group} can act as a member, and nobody can tell who: to list members is nearly always better"
    )]
    GroupPassword { group: BString },
    /// A number that two accounts share.
    #[error("uid {uid} stays {other}'s: whose the files are can't be told, and none is re-owned")]
    FilesShared { uid: Uid, other: BString },
    /// Files that keep the old number.
    #[error("{} elsewhere still {} {what} {id}; to find them: copper-nest trace id {id}", counted(*.count, "file", "files"), agree(.count, "carries", "carry"))]
    FilesElsewhere { what: &'static str, id: u32, count: usize },
    /// A home that is not there.
    #[error(
        "{home} is not there, and {name} has no home until it is made: copper-nest change user {name} --make-home makes one"
    )]
    HomeMissing { name: BString, home: BString },
    /// Lines elsewhere that name the account as it was called.
    #[error("{} {} {old}, which is called {new} now: look there", list_mentions(.places), verb_of(.places))]
    Dangling { old: BString, new: BString, places: Vec<Mention> },
    /// Lines elsewhere that go to where the home was.
    #[error("{} {} {old}, and the home is {new} now: look there", list_mentions(.places), verb_of(.places))]
    HomeMoved { old: BString, new: BString, places: Vec<Mention> },
    /// A suspension that can't be undone exactly.
    #[error("no state is kept: how {name} was before is noted nowhere")]
    SuspendedUnnoted { name: BString },
    /// Processes of somebody who is kept out.
    #[error("{} of {name} {} on: copper-nest suspend user {name} --end-processes ends {}", count_processes(.processes), agree(&.processes.len(), "runs", "run"), agree(&.processes.len(), "it", "them"))]
    StillRunning { name: BString, processes: Vec<Process> },
    /// What goes on for somebody who is kept out.
    #[error("{what} of {name} go on by themselves")]
    GoesOn { name: BString, what: String },
    /// Somebody is resumed, and can't sign in all the same.
    #[error("{name} can't sign in all the same: {why}")]
    StillOut { name: BString, why: String },
    /// A password field that was empty.
    #[error(
        "the password field of {name} was empty, so that no password was asked; it comes back locked"
    )]
    WasOpen { name: BString },
    /// A suspension that was noted nowhere.
    #[error(
        "how {name} was before is noted nowhere: the password is unlocked and the expiry taken out"
    )]
    EarlierStateUnknown { name: BString },
    /// An expiry that came while the account was suspended.
    #[error(
        "the expiry that {name} had is over by now: the account stays out until it gets another"
    )]
    ExpiredMeanwhile { name: BString },
    /// A shadow line that was missing.
    #[error("{name} had no line in etc/shadow; one is made")]
    ShadowLineMade { name: BString },
    /// A password that does not come back.
    #[error("the password of {name} is kept nowhere and has to be set anew")]
    PasswordAnew { name: BString },
    /// Somebody leaves a group, and is in it all the same.
    #[error("{name} leaves {group} and stays in it all the same, {by}")]
    StaysIn { name: BString, group: BString, by: String },
    /// Somebody leaves a group, and administers it.
    #[error("{name} leaves {group} and still administers it: whoever does can come back in")]
    StillGroupAdmin { name: BString, group: BString },
    /// Somebody leaves a group of administrators, and is one.
    #[error("{name} is administrator all the same, {by}")]
    StillAdmin { name: BString, by: String },
    /// A group goes, and its number does not.
    #[error(
        "{group} goes, and {other} has gid {gid} too: whoever is in {other} keeps what files grant to it"
    )]
    GidStillGiven { group: BString, gid: Gid, other: BString },
    /// A group of one's own that nobody is in any more.
    #[error(
        "the group {group}, which was {name}'s own, is nobody's now; to be rid of it: copper-nest delete group {group}"
    )]
    GroupEmpty { name: BString, group: BString },
    /// Lines go, and the hashes on them are gone for good.
    #[error("{} with a hash on it that is kept nowhere: undo brings the line back, and not the hash", counted(*.count, "line goes", "lines go, each"))]
    HashesGo { count: usize },
    /// A line goes, and can't be given back.
    #[error(
        "line {line} of {} may hold a hash where none belongs, and is kept nowhere: undo does not bring it back",
        .file.path()
    )]
    LineGoesForGood { file: File, line: usize },
    /// A line that can't be given back.
    #[error(
        "line {line} of {} does not come back: it was malformed, may have held a hash, and is kept nowhere",
        .file.path()
    )]
    LineNotKept { file: File, line: usize },
    /// A line that has changed since.
    #[error(
        "line {line} of {} has changed since, and keeps what else was changed there",
        .file.path()
    )]
    LineMerged { file: File, line: usize },
    /// What was done on the tree and is not taken back.
    #[error("{} on the tree {} as done: only the lines are taken back", counted(*.count, "step", "steps"), agree(.count, "stays", "stay"))]
    StepsLeft { count: usize },
    /// What was set aside of an account that is back.
    #[error(
        "what was set aside or packed of {name} stays so, and is not purged while {name} is there; to bring it back: copper-nest restore user {name}"
    )]
    StaysSetAside { name: BString },
    /// It can't be told what sudoers says.
    #[error("whether sudoers gives {name} something all the same is not known: {why}")]
    SudoersUnread { name: BString, why: String },
    /// A group of administrators that nothing gives anything.
    #[error("being in {group} makes nobody administrator as things stand: {why}")]
    AdministersNothing { group: BString, why: String },
    /// A key that is added and is too weak.
    #[error("the key {key} of {name} {weak}")]
    WeakKey { name: BString, key: String, weak: String },
    /// Something that a row asks for, and that is not done to an account that is there.
    #[error("the row of {name} asks for what stays as it is, {what}")]
    RowNotDone { name: BString, what: &'static str },
    /// A hash from which a password is found by trying.
    #[error(
        "the password of {name} is hashed by {scheme}, from which it is found by trying: copper-nest password user {name} sets one anew"
    )]
    WeakHash { name: BString, scheme: &'static str },
    /// A service with a password.
    #[error("{name} is a service: whoever knows the password can sign in as it")]
    ServicePassword { name: BString },
    /// A password that is to be changed, and there is none.
    #[error(
        "there is no password of {name} to be changed at the first sign-in: copper-nest password user {name} --must-change sets one"
    )]
    NothingToChange { name: BString },
    /// An account that is made as one that is over.
    #[error("{name} is made expired: it is over since {day}")]
    MadeExpired { name: BString, day: Day },
    /// Accounts of another tree that administer there and not here.
    #[error("{} there, and not here: nothing decided says so", administrators(.names))]
    NoAdminHere { names: Vec<BString> },
    /// A row that is passed over, and the account differs from it.
    #[error("{name} is passed over, and is not as its row says: it has {has}")]
    RowDiffers { name: BString, has: String },
    /// Hours or places that no service asks for.
    #[error(
        "no service keeps {name} to these {half} yet: \"{}\" in the account part of its file in etc/pam.d makes one ask. copper-nest change user {name} --enforce {} adds it", .line.split_whitespace().collect::<Vec<_>>().join(" "), worth(.services)
    )]
    WindowUnenforced { name: BString, half: Half, line: String, services: String },
    /// Lines of other hands that have a say about an account's hours or places too.
    #[error("beside its own line {} about {name} too: {}", agree(&.lines.len(), "another one is", "others are"), rules(.lines))]
    WindowNotAlone { name: BString, lines: Vec<(Place, String)> },
    /// Places of an account whose name is a group's too.
    #[error("there is a group {name} too, and the line counts for whoever is in it: {}", crate::words::list(.others))]
    PlacesOfGroup { name: BString, others: Vec<BString> },
    /// A mail spool file that is there.
    #[error("{path} exists already and stays as it is: look whose mail it holds")]
    MailExists { path: BString },
    /// A mail spool that can't be made.
    #[error("no mail spool file is made: {why}")]
    MailNotMade { why: String },
}

/// Of some services those at which people sign in.
fn worth(services: &str) -> String {
    let doors: Vec<&str> =
        services.split(',').filter(|service| ["login", "sshd"].contains(service)).collect();
    if doors.is_empty() { services.to_owned() } else { doors.join(",") }
}

/// Lines of rules, each with its place: the first few.
fn rules(lines: &[(Place, String)]) -> String {
    const MOST: usize = 3;
    let shown = lines.iter().take(MOST).map(|(place, line)| format!("{place} ({line})"));
    let mut shown: Vec<String> = shown.collect();
    if lines.len() > MOST {
        shown.push(format!("{} more", lines.len() - MOST));
    }
    crate::words::list(&shown).to_string()
}

/// That a number was somebody else's, and what still carries it.
fn reused(
    what: &str,
    id: &u32,
    earlier: &BString,
    since: Option<&str>,
    files: Option<&Result<usize, String>>,
) -> String {
    let until = since.map(|day| format!(" until {day}")).unwrap_or_default();
    let carried = match files {
        None => String::new(),
        Some(Ok(0)) => ": no file carries it".to_owned(),
        Some(Ok(count)) => {
            format!(": {} it still", counted(*count, "file carries", "files carry"))
        }
        Some(Err(why)) => format!(": whether files carry it still is not known: {why}"),
    };
    format!("{what} {id} was {earlier}'s{until}{carried}")
}

/// Cautions of one kind, of which more are only counted.
const MOST_ALIKE: usize = 3;

/// Of cautions that are alike the first few stay, and how many more there are is told.
pub(crate) fn gather_alike(cautions: &mut Vec<Caution>) {
    let mut seen: HashMap<Discriminant<Caution>, usize> = HashMap::new();
    let all = std::mem::take(cautions);
    let mut kept: Vec<(Discriminant<Caution>, Caution)> = Vec::new();
    for caution in all {
        let kind = discriminant(&caution);
        let count = seen.entry(kind).or_default();
        *count += 1;
        if *count <= MOST_ALIKE {
            kept.push((kind, caution));
        }
    }
    for (at, (kind, caution)) in kept.iter().enumerate() {
        cautions.push(caution.clone());
        let more = seen[kind].saturating_sub(MOST_ALIKE);
        let is_last = kept[at + 1..].iter().all(|(other, _)| other != kind);
        if more > 0 && is_last {
            cautions.push(Caution::MoreAlike { more });
        }
    }
}

/// Who is administrator, as the beginning of a sentence.
fn administrators(names: &[BString]) -> String {
    let verb = if names.len() == 1 { "is administrator" } else { "are administrators" };
    format!("{} {verb}", crate::words::first_of(names, MOST_ALIKE))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mentions_read_as_a_sentence() {
        let place = |line| Mention { file: "etc/sudoers".into(), line };
        let one = Caution::Mentioned { name: "maren".into(), places: vec![place(4)] };
        assert_eq!(
            one.to_string(),
            "etc/sudoers:4 already names maren: what stands there is granted to the new account"
        );
        let two = Caution::Mentioned { name: "maren".into(), places: vec![place(4), place(9)] };
        assert!(two.to_string().starts_with("etc/sudoers:4, etc/sudoers:9 already name maren"));
    }
}
