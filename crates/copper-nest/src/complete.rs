//! What the shell offers while a command is being typed: the commands and options
//! by themselves, and names from the tree that the command is about.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use clap::{Arg, Command, ValueHint};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use nest_core::check::RULES;
use nest_core::value::UserOrGroup;
use nest_host::state::State;
use nest_host::tree::Tree;
use nest_host::untrusted::{self, LastLink};
use nest_host::{changes, kept};
use rustix::fs::FileType;

use crate::view::columns::{Column, lists};

/// The variable by which a shell asks for completions.
pub const VARIABLE: &str = "COPPER_NEST_COMPLETE";

/// More of an account file than this is not read for it, in bytes.
const ACCOUNTS: u64 = 64_000_000;

/// More than this nobody reads.
const MOST: usize = 500;

/// Answers the shell, if it is the shell that asks; does not return then.
pub fn answer() {
    clap_complete::CompleteEnv::with_factory(command).var(VARIABLE).complete();
}

/// The commands, with what completes each value.
fn command() -> Command {
    with_names(crate::commands(), &[])
}

/// What a value names.
#[derive(Clone, Copy)]
enum Completes {
    Users,
    Groups,
    Rules,
    Changes,
    Retired(UserOrGroup),
    /// The groups that the users of the line are in.
    GroupsOfThose,
    /// The members, or the administrators, of the group of the line.
    InThatGroup(List),
    Suspended,
    Shells,
    /// What becomes of the files of a deleted user.
    Fates,
    /// What is in the tree.
    Paths,
    /// The columns of a list.
    Columns(&'static [Column]),
}

/// A list of a group.
#[derive(Clone, Copy, PartialEq, Eq)]
enum List {
    Members,
    Admins,
}

/// Puts completers on a command and those below it; `path` is how it is called.
fn with_names(command: Command, path: &[String]) -> Command {
    let below: Vec<String> =
        command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    let command = below.into_iter().fold(command, |command, name| {
        let path = [path, std::slice::from_ref(&name)].concat();
        command.mut_subcommand(name, |sub| with_names(sub, &path))
    });
    let path: Vec<&str> = path.iter().map(String::as_str).collect();
    command.mut_args(|arg| match what_it_names(&path, &arg) {
        Some(names) => {
            let complete = move |current: &OsStr| candidates(names, current);
            arg.add(ArgValueCompleter::new(complete))
        }
        None => match hint_of(&arg) {
            Some(hint) => arg.value_hint(hint),
            None => arg,
        },
    })
}

/// The first name of an argument's value: `FILE` of `FILE|-`.
fn value_name(arg: &Arg) -> Option<&str> {
    let name = arg.get_value_names()?.first()?;
    name.split(['|', ',']).next()
}

/// What the shell itself completes: files that are not of the tree.
fn hint_of(arg: &Arg) -> Option<ValueHint> {
    match value_name(arg)? {
        "FILE" => Some(ValueHint::FilePath),
        "DIR" | "TREE" => Some(ValueHint::DirPath),
        _ => None,
    }
}

/// What the value of an argument names, if it is something the tree knows.
fn what_it_names(path: &[&str], arg: &Arg) -> Option<Completes> {
    let folder_of = |thing: &str| match thing {
        "user" | "users" => Some(Completes::Users),
        "group" | "groups" => Some(Completes::Groups),
        "rule" => Some(Completes::Rules),
        "change" => Some(Completes::Changes),
        _ => None,
    };
    match (path, arg.get_id().as_str()) {
        (["list", _] | ["compare"], "columns") => {
            let name = path.join(" ");
            let of_list = lists().into_iter().find(|(list, _)| *list == name);
            of_list.map(|(_, columns)| Completes::Columns(columns))
        }
        (["regroup"], "leave") => Some(Completes::GroupsOfThose),
        (_, "drop_member") => Some(Completes::InThatGroup(List::Members)),
        (_, "drop_group_admin") => Some(Completes::InThatGroup(List::Admins)),
        (["resume", _], "names") => Some(Completes::Suspended),
        (_, "shell") => Some(Completes::Shells),
        (["delete", _], "files") => Some(Completes::Fates),
        (_, "join" | "leave" | "primary" | "among") | (["list", "users"], "group") => {
            Some(Completes::Groups)
        }
        (["list", "changes"], "about") => Some(Completes::Users),
        (_, "member" | "add_member" | "group_admin" | "add_group_admin" | "of" | "like") => {
            Some(Completes::Users)
        }
        (["check" | "repair"], "only" | "skip") => Some(Completes::Rules),
        _ if value_name(arg) == Some("PATH") => Some(Completes::Paths),
        // New names are nobody's yet.
        (["create", ..], _) => None,
        (["regroup" | "handover"], "names") => Some(Completes::Users),
        (["restore" | "purge", thing], "name" | "names") => {
            Some(Completes::Retired(if *thing == "group" {
                UserOrGroup::Group
            } else {
                UserOrGroup::User
            }))
        }
        (["undo"], "number") => Some(Completes::Changes),
        (["reassign", "group"], "from" | "to") => Some(Completes::Groups),
        (["reassign", _], "from" | "to") => Some(Completes::Users),
        (["rename", thing], "old") => folder_of(thing),
        ([_, thing], "name" | "names" | "number" | "rule") => folder_of(thing),
        _ => None,
    }
}

fn candidates(names: Completes, current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(place) = Place::of_the_line() else { return Vec::new() };
    let all: Vec<(Vec<u8>, String)> = match names {
        Completes::Users => place.fields("etc/passwd", 4),
        Completes::Groups => place.fields("etc/group", usize::MAX),
        Completes::Rules => RULES
            .iter()
            .map(|rule| (rule.name.as_bytes().to_vec(), rule.finds.to_owned()))
            .collect(),
        Completes::Changes => place.changes(),
        Completes::Retired(thing) => place.retired(thing),
        Completes::GroupsOfThose => place.groups_of_those(),
        Completes::InThatGroup(list) => place.in_that_group(list),
        Completes::Suspended => place.suspended(),
        Completes::Shells => place.shells(),
        Completes::Fates => place.fates(current),
        Completes::Paths => return place.paths(current),
        Completes::Columns(columns) => columns
            .iter()
            .map(|column| (column.name.as_bytes().to_vec(), column.meaning.to_owned()))
            .collect(),
    };
    let fitting = all.into_iter().filter(|(name, _)| name.starts_with(current.as_bytes()));
    let candidate = |(name, help): (Vec<u8>, String)| {
        let candidate = CompletionCandidate::new(OsString::from_vec(name));
        candidate.help((!help.is_empty()).then(|| help.into()))
    };
    fitting.take(MOST).map(candidate).collect()
}

/// A path as it is typed: with quotes, with what they protect, with a `~` for the home.
fn as_the_shell_reads(word: &[u8]) -> PathBuf {
    let (mut path, mut quote, mut at) = (Vec::new(), None, 0);
    while let Some(&byte) = word.get(at) {
        at += 1;
        match (byte, quote) {
            (b'\'' | b'"', None) => quote = Some(byte),
            (byte, Some(open)) if byte == open => quote = None,
            (b'\\', None | Some(b'"')) => {
                path.extend(word.get(at));
                at += 1;
            }
            _ => path.push(byte),
        }
    }
    let home = || std::env::var_os("HOME").map(OsString::into_vec);
    let rest = word.strip_prefix(b"~").filter(|rest| rest.is_empty() || rest.starts_with(b"/"));
    if let (Some(_), Some(home)) = (rest, home()) {
        path.splice(..1, home);
    }
    PathBuf::from(OsString::from_vec(path))
}

/// The tree and the state that the line being typed is about.
struct Place {
    tree: Tree,
    state: State,
    /// The words that were typed so far.
    words: Vec<OsString>,
}

impl Place {
    fn of_the_line() -> Option<Self> {
        let words: Vec<OsString> = std::env::args_os().collect();
        let option = |name: &str| -> Option<PathBuf> {
            let with_value = format!("{name}=");
            let at = words.iter().position(|word| {
                word == name || word.as_bytes().starts_with(with_value.as_bytes())
            })?;
            match words[at].as_bytes().strip_prefix(with_value.as_bytes()) {
                Some(value) => Some(as_the_shell_reads(value)),
                None => words.get(at + 1).map(|word| as_the_shell_reads(word.as_bytes())),
            }
        };
        let tree = Tree::open(&option("--tree").unwrap_or_else(|| "/".into())).ok()?;
        let state = match option("--state") {
            None => State::InTree,
            Some(path) if path == Path::new("none") => State::Nowhere,
            Some(path) => State::At(path),
        };
        Some(Place { tree, state, words })
    }

    /// Whether a name is one of the words that were typed, or of a list among them.
    fn is_typed(&self, name: &[u8]) -> bool {
        let mut all =
            self.words.iter().flat_map(|word| word.as_bytes().split(|byte| *byte == b','));
        all.any(|word| word == name)
    }

    /// The lines of an account file as their fields. Who may not read it gets none.
    fn lines(&self, file: &str) -> Vec<Vec<Vec<u8>>> {
        let text =
            untrusted::read(&self.tree, file, LastLink::Followed, ACCOUNTS).unwrap_or_default();
        let lines = text.split(|byte| *byte == b'\n');
        let named = lines.filter(|line| !line.is_empty() && !matches!(line[0], b'#' | b'+' | b'-'));
        named.map(|line| line.split(|byte| *byte == b':').map(<[u8]>::to_vec).collect()).collect()
    }

    fn groups_of_those(&self) -> Vec<(Vec<u8>, String)> {
        let users = self.lines("etc/passwd");
        let users = users.into_iter().filter(|user| self.is_typed(&user[0]));
        let (names, gids): (Vec<_>, Vec<_>) =
            users.map(|user| (user[0].clone(), user.get(3).cloned())).unzip();
        let in_it = |group: &Vec<Vec<u8>>| {
            let members = group.get(3).map(Vec::as_slice).unwrap_or_default();
            members
                .split(|byte| *byte == b',')
                .any(|member| names.iter().any(|name| name == member))
                || gids.iter().flatten().any(|gid| group.get(2) == Some(gid))
        };
        let groups = self.lines("etc/group").into_iter().filter(in_it);
        groups.map(|group| (group[0].clone(), String::new())).collect()
    }

    fn in_that_group(&self, list: List) -> Vec<(Vec<u8>, String)> {
        let (file, at) = match list {
            List::Members => ("etc/group", 3),
            List::Admins => ("etc/gshadow", 2),
        };
        let group = self.lines(file).into_iter().find(|group| self.is_typed(&group[0]));
        let names = group.and_then(|group| group.get(at).cloned()).unwrap_or_default();
        let names = names.split(|byte| *byte == b',').filter(|name| !name.is_empty());
        names.map(|name| (name.to_vec(), String::new())).collect()
    }

    /// Who is suspended: by the shadow lines, and all users where these can't be read.
    fn suspended(&self) -> Vec<(Vec<u8>, String)> {
        let shadow = self.lines("etc/shadow");
        if shadow.is_empty() {
            return self.fields("etc/passwd", 4);
        }
        let is_out = |line: &Vec<Vec<u8>>| {
            let closed = line.get(1).is_some_and(|field| matches!(field[..], [b'!' | b'*', ..]));
            closed && line.get(7).is_some_and(|expires| expires == b"1")
        };
        let out: Vec<_> = shadow.into_iter().filter(is_out).map(|line| line[0].clone()).collect();
        let users = self.fields("etc/passwd", 4).into_iter();
        users.filter(|(name, _)| out.contains(name)).collect()
    }

    fn shells(&self) -> Vec<(Vec<u8>, String)> {
        let text = untrusted::read_configuration(&self.tree, "etc/shells").unwrap_or_default();
        let lines = text.split(|byte| *byte == b'\n').filter(|line| line.starts_with(b"/"));
        lines.map(|line| (line.trim_ascii().to_vec(), String::new())).collect()
    }

    fn fates(&self, current: &OsStr) -> Vec<(Vec<u8>, String)> {
        const GIVE: &[u8] = b"give:";
        if current.as_bytes().starts_with(GIVE) {
            let users = self.fields("etc/passwd", 4).into_iter();
            return users.map(|(name, help)| ([GIVE, &name].concat(), help)).collect();
        }
        let all = [
            ("set-aside", "moved behind a directory of root's"),
            ("keep", "left where they are"),
            ("archive", "packed into the state folder"),
            ("erase", "gone for good"),
            ("give:", "moved below another user's home"),
        ];
        all.map(|(word, help)| (word.as_bytes().to_vec(), help.to_owned())).to_vec()
    }

    /// What stands in the directory of the tree that a path leads to so far.
    fn paths(&self, current: &OsStr) -> Vec<CompletionCandidate> {
        let typed = current.as_bytes();
        let Some(slash) = typed.iter().rposition(|byte| *byte == b'/') else { return Vec::new() };
        let (directory, start) = typed.split_at(slash + 1);
        let entries = self.tree.entries(OsStr::from_bytes(directory)).unwrap_or_default();
        let entries = entries.into_iter().map(|(name, kind)| (name, kind == FileType::Directory));
        let fitting = entries.filter(|(name, _)| {
            name.starts_with(start) && (!name.starts_with(b".") || start.starts_with(b"."))
        });
        let mut all: Vec<Vec<u8>> = fitting
            .map(|(name, is_directory)| {
                let end: &[u8] = if is_directory { b"/" } else { b"" };
                [directory, &name, end].concat()
            })
            .collect();
        all.sort();
        let all = all.into_iter().take(MOST);
        all.map(|path| CompletionCandidate::new(OsString::from_vec(path))).collect()
    }

    /// The first field of each line, and one that explains it.
    fn fields(&self, file: &str, help: usize) -> Vec<(Vec<u8>, String)> {
        let explained = |line: Vec<Vec<u8>>| {
            let field = line.get(help).map(Vec::as_slice).unwrap_or_default();
            let first = field.split(|byte| *byte == b',').next().unwrap_or_default();
            let shown = crate::view::visible(first);
            (line.into_iter().next().unwrap_or_default(), shown)
        };
        self.lines(file).into_iter().map(explained).collect()
    }

    fn changes(&self) -> Vec<(Vec<u8>, String)> {
        let Ok(Some(folder)) = self.state.open(&self.tree) else { return Vec::new() };
        let records = changes::read_records(&folder).unwrap_or_default().all;
        let record = |record: &nest_core::record::ChangeRecord| {
            (record.number.to_string().into_bytes(), record.told.summary.clone())
        };
        records.iter().rev().map(record).collect()
    }

    fn retired(&self, thing: UserOrGroup) -> Vec<(Vec<u8>, String)> {
        let kept = kept::read(&self.tree, &self.state).unwrap_or_default().accounts;
        let folder_of = kept.into_iter().filter(|one| one.kept.thing == thing);
        folder_of.map(|one| (one.kept.name.to_vec(), format!("was {}", one.kept.id))).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_name_of_something_there_completes() {
        fn look(command: &Command, path: &[String], open: &mut Vec<String>) {
            for arg in command.get_arguments() {
                let named = arg.get_value_names().is_some_and(|names| {
                    names.iter().any(|name| {
                        matches!(
                            name.as_str(),
                            "NAME" | "G,…" | "U,…" | "GROUP" | "RULE,…" | "OLD" | "N"
                        )
                    })
                });
                if named && arg.get::<ArgValueCompleter>().is_none() {
                    open.push(format!("{} {}", path.join(" "), arg.get_id()));
                }
            }
            for sub in command.get_subcommands() {
                look(sub, &[path, &[sub.get_name().to_owned()]].concat(), open);
            }
        }
        let mut open = Vec::new();
        look(&command(), &[], &mut open);
        // Names and numbers that are yet to be given.
        let new = [" uid", " gid", " as_name"];
        open.retain(|arg| !arg.starts_with("create ") && !new.iter().any(|end| arg.ends_with(end)));
        assert_eq!(open, Vec::<String>::new());
    }
}
