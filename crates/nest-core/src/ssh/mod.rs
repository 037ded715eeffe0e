//! What the SSH server says to an account: sshd_config(5), as sshd(8) goes by it.
//!
//! - `config`: reading the configuration

mod config;

use std::cell::OnceCell;

use bstr::{BStr, BString, ByteSlice};

use self::config::Block;
pub use self::config::{Keyword, Setting, Unread};
use crate::configuration::{ConfigFiles, Place, fits, fits_list};
use crate::value::Uid;

/// What a `Match` line asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Criterion {
    /// A list of patterns that the name has to fit.
    User(BString),
    /// A list of patterns that one of the groups has to fit.
    Group(BString),
    /// That there is no such account.
    NoUser,
    /// Something that only a connection shows.
    Connection,
}

impl Criterion {
    fn read(words: &[BString]) -> Vec<Criterion> {
        let mut parts = words.iter().flat_map(|word| word.splitn(2, |&byte| byte == b'='));
        let mut all = Vec::new();
        while let Some(attribute) = parts.next() {
            match attribute.to_ascii_lowercase().as_slice() {
                b"all" => {}
                b"invalid-user" => all.push(Criterion::NoUser),
                b"user" => all.push(Criterion::User(parts.next().unwrap_or(b"").into())),
                b"group" => all.push(Criterion::Group(parts.next().unwrap_or(b"").into())),
                _ => {
                    parts.next();
                    all.push(Criterion::Connection);
                }
            }
        }
        all
    }

    /// Whether an account meets it; nothing where that depends on the connection.
    fn met_by(&self, visitor: &Visitor<'_>) -> Option<bool> {
        match self {
            Criterion::User(list) => Some(fits_list(&[visitor.name], list)),
            Criterion::Group(list) => Some(fits_list(visitor.groups(), list)),
            Criterion::NoUser => Some(false),
            Criterion::Connection => None,
        }
    }
}

/// The SSH server of a tree.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SshServer {
    /// What is configured; nothing where there is no configuration.
    blocks: Option<Result<Vec<Block>, Unread>>,
    /// Whether it lets a group write to what only that account is in, as Debian's does.
    private_groups: bool,
}

/// Where the configuration is: the first that there is.
const FILES: [&str; 2] = ["etc/ssh/sshd_config", "usr/etc/ssh/sshd_config"];

/// A file that only Debian and its descendants have.
const DEBIAN: &str = "etc/debian_version";

impl SshServer {
    /// Reads the configuration of a tree.
    pub fn read(files: &dyn ConfigFiles) -> Self {
        let private_groups = !matches!(files.read(DEBIAN.into()), Ok(None));
        let found = FILES.iter().find_map(|path| {
            let path = BStr::new(path);
            match files.read(path) {
                Ok(None) => None,
                Ok(Some(text)) => Some(config::read(path, &text, files)),
                Err(why) => Some(Err(Unread::Unreadable(path.into(), why))),
            }
        });
        SshServer { blocks: found, private_groups }
    }

    /// Whether it asks the system's authentication modules. No block can say otherwise, by
    /// sshd_config(5); where its configuration can't be read it may.
    pub fn uses_pam(&self) -> bool {
        match &self.blocks {
            Some(Ok(blocks)) => {
                let set = blocks.first().and_then(|all| all.get(Keyword::UsePAM));
                set.is_some_and(|setting| {
                    let word = setting.words.first();
                    word.is_some_and(|word| {
                        [&b"yes"[..], b"true"].iter().any(|on| word.eq_ignore_ascii_case(on))
                    })
                })
            }
            Some(Err(_)) | None => true,
        }
    }

    /// Whether it asks which groups an account is in.
    pub fn asks_for_groups(&self) -> bool {
        let by_group = |block: &Block| {
            block.criteria.iter().any(|criterion| matches!(criterion, Criterion::Group(_)))
                || [Keyword::AllowGroups, Keyword::DenyGroups]
                    .iter()
                    .any(|keyword| block.get(*keyword).is_some())
        };
        matches!(&self.blocks, Some(Ok(blocks)) if blocks.iter().any(by_group))
    }

    /// Whether files with keys may be found by the uid of their account.
    pub fn finds_keys_by_uid(&self) -> bool {
        let by_uid = |block: &Block| {
            let files = block.get(Keyword::AuthorizedKeysFile);
            files.is_some_and(|setting| setting.words.iter().any(|word| word.contains_str("%U")))
        };
        match &self.blocks {
            Some(Ok(blocks)) => blocks.iter().any(by_uid),
            Some(Err(_)) => true,
            None => false,
        }
    }

    /// Whether it lets the group of an account write where only that account is in it.
    pub fn trusts_private_groups(&self) -> bool {
        self.private_groups
    }

    /// What it says to an account.
    pub(crate) fn rules(&self, visitor: &Visitor<'_>) -> Rules {
        let mut rules = Rules::default();
        let blocks = match &self.blocks {
            None => return rules,
            Some(Ok(blocks)) => blocks,
            Some(Err(unread @ Unread::TooDeep(_))) => {
                rules.refuses = Some(Refused::Says(unread.to_string()));
                return rules;
            }
            Some(Err(unread @ Unread::Unreadable(..))) => {
                rules.refuses = Some(Refused::Unknown(unread.to_string()));
                return rules;
            }
        };
        let mut met: Vec<&Block> = Vec::new();
        for block in &blocks[1..] {
            let answers = || block.criteria.iter().map(|criterion| criterion.met_by(visitor));
            if answers().any(|answer| answer == Some(false)) {
                continue;
            }
            match answers().all(|answer| answer.is_some()) {
                true => met.push(block),
                false if block.settings.is_empty() => {}
                false => rules.may_differ.extend(block.place.as_ref().map(Place::to_string)),
            }
        }
        met.push(&blocks[0]);
        Effective(met).judge(visitor, &mut rules);
        rules
    }
}

/// The blocks that hold for an account, the first before the rest.
struct Effective<'b>(Vec<&'b Block>);

impl<'b> Effective<'b> {
    fn get(&self, keyword: Keyword) -> Option<&'b Setting> {
        self.0.iter().find_map(|block| block.get(keyword))
    }

    /// What a list is set to: by blocks that hold for some, or for all.
    fn list(&self, keyword: Keyword) -> Vec<(&'b BString, &'b Place)> {
        let (all, some) = self.0.split_last().expect("BUG: no block holds for all");
        let of = |blocks: &[&'b Block]| -> Vec<(&'b BString, &'b Place)> {
            let settings = blocks.iter().flat_map(|block| block.all(keyword));
            settings.flat_map(|set| set.words.iter().map(|word| (word, &set.place))).collect()
        };
        let list = of(some);
        if list.is_empty() { of(&[*all]) } else { list }
    }

    /// Whether something is on, `usual` unless it is set.
    fn is_on(&self, keyword: Keyword, usual: bool) -> (bool, Option<&'b Setting>) {
        let set = self.get(keyword);
        let word = set.and_then(|set| set.words.first());
        let on = word.map(|word| {
            ["yes", "true"].iter().any(|yes| word.eq_ignore_ascii_case(yes.as_bytes()))
        });
        (on.unwrap_or(usual), set)
    }

    fn judge(&self, visitor: &Visitor<'_>, rules: &mut Rules) {
        let off = |keyword, usual| {
            let (on, set) = self.is_on(keyword, usual);
            (!on).then(|| forbids(&said(set, keyword)))
        };
        rules.pam = self.is_on(Keyword::UsePAM, false).0;
        rules.refuses = self.lists(visitor, rules);
        let by_pam = rules.pam && self.is_on(Keyword::KbdInteractiveAuthentication, true).0;
        rules.password = off(Keyword::PasswordAuthentication, true).filter(|_| !by_pam);
        rules.key = off(Keyword::PubkeyAuthentication, true);
        rules.empty_password = off(Keyword::PermitEmptyPasswords, false);
        rules.strict = self.is_on(Keyword::StrictModes, true).0;
        if visitor.uid == Some(Uid::ROOT) {
            self.root(rules);
        }
        if let Some(files) = self.get(Keyword::AuthorizedKeysFile) {
            rules.files = files.words.clone();
            rules.files.retain(|file| !file.eq_ignore_ascii_case(b"none"));
        }
        // Keys may come from elsewhere, or not be enough.
        for (keyword, usual) in [
            (Keyword::AuthenticationMethods, "any"),
            (Keyword::AuthorizedKeysCommand, "none"),
            (Keyword::TrustedUserCAKeys, "none"),
        ] {
            let set = self.get(keyword);
            let is_usual = |set: &&Setting| {
                set.words.first().is_none_or(|word| word.eq_ignore_ascii_case(usual.as_bytes()))
            };
            if let Some(set) = set.filter(|set| !is_usual(set)) {
                rules.may_differ.push(said(Some(set), keyword));
            }
        }
    }

    fn root(&self, rules: &mut Rules) {
        let set = self.get(Keyword::PermitRootLogin);
        let word = set.and_then(|set| set.words.first());
        let word =
            word.map_or_else(|| b"prohibit-password".to_vec(), |word| word.to_ascii_lowercase());
        let says = || forbids(&said(set, Keyword::PermitRootLogin));
        match word.as_slice() {
            b"yes" => {}
            b"no" => rules.refuses = rules.refuses.take().or(Some(Refused::Says(says()))),
            b"forced-commands-only" => {
                rules.password = Some(says());
                rules.only_forced = Some(said(set, Keyword::PermitRootLogin));
            }
            _ => rules.password = Some(says()),
        }
    }

    /// What the lists of users, then those of groups have against an account.
    fn lists(&self, visitor: &Visitor<'_>, rules: &mut Rules) -> Option<Refused> {
        let by_name = |pattern: &BStr| visitor.is_named(pattern);
        let by_group =
            |pattern: &BStr| Some(visitor.groups().iter().any(|group| fits(group, pattern)));
        self.denies(Keyword::DenyUsers, by_name, rules)
            .or_else(|| self.does_not_allow(Keyword::AllowUsers, by_name, rules))
            .or_else(|| self.denies(Keyword::DenyGroups, by_group, rules))
            .or_else(|| self.does_not_allow(Keyword::AllowGroups, by_group, rules))
    }

    fn denies(
        &self,
        keyword: Keyword,
        means: impl Fn(&BStr) -> Option<bool>,
        rules: &mut Rules,
    ) -> Option<Refused> {
        for (pattern, place) in self.list(keyword) {
            match means(pattern.as_bstr()) {
                Some(true) => return Some(Refused::Says(forbids(&named(place, keyword)))),
                Some(false) => {}
                None => rules.may_differ.push(named(place, keyword)),
            }
        }
        None
    }

    fn does_not_allow(
        &self,
        keyword: Keyword,
        means: impl Fn(&BStr) -> Option<bool>,
        rules: &mut Rules,
    ) -> Option<Refused> {
        let list = self.list(keyword);
        let answers = || list.iter().map(|(pattern, place)| (means(pattern.as_bstr()), place));
        let (_, first) = list.first()?;
        if answers().any(|(answer, _)| answer == Some(true)) {
            return None;
        }
        match answers().find(|(answer, _)| answer.is_none()) {
            // Allowed from some places.
            Some((_, place)) => {
                rules.may_differ.push(named(place, keyword));
                None
            }
            None => Some(Refused::Says(forbids(&named(first, keyword)))),
        }
    }
}

/// That it forbids something.
fn forbids(what: &str) -> String {
    format!("{what} forbids it")
}

/// A line of the configuration by its keyword.
fn named(place: &Place, keyword: Keyword) -> String {
    let keyword: &str = keyword.into();
    format!("{place} ({keyword})")
}

/// What a keyword is set to, or that it isn't.
fn said(set: Option<&Setting>, keyword: Keyword) -> String {
    let keyword: &str = keyword.into();
    match set {
        Some(Setting { words, place, .. }) => {
            format!("{place} ({keyword} {})", bstr::join(" ", words).as_bstr())
        }
        None => format!("etc/ssh/sshd_config ({keyword} is not set)"),
    }
}

/// Who comes to the door.
pub(crate) struct Visitor<'v> {
    pub name: &'v [u8],
    pub uid: Option<Uid>,
    /// The groups, asked for where it matters.
    pub find_groups: &'v dyn Fn() -> Vec<BString>,
    pub groups: OnceCell<Vec<BString>>,
}

impl Visitor<'_> {
    fn groups(&self) -> &[BString] {
        self.groups.get_or_init(self.find_groups)
    }

    /// Whether `user` or `user@host` means it; nothing where that depends on the host.
    fn is_named(&self, pattern: &BStr) -> Option<bool> {
        match pattern.rsplit_once_str("@") {
            None => Some(fits(self.name, pattern)),
            Some((user, _)) if !fits(self.name, user) => Some(false),
            Some((_, b"*")) => Some(true),
            Some(_) => None,
        }
    }
}

/// Why the SSH server lets an account in by no means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Refused {
    /// It says so.
    Says(String),
    /// It can't be told.
    Unknown(String),
}

/// What the SSH server says to one account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Rules {
    /// Why it lets it in by no means.
    pub refuses: Option<Refused>,
    /// What it has against passwords.
    pub password: Option<String>,
    /// What it has against an account that needs none.
    pub empty_password: Option<String>,
    /// What it has against keys.
    pub key: Option<String>,
    /// Why only keys for one command count.
    pub only_forced: Option<String>,
    /// Whether the system's authentication modules have a say.
    pub pam: bool,
    /// Whether owners and modes matter.
    pub strict: bool,
    /// The files of keys.
    pub files: Vec<BString>,
    /// What may make it differ.
    pub may_differ: Vec<String>,
}

impl Default for Rules {
    /// What holds where nothing is configured.
    fn default() -> Self {
        Rules {
            refuses: None,
            password: None,
            empty_password: None,
            key: None,
            only_forced: None,
            pam: true,
            strict: true,
            files: [".ssh/authorized_keys", ".ssh/authorized_keys2"].map(BString::from).into(),
            may_differ: Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// One file.
    struct One(&'static str);

    impl ConfigFiles for One {
        fn read(&self, path: &BStr) -> Result<Option<Vec<u8>>, String> {
            let is_it = path == "etc/ssh/sshd_config" && !self.0.is_empty();
            Ok(is_it.then(|| self.0.as_bytes().to_vec()))
        }

        fn named(&self, pattern: &BStr) -> Result<Vec<BString>, String> {
            Ok(vec![pattern.into()])
        }
    }

    /// What the server says to maren, who is in the groups maren and crew.
    fn rules(text: &'static str, uid: u32) -> Rules {
        let find_groups = || vec![BString::from("maren"), BString::from("crew")];
        let (name, uid) = (&b"maren"[..], Some(Uid(uid)));
        let visitor = Visitor { name, uid, find_groups: &find_groups, groups: OnceCell::new() };
        SshServer::read(&One(text)).rules(&visitor)
    }

    fn refusal(text: &'static str) -> Option<String> {
        rules(text, 1004).refuses.map(|refused| match refused {
            Refused::Says(why) | Refused::Unknown(why) => {
                why.replace("etc/ssh/sshd_config", "config")
            }
        })
    }

    #[test]
    fn who_is_listed_is_let_in_or_kept_out() {
        for (text, wanted) in [
            ("AllowUsers tavish mar*", None),
            ("AllowUsers tavish", Some("config:1 (AllowUsers) forbids it")),
            ("AllowUsers tavish@*\nDenyUsers maren", Some("config:2 (DenyUsers) forbids it")),
            ("DenyUsers maren@*", Some("config:1 (DenyUsers) forbids it")),
            ("AllowGroups pilots crew", None),
            ("AllowGroups pilots", Some("config:1 (AllowGroups) forbids it")),
            ("AllowUsers maren\nDenyGroups c?ew", Some("config:2 (DenyGroups) forbids it")),
            ("AllowUsers Maren", Some("config:1 (AllowUsers) forbids it")),
            // What a block sets comes before what holds for all.
            ("AllowUsers tavish\nMatch User maren\nAllowUsers maren", None),
            ("Match Group crew,!maren\nDenyUsers maren", None),
            (
                "Match Group=crew User maren\nDenyUsers maren",
                Some("config:2 (DenyUsers) forbids it"),
            ),
            ("Match Invalid-User\nDenyUsers maren", None),
            ("Match all\nDenyUsers maren", Some("config:2 (DenyUsers) forbids it")),
            (
                "Include sshd_config",
                Some(
                    "config is included 16 levels deep, and the SSH server does not start with that",
                ),
            ),
        ] {
            assert_eq!(refusal(text).as_deref(), wanted, "{text}");
        }
        assert!(SshServer::read(&One("Match Group x\n")).asks_for_groups());
        assert!(!SshServer::read(&One("AllowUsers x\n")).asks_for_groups());
    }

    #[test]
    fn what_depends_on_the_connection_is_told_as_such() {
        for (text, wanted) in [
            ("AllowUsers maren@10.0.0.*", "config:1 (AllowUsers)"),
            ("DenyUsers maren@10.0.0.*", "config:1 (DenyUsers)"),
            ("AllowUsers tavish@10.0.0.*", ""),
            ("UsePAM yes\nMatch Address 10.0.0.0/8\nPasswordAuthentication no", "config:2"),
            ("Match Address 10.0.0.0/8 User tavish\nPasswordAuthentication no", ""),
            ("Match Address 10.0.0.0/8\nX11Forwarding no", ""),
            (
                "AuthenticationMethods publickey,password",
                "config:1 (AuthenticationMethods publickey,password)",
            ),
            ("AuthenticationMethods any\nAuthorizedKeysCommand none", ""),
        ] {
            let differ = rules(text, 1004).may_differ.join(" ");
            assert_eq!(differ.replace("etc/ssh/sshd_config", "config"), wanted, "{text}");
        }
    }

    #[test]
    fn passwords_go_through_the_modules_too_and_root_needs_more() {
        let no_password = |text| rules(text, 1004).password.is_some();
        assert!(!no_password("UsePAM yes\nPasswordAuthentication no"));
        assert!(no_password("PasswordAuthentication no"));
        assert!(no_password(
            "UsePAM yes\nPasswordAuthentication no\nKbdInteractiveAuthentication no"
        ));
        let root = rules("UsePAM yes", 0);
        assert_eq!(
            root.password.as_deref(),
            Some("etc/ssh/sshd_config (PermitRootLogin is not set) forbids it")
        );
        assert_eq!(root.refuses, None);
        assert!(rules("PermitRootLogin no", 0).refuses.is_some());
        assert!(rules("PermitRootLogin forced-commands-only", 0).only_forced.is_some());
        assert_eq!(rules("PermitRootLogin yes", 0).password, None);
        // Without a configuration nothing is known against anybody.
        assert_eq!(rules("", 0), Rules::default());
    }
}
