//! A snapshot of a tree.

use std::borrow::Cow;
use std::collections::BTreeMap;

use bstr::{BStr, ByteSlice};

use super::{DOCUMENT, Snapshot, SnapshotGroup, SnapshotUser, Text, VERSION};
use crate::account::{Account, AccountIndex};
use crate::book::Book;
use crate::configuration::Release;
use crate::context::PlanContext;
use crate::drift::digest;
use crate::group_account::{GroupAccount, GroupIndex};
use crate::policy::Policy;
use crate::powers::{By, Powers, Way};
use crate::sign_in::{SignIn, keys_found, sign_in_of};
use crate::sudo::Gives;
use crate::table::Aging;
use crate::value::IdSpan;

/// What a snapshot tells beside what the account files say.
#[derive(Debug, Clone, Default)]
pub struct SnapshotOf {
    /// The version of the program.
    pub program: String,
    /// When it is taken, RFC 3339.
    pub time: String,
    /// How many files carry each uid, where they were counted.
    pub files_of_users: Option<BTreeMap<u32, u64>>,
    /// How many carry each gid.
    pub files_of_groups: Option<BTreeMap<u32, u64>>,
}

/// Takes a snapshot. It holds no hash and no key; the same tree gives the same at any time but
/// for the time.
pub fn take<'a>(context: PlanContext<'a>, of: &SnapshotOf) -> Snapshot<'a> {
    let system = Release::read(context.world.configuration()).name;
    let book = of_book(context.book, context.policy);
    let mut snapshot = Snapshot {
        document: DOCUMENT.to_owned().into(),
        version: VERSION,
        program: of.program.clone().into(),
        host: Text::of(context.world.host().as_bytes()).into_owned(),
        machine: machine(context),
        time: of.time.clone().into(),
        system: (!system.is_empty()).then(|| system.into()),
        policy: Some(context.policy.digest().into()),
        ..book
    };
    let powers = Powers::of(context);
    let ways: BTreeMap<&BStr, Vec<Text<'_>>> = powers
        .accounts()
        .iter()
        .map(|account| (account.user.name.as_bstr(), ways_of(&powers, account)))
        .collect();
    let index = AccountIndex::new(context.book, context.policy);
    for (user, account) in snapshot.users.iter_mut().zip(index.accounts()) {
        user.sign_in = sign_in(&sign_in_of(context, &account));
        user.root = Some(ways.get(account.user.name.as_bstr()).cloned().unwrap_or_default());
        let keys = keys_found(context, account.user).into_iter().filter(|key| key.works());
        let mut keys: Vec<Text<'_>> = keys.map(|key| key.key.fingerprint.into()).collect();
        keys.sort();
        keys.dedup();
        user.keys = Some(keys);
        user.home_from = context.world.home_from(account.user.home.as_bstr()).map(Text::from);
        let count = |counts: &BTreeMap<u32, u64>| {
            user.uid.map(|uid| counts.get(&uid).copied().unwrap_or_default())
        };
        user.files = of.files_of_users.as_ref().and_then(count);
    }
    for group in &mut snapshot.groups {
        let count = |counts: &BTreeMap<u32, u64>| {
            group.gid.map(|gid| counts.get(&gid).copied().unwrap_or_default())
        };
        group.files = of.files_of_groups.as_ref().and_then(count);
    }
    snapshot
}

/// A digest of the machine's id, machine-id(5): it tells two of one name apart, and is not the
/// id itself, which is not for others to know.
fn machine(context: PlanContext<'_>) -> Option<Text<'static>> {
    let id = context.world.configuration().read("/etc/machine-id".into()).ok().flatten()?;
    let id = id.trim();
    let is_one = id.len() == 32 && id.iter().all(u8::is_ascii_hexdigit);
    is_one.then(|| digest(&[b"copper-nest ", id].concat()).into())
}

/// What the account files alone say: without sign-in, keys and powers.
pub fn of_book<'b>(book: &'b Book, policy: &'b Policy) -> Snapshot<'b> {
    let index = GroupIndex::new(book, policy);
    let names = |all: &[&'b [u8]]| all.iter().map(|name| Text::of(name)).collect();
    let group = |account: GroupAccount<'b>| SnapshotGroup {
        name: Text::of(account.group.name),
        gid: account.group.gid().map(u32::from),
        kind: Some(account.kind.to_string().into()),
        members: names(&account.listed),
        admins: Some(names(&account.admins)),
        files: None,
    };
    let accounts = AccountIndex::new(book, policy);
    Snapshot {
        version: VERSION,
        users: accounts.accounts().map(|account| user_of(&account)).collect(),
        groups: index.groups().map(group).collect(),
        ..Snapshot::default()
    }
}

fn user_of<'b>(account: &Account<'b>) -> SnapshotUser<'b> {
    let user = account.user;
    let spans = |spans: &[IdSpan]| spans.iter().map(|span| (span.first(), span.count())).collect();
    // Of a suspended account the day says that alone, and not when it is over.
    let aging = account.aging().filter(|_| !account.is_suspended());
    let expires = aging.map(|aging: Aging| match aging.expires {
        Some(day) => day.to_string(),
        None => "never".to_owned(),
    });
    SnapshotUser {
        name: Text::of(user.name),
        uid: user.uid().map(u32::from),
        gid: user.gid().map(u32::from),
        primary: account.primary.map(Text::of),
        full_name: Some(Text::of(user.full_name())),
        home: Some(Text::of(user.home)),
        shell: Some(Text::of(user.effective_shell())),
        kind: Some(account.kind.to_string().into()),
        expires: expires.map(Text::from),
        uids: spans(&account.uid_ranges),
        gids: spans(&account.gid_ranges),
        ..SnapshotUser::default()
    }
}

/// Whether somebody can sign in, in words that say the same on any day; nothing where it is not
/// known.
fn sign_in(answer: &SignIn) -> Option<Text<'static>> {
    if answer.password_is_unknown() || answer.key_is_unknown() {
        return None;
    }
    let password = answer.by_password() || answer.by_password_over_ssh();
    Some(Text::from(match (password, answer.by_key()) {
        (true, true) => "password and key".to_owned(),
        (true, false) => "password".to_owned(),
        (false, true) => "key".to_owned(),
        (false, false) => format!("no: {}", answer.in_short()),
    }))
}

/// By what somebody can become root, without the places of lines, which are others on each
/// machine.
fn ways_of(powers: &Powers<'_>, account: &Account<'_>) -> Vec<Text<'static>> {
    let mut ways: Vec<Text<'static>> = powers.ways(account).iter().map(way).collect();
    ways.sort();
    ways.dedup();
    ways
}

fn way(way: &Way) -> Text<'static> {
    let by: Cow<'_, str> = match &way.by {
        By::Root => "uid 0".into(),
        By::Sudo(_, word) => format!("sudo {word}").into(),
        By::Doas(_, word) => format!("doas {word}").into(),
        By::Group(group) => format!("group {group}").into(),
        By::Key(found) => format!("key {}", found.key.fingerprint).into(),
    };
    let but = match &way.gives {
        Gives::Everything { but } if but.is_empty() => String::new(),
        Gives::Everything { but } => format!(", but {}", join(but)),
        Gives::Commands(commands) => format!(", only {}", join(commands)),
        Gives::Unknown(why) => format!(", not known: {why}"),
    };
    Text::from(format!("{by}{but}"))
}

fn join(all: &[bstr::BString]) -> String {
    bstr::join(", ", all).to_str_lossy().into_owned()
}
