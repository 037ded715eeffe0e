//! Making users.

mod belongings;
mod groups;
mod ids;

pub(super) use ids::setting_key;

use std::collections::HashSet;

use bstr::{BStr, BString, ByteSlice};

use super::home::plan_home;
use super::new_name::check_new_name;
use super::{Caution, Draft, Ground, NewFile, Owner, Plan, Reason, Refusal, Subject, join};
use crate::allot::IdMap;
use crate::table::File;
use crate::value::{Expiry, check_keys};

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
    check_request(ground, request).map_err(|reason| Refusal::new(&what, reason))?;
    let mut planner = Planner {
        ground,
        request,
        ids: IdMap::new(ground.book, ground.policy, ground.world),
        draft: Draft::new(ground.book),
        plan: Plan { summary: format!("create user {names}"), ..Plan::default() },
    };
    planner.note_missing_files();
    let mut seen = HashSet::new();
    for name in &request.names {
        let several = request.names.len() > 1;
        let twice = (!seen.insert(name)).then(|| planner.refuse(name, Reason::NameTwice));
        twice.map_or_else(|| planner.one(name.as_ref()), Err).map_err(|mut refusal| {
            if several {
                refusal.what = format!("nobody was created, because of {name}");
            }
            refusal
        })?;
    }
    let mut plan = planner.plan;
    plan.edits = planner.draft.finish();
    Ok(plan)
}

/// What can be judged without looking at any account.
fn check_request(ground: Ground<'_>, request: &CreateUser) -> Result<(), Reason> {
    if request.names.len() > 1 {
        let single = [
            ("--uid", request.uid.is_some()),
            ("--home", request.home.is_some()),
            ("--full-name", request.full_name.is_some()),
        ];
        if let Some((option, _)) = single.into_iter().find(|(_, given)| *given) {
            return Err(Reason::OneOnly(option));
        }
    }
    let pairs = [
        ("--no-home", request.no_home, "--adopt-home", request.adopt_home),
        ("--no-home", request.no_home, "--skeleton", request.skeleton.is_some()),
        ("--adopt-home", request.adopt_home, "--skeleton", request.skeleton.is_some()),
    ];
    if let Some((one, _, other, _)) = pairs.into_iter().find(|(_, a, _, b)| *a && *b) {
        return Err(Reason::Contradiction(one, other));
    }
    for file in [File::Passwd, File::Group, File::Shadow] {
        if ground.book.lines(file).is_some_and(|lines| lines.is_empty()) {
            return Err(Reason::Empty(file));
        }
    }
    if let Some(text) = &request.expires
        && let Expiry::On(day) = Expiry::parse(text, ground.today)?
    {
        if day <= ground.today {
            return Err(Reason::ExpiryPast(day));
        }
        if ground.book.shadow.is_none() {
            return Err(Reason::NoShadowForExpiry);
        }
    }
    if let Some(full_name) = &request.full_name {
        check_full_name(full_name)?;
    }
    if let Some(keys) = &request.keys {
        check_keys(&keys.text)
            .map_err(|fault| Reason::BadKeys { path: keys.path.clone(), fault })?;
    }
    Ok(())
}

/// What the GECOS field can't hold in a full name.
pub(super) fn check_full_name(full_name: &[u8]) -> Result<(), Reason> {
    let fault = full_name.chars().find_map(|c| match c {
        ':' => Some("a colon"),
        ',' => Some("a comma"),
        '\n' | '\r' => Some("a line end"),
        c if c.is_control() => Some("a control character"),
        _ => None,
    });
    fault.map_or(Ok(()), |fault| Err(Reason::BadFullName(fault)))
}

struct Planner<'a> {
    ground: Ground<'a>,
    request: &'a CreateUser,
    ids: IdMap<'a>,
    draft: Draft<'a>,
    plan: Plan,
}

/// The primary group of the account being planned.
struct Primary {
    gid: u32,
    /// Made for this account.
    private: bool,
}

impl<'a> Planner<'a> {
    fn refuse(&self, name: &BString, reason: Reason) -> Box<Refusal> {
        Refusal::new(format!("{name} was not created"), reason)
    }

    fn note_missing_files(&mut self) {
        if self.ground.book.shadow.is_none() {
            self.plan.cautions.push(Caution::NoShadow);
        }
        if self.ground.book.gshadow.is_none() {
            self.plan.cautions.push(Caution::NoGshadow);
        }
    }

    fn one(&mut self, name: &'a BStr) -> Result<(), Box<Refusal>> {
        let (policy, request) = (self.ground.policy, self.request);
        let what = format!("{name} was not created");
        let group_way = format!("create user {name} --primary {name}");
        let private = self.makes_private_group();
        let cautions = check_new_name(self.ground, name, private, &what, group_way)?;
        self.plan.cautions.extend(cautions);
        let mut subject = Subject { name: name.to_owned(), decisions: Vec::new() };
        let uid = self.choose_uid(name, &mut subject)?;
        let primary = self.choose_primary(name, uid, &mut subject)?;
        let owner = Owner { uid, gid: primary.gid };
        let joined = self.join_groups(name, primary.gid)?;
        if !joined.is_empty() {
            subject.decide("member of", bstr::join(", ", &joined), "");
        }
        let keys = request.keys.as_ref().map(|keys| keys.text.as_slice());
        let home = plan_home(self.ground, request, name, owner, &mut subject)?;
        self.plan.steps.extend(home.steps);
        self.plan.cautions.extend(home.cautions);
        let shell = self.choose_shell(name, &mut subject)?;
        self.give_ranges(name, &mut subject)?;
        let at = request.names.iter().position(|other| other == name);
        let hash = at.and_then(|at| request.hashes.get(at)).and_then(Option::as_ref);
        self.add_shadow(name, hash, &mut subject)?;
        let full_name: &[u8] = request.full_name.as_ref().map_or(b"", |name| name);
        let password: &[u8] = if self.ground.book.shadow.is_some() { b"x" } else { b"!" };
        let (uid_text, gid_text) = (uid.to_string(), primary.gid.to_string());
        let fields: [&[u8]; 7] = [
            name,
            password,
            uid_text.as_bytes(),
            gid_text.as_bytes(),
            full_name,
            &home.field,
            &shell,
        ];
        self.draft.add(File::Passwd, fields.join(&b':'));
        if primary.private {
            let password: &[u8] = if self.ground.book.gshadow.is_some() { b"x" } else { b"!" };
            self.draft.add(File::Group, [name, password, gid_text.as_bytes(), b""].join(&b':'));
            if self.ground.book.gshadow.is_some() {
                self.draft.add(File::Gshadow, [name, b"!".as_slice(), b"", b""].join(&b':'));
            }
        }
        if policy.mail_create && !request.service {
            self.make_mail(name, owner);
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

    fn makes_private_group(&self) -> bool {
        let policy = self.ground.policy;
        self.request.primary.is_none() && (self.request.service || policy.people_private_group)
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
    if path.chars().any(char::is_control) {
        return Some("holds a line end or another control character");
    }
    let parts = path.split_str("/");
    let dots = parts.into_iter().any(|part| part == b"." || part == b"..");
    dots.then_some("goes through . or ..; give the path they lead to")
}

#[cfg(test)]
mod tests;
