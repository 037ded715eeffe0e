//! `demo`.

use std::io::ErrorKind;
use std::os::unix::fs::{PermissionsExt, lchown};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use include_dir::{Dir, DirEntry, include_dir};

use super::{Color, Failure, Global, REFUSED, Result, UNTOUCHED, USAGE};
use crate::prompt;
use crate::view::style;

/// Walk through the commands on the made-up server of Gullhaven Ferries.
///
/// Lays the server's tree out in a folder, runs an administrator's day on it,
/// and leaves the folder for you to try things in. Nothing else is touched.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Demo {
    /// Where to lay the tree out; by default a new temporary folder.
    #[arg(value_name = "DIR")]
    directory: Option<PathBuf>,
    /// Only lay the tree out.
    #[arg(long, conflicts_with = "step")]
    layout_only: bool,
    /// Wait for Enter between the steps.
    #[arg(long)]
    step: bool,
}

const EXAMPLES: &str = "Examples:
  copper-nest demo
  copper-nest demo --step
  copper-nest demo --dry-run
  copper-nest demo /tmp/gullhaven --layout-only";

static TREE: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/demo");

/// What is not owned by root, or has another mode than 0755 and 0644: path,
/// owner, group, mode. Everything below a directory has its owner.
const SPECIAL: &[(&str, u32, u32, u32)] = &[
    ("etc/shadow", 0, 42, 0o640),
    ("etc/gshadow", 0, 42, 0o640),
    ("etc/sudoers", 0, 0, 0o440),
    ("etc/sudoers.d/ferry", 0, 0, 0o440),
    ("bin/bash", 0, 0, 0o755),
    ("bin/sh", 0, 0, 0o755),
    ("usr/bin/sudo", 0, 0, 0o4755),
    ("usr/sbin/nologin", 0, 0, 0o755),
    ("srv/images/harbour/etc/shadow", 0, 42, 0o640),
    ("srv/images/harbour/etc/gshadow", 0, 42, 0o640),
    ("root", 0, 0, 0o700),
    ("home/sunniva", 1000, 1000, 0o750),
    ("home/sunniva/.ssh", 1000, 1000, 0o700),
    ("home/brannoc", 1044, 1044, 0o750),
    ("home/odalys", 1002, 1002, 0o750),
    ("home/tavish", 1002, 1002, 0o750),
    ("var/lib/tidegauge", 999, 999, 0o755),
    ("var/mail/sunniva", 1000, 8, 0o660),
];

/// The day: what is going on, and the command.
const DAY: &[(&str, &[&str])] = &[
    ("Morning. Who works here?", &["list", "users"]),
    ("The settings, and where each comes from.", &["show", "policy"]),
    ("Are the account files sound?", &["check"]),
    ("One of these: what does the rule mean?", &["show", "rule", "ghost-member"]),
    (
        "Maren starts today, as a pilot.",
        &["create", "user", "maren", "--full-name", "Maren Solvik", "--join", "pilots,slipway"],
    ),
    ("What is there now?", &["show", "user", "maren"]),
    ("The same record, field by field.", &["show", "user", "maren", "--fields"]),
    (
        "A weather station gets an account of its own.",
        &["create", "user", "windvane", "--service", "--home", "/var/lib/windvane"],
    ),
    (
        "Two at once, only to see what would happen.",
        &["create", "user", "isolde", "corwin", "--dry-run"],
    ),
    ("A name that is taken is refused.", &["create", "user", "odalys"]),
    ("Maren gets a first password.", &["password", "user", "maren", "--generate", "--must-change"]),
    (
        "The contract ends with the summer season.",
        &["change", "user", "maren", "--expires", "+300d", "--full-name", "Maren Solvik-Rowe"],
    ),
    ("Odalys is called Odile now.", &["rename", "user", "odalys", "odile"]),
    (
        "Brannoc is on leave: nobody signs in under that name meanwhile.",
        &["suspend", "user", "brannoc", "--reason", "on leave until May"],
    ),
    ("Back already, just as before.", &["resume", "user", "brannoc"]),
    ("What a service needs can't be taken away by mistake.", &["suspend", "user", "tidegauge"]),
    ("It was Odalys after all: take that back.", &["undo", "5", "--yes"]),
    ("A new department: the divers.", &["create", "group", "divers", "--member", "maren"]),
    (
        "Maren leaves the slipway for them, and new files are to be theirs.",
        &["regroup", "maren", "--leave", "slipway", "--primary", "divers"],
    ),
    ("Who is in the pilots' group, and who runs it?", &["show", "group", "pilots"]),
    ("Which groups is Odalys in?", &["list", "groups", "--of", "odalys"]),
    ("Tavish moves ashore. The home is set aside.", &["delete", "user", "tavish", "--yes"]),
    ("What is kept, and until when?", &["list", "retired"]),
    ("Back for the summer after all, just as before.", &["restore", "user", "tavish", "--yes"]),
    ("Are there files that nobody owns?", &["trace", "orphans"]),
    (
        "They are Brannoc's, from a time when the number was another.",
        &["reassign", "user", "1044", "brannoc", "--yes"],
    ),
    (
        "The summer crew, in a table from the harbour office. Is it in order?",
        &["intake", "{tree}/root/crew-draft.csv"],
    ),
    (
        "Mended. What would be made of it?",
        &["intake", "{tree}/root/crew.csv", "--groups-too", "--dry-run"],
    ),
    ("All of them, as one change.", &["intake", "{tree}/root/crew.csv", "--groups-too"]),
    (
        "The harbour's old server moves in. What has to be decided?",
        &["merge", "{tree}/srv/images/harbour", "-n", "--decisions", "{tree}/root/harbour.toml"],
    ),
    (
        "By these decisions, all of its people, as one change.",
        &["merge", "{tree}/srv/images/harbour", "--decisions", "{tree}/root/harbour.toml"],
    ),
    ("Which numbers are taken by now?", &["list", "ids"]),
    ("Mend what has one right answer; the rest is listed.", &["repair", "--yes"]),
    ("It goes back like anything else.", &["undo", "--yes"]),
    ("What was done today?", &["list", "changes"]),
];

impl Demo {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        if global.dry_run {
            return self.tell();
        }
        if self.step && !prompt::somebody_is_there() {
            let message = "--step waits for Enter, and nobody is at a terminal";
            return Err(Failure::new(USAGE, "usage", message));
        }
        let directory = self.make_directory().map_err(failed)?;
        let owned = lay_out(&directory).map_err(failed)?;
        let (heading, quiet) = (style::HEADING, style::QUIET);
        outln!(
            "The server of Gullhaven Ferries, all made up, is laid out in {}.",
            directory.display()
        );
        if !owned {
            outln!("Its files are yours throughout: only root can give them their owners.");
        }
        if self.layout_only {
            return Ok(0);
        }
        outln!(
            "An administrator's day follows: {} commands on it, each shown before its output. \
             Nothing outside that folder is touched.",
            DAY.len()
        );
        let program = std::env::current_exe().map_err(failed)?;
        for (at, (story, words)) in DAY.iter().enumerate() {
            if self.step && !is_to_go_on(at).map_err(failed)? {
                break;
            }
            outln!("\n{heading}{story}{heading:#}");
            let tree = directory.to_string_lossy();
            outln!("{quiet}$ {}{quiet:#}\n", typed(&tree, words));
            crate::output::flush();
            let status = Command::new(&program)
                .arg("--tree")
                .arg(&directory)
                .args(["--color", color(global)])
                .args(in_tree(&tree, words))
                // It shows, and asks nothing.
                .stdin(Stdio::null())
                .status()
                .map_err(failed)?;
            if let Some(status) = status.code().filter(|status| *status != 0) {
                outln!("{quiet}(exit status {status}){quiet:#}");
            }
        }
        outln!("\n{heading}The tree is yours to play with:{heading:#} {}", directory.display());
        Ok(0)
    }

    /// Tells what the demo would do.
    fn tell(&self) -> Result {
        let place = match &self.directory {
            Some(directory) => directory.to_string_lossy().into_owned(),
            None => "a new temporary folder".to_owned(),
        };
        outln!("The server of Gullhaven Ferries, all made up, would be laid out in {place}.");
        if self.layout_only {
            return Ok(0);
        }
        let tree = match &self.directory {
            Some(directory) => directory.to_string_lossy(),
            None => "FOLDER".into(),
        };
        outln!("Then {} commands would be run on it, and on nothing else:\n", DAY.len());
        let quiet = style::QUIET;
        for (story, words) in DAY {
            outln!("  {story}\n    {quiet}{}{quiet:#}", typed(&tree, words));
        }
        Ok(0)
    }

    fn make_directory(&self) -> std::io::Result<PathBuf> {
        match &self.directory {
            None => Ok(tempfile::Builder::new().prefix("gullhaven-").tempdir()?.keep()),
            Some(directory) => {
                std::fs::create_dir_all(directory)?;
                if directory.read_dir()?.next().is_some() {
                    let message =
                        format!("{} is not empty, and is left alone", directory.display());
                    return Err(std::io::Error::new(ErrorKind::AlreadyExists, message));
                }
                Ok(directory.clone())
            }
        }
    }
}

/// The words of a step, with the tree's place where it is needed.
fn in_tree(tree: &str, words: &[&str]) -> Vec<String> {
    words.iter().map(|word| word.replace("{tree}", tree)).collect()
}

/// A step as it is typed.
fn typed(tree: &str, words: &[&str]) -> String {
    let line = shell_words::join(in_tree(tree, words));
    format!("copper-nest --tree {} {line}", shell_words::quote(tree))
}

/// Waits for Enter; whether the day goes on.
fn is_to_go_on(at: usize) -> std::io::Result<bool> {
    outln!();
    let line = prompt::line(&format!("step {} of {}: Enter goes on, q ends:", at + 1, DAY.len()))?;
    Ok(line.is_some_and(|line| !line.eq_ignore_ascii_case("q")))
}

fn failed(error: std::io::Error) -> Failure {
    let status = if error.kind() == ErrorKind::AlreadyExists { REFUSED } else { UNTOUCHED };
    Failure::new(status, "demo", format!("the demo could not be laid out: {error}"))
}

fn color(global: &Global) -> &'static str {
    match global.color {
        Color::Auto => "auto",
        Color::Always => "always",
        Color::Never => "never",
    }
}

/// Writes the tree; returns whether the owners could be set.
fn lay_out(directory: &Path) -> std::io::Result<bool> {
    std::fs::set_permissions(directory, PermissionsExt::from_mode(0o755))?;
    std::fs::create_dir_all(directory.join("tmp"))?;
    let mut owned = true;
    lay_out_directory(&TREE, directory, &mut owned)?;
    for &(path, uid, gid, mode) in SPECIAL {
        let path = directory.join(path);
        own(&path, uid, gid, &mut owned)?;
        std::fs::set_permissions(&path, PermissionsExt::from_mode(mode))?;
    }
    Ok(owned)
}

fn lay_out_directory(from: &Dir<'_>, root: &Path, owned: &mut bool) -> std::io::Result<()> {
    for entry in from.entries() {
        let path = root.join(entry.path());
        match entry {
            DirEntry::Dir(directory) => {
                std::fs::create_dir_all(&path)?;
                std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755))?;
                lay_out_directory(directory, root, owned)?;
            }
            DirEntry::File(file) => {
                std::fs::write(&path, file.contents())?;
                std::fs::set_permissions(&path, PermissionsExt::from_mode(0o644))?;
            }
        }
        let below = SPECIAL.iter().rev().find(|(special, ..)| entry.path().starts_with(special));
        if let Some(&(_, uid, gid, _)) = below {
            own(&path, uid, gid, owned)?;
        }
    }
    Ok(())
}

fn own(path: &Path, uid: u32, gid: u32, owned: &mut bool) -> std::io::Result<()> {
    match lchown(path, Some(uid), Some(gid)) {
        Err(error) if error.kind() == ErrorKind::PermissionDenied => {
            *owned = false;
            Ok(())
        }
        result => result,
    }
}
