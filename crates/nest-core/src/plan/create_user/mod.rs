//! Making users.

mod belongings;
mod groups;
mod ids;

pub(super) use ids::setting_key;

use bstr::{BStr, BString, ByteSlice};
use hashbrown::{HashMap, HashSet};

use super::home::plan_home;
use super::lists::Lists;
use super::new_name::check_new_name;
use super::{Caution, Draft, Ground, NewFile, Owner, Plan, Reason, Refusal, Subject, join};
use self::belongings::{Shell, aging};
use self::groups::Joins;
use crate::allot::{IdMap, IdSet};
use crate::table::File;
use crate::value::{Expiry, IdSpan, check_keys};

/// One or more users to be made. What is `None` is left to the policy.
#[derive(Debug, Clone, Default)]
pub struct CreateUser {
    /// The login names.
    pub names: Vec<BString>,
    /// The full name.
    pub full_name: Option<BString>,
    /// A uid of the administrator's choice.
    pub uid: Option<u32>,
    /// The uid may be somebody else's too.
    pub share_id: bool,
    /// The primary group, by name or gid, in place of a private group.
    pub primary: Option<BString>,
    /// Groups to join.
    pub join: Vec<BString>,
    /// Joins the administrators' group.
    pub admin: bool,
    /// The path of the home.
    pub home: Option<BString>,
    /// No home is made.
    pub no_home: bool,
    /// Its path is recorded all the same, also where only the policy names it.
    pub record_home: bool,
    /// The home exists and is taken over.
    pub adopt_home: bool,
    /// What the home is a copy of; `none` for nothing.
    pub skeleton: Option<BString>,
    /// The login shell.
    pub shell: Option<BString>,
    /// A service: an id of that span, no login shell, no home unless named.
    pub service: bool,
    /// When the account stops working: a date, `+90d` or `never`.
    pub expires: Option<String>,
    /// How many subordinate ids; 0 for none.
    pub ranges: Option<u32>,
    /// Subordinate ranges of the administrator's choice, known to be free.
    pub spans: Vec<IdSpan>,
    /// Public keys for signing in.
    pub keys: Option<KeyFile>,
    /// The hash of a first password for each name; nothing where none is set.
    pub hashes: Vec<Option<BString>>,
    /// The password must be changed at the first sign-in.
    pub must_change: bool,
}

/// A file of public keys, already read.
#[derive(Debug, Clone)]
pub struct KeyFile {
    /// Its path, for messages.
    pub path: String,
    /// What it holds.
    pub text: Vec<u8>,
}

/// Plans the making of users: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn create_user(ground: Ground<'_>, request: &CreateUser) -> Result<Plan, Box<Refusal>> {
    let names = request.names.iter().map(|name| name.to_string()).collect::<Vec<_>>().join(", ");
    let what = match request.names.len() {
        1 => format!("{names} was not created"),
        _ => "nobody was created".to_owned(),
    };
    let fault = empty_file(ground).or_else(|| contradiction(request));
    let fault = fault.or_else(|| check_values(ground, request).into_iter().next());
    fault.map_or(Ok(()), |reason| Err(Refusal::new(&what, reason)))?;
    let mut making = Making::new(ground, format!("create user {names}"));
    making.note_missing_files();
    let mut seen = HashSet::new();
    for (at, name) in request.names.iter().enumerate() {
        let several = request.names.len() > 1;
        let hash = request.hashes.get(at).and_then(Option::as_ref);
        let twice = !seen.insert(name);
        let made = match twice {
            true => Err(vec![*Refusal::new(format!("{name} was not created"), Reason::NameTwice)]),
            false => making.one(request, name.as_ref(), hash),
        };
        if let Some(mut refusal) = made.err().and_then(|all| all.into_iter().next()) {
            if several {
                refusal.what = format!("nobody was created, because of {name}");
            }
            return Err(Box::new(refusal));
        }
    }
    Ok(making.finish())
}

/// An account file with nothing in it, where there has to be something.
pub(super) fn empty_file(ground: Ground<'_>) -> Option<Reason> {
    let files = [File::Passwd, File::Group, File::Shadow];
    let empty = |file: &File| ground.book.lines(*file).is_some_and(|lines| lines.is_empty());
    files.into_iter().find(empty).map(Reason::Empty)
}

/// Options that can't go together.
fn contradiction(request: &CreateUser) -> Option<Reason> {
    if request.names.len() > 1 {
        let single = [
            ("--uid", request.uid.is_some()),
            ("--home", request.home.is_some()),
            ("--full-name", request.full_name.is_some()),
        ];
        if let Some((option, _)) = single.into_iter().find(|(_, given)| *given) {
            return Some(Reason::OneOnly(option));
        }
    }
    let pairs = [
        ("--no-home", request.no_home, "--adopt-home", request.adopt_home),
        ("--no-home", request.no_home, "--skeleton", request.skeleton.is_some()),
        ("--adopt-home", request.adopt_home, "--skeleton", request.skeleton.is_some()),
    ];
    let (one, _, other, _) = pairs.into_iter().find(|(_, a, _, b)| *a && *b)?;
    Some(Reason::Contradiction(one, other))
}

/// What can be judged without looking at any account.
pub(super) fn check_values(ground: Ground<'_>, request: &CreateUser) -> Vec<Reason> {
    let mut faults = Vec::new();
    if let Some(text) = &request.expires {
        match Expiry::parse(text, ground.today) {
            Ok(Expiry::On(day)) if day <= ground.today => faults.push(Reason::ExpiryPast(day)),
            Ok(Expiry::On(_)) if ground.book.shadow.is_none() => {
                faults.push(Reason::NoShadowForExpiry);
            }
            Ok(_) => {}
            Err(fault) => faults.push(fault.into()),
        }
    }
    if let Some(full_name) = &request.full_name {
        faults.extend(check_full_name(full_name).err());
    }
    if let Some(keys) = &request.keys {
        let fault = |fault| Reason::BadKeys { path: keys.path.clone(), fault };
        faults.extend(check_keys(&keys.text).map_err(fault).err());
    }
    faults
}

/// What the GECOS field can't hold in a full name.
pub(super) fn check_full_name(full_name: &[u8]) -> Result<(), Reason> {
    let is_plain = |byte: &u8| (b' '..=b'~').contains(byte) && !matches!(byte, b':' | b',');
    if full_name.iter().all(is_plain) {
        return Ok(());
    }
    let fault = full_name.chars().find_map(|c| match c {
        ':' => Some("a colon"),
        ',' => Some("a comma"),
        '\n' | '\r' => Some("a line end"),
        c if c.is_control() => Some("a control character"),
        _ => None,
    });
    fault.map_or(Ok(()), |fault| Err(Reason::BadFullName(fault)))
}

/// Accounts in the making: everything that those of one plan share.
pub(super) struct Making<'a> {
    pub ground: Ground<'a>,
    pub ids: IdMap<'a>,
    pub draft: Draft<'a>,
    pub plan: Plan,
    /// Groups that this plan makes, with their gids.
    pub made: HashMap<BString, u32>,
    /// Those gids.
    pub made_gids: IdSet,
    joins: Joins,
    /// What is wrong with shells that were looked at.
    shells: HashMap<BString, Shell>,
    /// How the passwords of people age, and today, as shadow writes them.
    aging: String,
    today: String,
    /// Only the plan is wanted, without what is told of each account.
    pub brief: bool,
    /// What was given to the accounts.
    pub given: Given,
}

/// What was given to accounts, as far as it is told of many.
#[derive(Default)]
pub(super) struct Given {
    /// The lowest and the highest uid of people.
    pub people: Option<(u32, u32)>,
    /// The same of services.
    pub services: Option<(u32, u32)>,
    /// How many subordinate ranges.
    pub ranges: usize,
    /// The lowest and the highest id in them.
    pub ranges_in: Option<(u32, u32)>,
    /// How many passwords.
    pub passwords: usize,
}

impl Given {
    fn uid(&mut self, uid: u32, of_service: bool) {
        widen(if of_service { &mut self.services } else { &mut self.people }, uid, uid);
    }

    fn range(&mut self, span: IdSpan) {
        self.ranges += 1;
        widen(&mut self.ranges_in, span.first, span.last);
    }
}

fn widen(bounds: &mut Option<(u32, u32)>, first: u32, last: u32) {
    let (low, high) = bounds.unwrap_or((first, last));
    *bounds = Some((low.min(first), high.max(last)));
}

/// The primary group of the account being planned.
struct Primary {
    gid: u32,
    /// Made for this account.
    private: bool,
}

/// Keeps what went wrong, and goes on without.
fn keep<T>(wrong: &mut Vec<Refusal>, result: Result<T, Box<Refusal>>) -> Option<T> {
    result.map_err(|refusal| wrong.push(*refusal)).ok()
}

impl<'a> Making<'a> {
    /// Nothing made yet.
    pub fn new(ground: Ground<'a>, summary: String) -> Self {
        Making {
            ground,
            ids: IdMap::new(ground.book, ground.policy, ground.world),
            draft: Draft::new(ground.book),
            plan: Plan { summary, ..Plan::default() },
            made: HashMap::new(),
            made_gids: IdSet::default(),
            joins: Joins::default(),
            shells: HashMap::new(),
            aging: aging(ground.policy),
            today: ground.today.0.to_string(),
            brief: false,
            given: Given::default(),
        }
    }

    /// Makes room for so many accounts.
    pub fn expect(&mut self, accounts: usize) {
        self.made.reserve(accounts);
    }

    /// Says which files the tree does without.
    pub fn note_missing_files(&mut self) {
        if self.ground.book.shadow.is_none() {
            self.plan.cautions.push(Caution::NoShadow);
        }
        if self.ground.book.gshadow.is_none() {
            self.plan.cautions.push(Caution::NoGshadow);
        }
    }

    /// The whole plan.
    pub fn finish(mut self) -> Plan {
        let (ground, draft) = (self.ground, &mut self.draft);
        let cautions = &mut self.plan.cautions;
        let mut lists = Lists { ground, draft, cautions };
        self.joins.groups.sort_by(|one, other| one.group.cmp(&other.group));
        for joined in &self.joins.groups {
            lists.join_all(&joined.group, &joined.names());
        }
        self.plan.edits = self.draft.finish();
        self.plan
    }

    /// Plans one account.
    ///
    /// # Errors
    /// Everything that stands in its way, the plainest first.
    pub fn one(
        &mut self,
        request: &CreateUser,
        name: &BStr,
        hash: Option<&BString>,
    ) -> Result<(), Vec<Refusal>> {
        let policy = self.ground.policy;
        let what = || format!("{name} was not created");
        let group_way = || format!("create user {name} --primary {name}");
        let mut wrong = Vec::new();
        let private = self.makes_private_group(request);
        let cautions = check_new_name(self.ground, name, private, "", group_way);
        let cautions = cautions.map_err(|refusal| Box::new(Refusal { what: what(), ..*refusal }));
        self.plan.cautions.extend(keep(&mut wrong, cautions).unwrap_or_default());
        if private && wrong.is_empty() && self.made.contains_key(name) {
            let gid = self.made[name].to_string().into();
            wrong.push(*Refusal::new(what(), Reason::GroupInPlan { gid }));
        }
        let mut subject = match self.brief {
            true => Subject { brief: true, ..Subject::new("") },
            false => Subject::new(name),
        };
        // A number that stands in for one that could not be had: nothing is made then.
        let uid = self.choose_uid(request, name, &mut subject);
        let uid = keep(&mut wrong, uid).unwrap_or(u32::MAX);
        let primary = self.choose_primary(request, name, uid, &mut subject);
        let primary = keep(&mut wrong, primary);
        let primary = primary.unwrap_or(Primary { gid: u32::MAX, private: false });
        let owner = Owner { uid, gid: primary.gid };
        let joined = self.join_groups(request, name, primary.gid, &mut wrong);
        if !joined.is_empty() {
            let groups = joined.iter().map(|at| &self.joins.groups[*at].group);
            subject.decide_with("member of", || (bstr::join(", ", groups), ""));
        }
        let keys = request.keys.as_ref().map(|keys| keys.text.as_slice());
        let home = plan_home(self.ground, request, name, owner, &mut subject);
        let home = keep(&mut wrong, home);
        let shell = keep(&mut wrong, self.choose_shell(request, name, &mut subject));
        keep(&mut wrong, self.give_ranges(request, name, &mut subject));
        keep(&mut wrong, self.add_shadow(request, name, hash, &mut subject));
        let (Some(home), Some(shell), true) = (home, shell, wrong.is_empty()) else {
            return Err(wrong);
        };
        self.plan.steps.extend(home.steps);
        self.plan.cautions.extend(home.cautions);
        let full_name: &[u8] = request.full_name.as_ref().map_or(b"", |name| name);
        let password: &[u8] = if self.ground.book.shadow.is_some() { b"x" } else { b"!" };
        let (mut uid_text, mut gid_text) = (itoa::Buffer::new(), itoa::Buffer::new());
        let (uid_text, gid_text) = (uid_text.format(uid), gid_text.format(primary.gid));
        let (uid_text, gid_text) = (uid_text.as_bytes(), gid_text.as_bytes());
        let fields = [name, password, uid_text, gid_text, full_name, &home.field, shell];
        self.add_line(File::Passwd, &fields);
        self.given.uid(uid, policy.services_ids.contains(uid));
        self.given.passwords += usize::from(hash.is_some_and(|hash| hash.starts_with(b"$")));
        if primary.private && self.brief {
            let (line, gshadow) = self.lines_of_group(name, gid_text);
            self.draft.add_to_run(File::Group, &line);
            gshadow.iter().for_each(|line| self.draft.add_to_run(File::Gshadow, line));
            self.note_group(name, primary.gid);
        } else if primary.private {
            self.make_group(name, primary.gid);
        }
        if policy.mail_create && !request.service {
            self.make_mail(name, owner);
        }
        if self.brief {
            return Ok(());
        }
        let sign_in = match keys.map(crate::value::count_keys) {
            Some(_) if hash.is_some() => "by password and by key",
            None if hash.is_some() && request.must_change => {
                "by password, which must be changed then"
            }
            None if hash.is_some() => "by password",
            Some(1) => "by key; not by password: none is set",
            Some(_) => "by any of the keys; not by password: none is set",
            None => "not yet: no password is set",
        };
        subject.decide("sign-in", sign_in, "");
        let needs_one = hash.is_none() && !request.service && keys.is_none();
        self.plan.next.push(match needs_one && self.ground.book.shadow.is_some() {
            true => format!("password user {name}"),
            false => format!("show user {name}"),
        });
        self.plan.subjects.push(subject);
        Ok(())
    }

    fn makes_private_group(&self, request: &CreateUser) -> bool {
        request.primary.is_none() && (request.service || self.ground.policy.people_private_group)
    }

    /// Adds a line that stays as it is.
    fn add_line(&mut self, file: File, fields: &[&[u8]]) {
        match self.brief {
            true => self.draft.add_to_run(file, fields),
            false => self.draft.add(file, fields.join(&b':')),
        }
    }

    /// The lines of a group that nobody is in yet, by their fields.
    fn lines_of_group<'l>(
        &self,
        name: &'l [u8],
        gid: &'l [u8],
    ) -> ([&'l [u8]; 4], Option<[&'l [u8]; 4]>) {
        let has_gshadow = self.ground.book.gshadow.is_some();
        let password: &[u8] = if has_gshadow { b"x" } else { b"!" };
        ([name, password, gid, b""], has_gshadow.then_some([name, b"!", b"", b""]))
    }

    /// Adds the lines of a group that nobody is in yet, so that they can be altered.
    pub fn make_group(&mut self, name: &BStr, gid: u32) {
        let gid_text = gid.to_string();
        let (line, gshadow) = self.lines_of_group(name, gid_text.as_bytes());
        self.draft.add_named(File::Group, name, line.join(&b':'));
        if let Some(line) = gshadow {
            self.draft.add_named(File::Gshadow, name, line.join(&b':'));
        }
        self.note_group(name, gid);
    }

    fn note_group(&mut self, name: &BStr, gid: u32) {
        self.made.insert(name.to_owned(), gid);
        self.made_gids.insert(gid);
    }
}

/// The steps that put public keys where the SSH server looks for them.
pub(super) fn key_file(keys: &KeyFile) -> NewFile {
    let mut contents: BString = keys.text.clone().into();
    if !contents.ends_with(b"\n") {
        contents.push(b'\n');
    }
    NewFile { path: join(b".ssh", b"authorized_keys"), contents, mode: 0o600 }
}

/// Why a path can't stand in an account file, in words that follow it.
pub(super) fn path_fault(path: &[u8]) -> Option<&'static str> {
    if !path.starts_with(b"/") {
        return Some("is not absolute; it has to begin with /");
    }
    if path.contains(&b':') {
        return Some("holds a colon, which separates fields in account files");
    }
    let is_plain = path.iter().all(|byte| (b' '..=b'~').contains(byte));
    if !is_plain && path.chars().any(char::is_control) {
        return Some("holds a line end or another control character");
    }
    let mut parts = path.split(|byte| *byte == b'/');
    let dots = parts.any(|part| part == b"." || part == b"..");
    dots.then_some("goes through . or ..; give the path they lead to")
}

#[cfg(test)]
mod tests;
