//! The settings of a tree: built-in ones, and over them those of
//! `etc/copper-nest/policy.toml`, each with where it comes from.

mod contradictions;
mod keys;
mod kinds;
mod settings;

use std::collections::BTreeMap;

use toml::de::DeTable;

pub use self::keys::{KEYS, PolicyKey};
pub use self::kinds::{AccountKind, KindRule};
use crate::order;
use crate::value::{Day, IdSpan, NameStyle, Severity, nearest};

/// Days, or never.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Days {
    /// After this many days.
    After(u32),
    /// At no day.
    Never,
}

/// The permission bits of a directory, written in octal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Permissions(pub u32);

/// A span of ids that is never allotted, with the reason the policy gives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Avoid {
    /// The span.
    pub span: IdSpan,
    /// Why, in the administrator's words; may be empty.
    pub why: String,
}

/// A finding that `check` leaves out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Accept {
    /// The rule.
    pub rule: String,
    /// The subject of the finding; each `*` stands for any text.
    pub subject: String,
    /// Why it is accepted, in the administrator's words.
    pub reason: String,
    /// Who says so.
    pub by: Option<String>,
    /// The last day on which it holds.
    pub until: Option<Day>,
}

impl Accept {
    /// Whether it is about this subject.
    pub fn is_of(&self, subject: &[u8]) -> bool {
        let mut parts = self.subject.as_bytes().split(|byte| *byte == b'*');
        let first = parts.next().unwrap_or_default();
        let Some(mut rest) = subject.strip_prefix(first) else { return false };
        let parts: Vec<&[u8]> = parts.collect();
        let Some((last, between)) = parts.split_last() else { return rest.is_empty() };
        for part in between {
            let Some(at) = memchr::memmem::find(rest, part) else { return false };
            rest = &rest[at + part.len()..];
        }
        rest.ends_with(last)
    }
}

/// What the policy makes of a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SeverityChoice {
    /// It does not run.
    Off,
    /// Its findings are as bad as this.
    As(Severity),
}

/// What the policy makes of some rules.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SeverityChoices(pub(crate) BTreeMap<String, SeverityChoice>);

impl SeverityChoices {
    /// What it makes of a rule, where it says so.
    pub fn of(&self, rule: &str) -> Option<SeverityChoice> {
        self.0.get(rule).copied()
    }

    /// Whether it says nothing of any.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The rules it says something of.
    pub fn rules(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }
}

/// Where a setting comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SettingSource {
    /// The program itself.
    BuiltIn,
    /// A line of the policy file, counted from 1.
    File {
        /// The file, as it is to be shown.
        file: String,
        /// The line.
        line: usize,
    },
}

/// What is wrong with a policy file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}:{line}: {message}")]
pub struct PolicyFault {
    /// The file, as it is to be shown.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong, and what would be right.
    pub message: String,
}

/// All that is wrong with a policy file, in the order of its lines. `Display` gives one a line.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
pub struct PolicyFaults(pub Vec<PolicyFault>);

impl From<PolicyFault> for PolicyFaults {
    fn from(fault: PolicyFault) -> Self {
        PolicyFaults(vec![fault])
    }
}

/// Every setting. [`KEYS`] says what each means.
#[derive(Debug, Clone)]
#[allow(missing_docs)] // each field is the key of its name, documented in KEYS
pub struct Policy {
    pub people_ids: IdSpan,
    pub people_also: Vec<IdSpan>,
    pub people_home: String,
    pub people_home_permissions: Permissions,
    pub people_skeleton: String,
    pub people_shell: String,
    pub people_private_group: bool,
    pub people_primary: String,
    pub people_groups: Vec<String>,
    pub people_ranges: u32,
    pub services_ids: IdSpan,
    pub services_also: Vec<IdSpan>,
    pub services_shell: String,
    pub ids_freed: Freed,
    pub ids_avoid: Vec<Avoid>,
    pub ranges_span: IdSpan,
    pub names_style: NameStyle,
    pub names_login: String,
    pub passwords_scheme: String,
    pub passwords_min_length: u32,
    pub passwords_min_score: u32,
    pub passwords_renew_days: Days,
    pub passwords_hold_days: u32,
    pub passwords_remind_days: u32,
    pub passwords_late_days: Days,
    pub admins_groups: Vec<String>,
    pub admins_like_root: Vec<String>,
    pub retired_keep_days: u32,
    pub changes_keep_days: u32,
    pub mail_spool: String,
    pub mail_create: bool,
    pub check_accept: Vec<Accept>,
    /// Rules that are off, or whose findings are as bad as is said here.
    pub check_unseen_days: Days,
    pub check_severity: SeverityChoices,
    sources: BTreeMap<&'static str, SettingSource>,
}

/// When a freed id may be given out again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::EnumString)]
#[strum(serialize_all = "kebab-case")]
pub enum Freed {
    /// Not at all.
    Never,
    /// When the retired account's days are over.
    AfterRetention,
}

impl Default for Policy {
    fn default() -> Self {
        let words = |text: &[&str]| text.iter().map(|&word| word.to_owned()).collect();
        Policy {
            people_ids: IdSpan::fixed(1000, 59999),
            people_also: Vec::new(),
            people_home: "/home/{name}".into(),
            people_home_permissions: Permissions(0o700),
            people_skeleton: "/etc/skel".into(),
            people_shell: "/bin/bash".into(),
            people_private_group: true,
            people_primary: "users".into(),
            people_groups: Vec::new(),
            people_ranges: 65536,
            services_ids: IdSpan::fixed(100, 999),
            // What service managers and packages take at run time, and nobody's number.
            services_also: vec![IdSpan::fixed(61184, 65535)],
            services_shell: "/usr/sbin/nologin".into(),
            ids_freed: Freed::Never,
            ids_avoid: Vec::new(),
            ranges_span: IdSpan::fixed(2_001_010_688, 2_147_352_575),
            names_style: NameStyle::Strict,
            names_login: "{first}".into(),
            passwords_scheme: "auto".into(),
            passwords_min_length: 10,
            passwords_min_score: 2,
            passwords_renew_days: Days::Never,
            passwords_hold_days: 0,
            passwords_remind_days: 7,
            passwords_late_days: Days::Never,
            admins_groups: words(&["sudo", "wheel"]),
            admins_like_root: words(&[
                "root", "disk", "shadow", "docker", "lxd", "incus", "libvirt",
            ]),
            retired_keep_days: 180,
            changes_keep_days: 400,
            mail_spool: "/var/mail/{name}".into(),
            mail_create: false,
            check_accept: Vec::new(),
            check_unseen_days: Days::Never,
            check_severity: SeverityChoices::default(),
            sources: BTreeMap::new(),
        }
    }
}

impl Policy {
    /// Reads a policy file over the built-in settings. `file` is how the file is
    /// to be named in messages.
    ///
    /// # Errors
    /// All [`PolicyFaults`]: broken TOML, an unknown key (the nearest known one is
    /// named), a value of the wrong kind, settings that contradict each other.
    pub fn read(file: &str, text: &str) -> Result<Self, PolicyFaults> {
        let line_at = |offset: usize| text[..offset.min(text.len())].matches('\n').count() + 1;
        let fault = |offset: usize, message: String| PolicyFault {
            file: file.to_owned(),
            line: line_at(offset),
            message,
        };
        let document = DeTable::parse(text).map_err(|error| {
            let start = error.span().map_or(0, |span| span.start);
            PolicyFaults(vec![fault(start, error.message().to_owned())])
        })?;
        let (mut policy, mut faults) = (Policy::default(), Vec::new());
        for (section, table) in document.get_ref() {
            let Some(table) = table.get_ref().as_table() else {
                let message = format!(
                    "the key {} stands outside a section; every key belongs to one, as in [people]",
                    section.get_ref()
                );
                faults.push(fault(section.span().start, message));
                continue;
            };
            let sections: Vec<_> = KEYS.iter().map(|key| key.section()).collect();
            if !sections.contains(&section.get_ref().as_ref()) {
                let message = unknown("section", section.get_ref(), sections.into_iter());
                faults.push(fault(section.span().start, message));
                continue;
            }
            for (name, value) in table {
                let full = format!("{}.{}", section.get_ref(), name.get_ref());
                let Some(key) = KEYS.iter().find(|key| key.name == full) else {
                    let message = unknown("setting", &full, KEYS.iter().map(|key| key.name));
                    faults.push(fault(name.span().start, message));
                    continue;
                };
                if let Err(message) = (key.set)(&mut policy, value.get_ref()) {
                    faults.push(fault(value.span().start, format!("{full}: {message}")));
                }
                let source =
                    SettingSource::File { file: file.to_owned(), line: line_at(name.span().start) };
                policy.sources.insert(key.name, source);
            }
        }
        if faults.is_empty() {
            faults = policy.contradictions();
        }
        order::sort_by_key(&mut faults, |fault| fault.line);
        if faults.is_empty() { Ok(policy) } else { Err(PolicyFaults(faults)) }
    }

    /// A digest of all settings, to tell whether two reports went by the same.
    pub fn digest(&self) -> String {
        let settings = KEYS.iter().map(|key| format!("{} = {}\n", key.name, (key.get)(self)));
        crate::drift::digest(settings.collect::<String>().as_bytes())
    }

    /// Where the setting with this key comes from.
    pub fn source(&self, key: &str) -> SettingSource {
        self.sources.get(key).cloned().unwrap_or(SettingSource::BuiltIn)
    }

    /// The setting's source as a short phrase for the "why" column.
    pub fn origin(&self, key: &str) -> String {
        match self.source(key) {
            SettingSource::BuiltIn => format!("{key}, built in"),
            SettingSource::File { file, line } => format!("{key}, {file}:{line}"),
        }
    }

    /// What is wrong with a setting that names something there is not: `what` and its name;
    /// `known` are those there are.
    pub(crate) fn unknown_word(
        &self,
        key: &str,
        what: &str,
        word: &str,
        known: impl Iterator<Item = &'static str>,
    ) -> PolicyFault {
        self.fault_of(key, &unknown(what, word, known))
    }

    /// What is wrong with a setting.
    fn fault_of(&self, key: &str, message: &str) -> PolicyFault {
        let (file, line) = match self.source(key) {
            SettingSource::File { file, line } => (file, line),
            SettingSource::BuiltIn => ("the built-in policy".to_owned(), 0),
        };
        PolicyFault { file, line, message: format!("{key}: {message}") }
    }

    /// Whether the members of a group of this name administer the machine.
    pub fn makes_admins(&self, group: &[u8]) -> bool {
        self.admins_groups.iter().any(|name| name.as_bytes() == group)
    }

    /// Whether the members of a group of this name can do what root can.
    pub fn is_like_root(&self, group: &[u8]) -> bool {
        self.admins_like_root.iter().any(|name| name.as_bytes() == group)
    }

    /// The home that the policy gives to `name`.
    pub fn home_of(&self, name: &[u8]) -> Vec<u8> {
        fill(&self.people_home, name)
    }

    /// The mail spool file of `name`.
    pub fn spool_of(&self, name: &[u8]) -> Vec<u8> {
        fill(&self.mail_spool, name)
    }
}

fn fill(pattern: &str, name: &[u8]) -> Vec<u8> {
    let mut filled = Vec::with_capacity(pattern.len() + name.len());
    let mut rest = pattern.as_bytes();
    while let Some(at) = memchr::memchr(b'{', rest) {
        let (before, after) = rest.split_at(at);
        filled.extend_from_slice(before);
        rest = match after.strip_prefix(b"{name}") {
            Some(after) => {
                filled.extend_from_slice(name);
                after
            }
            None => {
                filled.push(b'{');
                &after[1..]
            }
        };
    }
    filled.extend_from_slice(rest);
    filled
}

fn unknown(what: &str, word: &str, known: impl Iterator<Item = &'static str>) -> String {
    let known: Vec<&str> = known.collect();
    match nearest(word.as_bytes(), known.iter().map(|known| known.as_bytes())) {
        Some(near) => format!("there is no {what} {word}; the nearest is {near}"),
        None => format!("there is no {what} {word}; show policy lists those there are"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fault(text: &str) -> String {
        Policy::read("etc/copper-nest/policy.toml", text).unwrap_err().to_string()
    }

    #[test]
    fn accepted_subjects_may_be_patterns() {
        let accept = |text: &str| {
            let text = format!("[check]\naccept = [{text}]\n");
            Policy::read("p.toml", &text).map(|policy| policy.check_accept[0].clone())
        };
        let builders = accept("\"missing-home:nixbld*  builders\"").unwrap();
        assert!(builders.is_of(b"nixbld1") && !builders.is_of(b"mynixbld1"));
        let middle = accept("\"empty-group:*-*-crew  x\"").unwrap();
        assert!(
            middle.is_of(b"a-b-crew") && !middle.is_of(b"a-crew") && !middle.is_of(b"a-b-crews")
        );
        let whole = accept(
            "{ rule = \"no-admin\", subject = \"sudo\", reason = \"on purpose\", by = \"Odalys\", until = 2027-06-30 }",
        )
        .unwrap();
        assert_eq!((whole.by.as_deref(), whole.until), (Some("Odalys"), Some(Day(20999))));
        for wrong in [
            "\"no-admin\"",
            "{ rule = \"no-admin\", subject = \"sudo\" }",
            "{ rule = \"no-admin\", subject = \"x\", reason = \"y\", until = \"soon\" }",
            "{ rule = \"no-admin\", subject = \"x\", reason = \"y\", untill = 2027-06-30 }",
            "5",
        ] {
            assert!(accept(wrong).is_err(), "{wrong}");
        }
        let severity =
            |text: &str| Policy::read("p.toml", &format!("[check]\nseverity = {text}\n"));
        let set = severity("{ \"empty-group\" = \"off\", no-admin = \"error\" }").unwrap();
        assert_eq!(set.check_severity.of("empty-group"), Some(SeverityChoice::Off));
        assert!(severity("{ \"empty-group\" = \"loud\" }").is_err());
        assert_ne!(set.digest(), Policy::default().digest());
    }

    #[test]
    fn only_a_name_in_braces_stands_for_one() {
        for (pattern, path) in [
            ("/home/{name}", "/home/maren"),
            ("/home/{name}/{name}.d", "/home/maren/maren.d"),
            ("/{na/{name}}/{", "/{na/maren}/{"),
            ("/srv/all", "/srv/all"),
            ("", ""),
        ] {
            assert_eq!(fill(pattern, b"maren"), path.as_bytes(), "{pattern}");
        }
    }

    #[test]
    fn each_setting_remembers_the_line_that_set_it() {
        let text = "# ours\n[people]\nids = \"2000-2999\"\nhome_permissions = \"0750\"\n\n[ids]\navoid = [\"2500-2599 the directory's\"]\n[passwords]\nrenew_days = 365\n";
        let policy = Policy::read("p.toml", text).unwrap();
        assert_eq!(policy.people_ids.to_string(), "2000-2999");
        assert_eq!(policy.people_home_permissions, Permissions(0o750));
        assert_eq!(policy.ids_avoid[0].why, "the directory's");
        assert_eq!(policy.passwords_renew_days, Days::After(365));
        assert_eq!(policy.origin("people.ids"), "people.ids, p.toml:3");
        assert_eq!(policy.origin("ids.avoid"), "ids.avoid, p.toml:7");
        assert_eq!(policy.origin("people.shell"), "people.shell, built in");
    }

    #[test]
    fn a_slip_is_named_with_file_line_and_the_nearest_key() {
        assert_eq!(
            fault("[people]\nshel = \"/bin/sh\"\n"),
            "etc/copper-nest/policy.toml:2: there is no setting people.shel; the nearest is people.shell"
        );
        assert!(
            fault("[poeple]\n").contains(":1: there is no section poeple; the nearest is people")
        );
        assert!(fault("shell = \"/bin/sh\"\n").contains("outside a section"));
        assert!(
            fault("[people]\n\nids = 5\n")
                .contains(":3: people.ids: this has to be a span in quotes, \"1000-59999\" say")
        );
        assert!(fault("[people]\nhome = \"home\"\n").contains("people.home"));
        assert!(fault("[people]\nhome_permissions = \"9\"\n").contains("octal"));
        assert!(fault("[people]\nhome_permissions = \"+700\"\n").contains("octal"));
        assert!(fault("[names]\nstyle = \"free\"\n").contains("\"strict\", \"dotted\", \"loose\""));
        assert!(fault("[people]\nids = \"1-2\"\n[people]\n").contains(":3:"));
    }

    #[test]
    fn what_is_written_reads_back() {
        let mut text = String::new();
        let mut section = "";
        for key in KEYS {
            if key.section() != section {
                section = key.section();
                text += &format!("[{section}]\n");
            }
            text += &format!("{} = {}\n", key.last(), (key.get)(&Policy::default()));
        }
        let policy = Policy::read("all.toml", &text).unwrap();
        for key in KEYS {
            assert_eq!((key.get)(&policy), (key.get)(&Policy::default()), "{}", key.name);
        }
    }
}
