//! The maps of imports in `ARCHITECTURE.md` are those of the code, and no import runs back
//! up. `UPDATE_DOCS=1 cargo test -p nest-core --test map` writes them anew.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{read_dir, read_to_string};
use std::path::{Path, PathBuf};

const END: &str = "\n<!-- the end of the imports -->";

type Map = BTreeMap<String, BTreeSet<String>>;

/// The room of a path of modules. The planners' house has a floor for each kind of request.
fn room(modules: &[&str]) -> String {
    match modules {
        ["plan", floor @ ("users" | "groups" | "numbers" | "tables" | "history"), ..] => {
            format!("plan/{floor}")
        }
        [room, ..] => (*room).to_owned(),
        [] => String::new(),
    }
}

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
        if entry.is_dir() {
            sources(&entry, found);
        } else if entry.extension().is_some_and(|kind| kind == "rs") {
            found.push(entry);
        }
    }
}

/// The code of a file, without comments, and as far as its tests: those may import what
/// they like.
fn code(text: &str) -> String {
    let lines: Vec<&str> = text.lines().collect();
    let is_of_tests = |pair: &[&str]| pair[0] == "#[cfg(test)]" && pair[1].contains("mod ");
    let end = lines.windows(2).position(is_of_tests).unwrap_or(lines.len());
    let code = lines[..end].iter().filter(|line| !line.trim_start().starts_with("//"));
    code.copied().collect::<Vec<_>>().join("\n")
}

/// Which rooms each room imports from.
fn imports(src: &Path) -> Map {
    let mut map = Map::new();
    let mut files = Vec::new();
    sources(src, &mut files);
    for file in files {
        let name = file.file_stem().unwrap().to_str().unwrap();
        if name.ends_with("tests") || name == "test_support" || name == "lib" {
            continue;
        }
        let below = file.strip_prefix(src).unwrap().with_extension("");
        let modules: Vec<&str> =
            below.iter().map(|part| part.to_str().unwrap()).filter(|part| *part != "mod").collect();
        let from = room(&modules);
        let to = map.entry(from.clone()).or_default();
        for path in code(&read_to_string(&file).unwrap()).split("crate::").skip(1) {
            // One path, or several in braces.
            let end = path.find(|c: char| !(c.is_alphanumeric() || "_:".contains(c)));
            let several = path.strip_prefix('{').and_then(|all| Some(all.split_once('}')?.0));
            for path in several.unwrap_or(&path[..end.unwrap_or(path.len())]).split(',') {
                let modules: Vec<&str> = path.trim().split("::").collect();
                let imported = room(&modules);
                if imported != from && imported.starts_with(|c: char| c.is_lowercase()) {
                    to.insert(imported);
                }
            }
        }
    }
    map
}

/// The rooms from the ground up: each after all that it imports from.
fn floors(map: &Map) -> Vec<&str> {
    let mut built: Vec<&str> = Vec::new();
    while built.len() < map.len() {
        let stands = |room: &&String| {
            !built.contains(&room.as_str())
                && map[*room].iter().all(|below| built.contains(&below.as_str()))
        };
        let next: Vec<&str> = map.keys().filter(stands).map(String::as_str).collect();
        let rest: Vec<_> = map.keys().filter(|room| !built.contains(&room.as_str())).collect();
        assert!(!next.is_empty(), "imports run in a circle among {rest:?}");
        built.extend(next);
    }
    built
}

#[test]
fn the_maps_of_imports_are_current_and_no_import_runs_back_up() {
    for package in ["nest-core", "nest-host"] {
        hold_map(package);
    }
}

fn hold_map(package: &str) {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let map = imports(&crates.join(package).join("src"));
    let begin = format!("<!-- the imports of {package} -->\n\n");
    let mut drawn = String::new();
    for room in floors(&map) {
        let below: Vec<&str> = map[room].iter().map(String::as_str).collect();
        let line = format!("    {room:16} {}", below.join(" "));
        drawn.push_str(line.trim_end());
        drawn.push('\n');
    }
    let path = crates.join("../ARCHITECTURE.md");
    let page = read_to_string(&path).unwrap();
    let (before, rest) = page.split_once(&begin).expect("the page marks where the map begins");
    let (found, after) = rest.split_once(END).expect("the page marks where the map ends");
    if std::env::var_os("UPDATE_DOCS").is_some() {
        return std::fs::write(path, [before, &begin, &drawn, END, after].concat()).unwrap();
    }
    assert_eq!(found, drawn, "UPDATE_DOCS=1 cargo test -p nest-core --test map");
}
