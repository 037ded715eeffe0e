//! The table of settings: one row a key. Reading, `show policy` and the page of
//! policy keys are all made from it.

use toml::de::DeValue;

use super::Policy;
use super::settings::Setting;
use crate::value::path_fault;

/// One setting.
pub struct PolicyKey {
    /// `section.key`.
    pub name: &'static str,
    /// What it means, in a sentence.
    pub meaning: &'static str,
    /// Puts a value into the policy; the error says what the value should be.
    pub set: fn(&mut Policy, &DeValue<'_>) -> Result<(), String>,
    /// The value as it would be written in the file.
    pub get: fn(&Policy) -> String,
}

impl PolicyKey {
    /// The value for machines: as JSON has it.
    pub fn value(&self, policy: &Policy) -> serde_json::Value {
        let read = toml::from_str::<toml::Table>(&format!("value = {}", (self.get)(policy)));
        let value = read.ok().and_then(|mut table| table.remove("value"));
        let value = value.and_then(|value| serde_json::to_value(value).ok());
        value.expect("BUG: a setting is shown as a policy would have it")
    }

    /// The section it stands in.
    pub fn section(&self) -> &'static str {
        self.name.split_once('.').map_or("", |(section, _)| section)
    }

    /// The key within its section.
    pub fn last(&self) -> &'static str {
        self.name.split_once('.').map_or("", |(_, key)| key)
    }
}

macro_rules! keys {
    ($($name:literal $field:ident $meaning:literal $(, $check:expr)?;)*) => {
        &[$(PolicyKey {
            name: $name,
            meaning: $meaning,
            set: |policy, value| {
                let read = Setting::read(value)?;
                $(let read = ($check)(read)?;)?
                policy.$field = read;
                Ok(())
            },
            get: |policy| Setting::write(&policy.$field),
        }),*]
    };
}

/// An absolute path that an account file can carry.
fn path(text: String) -> Result<String, String> {
    match path_fault(text.as_bytes()) {
        Some(fault) => Err(format!("\"{text}\" {fault}")),
        None => Ok(text),
    }
}

/// A path that differs from name to name.
fn path_of_name(text: String) -> Result<String, String> {
    if !text.contains("{name}") {
        return Err(format!("\"{text}\" holds no {{name}}: everybody would get the same one"));
    }
    placeholders(&text, &["{name}"])?;
    path(text)
}

/// A pattern for login names.
fn login(text: String) -> Result<String, String> {
    placeholders(&text, &["{first}", "{last}", "{f}", "{l}"])?;
    Ok(text)
}

/// Whether each word in braces is one of those that are filled in.
fn placeholders(text: &str, known: &[&str]) -> Result<(), String> {
    let mut rest = text;
    while let Some(at) = rest.find('{') {
        rest = &rest[at..];
        let end = rest.find('}').map_or(rest.len(), |end| end + 1);
        let word = &rest[..end];
        if !known.contains(&word) {
            let known = known.join(", ");
            return Err(format!("there is no {word}; what is filled in is {known}"));
        }
        rest = &rest[end..];
    }
    Ok(())
}

fn path_or_none(text: String) -> Result<String, String> {
    if text == "none" { Ok(text) } else { path(text) }
}

fn score(score: u32) -> Result<u32, String> {
    if score <= 4 { Ok(score) } else { Err("this has to be a score from 0 to 4".into()) }
}

fn scheme(text: String) -> Result<String, String> {
    match text.as_str() {
        "auto" | "yescrypt" | "sha512" => Ok(text),
        _ => Err("this has to be one of \"auto\", \"yescrypt\", \"sha512\"".into()),
    }
}

/// Every setting, section by section.
pub const KEYS: &[PolicyKey] = keys! {
    "people.ids" people_ids "The uids of people; a new one gets the lowest that was never used.";
    "people.also" people_also "Other uids of people: above people.ids each is one, unless services.also has it.";
    "people.home" people_home "Where a new home goes.", path_of_name;
    "people.home_permissions" people_home_permissions "The mode of a new home, in octal.";
    "people.skeleton" people_skeleton "The directory a new home is a copy of; \"none\" for empty homes.", path_or_none;
    "people.shell" people_shell "The login shell.", path;
    "people.private_group" people_private_group "Whether each person gets a group of their own.";
    "people.primary" people_primary "The primary group of people without a private group.";
    "people.groups" people_groups "Groups that every new person joins.";
    "people.ranges" people_ranges "How many subordinate ids each person gets; 0 for none.";
    "services.ids" services_ids "The uids of services, allotted from the top down.";
    "services.also" services_also "Other uids of services: what packages and service managers take, and nobody's.";
    "services.shell" services_shell "The shell of services.", path;
    "ids.freed" ids_freed "When the id of a deleted account may be given out again: \"never\" or \"after-retention\".";
    "ids.avoid" ids_avoid "Spans that are never allotted, each with a reason.";
    "ranges.span" ranges_span "Where subordinate ids are taken from.";
    "names.style" names_style "What names are made of: \"strict\", \"dotted\" or \"loose\".";
    "names.login" names_login "The pattern for proposing login names, of {first} {last} {f} {l}.", login;
    "passwords.scheme" passwords_scheme "How passwords are hashed: \"auto\", \"yescrypt\" or \"sha512\".", scheme;
    "passwords.min_length" passwords_min_length "The shortest password, in characters.";
    "passwords.min_score" passwords_min_score "The least guessing effort, from 0 to 4.", score;
    "passwords.renew_days" passwords_renew_days "Days after which a password must be changed, or \"never\".";
    "passwords.hold_days" passwords_hold_days "Days for which a password can't be changed again.";
    "passwords.remind_days" passwords_remind_days "Days of reminder before it must be changed.";
    "passwords.late_days" passwords_late_days "Days of grace after that, or \"never\" for no end.";
    "admins.groups" admins_groups "Groups whose members administer the machine; --admin joins the first that exists.";
    "admins.like_root" admins_like_root "Other groups whose members can do what root can.";
    "retired.keep_days" retired_keep_days "Days for which a deleted account is kept.";
    "changes.keep_days" changes_keep_days "Days for which the record of a change is kept.";
    "mail.spool" mail_spool "Where a user's mail arrives.", path_of_name;
    "mail.create" mail_create "Whether a new person gets a mail spool file.";
    "check.accept" check_accept "Findings that check leaves out: { rule, subject, reason, by, until }, or \"RULE:SUBJECT  reason\"; * in a subject stands for any text.";
    "check.unseen_days" check_unseen_days "Days after which check tells of a person who was not signed in since, or \"never\".";
    "check.severity" check_severity "How bad the findings of a rule are: \"error\", \"warning\", \"note\" or \"off\".";
};
