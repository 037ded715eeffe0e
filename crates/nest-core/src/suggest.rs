//! Settings that a tree suggests by what it has: its people, their homes and shells, its groups,
//! and the places and programs that are there or not. Nothing is taken from the settings of other
//! programs that administer accounts.

use std::collections::BTreeMap;

use bstr::{BStr, BString, ByteSlice};

use crate::account::{means_no_home, turns_away};
use crate::change::{NewFile, Plan, Step};
use crate::configuration::Release;
use crate::context::PlanContext;
use crate::drafting::system_fault;
use crate::ownership::Owner;
use crate::policy::{KEYS, Policy, PolicyKey, SettingSource};
use crate::sudo::{Asker, Sudoers};
use crate::surroundings::Program;
use crate::table::{File, Passwd};
use crate::value::{FileKind, Gid, NameStyle, TreePath, Uid, check_name, escape, parent_of};
use crate::words::counted;

/// A setting that would suit a tree better than the built-in one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suggestion {
    /// Which setting.
    pub key: &'static str,
    /// The value, as a policy has it.
    pub value: String,
    /// Why, in words.
    pub why: String,
}

impl Suggestion {
    /// The setting.
    pub fn key(&self) -> &'static PolicyKey {
        let key = KEYS.iter().find(|key| key.name == self.key);
        key.unwrap_or_else(|| panic!("BUG: there is no setting {}", self.key))
    }
}

/// What suits a tree.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Suggested {
    /// What the system calls itself, os-release(5); empty where it does not say.
    pub system: String,
    /// How many people were looked at.
    pub people: usize,
    /// What is suggested, in the order of the settings.
    pub suggestions: Vec<Suggestion>,
    /// Settings of which the policy of the tree says something already.
    pub settled: usize,
}

/// Where a policy is, and what it is called there.
const FOLDER: &str = "/etc/copper-nest";
const FILE: &str = "policy.toml";

/// So many people have to be alike before their ways are taken for those of the tree.
const ENOUGH: usize = 2;

/// Looks at a tree for what suits it.
pub fn suggest(context: PlanContext<'_>) -> Suggested {
    let release = Release::read(context.world.configuration());
    let people = people(context);
    let mut found = Found { context, people: &people, all: Vec::new() };
    found.numbers();
    found.homes();
    found.skeleton();
    found.shells();
    found.groups(&release);
    found.names();
    found.passwords();
    found.administrators();
    found.mail();
    let mut suggested =
        Suggested { system: release.name, people: people.len(), ..Suggested::default() };
    let built_in = Policy::default();
    for key in KEYS {
        let Some(at) = found.all.iter().position(|suggestion| suggestion.key == key.name) else {
            continue;
        };
        let suggestion = found.all.swap_remove(at);
        if suggestion.value == (key.get)(&built_in) {
            continue;
        }
        match context.policy.source(key.name) {
            SettingSource::File { .. } => suggested.settled += 1,
            SettingSource::BuiltIn => suggested.suggestions.push(suggestion),
        }
    }
    // Not even what is suggested may contradict itself.
    debug_assert!(Policy::read(FILE, &suggested.file()).is_ok(), "{}", suggested.file());
    suggested
}

impl Suggested {
    /// A policy that says so, each setting with its reason.
    pub fn file(&self) -> String {
        let mut text = String::new();
        let mut section = "";
        for suggestion in &self.suggestions {
            let key = suggestion.key();
            if key.section() != section {
                section = key.section();
                let gap = if text.is_empty() { "" } else { "\n" };
                text += &format!("{gap}[{section}]\n");
            }
            text += &format!(
                "# {}\n{} = {}\n",
                escape(suggestion.why.as_bytes()),
                key.last(),
                suggestion.value
            );
        }
        text
    }

    /// Plans the writing of that policy; where the tree has none.
    pub fn plan(&self, context: PlanContext<'_>) -> Plan {
        let file =
            |path: &str| NewFile { path: path.into(), contents: self.file().into(), mode: 0o644 };
        let root = Owner { uid: Uid::ROOT, gid: Gid::ROOT };
        let path = |path: &str| TreePath::judged(path.as_bytes());
        let step = match context.world.facts(FOLDER.into()) {
            Ok(Some(_)) => Step::MakeFile { below: path(FOLDER), file: file(FILE), owner: root },
            _ => Step::MakeDirectory {
                path: path(FOLDER),
                skeleton: None,
                files: vec![file(FILE)],
                owner: root,
                mode: 0o755,
            },
        };
        Plan {
            summary: "write the policy that is suggested".to_owned(),
            steps: vec![step],
            next: vec!["show policy".to_owned()],
            nothing: self.suggestions.is_empty(),
            ..Plan::default()
        }
    }
}

/// The accounts that people seem to have: with a login shell, and a home that is none of the
/// system's, beside those of others or among those of people.
fn people(context: PlanContext<'_>) -> Vec<Passwd<'_>> {
    let may = |user: &Passwd<'_>| {
        let uid = user.uid().map_or(0, |uid| uid.0);
        (100..60_000).contains(&uid)
            && !turns_away(user.effective_shell())
            && user.home.starts_with(b"/")
            && !means_no_home(user.home)
            && system_fault(user.home).is_none()
            && !matches!(parent_of(user.home), b"/" | b"")
    };
    let candidates: Vec<Passwd<'_>> =
        context.book.users.records().map(|(_, user)| user).filter(may).collect();
    let of_people = |user: &&Passwd<'_>| user.uid().is_some_and(|uid| uid.0 >= 1_000);
    let mut places: Vec<&[u8]> =
        candidates.iter().filter(of_people).map(|user| parent_of(user.home)).collect();
    places.push(b"/home");
    let lives_there = |user: &Passwd<'_>| places.contains(&parent_of(user.home));
    candidates.into_iter().filter(lives_there).collect()
}

/// What most of some have, where more than half of them do and they are enough: with how many.
fn most<T: Ord + Clone>(of: impl Iterator<Item = T>) -> Option<(T, usize, usize)> {
    let (mut counts, mut all) = (BTreeMap::<T, usize>::new(), 0);
    for one in of {
        *counts.entry(one).or_default() += 1;
        all += 1;
    }
    let (one, count) = counts.into_iter().max_by_key(|(_, count)| *count)?;
    (count >= ENOUGH && 2 * count > all).then_some((one, count, all))
}

/// How many of them, in words.
fn share(count: usize, all: usize) -> String {
    match count == all {
        true => format!("all {} have it", counted(all, "person", "people")),
        false => format!("{count} of {} have it", counted(all, "person", "people")),
    }
}

fn text(value: &str) -> String {
    toml::Value::from(value).to_string()
}

struct Found<'c, 'a> {
    context: PlanContext<'a>,
    people: &'c [Passwd<'a>],
    all: Vec<Suggestion>,
}

impl Found<'_, '_> {
    fn add(&mut self, key: &'static str, value: String, why: impl Into<String>) {
        self.all.push(Suggestion { key, value, why: why.into() });
    }

    fn is_there(&self, path: &str) -> bool {
        matches!(self.context.world.facts(path.into()), Ok(Some(_)))
    }

    /// People below the built-in span have a span of their own.
    fn numbers(&mut self) {
        let uids = self.people.iter().filter_map(|user| user.uid());
        let low: Vec<u32> = uids.map(|uid| uid.0).filter(|uid| *uid < 1_000).collect();
        let Some(lowest) = low.iter().min().filter(|_| low.len() >= ENOUGH) else { return };
        let first = lowest / 100 * 100;
        let why = format!(
            "{} below 1000, from {lowest} on",
            counted(low.len(), "person has a uid", "people have uids")
        );
        self.add("people.ids", text(&format!("{first}-59999")), why);
        if first > 100 {
            let why = "the numbers of people begin after it";
            self.add("services.ids", text(&format!("100-{}", first - 1)), why);
        }
    }

    fn homes(&mut self) {
        let own =
            |user: &Passwd<'_>| user.home.rsplit(|&byte| byte == b'/').next() == Some(user.name);
        let parents =
            self.people.iter().filter(|user| own(user)).map(|user| parent_of(user.home).to_vec());
        if let Some((parent, count, _)) = most(parents)
            && let Ok(parent) = std::str::from_utf8(&parent)
        {
            let why = share(count, self.people.len());
            self.add("people.home", text(&format!("{parent}/{{name}}")), why);
        }
        let facts = self.people.iter().filter_map(|user| {
            let facts = self.context.world.facts(BStr::new(user.home)).ok()??;
            (facts.kind == FileKind::Directory).then_some(facts.mode)
        });
        let Some((mode, count, all)) = most(facts) else { return };
        // What lets others write is nobody's way.
        if mode & 0o7022 != 0 || mode & 0o700 != 0o700 {
            return;
        }
        let why = format!("{count} of {} have it", counted(all, "home", "homes"));
        self.add("people.home_permissions", text(&format!("{mode:04o}")), why);
    }

    fn skeleton(&mut self) {
        if self.is_there("/etc/skel") {
            return;
        }
        match self.is_there("/usr/etc/skel") {
            true => self.add("people.skeleton", text("/usr/etc/skel"), "there is no /etc/skel"),
            false => self.add("people.skeleton", text("none"), "there is no /etc/skel"),
        }
    }

    fn shells(&mut self) {
        let world = self.context.world;
        let is_fine = |shell: &BStr| world.program(shell) == Program::Fine;
        let used = self.people.iter().map(|user| user.effective_shell().to_vec());
        let used = most(used.filter(|shell| is_fine(shell.as_bstr())));
        let bash = "/bin/bash";
        if let Some((shell, count, _)) = used {
            let why = share(count, self.people.len());
            self.add("people.shell", text(&String::from_utf8_lossy(&shell)), why);
        } else if !is_fine(bash.into()) {
            let listed = world.shells().unwrap_or_default();
            let others = ["/usr/bin/bash", "/bin/ash", "/bin/sh", "/usr/bin/sh"];
            let listed_first =
                others.into_iter().filter(|shell| listed.iter().any(|it| it == shell));
            let mut all = listed_first.chain(others);
            if let Some(shell) = all.find(|shell| is_fine((*shell).into())) {
                self.add("people.shell", text(shell), format!("there is no {bash}"));
            }
        }
        let built_in = "/usr/sbin/nologin";
        if is_fine(built_in.into()) {
            return;
        }
        let others = ["/sbin/nologin", "/usr/bin/nologin", "/bin/false", "/usr/bin/false"];
        if let Some(shell) = others.into_iter().find(|shell| is_fine((*shell).into())) {
            self.add("services.shell", text(shell), format!("there is no {built_in}"));
        }
    }

    fn groups(&mut self, release: &Release) {
        let book = self.context.book;
        let primary = |user: &Passwd<'_>| {
            let (_, group) = book.group_by_gid(user.gid()?)?;
            Some((group.name.to_vec(), group.name == user.name))
        };
        let primaries: Vec<(Vec<u8>, bool)> = self.people.iter().filter_map(primary).collect();
        let shared = primaries.iter().filter(|(_, private)| !private).map(|(name, _)| name.clone());
        let shared = most(shared).filter(|(_, count, _)| 2 * count > primaries.len());
        let users = book.group(b"users").is_some();
        if let Some((group, count, _)) = shared {
            let why = format!(
                "the primary group of {count} of {} is {}",
                counted(primaries.len(), "person", "people"),
                group.as_bstr()
            );
            self.add("people.private_group", "false".to_owned(), why.clone());
            self.add("people.primary", text(&String::from_utf8_lossy(&group)), why);
        } else if primaries.is_empty() && release.is_like("suse") && users {
            let why = "systems of this family put people into the group users";
            self.add("people.private_group", "false".to_owned(), why);
        }
        let admins = &self.context.policy.admins_groups;
        let like_root = &self.context.policy.admins_like_root;
        let is_power =
            |name: &[u8]| admins.iter().chain(like_root).any(|known| known.as_bytes() == name);
        let of_all = |name: &[u8], members: usize| {
            members == self.people.len() && members > ENOUGH && !is_power(name)
        };
        let mut common = Vec::new();
        for (_, group) in book.groups.records() {
            let lists = |user: &&Passwd<'_>| group.members().any(|member| member == user.name);
            if of_all(group.name, self.people.iter().filter(lists).count()) {
                common.push(String::from_utf8_lossy(group.name).into_owned());
            }
        }
        if !common.is_empty() {
            let why = format!("all {} are in", counted(self.people.len(), "person", "people"));
            let value = toml::Value::from(common).to_string();
            self.add("people.groups", value, why);
        }
        let sizes = self.people.iter().filter_map(|user| {
            let ranges = book.ranges_of(File::Subuid, user.name, user.uid());
            let [(_, range)] = &ranges[..] else { return None };
            Some(range.span()?.count())
        });
        if let Some((size, count, _)) = most(sizes) {
            let why = share(count, self.people.len());
            self.add("people.ranges", size.to_string(), why);
        }
    }

    fn names(&mut self) {
        let fits = |style: NameStyle| {
            move |user: &&Passwd<'_>| check_name(style, user.name.as_bstr()).is_err()
        };
        let strict = self.people.iter().filter(fits(NameStyle::Strict)).count();
        let dotted = self.people.iter().filter(fits(NameStyle::Dotted)).count();
        let has = |count: usize| counted(count, "name is", "names are");
        if dotted >= ENOUGH {
            self.add("names.style", text("loose"), format!("{} of other characters", has(dotted)));
        } else if strict >= ENOUGH {
            let why = format!("{} with dots or capitals", has(strict));
            self.add("names.style", text("dotted"), why);
        }
    }

    /// How long passwords of people may stay, and how often they may change.
    fn passwords(&mut self) {
        let shadows: Vec<_> = self
            .people
            .iter()
            .filter_map(|user| Some(self.context.book.shadow(user.name)?.1))
            .collect();
        let days = |field: &[u8]| std::str::from_utf8(field).ok()?.parse::<u32>().ok();
        for (key, wanted, at_most) in [
            ("passwords.renew_days", 0, 9_999),
            ("passwords.hold_days", 1, 365),
            ("passwords.remind_days", 2, 365),
        ] {
            let values = shadows
                .iter()
                .filter_map(|shadow| days([shadow.renew, shadow.hold, shadow.remind][wanted]));
            let Some((value, count, _)) = most(values) else { continue };
            if 2 * count > self.people.len()
                && value <= at_most
                && (key != "passwords.renew_days" || value > 0)
            {
                self.add(key, value.to_string(), share(count, self.people.len()));
            }
        }
    }

    /// The groups that sudoers gives everything, those of the policy first.
    fn administrators(&mut self) {
        let sudoers = Sudoers::read(self.context.world.configuration(), self.context.world.host());
        let now = BString::default();
        let gives = |group: &[u8], gid: Option<Gid>| {
            let groups = || gid.map(|gid| (gid, group)).into_iter().collect();
            // Somebody who has nothing but the group, or not even that.
            let asker = Asker { name: b"\x01", uid: None, groups: &groups };
            sudoers.gives_everything(&asker, now.as_bstr()) == Some(true)
        };
        if gives(b"", None) {
            return;
        }
        let built_in = Policy::default().admins_groups;
        let is_power = |name: &[u8]| self.context.policy.is_like_root(name);
        let groups = self.context.book.groups.records().map(|(_, group)| group);
        let giving: Vec<String> = groups
            .filter(|group| !is_power(group.name) && gives(group.name, group.gid()))
            .filter_map(|group| String::from_utf8(group.name.to_vec()).ok())
            .collect();
        let exist = |name: &String| self.context.book.group(name.as_bytes()).is_some();
        let joined = built_in.iter().find(|name| exist(name));
        // Whoever becomes administrator joins the first one: it has to make one.
        if giving.is_empty() || joined.is_some_and(|joined| giving == [joined.as_str()]) {
            return;
        }
        let mut groups: Vec<String> =
            built_in.iter().filter(|name| giving.contains(name)).cloned().collect();
        groups.extend(giving.iter().filter(|name| !built_in.contains(name)).cloned());
        groups.extend(built_in.iter().filter(|name| !giving.contains(name)).cloned());
        let why = format!("sudoers gives everything to {}", crate::words::list(&giving));
        self.add("admins.groups", toml::Value::from(groups).to_string(), why);
    }

    fn mail(&mut self) {
        let folder = ["/var/mail", "/var/spool/mail"].into_iter().find(|path| self.is_there(path));
        let Some(folder) = folder else { return };
        self.add("mail.spool", text(&format!("{folder}/{{name}}")), "there is no /var/mail");
        let spools = self.people.iter().filter(|user| {
            let path = [folder.as_bytes(), b"/", user.name].concat();
            matches!(self.context.world.facts(path.as_bstr()), Ok(Some(_)))
        });
        let count = spools.count();
        if count >= ENOUGH && 2 * count > self.people.len() {
            self.add("mail.create", "true".to_owned(), share(count, self.people.len()));
        }
    }
}

#[cfg(test)]
mod tests;
