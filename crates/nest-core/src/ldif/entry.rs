//! Users and groups as entries.

use std::collections::HashSet;

use bstr::{BStr, BString, ByteSlice};

use super::name::{below, check};
use crate::account::Account;
use crate::group_account::GroupAccount;
use crate::table::Shadow;
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
struct Folded(HashSet<Vec<u8>>);

impl Folded {
    fn takes(&mut self, what: &str, name: &[u8], left_out: &mut Vec<String>) -> bool {
        if name.to_str().is_err() {
            left_out.push(format!("the {what} {}: its name is not UTF-8", BStr::new(name)));
            return false;
        }
        let new = self.0.insert(name.to_lowercase());
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

/// Users as entries; with hashes where a file for root alone is made of them.
pub fn user_entries<'b>(
    accounts: impl Iterator<Item = Account<'b>>,
    directory: &Directory,
    hashes: bool,
) -> Entries {
    let mut entries = Entries::default();
    let mut folded = Folded::default();
    for account in accounts {
        let user = account.user;
        let name = BStr::new(user.name);
        if !folded.takes("user", name, &mut entries.left_out) {
            continue;
        }
        let (Some(uid), Some(gid)) = (user.uid(), user.gid()) else {
            entries.left_out.push(format!("the user {name}: a number of it is unreadable"));
            continue;
        };
        if uid == Uid::ROOT {
            entries.left_out.push(format!("the user {name}: no directory may say who root is"));
            continue;
        }
        if user.home.is_empty() || !is_ia5(user.home) {
            entries.left_out.push(format!(
                "the user {name}: its home, {:?}, is none that a directory can hold",
                BStr::new(user.home)
            ));
            continue;
        }
        let full_name = user.full_name();
        let full_name = if full_name.trim().is_empty() || full_name.to_str().is_err() {
            user.name
        } else {
            full_name.trim()
        };
        let one = |value: &[u8]| vec![BString::from(value)];
        let number = |number: u32| vec![BString::from(number.to_string())];
        let mut attributes: Vec<(&'static str, Vec<BString>)> = vec![
            ("objectClass", vec!["account".into(), "posixAccount".into(), "shadowAccount".into()]),
            ("uid", one(user.name)),
            ("cn", one(full_name)),
            ("uidNumber", number(uid.0)),
            ("gidNumber", number(gid.0)),
            ("homeDirectory", one(user.home)),
        ];
        let mut put_ia5 = |attribute: &'static str, value: &[u8]| {
            if is_ia5(value) && !value.is_empty() {
                attributes.push((attribute, one(value)));
            }
        };
        put_ia5("loginShell", user.effective_shell());
        put_ia5("gecos", user.gecos);
        if let Some(shadow) = account.shadow {
            shadow_attributes(&shadow, hashes, &mut attributes);
        }
        let dn = below("uid", user.name, &directory.people);
        entries.all.push(Entry { dn, kind: "uid", name: name.into(), attributes });
    }
    entries
}

fn shadow_attributes(
    shadow: &Shadow<'_>,
    hashes: bool,
    attributes: &mut Vec<(&'static str, Vec<BString>)>,
) {
    let aging = shadow.aging();
    let mut days = |name: &'static str, field: &[u8]| {
        let number = field.to_str().ok().and_then(|text| text.parse::<u32>().ok());
        if let Some(number) = number {
            attributes.push((name, vec![number.to_string().into()]));
        }
    };
    days("shadowMin", shadow.hold);
    days("shadowMax", shadow.renew);
    days("shadowWarning", shadow.remind);
    days("shadowInactive", shadow.late);
    if let Some(day) = aging.expires {
        attributes.push(("shadowExpire", vec![day.0.to_string().into()]));
    }
    if hashes && check_hash(shadow.password).is_ok() {
        days_of_change(shadow, attributes);
        let value = [b"{CRYPT}", shadow.password].concat();
        attributes.push(("userPassword", vec![value.into()]));
    }
}

fn days_of_change(shadow: &Shadow<'_>, attributes: &mut Vec<(&'static str, Vec<BString>)>) {
    if let Some(day) = shadow.aging().changed {
        attributes.push(("shadowLastChange", vec![day.to_string().into()]));
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
        if !folded.takes("group", name, &mut entries.left_out) {
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
        let (classes, attribute, members): (Vec<BString>, _, Vec<BString>) = match directory.schema
        {
            Schema::Rfc2307 => (
                vec!["posixGroup".into()],
                "memberUid",
                members.into_iter().map(BString::from).collect(),
            ),
            Schema::Rfc2307bis => (
                vec!["groupOfMembers".into(), "posixGroup".into()],
                "member",
                members
                    .into_iter()
                    .map(|name| below("uid", name, &directory.people).into())
                    .collect(),
            ),
        };
        let mut attributes: Vec<(&'static str, Vec<BString>)> = vec![
            ("objectClass", classes),
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
