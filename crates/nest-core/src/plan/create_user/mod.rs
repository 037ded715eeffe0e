//! Making users.

mod batch;
mod belongings;
mod groups;
mod ids;
mod made;
mod write;

pub(super) use batch::{AccountBatch, AccountIds, Given};
pub(super) use ids::setting_key;
pub(super) use write::{AccountLines, Writer};

use bstr::{BString, ByteSlice};
use hashbrown::HashSet;

use super::{NewFile, Plan, PlanContext, Reason, Refusal, join};
use crate::table::File;
use crate::value::{Expiry, IdSpan, check_keys};
use crate::words::list;

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
pub fn create_user(context: PlanContext<'_>, request: &CreateUser) -> Result<Plan, Box<Refusal>> {
    let names = list(&request.names);
    let what = match request.names.len() {
        1 => format!("{names} was not created"),
        _ => "nobody was created".to_owned(),
    };
    let fault = empty_file(context).or_else(|| contradiction(request));
    let fault = fault.or_else(|| check_values(context, request).into_iter().next());
    fault.map_or(Ok(()), |reason| Err(Refusal::new(&what, reason)))?;
    let mut batch = AccountBatch::new(context, format!("create user {names}"));
    batch.note_missing_files();
    let mut seen = HashSet::new();
    for (at, name) in request.names.iter().enumerate() {
        let several = request.names.len() > 1;
        let hash = request.hashes.get(at).and_then(Option::as_ref);
        let twice = !seen.insert(name);
        let made = match twice {
            true => Err(vec![*Refusal::new(format!("{name} was not created"), Reason::NameTwice)]),
            false => batch.one(request, name.as_ref(), hash),
        };
        if let Some(mut refusal) = made.err().and_then(|all| all.into_iter().next()) {
            if several {
                refusal.what = format!("nobody was created, because of {name}");
            }
            return Err(Box::new(refusal));
        }
    }
    Ok(batch.finish())
}

/// An account file with nothing in it, where there has to be something.
pub(super) fn empty_file(context: PlanContext<'_>) -> Option<Reason> {
    let files = [File::Passwd, File::Group, File::Shadow];
    let empty = |file: &File| context.book.lines(*file).is_some_and(|lines| lines.is_empty());
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
pub(super) fn check_values(context: PlanContext<'_>, request: &CreateUser) -> Vec<Reason> {
    let mut faults = Vec::new();
    if let Some(text) = &request.expires {
        match Expiry::parse(text, context.today) {
            Ok(Expiry::On(day)) if day <= context.today => faults.push(Reason::ExpiryPast(day)),
            Ok(Expiry::On(_)) if context.book.shadow.is_none() => {
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
