//! The time zone of a tree: localtime(5).

use bstr::ByteSlice;
use rustix::fs::OFlags;

use crate::tree::Tree;
use crate::untrusted::read_configuration;

/// A time zone as a tree has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Zone {
    /// What it is called: `Europe/Oslo`.
    pub name: String,
    /// What RFC 9636 calls a TZif file.
    pub rules: Vec<u8>,
}

/// The time zone of a tree; nothing where it has none, which is UTC.
pub fn zone_of(tree: &Tree) -> Option<Zone> {
    let rules = read_configuration(tree, "etc/localtime").ok()?;
    let linked = || {
        let etc = tree.open_file("etc", OFlags::RDONLY | OFlags::DIRECTORY).ok()?;
        let target = rustix::fs::readlinkat(&etc, "localtime", Vec::new()).ok()?.into_bytes();
        let (_, name) = target.split_once_str("zoneinfo/")?;
        Some(name.to_str_lossy().into_owned())
    };
    let written = || {
        let text = read_configuration(tree, "etc/timezone").ok()?;
        let name = text.lines().next()?.trim_ascii().to_str_lossy().into_owned();
        (!name.is_empty()).then_some(name)
    };
    let name = linked().or_else(written).unwrap_or_else(|| "the zone of etc/localtime".to_owned());
    Some(Zone { name, rules })
}
