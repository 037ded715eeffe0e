//! Who gains and who loses access by a change, in words.

use bstr::BString;
use hashbrown::HashMap;
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

use crate::value::escaped;
use crate::words::list;

/// What an account gains or loses.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::Display,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum AccessKind {
    /// Signing in at all.
    SignIn,
    /// Signing in by password, where a key does or did too.
    Password,
    /// Signing in by key, where a password does or did too.
    Key,
    /// Signing in over SSH, where a password does or did at the machine itself.
    Ssh,
    /// Uid 0.
    Root,
    /// Administering the machine.
    Administrator,
    /// A group whose members can do what root can.
    LikeRoot,
    /// Any other group.
    Group,
    /// What an earlier holder of the name or the number has left behind.
    Leftover,
}

/// Something that one account gains or loses. `Display` gives it in words that follow the
/// account's name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AccessChange {
    /// The account, as it is called afterwards.
    #[serde(with = "escaped::text")]
    pub name: BString,
    /// What.
    pub kind: AccessKind,
    /// Whether it is gained; else it is lost.
    pub gains: bool,
    /// The group, where it is one.
    #[serde(default, with = "escaped::text", skip_serializing_if = "is_empty")]
    pub group: BString,
    /// By what it is gained, or why it is lost. May be empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why: String,
}

fn is_empty(group: &BString) -> bool {
    group.is_empty()
}

impl std::fmt::Display for AccessChange {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let AccessChange { kind, gains, group, why, .. } = self;
        match (kind, gains) {
            (AccessKind::SignIn, true) => write!(f, "can sign in")?,
            (AccessKind::SignIn, false) => write!(f, "can no longer sign in")?,
            (AccessKind::Password, true) => write!(f, "can sign in by password too")?,
            (AccessKind::Password, false) => write!(f, "can no longer sign in by password")?,
            (AccessKind::Key, true) => write!(f, "can sign in by key too")?,
            (AccessKind::Key, false) => write!(f, "can no longer sign in by key")?,
            (AccessKind::Ssh, true) => write!(f, "can sign in over SSH too")?,
            (AccessKind::Ssh, false) => write!(f, "can no longer sign in over SSH")?,
            (AccessKind::Root, true) => write!(f, "gets uid 0, and with it all that root may do")?,
            (AccessKind::Root, false) => write!(f, "no longer has uid 0")?,
            (AccessKind::Administrator, true) => write!(f, "becomes administrator")?,
            (AccessKind::Administrator, false) => write!(f, "is no longer administrator")?,
            (AccessKind::LikeRoot, true) => write!(f, "joins {group}, which amounts to root")?,
            (AccessKind::LikeRoot, false) => write!(f, "leaves {group}, which amounts to root")?,
            (AccessKind::Group, true) => write!(f, "joins {group}")?,
            (AccessKind::Group, false) => write!(f, "leaves {group}")?,
            (AccessKind::Leftover, _) => return write!(f, "takes over {why}"),
        }
        match (why.as_str(), gains) {
            ("", _) => Ok(()),
            (why, true) => write!(f, ", {why}"),
            (why, false) => write!(f, ": {why}"),
        }
    }
}

/// One line an account: its name, and all that it gains and loses. What belongs to one
/// account stands together.
pub fn access_lines(all: &[AccessChange]) -> Vec<(&BString, String)> {
    let of_one = all.chunk_by(|one, next| one.name == next.name);
    of_one.map(|changes| (&changes[0].name, sentence(changes))).collect()
}

/// The accounts that gain and lose the same, with what that is, in the order of the first
/// of each.
pub fn access_alike(all: &[AccessChange]) -> Vec<(Vec<&BString>, String)> {
    type What<'c> = SmallVec<[(AccessKind, bool, &'c BString, &'c str); 1]>;
    let mut places: HashMap<What<'_>, usize> = HashMap::new();
    let mut alike: Vec<(Vec<&BString>, String)> = Vec::new();
    let mut last: (&[AccessChange], usize) = (&[], 0);
    for changes in all.chunk_by(|one, next| one.name == next.name) {
        let of = |change| {
            let AccessChange { kind, gains, group, why, .. }: &AccessChange = change;
            (*kind, *gains, group, why.as_str())
        };
        // Mostly it is what the one before gains and loses.
        let same = changes.iter().map(of).eq(last.0.iter().map(of));
        let at = match same {
            true => last.1,
            false => *places.entry(changes.iter().map(of).collect()).or_insert(alike.len()),
        };
        match alike.get_mut(at) {
            Some((names, _)) => names.push(&changes[0].name),
            None => alike.push((vec![&changes[0].name], sentence(changes))),
        }
        last = (changes, at);
    }
    alike
}

/// What one account gains and loses. Plain groups are told together.
fn sentence(changes: &[AccessChange]) -> String {
    let mut parts: Vec<String> = Vec::new();
    let plain = |change: &&AccessChange| change.kind == AccessKind::Group && change.why.is_empty();
    for change in changes.iter().filter(|change| !plain(change)) {
        parts.push(change.to_string());
    }
    for (gains, verb) in [(true, "joins"), (false, "leaves")] {
        let groups = changes.iter().filter(|change| plain(change) && change.gains == gains);
        let groups: Vec<&BString> = groups.map(|change| &change.group).collect();
        if !groups.is_empty() {
            parts.push(format!("{verb} {}", list(&groups)));
        }
    }
    parts.join("; ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_account_has_one_line_and_plain_groups_are_told_together() {
        let change = |name: &str, kind, gains, group: &str, why: &str| AccessChange {
            name: name.into(),
            kind,
            gains,
            group: group.into(),
            why: why.into(),
        };
        let all = [
            change("ben", AccessKind::SignIn, false, "", "the password is locked"),
            change("ada", AccessKind::Administrator, true, "sudo", "by etc/sudoers:27 %sudo"),
            change("ada", AccessKind::Group, true, "pilots", ""),
            change("ada", AccessKind::Group, true, "crew", "as its primary group"),
            change("ada", AccessKind::Group, true, "sudo", ""),
            change("ada", AccessKind::Group, false, "slipway", ""),
        ];
        let lines: Vec<String> =
            access_lines(&all).into_iter().map(|(name, line)| format!("{name} {line}")).collect();
        assert_eq!(
            lines,
            [
                "ben can no longer sign in: the password is locked",
                "ada becomes administrator, by etc/sudoers:27 %sudo; joins crew, as its primary \
                 group; joins pilots, sudo; leaves slipway",
            ]
        );
        let text = serde_json::to_string(&all).unwrap();
        assert_eq!(serde_json::from_str::<Vec<AccessChange>>(&text).unwrap(), all);
        let joins = |name, group| change(name, AccessKind::Group, true, group, "");
        let all = [
            joins("ada", "pilots"),
            joins("ben", "pilots"),
            joins("cyd", "crew"),
            joins("dot", "pilots"),
            joins("dot", "crew"),
            joins("eve", "pilots"),
        ];
        let alike: Vec<String> = access_alike(&all)
            .into_iter()
            .map(|(names, what)| format!("{} {what}", list(names)))
            .collect();
        assert_eq!(
            alike,
            ["ada, ben, eve joins pilots", "cyd joins crew", "dot joins pilots, crew"]
        );
    }
}
