//! `list keys`.

use std::collections::HashMap;
use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;

use bstr::{BStr, BString};
use nest_core::sign_in::keys_found;
use rayon::prelude::*;
use serde_json::json;

use super::{Global, Result, Session, show_user};
use crate::view::columns::Rows;
use crate::view::{self, keys};

/// List the SSH keys that let somebody in: whose they are, of what kind, and what keeps
/// them from working.
///
/// Looked for where the SSH server does, by its configuration. On a terminal a table;
/// into a pipe one key a line, fields separated by tabs: name, algorithm, bits,
/// fingerprint, comment, options, file and line, what keeps it from working.
#[derive(Debug, clap::Args)]
#[command(name = "keys", after_help = EXAMPLES)]
pub struct ListKeys {
    /// Only keys of this user.
    #[arg(long, value_name = "USER")]
    of: Option<OsString>,
    /// Only keys that more than one account has.
    #[arg(long)]
    shared: bool,
    /// Only keys that are too weak.
    #[arg(long)]
    weak: bool,
    /// Only a key with this fingerprint, or the beginning of it, or with this comment.
    #[arg(long, value_name = "FINGERPRINT|COMMENT")]
    like: Option<String>,
    #[command(flatten)]
    rows: Rows,
}

const EXAMPLES: &str = "Examples:
  copper-nest list keys
  copper-nest list keys --shared
  copper-nest list keys --like odalys@quay";

impl ListKeys {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        self.rows.require(global, &keys::COLUMNS)?;
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let world = session.world_to_look_at()?;
        let (book, context) = (&loaded.book, session.context(&loaded, &world));
        let of = self.of.as_ref().map(|name| BStr::new(name.as_bytes()));
        let of = of
            .map(|name| {
                let found = show_user::find(book, name);
                found.ok_or_else(|| show_user::no_user(book, &world, name))
            })
            .transpose()?;
        let users: Vec<_> = book.users.records().map(|(_, user)| user).collect();
        let found: Vec<keys::Listed<'_>> = users
            .into_par_iter()
            .flat_map_iter(|user| {
                let found = keys_found(context, user).into_iter();
                found.map(move |found| keys::Listed { user, found, others: Vec::new() })
            })
            .collect();
        let mut holders: HashMap<String, Vec<BString>> = HashMap::new();
        for one in &found {
            let of_key = holders.entry(one.found.key.fingerprint.clone()).or_default();
            if !of_key.iter().any(|name| *name == one.user.name) {
                of_key.push(one.user.name.into());
            }
        }
        let all = found.len();
        let listed: Vec<keys::Listed<'_>> = found
            .into_iter()
            .map(|one| {
                let holders = holders[&one.found.key.fingerprint].iter();
                let others = holders.filter(|name| *name != one.user.name).cloned().collect();
                keys::Listed { others, ..one }
            })
            .filter(|one| of.is_none_or(|user| user.name == one.user.name))
            .filter(|one| !self.shared || !one.others.is_empty())
            .filter(|one| !self.weak || one.found.key.weakness().is_some())
            .filter(|one| self.like.as_ref().is_none_or(|like| one.found.key.is_called(like)))
            .collect();
        if global.json() {
            let all: Vec<_> = listed.iter().map(keys::to_json).collect();
            view::print_json("keys", &json!({"keys": all}));
        } else {
            keys::print(global, &self.rows, &listed, all);
        }
        Ok(0)
    }
}
