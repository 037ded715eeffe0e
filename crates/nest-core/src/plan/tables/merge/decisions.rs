//! What is decided about accounts of another tree, as a file that people edit: TOML 1.0.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use bstr::{BStr, BString};
use serde::Deserialize;

use crate::book::Book;
use crate::drift::digest;
use crate::table::File;
use crate::value::{IdSpan, UserOrGroup};

/// What becomes of an account or a group of another tree.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, strum::Display)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Action {
    /// A new one is made.
    #[default]
    Create,
    /// It is one that is here, which stays as it is.
    Same,
    /// It is left where it is.
    Skip,
}

/// What is decided about one.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Decided {
    /// What becomes of it.
    pub action: Action,
    /// What it is called here, where that is not what it is called there.
    pub name: Option<BString>,
    /// The number that it gets here, where that is not the one that it has there.
    pub id: Option<u32>,
    /// The subordinate ranges that it gets in place of those that it has there.
    pub ranges: Option<Vec<IdSpan>>,
    /// The path of its home here.
    pub home: Option<BString>,
    /// Whether it is to be administrator here, as it is there.
    pub admin: bool,
}

impl Decided {
    /// What it is called here.
    pub fn name_of<'n>(&'n self, there: &'n BStr) -> &'n BStr {
        self.name.as_ref().map_or(there, |name| BStr::new(name))
    }
}

/// Something that has to be decided, with a proposal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    /// A user or a group.
    pub thing: UserOrGroup,
    /// What it is called there.
    pub name: BString,
    /// Where its line begins there.
    pub offset: usize,
    /// What is in the way, each with the part of the proposal that is about it.
    pub problems: Vec<(String, String)>,
    /// What is proposed.
    pub proposal: Decided,
}

/// All that is decided, by what it is called there.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Decisions {
    /// What the files of both trees were like when it was written.
    pub state: String,
    /// About users.
    pub users: BTreeMap<BString, Decided>,
    /// About groups.
    pub groups: BTreeMap<BString, Decided>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct DecisionFile {
    state: String,
    #[serde(default)]
    user: Vec<Entry>,
    #[serde(default)]
    group: Vec<Entry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    name: String,
    #[serde(default)]
    action: Action,
    #[serde(rename = "as")]
    called: Option<String>,
    uid: Option<u32>,
    gid: Option<u32>,
    ranges: Option<Vec<String>>,
    home: Option<String>,
    #[serde(default)]
    admin: bool,
}

impl Entry {
    fn decided(self, thing: UserOrGroup) -> Result<(BString, Decided), String> {
        let of = format!("{thing} {}", self.name);
        let (id, other, key) = match thing {
            UserOrGroup::User => (self.uid, self.gid, "gid"),
            UserOrGroup::Group => (self.gid, self.uid, "uid"),
        };
        if other.is_some() {
            return Err(format!("{of}: there is no {key} of a {thing}"));
        }
        let of_users = self.ranges.is_some() || self.home.is_some() || self.admin;
        if thing == UserOrGroup::Group && of_users {
            return Err(format!("{of}: ranges, home and admin are about users"));
        }
        if self.action == Action::Same && (id.is_some() || self.ranges.is_some()) {
            return Err(format!("{of}: one that is here already keeps its numbers"));
        }
        let span = |text: String| {
            let no_span = |_| format!("{of}: {text:?} is no span of ids, 200000-265535 say");
            IdSpan::parse(&text).map_err(no_span)
        };
        let ranges = self
            .ranges
            .map(|all| all.into_iter().map(span).collect::<Result<Vec<_>, _>>())
            .transpose()?;
        let decided = Decided {
            action: self.action,
            name: self.called.map(BString::from),
            id,
            ranges,
            home: self.home.map(BString::from),
            admin: self.admin,
        };
        Ok((self.name.into(), decided))
    }
}

impl Decisions {
    /// Reads a file of decisions.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn read(text: &str) -> Result<Self, String> {
        let file: DecisionFile =
            toml::from_str(text).map_err(|error| error.to_string().trim_end().to_owned())?;
        let all = |entries: Vec<Entry>, thing| {
            let mut found = BTreeMap::new();
            for entry in entries {
                let (name, decided) = entry.decided(thing)?;
                if found.insert(name.clone(), decided).is_some() {
                    return Err(format!("{thing} {name} is there twice"));
                }
            }
            Ok(found)
        };
        Ok(Decisions {
            state: file.state,
            users: all(file.user, UserOrGroup::User)?,
            groups: all(file.group, UserOrGroup::Group)?,
        })
    }

    /// What is decided about one.
    pub fn of(&self, thing: UserOrGroup, name: &BStr) -> Option<&Decided> {
        match thing {
            UserOrGroup::User => self.users.get(name),
            UserOrGroup::Group => self.groups.get(name),
        }
    }

    /// The decisions that are proposed.
    pub fn proposed(state: String, conflicts: &[Conflict]) -> Self {
        let of = |thing| {
            let all = conflicts.iter().filter(move |conflict| conflict.thing == thing);
            all.map(|one| (one.name.clone(), one.proposal.clone())).collect()
        };
        Decisions { state, users: of(UserOrGroup::User), groups: of(UserOrGroup::Group) }
    }
}

/// What the account files of two trees are like.
pub fn state_of(here: &Book, there: &Book) -> String {
    let mut all = String::new();
    for book in [here, there] {
        for file in File::ALL {
            let text = book.lines(file).map(|lines| digest(lines.text()));
            _ = writeln!(all, "{}", text.unwrap_or_default());
        }
    }
    digest(all.as_bytes())
}

/// Writes conflicts with their proposals, to be edited.
pub fn written_decisions(tree: &str, state: &str, conflicts: &[Conflict]) -> String {
    let mut text = format!(
        "# What becomes of the accounts of {tree} that can't be taken as they are. Each has a proposal:\n\
         # change it, or leave it, and have it taken with\n\
         #   copper-nest merge {tree} --decisions FILE\n\
         #\n\
         # action  create: a new account, called as \"as\" says\n\
         #         same:   the account here that \"as\" says, which stays as it is and joins the groups\n\
         #         skip:   it is left where it is\n\
         # uid, gid, ranges and home are what a new one gets in place of what it has there;\n\
         # admin = true makes it administrator here, as it is there.\n\
         # Others can be added, by what they are called there.\n\n\
         state = \"{state}\"\n"
    );
    for conflict in conflicts {
        let Conflict { thing, name, problems, proposal, .. } = conflict;
        text.push('\n');
        for (problem, _) in problems {
            _ = writeln!(text, "# {}", problem.replace(['\n', '\r'], " "));
        }
        _ = writeln!(text, "[[{thing}]]\nname = {}", quoted(name));
        _ = writeln!(text, "action = \"{}\"", proposal.action);
        for line in proposal_lines(*thing, proposal) {
            _ = writeln!(text, "{line}");
        }
        if *thing == UserOrGroup::User && problems.iter().any(|(_, part)| part.starts_with("admin"))
        {
            _ = writeln!(text, "admin = {}", proposal.admin);
        }
    }
    text
}

/// The lines of a proposal that say what is other than there.
fn proposal_lines(thing: UserOrGroup, decided: &Decided) -> Vec<String> {
    let mut lines = Vec::new();
    if let Some(name) = &decided.name {
        lines.push(format!("as = {}", quoted(name)));
    }
    if let Some(id) = decided.id {
        let key = if thing == UserOrGroup::User { "uid" } else { "gid" };
        lines.push(format!("{key} = {id}"));
    }
    if let Some(ranges) = &decided.ranges {
        lines.push(format!("ranges = {}", quoted_spans(ranges)));
    }
    if let Some(home) = &decided.home {
        lines.push(format!("home = {}", quoted(home)));
    }
    lines
}

/// Spans as a list of TOML.
pub(super) fn quoted_spans(spans: &[IdSpan]) -> String {
    let all: Vec<String> =
        spans.iter().map(|span| format!("\"{}-{}\"", span.first(), span.last())).collect();
    format!("[{}]", all.join(", "))
}

/// A text as TOML has it.
pub(super) fn quoted(text: &[u8]) -> String {
    toml::Value::from(String::from_utf8_lossy(text).into_owned()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_as_it_was() {
        let proposal = Decided {
            name: Some("maren2".into()),
            id: Some(1017),
            ranges: Some(vec![IdSpan::parse("200000-265535").unwrap()]),
            home: Some("/home/maren \"2\"".into()),
            ..Decided::default()
        };
        let problems = vec![("maren is somebody else here\nand there".to_owned(), "as".to_owned())];
        let user = Conflict {
            thing: UserOrGroup::User,
            name: "maren".into(),
            offset: 0,
            problems,
            proposal,
        };
        let same = Decided { action: Action::Same, ..Decided::default() };
        let group = Conflict {
            thing: UserOrGroup::Group,
            name: "crew".into(),
            offset: 0,
            problems: Vec::new(),
            proposal: same,
        };
        let all = [user, group];
        let text = written_decisions("/srv/old", "abc", &all);
        assert_eq!(Decisions::read(&text), Ok(Decisions::proposed("abc".into(), &all)), "{text}");
    }

    #[test]
    fn what_is_wrong_is_told() {
        for (text, says) in [
            ("", "missing field `state`"),
            ("state = \"a\"\n[[user]]\nname = \"x\"\nacton = \"skip\"\n", "acton"),
            ("state = \"a\"\n[[user]]\nname = \"x\"\naction = \"leave\"\n", "create"),
            ("state = \"a\"\n[[user]]\nname = \"x\"\ngid = 7\n", "there is no gid of a user"),
            ("state = \"a\"\n[[group]]\nname = \"x\"\nadmin = true\n", "are about users"),
            ("state = \"a\"\n[[user]]\nname = \"x\"\nranges = [\"7-\"]\n", "is no span of ids"),
            (
                "state = \"a\"\n[[user]]\nname = \"x\"\naction = \"same\"\nuid = 7\n",
                "keeps its numbers",
            ),
            ("state = \"a\"\n[[user]]\nname = \"x\"\n[[user]]\nname = \"x\"\n", "is there twice"),
        ] {
            let wrong = Decisions::read(text).unwrap_err();
            assert!(wrong.contains(says), "{wrong}, not {says}");
        }
    }
}
