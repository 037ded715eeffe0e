//! The manual pages in `packaging/man`, made from the commands and from the settings, and the
//! table of which command takes which option. `UPDATE_DOCS=1 cargo test manual` writes them anew.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::PathBuf;
use std::process::{Command as Process, Stdio};

use clap::Command;
use clap_mangen::Man;
use nest_core::policy::{KEYS, Policy};
use roff::{Roff, bold, italic, roman};

use crate::docs::assert_current;
use crate::harness::{folder, has_program, passed_over};

const SOURCE: &str = concat!("Copper Nest ", env!("CARGO_PKG_VERSION"));
const MANUAL: &str = "Local accounts";

const STATUS: [(&str, &str); 8] = [
    ("0", "Done, or nothing found."),
    ("1", "check found something, or something was left out that was asked for."),
    ("2", "The command line is wrong."),
    ("3", "Refused, and nothing was changed."),
    ("4", "Somebody else holds the lock of the account files."),
    ("5", "A line of an account file is too damaged to edit."),
    ("6", "Reading or writing failed, and all is as it was."),
    ("7", "It failed and could not be put back: run copper-nest recover."),
];

const FILES: [(&str, &str); 5] = [
    ("/etc/passwd, shadow, group, gshadow, subuid, subgid", "The account files."),
    ("/etc/copper-nest/policy.toml", "The settings: see copper-nest-policy(5)."),
    ("/var/lib/copper-nest", "Changes, deleted accounts and the journal, for root alone."),
    ("/etc/.pwd.lock", "The lock that the C library's programs take too."),
    ("/etc/shells, /etc/skel", "Login shells, and what a new home begins with."),
];

const ENVIRONMENT: [(&str, &str); 6] = [
    (
        "SOURCE_DATE_EPOCH",
        "The moment at which it is to be, in seconds since 1970: an image that is made twice is the same twice.",
    ),
    ("SUDO_UID", "Who was it before sudo: that name goes into the records."),
    ("TZ", "The time zone in which moments are shown."),
    ("NO_COLOR", "Where it is set, nothing is coloured."),
    ("COLUMNS", "How wide to print, in place of what the terminal says."),
    ("RUST_LOG", "error, warn, info, debug or trace: how much to tell on stderr of what is done."),
];

/// The commands that something can be done with, with their words.
pub fn leaves() -> Vec<(Vec<String>, Command)> {
    fn add(command: &Command, path: &[String], all: &mut Vec<(Vec<String>, Command)>) {
        for below in command.get_subcommands().filter(|below| below.get_name() != "help") {
            let path = [path, &[below.get_name().to_owned()]].concat();
            if !below.is_subcommand_required_set() {
                all.push((path.clone(), below.clone()));
            }
            add(below, &path, all);
        }
    }
    let mut commands = copper_nest::commands().disable_help_subcommand(true);
    commands.build();
    let mut all = Vec::new();
    add(&commands, &[], &mut all);
    all
}

fn page_name(path: &[String]) -> String {
    format!("copper-nest-{}", path.join("-"))
}

/// Terms with what they mean, under a heading.
fn terms<'a>(page: &mut Roff, heading: &str, all: impl IntoIterator<Item = (&'a str, &'a str)>) {
    page.control("SH", [heading]);
    for (term, meaning) in all {
        page.control("TP", []);
        page.text([bold(term)]);
        page.text([roman(meaning)]);
    }
}

/// The examples, as they are typed.
fn examples(page: &mut Roff, command: &Command) {
    let help = command.get_after_help().map(ToString::to_string).unwrap_or_default();
    let Some(examples) = help.strip_prefix("Examples:\n") else {
        panic!("{} has no examples: {help}", command.get_name());
    };
    let examples = examples.split("\n\n").next().unwrap();
    page.control("SH", ["EXAMPLES"]);
    page.control("RS", ["4"]);
    page.control("nf", []);
    for line in examples.lines() {
        page.text([roman(line.trim_start())]);
    }
    page.control("fi", []);
    page.control("RE", []);
}

fn see_also(page: &mut Roff, names: &[(String, u8)]) {
    page.control("SH", ["SEE ALSO"]);
    let mut line = Vec::new();
    for (at, (name, section)) in names.iter().enumerate() {
        let comma = if at + 1 < names.len() { ", " } else { "" };
        line.extend([bold(name.as_str()), roman(format!("({section}){comma}"))]);
    }
    page.text(line);
}

/// What every page of a command ends in.
fn ending(command: &Command, names: &[(String, u8)]) -> String {
    let mut page = Roff::new();
    examples(&mut page, command);
    terms(&mut page, "EXIT STATUS", STATUS);
    terms(&mut page, "FILES", FILES);
    terms(&mut page, "ENVIRONMENT", ENVIRONMENT);
    see_also(&mut page, names);
    body(&page.render()).to_owned()
}

/// The page of one command.
fn page_of(path: &[String], command: &Command, all: &[(Vec<String>, Command)]) -> String {
    let name = page_name(path);
    let usage = command.clone().render_usage().to_string();
    let usage = usage.trim_start_matches("Usage: ").to_owned();
    let command = command.clone().display_name(name.clone()).override_usage(usage);
    let man = Man::new(command.clone())
        .title(name.to_uppercase())
        .section("8")
        .date(" ")
        .source(SOURCE)
        .manual(MANUAL);
    let mut text = Vec::new();
    man.render_title(&mut text).unwrap();
    man.render_name_section(&mut text).unwrap();
    man.render_synopsis_section(&mut text).unwrap();
    man.render_description_section(&mut text).unwrap();
    man.render_options_section(&mut text).unwrap();
    // What does the same to something else, or something else to the same.
    let related = all.iter().map(|(other, _)| other).filter(|other| {
        *other != path && (other[0] == path[0] || path.len() > 1 && other.get(1) == path.get(1))
    });
    let mut names = vec![("copper-nest".to_owned(), 8)];
    names.extend(related.map(|other| (page_name(other), 8)));
    names.push(("copper-nest-policy".to_owned(), 5));
    String::from_utf8(text).unwrap() + &ending(&command, &names)
}

/// A part of a page without what only stands at its beginning.
fn body(part: &str) -> &str {
    part.find(".SH").map_or(part, |at| &part[at..])
}

/// The page of the program.
fn main_page(all: &[(Vec<String>, Command)]) -> String {
    let mut commands = copper_nest::commands().disable_help_subcommand(true);
    commands.build();
    let usage = "copper-nest [OPTIONS] <COMMAND>";
    let commands = commands.override_usage(usage);
    let man = Man::new(commands.clone())
        .title("COPPER-NEST")
        .section("8")
        .date(" ")
        .source(SOURCE)
        .manual(MANUAL);
    let mut text = Vec::new();
    man.render_title(&mut text).unwrap();
    man.render_name_section(&mut text).unwrap();
    man.render_synopsis_section(&mut text).unwrap();
    let mut middle = Roff::new();
    middle.control("SH", ["DESCRIPTION"]);
    for paragraph in [
        "Copper Nest creates, changes, regroups, suspends, deletes and restores users and groups, \
         shows what the account files say about them, and checks those files for faults. It edits \
         the files itself, explains what it did, and takes it back.",
        "Every change ends in a receipt and has a number, by which copper-nest undo takes it back. \
         A change happens wholly or not at all; one that a crash cut off is finished or rolled \
         back by the next command, or at boot.",
        "--dry-run shows what a change would do. --tree is about an image, or a backup, in place \
         of the running system.",
    ] {
        middle.control("PP", []);
        middle.text([roman(paragraph)]);
    }
    middle.control("SH", ["COMMANDS"]);
    for (path, command) in all {
        middle.control("TP", []);
        middle.text([bold(page_name(path)), roman("(8)")]);
        middle.text([roman(command.get_about().unwrap().to_string())]);
    }
    text.extend(body(&middle.render()).bytes());
    man.render_options_section(&mut text).unwrap();
    let others = ["passwd", "shadow", "group", "subuid", "sudoers", "nsswitch.conf"];
    let mut names = vec![("copper-nest-policy".to_owned(), 5)];
    names.extend(others.map(|name| (name.to_owned(), 5)));
    String::from_utf8(text).unwrap() + &ending(&commands, &names)
}

/// The page of the settings.
fn policy_page() -> String {
    let mut page = Roff::new();
    page.control("TH", ["COPPER-NEST-POLICY", "5", " ", SOURCE, MANUAL]);
    page.control("SH", ["NAME"]);
    page.text([roman("copper-nest-policy - the settings of copper-nest")]);
    page.control("SH", ["SYNOPSIS"]);
    page.text([italic("/etc/copper-nest/policy.toml")]);
    page.control("SH", ["DESCRIPTION"]);
    for paragraph in [
        "A file in TOML. What it does not set is as built in. copper-nest show policy shows the \
         settings in force and the line that set each; with --format toml as a file to begin with. \
         copper-nest check --policy-only judges one.",
        "A key that is not known, a value that can't be, and values that can't go together are \
         refused, all at once, each with its line.",
    ] {
        page.control("PP", []);
        page.text([roman(paragraph)]);
    }
    let mut section = "";
    for key in KEYS {
        if key.section() != section {
            section = key.section();
            page.control("SH", [format!("[{section}]").as_str()]);
        }
        page.control("TP", []);
        let built_in = (key.get)(&Policy::default());
        page.text([bold(key.last()), roman(format!("   built in: {built_in}"))]);
        page.text([roman(key.meaning)]);
    }
    page.control("SH", ["EXAMPLES"]);
    page.control("RS", ["4"]);
    page.control("nf", []);
    for line in ["[people]", "ids = \"2000-59999\"", "shell = \"/bin/zsh\"", "groups = [\"crew\"]"]
    {
        page.text([roman(line)]);
    }
    page.control("fi", []);
    page.control("RE", []);
    see_also(&mut page, &[("copper-nest".into(), 8), ("copper-nest-show-policy".into(), 8)]);
    page.render()
}

fn pages() -> BTreeMap<String, String> {
    let all = leaves();
    let mut pages: BTreeMap<String, String> = all
        .iter()
        .map(|(path, command)| (format!("{}.8", page_name(path)), page_of(path, command, &all)))
        .collect();
    pages.insert("copper-nest.8".to_owned(), main_page(&all));
    pages.insert("copper-nest-policy.5".to_owned(), policy_page());
    pages
}

fn place() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../packaging/man")
}

#[test]
fn the_manual_pages_are_current() {
    let wanted = pages();
    assert!(wanted.len() > 45, "{}", wanted.len());
    let folder = place();
    if std::env::var_os("UPDATE_DOCS").is_some() {
        let _ = std::fs::remove_dir_all(&folder);
        std::fs::create_dir_all(&folder).unwrap();
        for (name, text) in &wanted {
            std::fs::write(folder.join(name), text).unwrap();
        }
    }
    let entries = std::fs::read_dir(&folder).unwrap().map(Result::unwrap);
    let found: BTreeMap<String, String> = entries
        .map(|entry| {
            let name = entry.file_name().into_string().unwrap();
            (name, std::fs::read_to_string(entry.path()).unwrap())
        })
        .collect();
    for (name, text) in &wanted {
        let is = found.get(name);
        assert!(is == Some(text), "{name} is not current: UPDATE_DOCS=1 cargo test manual");
    }
    assert_eq!(found.len(), wanted.len());
}

#[test]
fn every_manual_page_is_set_without_a_warning() {
    if !has_program("man") || !has_program("groff") {
        passed_over("every_manual_page_is_set_without_a_warning", "man and groff");
        return;
    }
    for (name, text) in pages() {
        let folder = folder();
        let page = folder.path().join(&name);
        std::fs::write(&page, &text).unwrap();
        let set = Process::new("man")
            .args(["--warnings", "--encoding=UTF-8", "--local-file"])
            .arg(&page)
            .env("MANWIDTH", "80")
            .env("LC_ALL", "C.UTF-8")
            .stdin(Stdio::null())
            .output()
            .unwrap();
        assert!(set.stderr.is_empty(), "{name}: {}", String::from_utf8_lossy(&set.stderr));
        let shown = String::from_utf8_lossy(&set.stdout);
        for heading in ["NAME", "SYNOPSIS", "DESCRIPTION", "EXAMPLES", "SEE ALSO"] {
            assert!(shown.contains(heading), "{name}: {heading}");
        }
        let lasting = name == "copper-nest-policy.5";
        assert!(lasting || shown.contains("EXIT STATUS") && shown.contains("ENVIRONMENT"));
        assert!(shown.contains(SOURCE), "{name}");
    }
}

/// The pages that a page names are there.
#[test]
fn a_page_names_only_pages_that_are_there() {
    let pages = pages();
    for (name, text) in &pages {
        for word in text.split(|c: char| c.is_whitespace() || c == ',') {
            let Some((page, section)) = word.split_once("\\fR(") else { continue };
            let page = page.trim_start_matches("\\fB").replace("\\-", "-");
            let section = section.trim_end_matches([')', '.']);
            if page.starts_with("copper-nest") {
                assert!(pages.contains_key(&format!("{page}.{section}")), "{name}: {page}");
            }
        }
    }
}

#[test]
fn the_table_of_options_is_current() {
    let options = [
        "tree", "policy", "state", "format", "dry-run", "yes", "note", "wait", "quiet", "verbose",
        "color",
    ];
    let mut page = String::from(
        "# Commands\n\nMade from the commands themselves. `copper-nest COMMAND --help` and the manual page\n\
         copper-nest-COMMAND(8) tell the rest. An option for all commands is shown where it does something; where it does\n\
         not, `--dry-run`, `--note`, `--wait`, `--quiet` and `--format` are refused, and the others, which may stand in an\n\
         alias, are passed over.\n\n",
    );
    writeln!(
        page,
        "| command | what it does | {} |",
        options.map(|name| format!("`--{name}`")).join(" | ")
    )
    .unwrap();
    writeln!(page, "|---|---|{}", ":-:|".repeat(options.len())).unwrap();
    for (path, command) in leaves() {
        let words: Vec<&str> = path.iter().map(String::as_str).collect();
        let takes = options.map(|name| if copper_nest::is_taken(&words, name) { "•" } else { "" });
        let about = command.get_about().unwrap();
        writeln!(page, "| `{}` | {about} | {} |", path.join(" "), takes.join(" | ")).unwrap();
    }
    page.push_str("\n## Exit status\n\n| status | meaning |\n|---|---|\n");
    for (status, meaning) in STATUS {
        writeln!(page, "| {status} | {meaning} |").unwrap();
    }
    assert_current("commands.md", &page);
}

/// Options that are hidden from help are those that do nothing, and the other way round.
#[test]
fn help_shows_what_is_taken_and_nothing_else() {
    for (path, command) in leaves() {
        let words: Vec<&str> = path.iter().map(String::as_str).collect();
        for option in command.get_arguments().filter(|option| option.is_global_set()) {
            let long = option.get_long().unwrap();
            let taken = copper_nest::is_taken(&words, long);
            assert_eq!(option.is_hide_set(), !taken, "{words:?} --{long}");
        }
        // Whatever takes a value has a name for it, and everything says what it does.
        for option in command.get_arguments() {
            let help = option.get_help().map(ToString::to_string).unwrap_or_default();
            assert!(help.len() > 3, "{words:?} {}", option.get_id());
        }
    }
}
