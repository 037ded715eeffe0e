//! Places that are empty until something is mounted there: on a tree nothing is, and on the
//! machine itself an automounter waits until somebody comes by.

use bstr::{BString, ByteSlice};
use nest_core::retired_ids::RetiredIds;
use nest_core::surroundings::Surroundings as _;

use super::World;
use crate::tree::Tree;
use crate::untrusted::read_configuration;

/// The maps of automounters, auto.master(5).
const MASTERS: [&str; 2] = ["etc/auto.master", "etc/autofs/auto.master"];

/// A directory of such maps.
const MASTER_DIRECTORY: &str = "etc/auto.master.d";

/// Where units say what is mounted, systemd.mount(5) and systemd.automount(5).
const UNITS: [&str; 2] = ["etc/systemd/system", "usr/lib/systemd/system"];

/// Those places, each with why.
pub(super) fn places(tree: &Tree) -> Vec<(BString, String)> {
    let mut places = Vec::new();
    let more = tree.files_in(MASTER_DIRECTORY);
    for file in MASTERS.iter().map(|file| (*file).to_owned()).chain(more) {
        let text = read_configuration(tree, &file).unwrap_or_default();
        for (number, words) in lines(&text) {
            let why = format!("an automounter brings it ({file}:{number})");
            match words[..] {
                // A direct map names whole paths.
                [b"/-", map, ..] => {
                    let map = map.strip_prefix(b"file:").unwrap_or(map);
                    let map = map.to_str_lossy();
                    let path = match map.strip_prefix('/') {
                        Some(path) => path.to_owned(),
                        None => format!("etc/{map}"),
                    };
                    let text = read_configuration(tree, path).unwrap_or_default();
                    let keys = lines(&text).filter_map(|(_, words)| words.first().copied());
                    places.extend(keys.map(|key| (BString::from(key), why.clone())));
                }
                [path, ..] if path.starts_with(b"/") => places.push((path.into(), why)),
                _ => {}
            }
        }
    }
    let world = World::new(tree, RetiredIds::default());
    let mut add = |path: &[u8], why: String| {
        let path = path.trim_end_with(|c| c == '/');
        if path.starts_with(b"/") && !world.is_mount_point(path.as_bstr()) {
            places.push((path.into(), why));
        }
    };
    let text = read_configuration(tree, "etc/fstab").unwrap_or_default();
    for (number, words) in lines(&text) {
        if let [_, path, ..] = words[..] {
            add(
                path,
                format!("a file system belongs there that is not mounted (etc/fstab:{number})"),
            );
        }
    }
    for file in UNITS.iter().flat_map(|directory| tree.files_in(directory)) {
        if !file.ends_with(".mount") && !file.ends_with(".automount") {
            continue;
        }
        let text = read_configuration(tree, &file).unwrap_or_default();
        for path in text.lines().filter_map(|line| line.strip_prefix(b"Where=")) {
            let path = path.trim_ascii();
            add(path, format!("a file system belongs there that is not mounted ({file})"));
        }
    }
    places.retain(|(path, _)| !path.is_empty());
    places
}

/// The words of each line that says something, with its number.
fn lines(text: &[u8]) -> impl Iterator<Item = (usize, Vec<&[u8]>)> {
    text.lines().enumerate().filter_map(|(at, line)| {
        let line = line.trim_ascii();
        let words: Vec<&[u8]> = line.fields().collect();
        (!line.is_empty() && !line.starts_with(b"#")).then_some((at + 1, words))
    })
}
