//! Users and groups as entries.

use std::borrow::Cow;

use bstr::{BStr, BString, ByteSlice};

use super::name::{below, check};
use crate::group_account::GroupAccount;
use crate::table::{Passwd, Shadow};
use crate::value::{Uid, check_hash};

/// By which classes groups are written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Schema {
    /// Of RFC 2307: `posixGroup` with `memberUid`.
    #[default]
    Rfc2307,
    /// Of its successor, draft-howard-rfc2307bis: `groupOfMembers` with `member`.
    Rfc2307bis,
}

/// Where accounts are in a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Directory {
    /// What users are below.
    pub people: String,
    /// What groups are below.
    pub groups: String,
    /// The classes.
    pub schema: Schema,
}

impl Directory {
    /// Users and groups below two units of a base.
    ///
    /// # Errors
    /// What is wrong with a name, in a sentence.
    pub fn new(base: &str, people: &str, groups: &str, schema: Schema) -> Result<Self, String> {
        for name in [base, people, groups] {
            check(name).map_err(|why| format!("{name:?} {why}"))?;
        }
        Ok(Directory {
            people: format!("{people},{base}"),
            groups: format!("{groups},{base}"),
            schema,
        })
    }
}

/// An entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its name.
    pub dn: Vec<u8>,
    /// The attribute of its name: `uid` or `cn`.
    pub kind: &'static str,
    /// The value of that.
    pub name: BString,
    /// Its attributes, each with its values.
    pub attributes: Vec<(&'static str, Vec<BString>)>,
}

impl Entry {
    /// The values of an attribute.
    pub(super) fn values(&self, name: &str) -> &[BString] {
        let found = self.attributes.iter().find(|(own, _)| *own == name);
        found.map_or(&[][..], |(_, values)| values)
    }
}

/// Entries, and what is not among them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Entries {
    /// The entries.
    pub all: Vec<Entry>,
    /// What was left out, and why.
    pub left_out: Vec<String>,
}

/// What the entries of an account are below, where that is a unit: `ou=people`.
pub fn containers(directory: &Directory) -> Vec<Entry> {
    let unit = |name: &String| {
        let step = super::name::first_step(name.as_bytes());
        let (_, value) = step.into_iter().find(|(kind, _)| kind == "ou")?;
        Some(Entry {
            dn: name.clone().into_bytes(),
            kind: "ou",
            name: value.clone(),
            attributes: vec![
                ("objectClass", vec!["organizationalUnit".into()]),
                ("ou", vec![value]),
            ],
        })
    };
    let mut units: Vec<Entry> =
        [&directory.people, &directory.groups].into_iter().filter_map(unit).collect();
    units.dedup_by(|a, b| a.dn == b.dn);
    units
}

/// What can't be a value of an attribute for letters without accents (IA5, RFC 4517).
fn is_ia5(text: &[u8]) -> bool {
    text.is_ascii() && !text.contains(&0)
}

/// Names that are one to a directory, which knows no large letters.
#[derive(Default)]
pub(super) struct Folded<'n>(hashbrown::HashSet<Cow<'n, [u8]>>);

impl<'n> Folded<'n> {
    pub fn takes(&mut self, what: &str, name: &'n [u8], left_out: &mut Vec<String>) -> bool {
        let folded = match name.iter().all(|byte| byte.is_ascii() && !byte.is_ascii_uppercase()) {
            true => Cow::Borrowed(name),
            false if name.to_str().is_err() => {
                left_out.push(format!("the {what} {}: its name is not UTF-8", BStr::new(name)));
                return false;
            }
            false => Cow::Owned(name.to_lowercase()),
        };
        let new = self.0.insert(folded);
        if !new {
            left_out.push(format!(
                "the {what} {}: another has that name, and large and small letters are one to a \
                 directory",
                BStr::new(name)
            ));
        }
        new
    }
}

/// The numbers of a user whom a directory can hold.
///
/// # Errors
/// Why it can't, in words.
fn judged(user: &Passwd<'_>) -> Result<(u32, u32), String> {
    let name = BStr::new(user.name);
    let (Some(uid), Some(gid)) = (user.uid(), user.gid()) else {
        return Err(format!("the user {name}: a number of it is unreadable"));
    };
    if uid == Uid::ROOT {
        return Err(format!("the user {name}: no directory may say who root is"));
    }
    if user.home.is_empty() || !is_ia5(user.home) {
        return Err(format!(
            "the user {name}: its home, {:?}, is none that a directory can hold",
            BStr::new(user.home)
        ));
    }
    Ok((uid.0, gid.0))
}

/// What an entry of a user holds, an attribute after the other.
///
/// # Errors
/// Why a directory can't hold it, in words; nothing was put then.
pub(super) fn user_attributes(
    user: &Passwd<'_>,
    shadow: Option<Shadow<'_>>,
    hashes: bool,
    mut put: impl FnMut(&'static str, &[u8]),
) -> Result<(), String> {
    let (uid, gid) = judged(user)?;
    let full_name = user.full_name().trim();
    let is_one = !full_name.is_empty() && full_name.to_str().is_ok();
    for class in ["account", "posixAccount", "shadowAccount"] {
        put("objectClass", class.as_bytes());
    }
    put("uid", user.name);
    put("cn", if is_one { full_name } else { user.name });
    put("uidNumber", itoa::Buffer::new().format(uid).as_bytes());
    put("gidNumber", itoa::Buffer::new().format(gid).as_bytes());
    put("homeDirectory", user.home);
    for (name, value) in [("loginShell", user.effective_shell()), ("gecos", user.gecos)] {
        if is_ia5(value) && !value.is_empty() {
            put(name, value);
        }
    }
    let Some(shadow) = shadow else { return Ok(()) };
    for (name, field) in [
        ("shadowMin", shadow.hold),
        ("shadowMax", shadow.renew),
        ("shadowWarning", shadow.remind),
        ("shadowInactive", shadow.late),
    ] {
        let number = field.to_str().ok().and_then(|text| text.parse::<u32>().ok());
        if let Some(number) = number {
            put(name, itoa::Buffer::new().format(number).as_bytes());
        }
    }
    let aging = shadow.aging();
    if let Some(day) = aging.expires {
        put("shadowExpire", itoa::Buffer::new().format(day.0).as_bytes());
    }
    if hashes && check_hash(shadow.password).is_ok() {
        if let Some(day) = aging.changed {
            put("shadowLastChange", itoa::Buffer::new().format(day).as_bytes());
        }
        put("userPassword", &[b"{CRYPT}", shadow.password].concat());
    }
    Ok(())
}

/// Users as entries; with hashes where a file for root alone is made of them.
pub fn user_entries<'b>(
    users: impl Iterator<Item = (Passwd<'b>, Option<Shadow<'b>>)>,
    directory: &Directory,
    hashes: bool,
) -> Entries {
    let mut entries = Entries::default();
    let mut folded = Folded::default();
    for (user, shadow) in users {
        if !folded.takes("user", user.name, &mut entries.left_out) {
            continue;
        }
        let mut attributes: Vec<(&'static str, Vec<BString>)> = Vec::with_capacity(16);
        let put = |name: &'static str, value: &[u8]| match attributes.last_mut() {
            Some((last, values)) if *last == name => values.push(value.into()),
            _ => attributes.push((name, vec![value.into()])),
        };
        match user_attributes(&user, shadow, hashes, put) {
            Err(told) => entries.left_out.push(told),
            Ok(()) => {
                let dn = below("uid", user.name, &directory.people);
                entries.all.push(Entry { dn, kind: "uid", name: user.name.into(), attributes });
            }
        }
    }
    entries
}

/// The classes of a group.
pub(super) fn group_classes(schema: Schema) -> &'static [&'static str] {
    match schema {
        Schema::Rfc2307 => &["posixGroup"],
        Schema::Rfc2307bis => &["groupOfMembers", "posixGroup"],
    }
}

/// Groups as entries. Only members of `known` have entries of their own to be named by.
pub fn group_entries<'b>(
    groups: impl Iterator<Item = GroupAccount<'b>>,
    directory: &Directory,
    known: impl Fn(&[u8]) -> bool,
) -> Entries {
    let mut entries = Entries::default();
    let mut folded = Folded::default();
    for account in groups {
        let group = account.group;
        let name = BStr::new(group.name);
        if !folded.takes("group", group.name, &mut entries.left_out) {
            continue;
        }
        let Some(gid) = group.gid() else {
            entries.left_out.push(format!("the group {name}: its gid is unreadable"));
            continue;
        };
        let mut members: Vec<&[u8]> = Vec::new();
        for member in &account.listed {
            match is_ia5(member) && known(member) {
                true => members.push(member),
                false => entries.left_out.push(format!(
                    "{} in the group {name}: the directory gets no user of that name",
                    BStr::new(member)
                )),
            }
        }
        members.sort_unstable();
        let (attribute, members): (_, Vec<BString>) = match directory.schema {
            Schema::Rfc2307 => ("memberUid", members.into_iter().map(BString::from).collect()),
            Schema::Rfc2307bis => (
                "member",
                members
                    .into_iter()
                    .map(|name| below("uid", name, &directory.people).into())
                    .collect(),
            ),
        };
        let mut attributes: Vec<(&'static str, Vec<BString>)> = vec![
            (
                "objectClass",
                group_classes(directory.schema).iter().map(|it| BString::from(*it)).collect(),
            ),
            ("cn", vec![name.into()]),
            ("gidNumber", vec![gid.0.to_string().into()]),
        ];
        if !members.is_empty() {
            attributes.push((attribute, members));
        }
        let dn = below("cn", group.name, &directory.groups);
        entries.all.push(Entry { dn, kind: "cn", name: name.into(), attributes });
    }
    entries
}
