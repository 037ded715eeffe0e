//! What sudoers gives to an account. Of the lines that are about it the last counts, as sudo
//! looks at them.

use bstr::{BStr, BString, ByteSlice};

use super::{
    AliasKind, Asker, CommandRule, Item, Privilege, SettingScope, Sudoers, UserRule, named,
};
use crate::configuration::Place;
use crate::value::Uid;

/// Something that a line gives to an account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// The line.
    pub place: Place,
    /// What it says.
    pub text: BString,
    /// By which word it is about the account: its name, or `%group`.
    pub by: BString,
    /// What it gives.
    pub gives: Gives,
    /// Whose password is asked.
    pub asks: AskedFor,
}

/// What may be run as root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Gives {
    /// Everything, but for these.
    Everything {
        /// Commands that are taken out.
        but: Vec<BString>,
    },
    /// These, and nothing else.
    Commands(Vec<BString>),
    /// It can't be told: why.
    Unknown(String),
}

/// Whose password sudo asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::IntoStaticStr)]
pub enum AskedFor {
    /// One's own.
    #[strum(serialize = "own")]
    Own,
    /// Nobody's.
    #[strum(serialize = "none")]
    Nobody,
    /// Root's: whoever knows it could sign in as root.
    #[strum(serialize = "root's")]
    Root,
}

/// Whether a list is about somebody.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Match {
    /// It says nothing.
    Nothing,
    /// It says yes, by this word.
    Yes(BString),
    /// It says no.
    No,
    /// It can't be told: why.
    Unknown(String),
}

impl Sudoers {
    /// What it gives an account as root on this machine, line by line; `today` is now, as
    /// `YYYYMMDDHHMMSS` in UTC.
    pub fn grants(&self, asker: &Asker<'_>, now: &BStr) -> Vec<Grant> {
        let mut grants = Vec::new();
        for rule in &self.rules {
            let (by, unknown) = match self.user(&rule.users, asker) {
                Match::Yes(by) => (by, None),
                Match::Unknown(why) => (BString::default(), Some(why)),
                Match::Nothing | Match::No => continue,
            };
            grants.extend(self.of_rule(rule, asker, by, unknown, now));
        }
        self.take_out_what_is_taken_back(&mut grants);
        grants
    }

    /// Whether it gives everything as root: `None` where that can't be told.
    pub fn gives_everything(&self, asker: &Asker<'_>, now: &BStr) -> Option<bool> {
        let grants = self.grants(asker, now);
        let whole = |grant: &Grant| matches!(grant.gives, Gives::Everything { .. });
        let unknown = |grant: &Grant| matches!(grant.gives, Gives::Unknown(_));
        match (grants.iter().any(whole), grants.iter().any(unknown)) {
            (true, _) => Some(true),
            (false, true) => None,
            (false, false) => Some(false),
        }
    }

    fn of_rule(
        &self,
        rule: &UserRule,
        asker: &Asker<'_>,
        by: BString,
        mut unknown: Option<String>,
        now: &BStr,
    ) -> Option<Grant> {
        let (mut commands, mut but, mut all, mut taken) = (Vec::new(), Vec::new(), false, false);
        let mut asks = None;
        for Privilege { hosts, commands: rules } in &rule.privileges {
            match self.host(hosts) {
                Match::Yes(_) => {}
                Match::Nothing | Match::No => continue,
                Match::Unknown(why) => unknown = Some(why),
            }
            for rule in rules.iter().filter(|rule| is_in_time(rule, now)) {
                match self.as_root(rule, asker) {
                    Match::Yes(_) => {}
                    Match::Nothing | Match::No => continue,
                    Match::Unknown(why) => unknown = Some(why),
                }
                let mut words = Vec::new();
                self.commands(&rule.command, false, &mut Vec::new(), &mut words);
                for (negated, word) in words {
                    match (word == "ALL", negated) {
                        (true, false) => {
                            (all, taken) = (true, false);
                            but.clear();
                            asks = Some(self.asked_for(rule, asker));
                        }
                        (true, true) => {
                            (all, taken) = (false, true);
                            commands.clear();
                        }
                        (false, false) => {
                            but.retain(|other| *other != word);
                            commands.push(word);
                            asks = asks.or_else(|| Some(self.asked_for(rule, asker)));
                        }
                        (false, true) => {
                            commands.retain(|other| *other != word);
                            but.push(word);
                        }
                    }
                }
            }
        }
        let gives = match (unknown, all) {
            (Some(why), _) if all || !commands.is_empty() => Gives::Unknown(why),
            (_, true) => Gives::Everything { but },
            (_, false) if !commands.is_empty() => Gives::Commands(commands),
            // It only takes back.
            (_, false) if taken => Gives::Commands(Vec::new()),
            (_, false) => return None,
        };
        let (place, text) = (rule.place.clone(), rule.text.clone());
        Some(Grant { place, text, by, gives, asks: asks.unwrap_or(AskedFor::Own) })
    }

    /// A later line that forbids everything takes back what earlier ones give.
    fn take_out_what_is_taken_back(&self, grants: &mut Vec<Grant>) {
        let takes = |grant: &Grant| grant.gives == Gives::Commands(Vec::new());
        if let Some(last) = grants.iter().rposition(takes) {
            grants.drain(..=last);
        }
    }

    /// Whether a command may be run as root.
    fn as_root(&self, rule: &CommandRule, asker: &Asker<'_>) -> Match {
        let Some(users) = &rule.run_as else {
            let default = self.setting(b"runas_default", asker).and_then(|(_, value)| value);
            let is_root = default.is_none_or(|user| user == "root" || user == "#0");
            return if is_root { Match::Yes("root".into()) } else { Match::Nothing };
        };
        let root = Asker { name: b"root", uid: Some(Uid::ROOT), groups: &Vec::new };
        self.list(AliasKind::RunAs, users, &|word| one(word, &root), &mut Vec::new())
    }

    /// Whose password is asked for a command.
    fn asked_for(&self, rule: &CommandRule, asker: &Asker<'_>) -> AskedFor {
        let is_on =
            |name: &[u8], usual: bool| self.setting(name, asker).map_or(usual, |(on, _)| on);
        let asks = rule.asks.unwrap_or_else(|| is_on(b"authenticate", true));
        let of_root = ["rootpw", "targetpw", "runaspw"];
        match asks {
            false => AskedFor::Nobody,
            true if of_root.iter().any(|name| is_on(name.as_bytes(), false)) => AskedFor::Root,
            true => AskedFor::Own,
        }
    }

    /// What is set for an account: of those for all, then of those for it, the last.
    fn setting(&self, name: &[u8], asker: &Asker<'_>) -> Option<(bool, Option<&BString>)> {
        let named = || self.settings.iter().filter(|setting| setting.name == name);
        let for_all = named().filter(|setting| match &setting.scope {
            SettingScope::All => true,
            SettingScope::Hosts(hosts) => {
                matches!(self.host(hosts), Match::Yes(_))
            }
            SettingScope::Users(_) | SettingScope::Other => false,
        });
        let for_one = named().filter(|setting| match &setting.scope {
            SettingScope::Users(users) => {
                matches!(self.user(users, asker), Match::Yes(_))
            }
            SettingScope::All | SettingScope::Hosts(_) | SettingScope::Other => false,
        });
        for_all.chain(for_one).last().map(|setting| (setting.on, setting.value.as_ref()))
    }

    fn user(&self, users: &[Item], asker: &Asker<'_>) -> Match {
        self.list(AliasKind::User, users, &|word| one(word, asker), &mut Vec::new())
    }

    /// Whether a list of hosts is about this machine.
    fn host(&self, hosts: &[Item]) -> Match {
        self.list(AliasKind::Host, hosts, &|word| self.one_host(word), &mut Vec::new())
    }

    /// What a list says, where `of` says what a word does: the last that is about it.
    fn list(
        &self,
        kind: AliasKind,
        items: &[Item],
        of: &dyn Fn(&BString) -> Match,
        within: &mut Vec<BString>,
    ) -> Match {
        for item in items.iter().rev() {
            let found = match self.alias(kind, &item.word, within) {
                Some(items) => {
                    within.push(item.word.clone());
                    let found = self.list(kind, items, of, within);
                    within.pop();
                    found
                }
                None => of(&item.word),
            };
            match (found, item.negated) {
                (Match::Nothing, _) => {}
                (Match::Yes(_), true) => return Match::No,
                (Match::No, true) => return Match::Yes(item.word.clone()),
                (found, _) => return found,
            }
        }
        Match::Nothing
    }

    fn one_host(&self, word: &BString) -> Match {
        if word == "ALL" {
            return Match::Yes(word.clone());
        }
        let is_address = word.contains(&b':')
            || word.contains(&b'.')
                && word.iter().all(|byte| matches!(byte, b'0'..=b'9' | b'.' | b'/'));
        if word.starts_with(b"+") || is_address {
            return Match::Unknown(format!(
                "it is about {word}, and which hosts that is is not known"
            ));
        }
        let pattern = word.to_ascii_lowercase();
        // A short name is held against the short ones.
        let whole = pattern.contains(&b'.');
        let means = self.hosts.iter().any(|host| {
            let host = host.to_ascii_lowercase();
            let short = host.split_str(".").next().unwrap_or_default();
            let fits = |name: &[u8]| crate::configuration::fits(name, &pattern);
            fits(&host) || !whole && fits(short)
        });
        if means { Match::Yes(word.clone()) } else { Match::Nothing }
    }

    /// The commands of a word, each with whether it is forbidden.
    fn commands(
        &self,
        item: &Item,
        negated: bool,
        within: &mut Vec<BString>,
        words: &mut Vec<(bool, BString)>,
    ) {
        let negated = negated != item.negated;
        match self.alias(AliasKind::Command, &item.word, within) {
            Some(items) => {
                within.push(item.word.clone());
                for item in items {
                    self.commands(item, negated, within, words);
                }
                within.pop();
            }
            None => words.push((negated, item.word.clone())),
        }
    }
}

/// Whether a word means somebody.
fn one(word: &BString, asker: &Asker<'_>) -> Match {
    let Some(named) = named(word) else {
        let why = format!("it is about {word}, and who that is is not known");
        return Match::Unknown(why);
    };
    if named.means(asker) { Match::Yes(word.clone()) } else { Match::Nothing }
}

/// Whether a command may be run now: `NOTBEFORE` and `NOTAFTER`.
fn is_in_time(rule: &CommandRule, now: &BStr) -> bool {
    // What is not said to the second is at its beginning.
    let moment = |text: &BString| {
        let digits: Vec<u8> = text.iter().copied().take_while(u8::is_ascii_digit).collect();
        let mut whole = digits;
        whole.resize(14.max(whole.len()), b'0');
        whole
    };
    let begun = rule.not_before.as_ref().is_none_or(|from| moment(from)[..] <= **now);
    let over = rule.not_after.as_ref().is_some_and(|until| **now > moment(until)[..]);
    begun && !over
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::configuration::WrittenFiles;
    use crate::value::Gid;

    fn given(files: Vec<(&'static str, &'static str)>) -> Vec<String> {
        let sudoers = Sudoers::read(&WrittenFiles(files), "skerry.gullhaven.example".into());
        let groups = || vec![(Gid(1004), &b"maren"[..]), (Gid(27), b"sudo")];
        let asker = Asker { name: b"maren", uid: Some(Uid(1004)), groups: &groups };
        let told = |grant: Grant| {
            let gives = match grant.gives {
                Gives::Everything { but } => format!("everything but {}", but.len()),
                Gives::Commands(some) => bstr::join(" and ", some).as_bstr().to_string(),
                Gives::Unknown(why) => format!("unknown: {why}"),
            };
            format!("{} {} {gives}, {}", grant.place.line, grant.by, grant.asks)
        };
        let mut told: Vec<String> =
            sudoers.grants(&asker, "20261128120000".into()).into_iter().map(told).collect();
        told.extend(sudoers.faulty.iter().map(|(place, _)| format!("{place} is faulty")));
        told.extend(sudoers.unread);
        told
    }

    fn one(text: &'static str) -> Vec<String> {
        given(vec![("etc/sudoers", text)])
    }

    #[test]
    fn lines_are_read_with_aliases_tags_and_settings() {
        assert_eq!(one("%sudo\tALL=(ALL:ALL) ALL\n"), ["1 %sudo everything but 0, own"]);
        let text = "# crew\nUser_Alias CREW = maren, tavish : QUAY = odalys\n\
                    Cmnd_Alias TIDES = /usr/bin/tides up, \\\n  /usr/bin/tides down\n\
                    CREW skerry = NOPASSWD: TIDES, !/usr/bin/tides down # for now\n\
                    QUAY ALL = ALL\n#1004 ALL = (root) PASSWD: /bin/ls \\, /x\n";
        assert_eq!(one(text), ["5 maren /usr/bin/tides up, none", r"7 #1004 /bin/ls \, /x, own"]);
        assert_eq!(
            one("Defaults targetpw\nALL ALL=(ALL) ALL\n"),
            ["2 ALL everything but 0, root's"]
        );
        let text = "Defaults !authenticate, env_keep += \"A B\"\nDefaults:maren authenticate\n\
                    Defaults!/bin/ls noexec\nmaren ALL = ALL, !/bin/su, !/bin/sh\n";
        assert_eq!(one(text), ["4 maren everything but 2, own"]);
    }

    #[test]
    fn the_last_that_is_said_counts() {
        assert_eq!(one("maren ALL = ALL\nmaren ALL = !ALL\n"), [""; 0]);
        assert_eq!(one("maren ALL = !ALL\n%sudo ALL = ALL\n").len(), 1);
        assert_eq!(one("ALL, !maren ALL = ALL\n"), [""; 0]);
        assert_eq!(one("!maren, ALL ALL = ALL\n").len(), 1);
        assert_eq!(one("maren ALL = !ALL, ALL\n").len(), 1);
        assert_eq!(one("maren !skerry = ALL\nmaren quay = ALL\nmaren sk*y = ALL\n").len(), 1);
        assert_eq!(one("maren ALL = (nobody) ALL\nmaren ALL = (:adm) ALL\n"), [""; 0]);
        assert_eq!(one("maren ALL = (nobody, #0) ALL\n").len(), 1);
        assert_eq!(one("Defaults runas_default = tide\nmaren ALL = ALL\n"), [""; 0]);
        assert_eq!(one("maren ALL = NOTAFTER=20261128115959Z ALL\n"), [""; 0]);
        assert_eq!(one("maren ALL = NOTAFTER=20270101000000Z NOTBEFORE=2026 ALL\n").len(), 1);
    }

    #[test]
    fn what_can_t_be_judged_and_what_is_faulty_is_told() {
        assert!(one("+crew ALL = ALL\n")[0].contains("unknown: it is about +crew"));
        assert!(one("maren 10.0.0.0/8 = ALL\n")[0].contains("unknown: it is about 10.0.0.0/8"));
        assert_eq!(one("+crew ALL = ALL\nmaren ALL = ALL\n").len(), 2);
        for text in [
            "maren ALL ALL\n",
            "maren\n",
            "maren ALL = (root ALL\n",
            "a b = c d e f =\n",
            "User_Alias A\n",
            "Defaults\n",
            "maren ALL = \"/bin/ls\n",
            "= = =\n",
            "maren ALL=,\n",
        ] {
            assert_eq!(one(text), ["etc/sudoers:1 is faulty"], "{text}");
        }
        let text = "User_Alias A = B\nUser_Alias B = A\nA ALL = ALL\nmaren ALL = ALL\n";
        assert_eq!(one(text).len(), 1);
    }

    #[test]
    fn whoever_is_named_is_told_with_the_line() {
        let text = "User_Alias CREW = tavis, !odile\nmaren,odalys HOST=ALL\nCREW ALL = (perrin) ALL\n\
                    Defaults:corwin !lecture\n%crew, !hesper, #7 ALL = ALL\n";
        let sudoers = Sudoers::read(&WrittenFiles(vec![("etc/sudoers", text)]), "skerry".into());
        let told: Vec<String> = sudoers
            .named()
            .iter()
            .map(|(named, place)| format!("{} {named:?}", place.line))
            .collect();
        assert_eq!(
            told,
            [
                r#"2 User("maren")"#,
                r#"2 User("odalys")"#,
                r#"3 User("tavis")"#,
                r#"5 Group("crew")"#,
                "5 Uid(Uid(7))"
            ]
        );
    }

    #[test]
    fn a_machine_is_called_as_etc_hosts_calls_it_too() {
        let hosts = "127.0.0.1 localhost # not skerry\n127.0.1.1 harbour.example skerry.gullhaven.example\n";
        let files = |sudoers| vec![("etc/sudoers", sudoers), ("etc/hosts", hosts)];
        assert_eq!(given(files("maren harbour.example = ALL\n")).len(), 1);
        assert_eq!(given(files("maren harbour = ALL\nmaren skerry = ALL\n")).len(), 2);
        assert_eq!(given(files("maren localhost = ALL\nmaren example = ALL\n")), [""; 0]);
    }

    #[test]
    fn files_are_included_as_sudo_does() {
        let files = vec![
            ("etc/sudoers", "@includedir sudoers.d\n#include /etc/more\n@include local.%h\n"),
            ("etc/more", "#1004 ALL = /a\n"),
            ("etc/sudoers.d/ferry", "maren ALL = /b\n"),
            ("etc/sudoers.d/old~", "maren ALL = /c\n"),
            ("etc/sudoers.d/old.dpkg", "maren ALL = /d\n"),
            ("etc/local.skerry.gullhaven.example", "maren ALL = /e\n@include local.%h\n"),
        ];
        let told = given(files);
        let commands: Vec<&str> = told.iter().filter_map(|line| line.split(' ').nth(2)).collect();
        assert_eq!(commands[..3], ["/b,", "/a,", "/e,"]);
        assert!(told.last().unwrap().contains("included too deep"), "{told:?}");
    }
}
