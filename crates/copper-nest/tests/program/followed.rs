//! What the README and the guide tell people to type, typed.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::harness::{NOW, Run, folder, is_root, passed_over};

/// A text of the project.
fn text(name: &str) -> String {
    let root = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..");
    std::fs::read_to_string(root.join(name)).unwrap()
}

/// The lines of a text that are to be typed, without what is said beside them.
fn typed(text: &str) -> Vec<String> {
    let code = text.lines().filter_map(|line| line.strip_prefix("    "));
    let is_command = |line: &&str| {
        let word = line.split(' ').next().unwrap_or_default();
        ["copper-nest", "cd", "alias", "sudo"].contains(&word)
            || word.starts_with("SOURCE_DATE_EPOCH=")
    };
    let command = |line: &str| line.split("    ").next().unwrap().trim_end().to_owned();
    code.filter(is_command).map(command).collect()
}

/// A folder in which `copper-nest` is this build, and every question of it is answered with yes.
fn commands_in(folder: &Path) -> String {
    use std::os::unix::fs::PermissionsExt;
    let bin = folder.join("bin");
    std::fs::create_dir_all(&bin).unwrap();
    let script = bin.join("copper-nest");
    let nest = env!("CARGO_BIN_EXE_copper-nest");
    let answered = format!(
        "#!/bin/sh\ncase \" $* \" in *' demo '*|*' completions '*) exec {nest} \"$@\";; esac\nexec {nest} --yes \"$@\"\n"
    );
    std::fs::write(&script, answered).unwrap();
    std::fs::set_permissions(&script, PermissionsExt::from_mode(0o755)).unwrap();
    format!("{}:{}", bin.display(), std::env::var("PATH").unwrap())
}

/// Types lines in one shell, one after the other; the status of each comes back, with what it said.
fn follow(folder: &Path, lines: &[String]) -> Vec<(i32, String)> {
    let mut script = "shopt -s expand_aliases\n".to_owned();
    for (at, line) in lines.iter().enumerate() {
        // cd and alias are about the shell itself.
        script += &format!("{line} > \"$SAID/{at}\" 2>&1\necho $? > \"$SAID/{at}.status\"\n");
    }
    let said = folder.join("said");
    std::fs::create_dir_all(&said).unwrap();
    let mut shell = Command::new("bash");
    shell.current_dir(folder).env("PATH", commands_in(folder)).env("SAID", &said);
    shell.args(["-c", &script]).env("SOURCE_DATE_EPOCH", NOW).env("HOME", folder);
    let run = Run::of(shell.stdin(Stdio::null()));
    let read = |name: String| std::fs::read_to_string(said.join(name)).unwrap_or_default();
    let status = |at: usize| {
        let status = read(format!("{at}.status"));
        status.trim().parse().unwrap_or_else(|_| panic!("{}: {}", lines[at], run.stderr))
    };
    (0..lines.len()).map(|at| (status(at), read(at.to_string()))).collect()
}

#[test]
fn the_tour_works_as_it_is_written() {
    if !is_root() {
        return passed_over("the_tour_works_as_it_is_written", "root, to give files owners");
    }
    let readme = text("README.md");
    let tour = readme.split_once("## A tour").unwrap().1.split_once("\n## ").unwrap().0;
    let lines = typed(tour);
    assert!(lines.len() > 35, "{}", lines.len());
    let folder = folder();
    let mut wrong = String::new();
    for (line, (status, said)) in lines.iter().zip(follow(folder.path(), &lines)) {
        // What looks, and what is left to be decided, has something to say on this tree.
        let looks = [" check", " export ", " compare ", " handover "];
        let looks = looks.iter().any(|word| line.contains(word));
        if status != 0 && !(looks && status == 1) {
            wrong += &format!(
                "{line}\n  status {status}: {}\n",
                said.lines().next().unwrap_or_default()
            );
        }
    }
    assert!(wrong.is_empty(), "{wrong}");
}

/// Every command of the guide is one: nothing of it is refused as a mistake on the command line.
#[test]
fn the_guide_is_made_of_commands() {
    let guide = text("docs/guide.md");
    let folder = folder();
    let laid = ["copper-nest demo gullhaven --layout-only", "cd gullhaven"].map(str::to_owned);
    let mut lines = laid.to_vec();
    lines.push("alias copper-nest=\"copper-nest --tree $PWD\"".to_owned());
    for line in typed(&guide) {
        // What names a tree of its own has no tree of this one's, and what prints a file is not to
        // make one.
        if line.contains("--tree") || line.contains(" > ") || line.contains("--trees-from") {
            continue;
        }
        lines.push(line);
    }
    assert!(lines.len() > 80, "{}", lines.len());
    let mut wrong = String::new();
    for (line, (status, said)) in lines.iter().zip(follow(folder.path(), &lines)) {
        let fits = [0, 1, 3].contains(&status);
        if !fits || said.contains("panicked") {
            wrong += &format!("{line}\n  status {status}: {said}\n");
        }
    }
    assert!(wrong.is_empty(), "{wrong}");
}

/// Links of the pages lead somewhere.
#[test]
fn links_of_the_pages_lead_to_something() {
    let root = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..");
    let pages = [
        "README.md",
        "CONTRIBUTING.md",
        "packaging/README.md",
        "docs/guide.md",
        "docs/json.md",
        "docs/formats.md",
    ];
    let mut links = 0;
    for page in pages {
        let text = text(page);
        for part in text.split("](").skip(1) {
            let link = part.split(')').next().unwrap();
            if link.starts_with("http") {
                continue;
            }
            let (path, heading) = link.split_once('#').unwrap_or((link, ""));
            let at = root.join(page);
            let at = if path.is_empty() { at } else { at.parent().unwrap().join(path) };
            assert!(at.exists(), "{page}: {link}");
            let heads = |line: &str| {
                let title = line.trim_start_matches('#').trim().to_lowercase();
                line.starts_with('#')
                    && title.replace(' ', "-").replace([',', '.', '?', '`'], "") == heading
            };
            let found =
                heading.is_empty() || std::fs::read_to_string(&at).unwrap().lines().any(heads);
            assert!(found, "{page}: {link}");
            links += 1;
        }
    }
    assert!(links > 60, "{links}");
}
