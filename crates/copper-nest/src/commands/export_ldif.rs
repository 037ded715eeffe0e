//! `export users` and `export groups` for a directory.

use std::io::Write;
use std::path::{Path, PathBuf};

use clap::ValueEnum;
use nest_core::ldif::{
    Changes, Directory, Entries, Entry, LdifFault, Schema, Scope, changes, changes_text,
    containers, entries_text,
};
use nest_core::roster::{Form, RosterSource, Wrong};
use nest_core::words::counted;

use super::new_file::write_new;
use super::tables::quoted;
use super::{FOUND, Failure, Global, REFUSED, Result, UNTOUCHED, USAGE, read_input};

/// Where accounts are in a directory.
#[derive(Debug, clap::Args)]
#[group(skip)]
pub struct LdifArgs {
    /// With --as ldif: below which entry of the directory the accounts are.
    #[arg(long, value_name = "DN")]
    base: Option<String>,
    /// Where users are below that.
    #[arg(long, value_name = "RDN", default_value = "ou=people")]
    people_in: String,
    /// Where groups are below that.
    #[arg(long, value_name = "RDN", default_value = "ou=groups")]
    groups_in: String,
    /// By which classes members are written: names with rfc2307, entries with rfc2307bis.
    #[arg(long, value_enum, value_name = "rfc2307|rfc2307bis", default_value = "rfc2307")]
    schema: SchemaArg,
    /// Write only what has to be changed in a directory, by a dump of it.
    #[arg(long, value_name = "FILE|-")]
    changes_from: Option<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum SchemaArg {
    Rfc2307,
    Rfc2307bis,
}

impl LdifArgs {
    /// Refuses what does nothing without `--as ldif`, and LDIF without a base; gives the
    /// directory where one is asked for.
    ///
    /// # Errors
    /// What is missing, or idle.
    pub fn directory(&self, form: Form) -> Result<Option<Directory>> {
        let usage = |message: String| Err(Failure::new(USAGE, "usage", message));
        if form != Form::Ldif {
            let idle =
                [("--base", self.base.is_some()), ("--changes-from", self.changes_from.is_some())];
            return match idle.iter().find(|(_, given)| *given) {
                Some((option, _)) => usage(format!("{option} goes with --as ldif")),
                None => Ok(None),
            };
        }
        let Some(base) = &self.base else {
            return usage(
                "a directory has a base: say which one, --base dc=gullhaven,dc=example say"
                    .to_owned(),
            );
        };
        let schema = match self.schema {
            SchemaArg::Rfc2307 => Schema::Rfc2307,
            SchemaArg::Rfc2307bis => Schema::Rfc2307bis,
        };
        match Directory::new(base, &self.people_in, &self.groups_in, schema) {
            Ok(directory) => Ok(Some(directory)),
            Err(message) => usage(message),
        }
    }

    /// Whether only what has to be changed is asked for.
    pub fn asks_for_changes(&self) -> bool {
        self.changes_from.is_some()
    }

    /// Writes entries: their text, how many they are, and what is not among them.
    ///
    /// # Errors
    /// It can't be written.
    pub fn write(
        &self,
        global: &Global,
        to: Option<&Path>,
        (text, count, left_out): (Vec<u8>, usize, Vec<String>),
        hashes: bool,
    ) -> Result {
        for told in &left_out {
            errln!("left out: {}", crate::view::visible(told.as_bytes()));
        }
        let status = if left_out.is_empty() { 0 } else { FOUND };
        let told = counted(count, "entry", "entries");
        self.write_text(global, to, (&text, &told), hashes).map(|()| status)
    }

    /// Writes the entries, or what makes those of a dump the same. What could not be written is
    /// told, and makes the status 1.
    ///
    /// # Errors
    /// The dump is at fault, or the text can't be written.
    pub fn put(
        &self,
        global: &Global,
        to: Option<&Path>,
        parts: Vec<Part<'_>>,
        hashes: bool,
    ) -> Result {
        let mut status = 0;
        for told in parts.iter().flat_map(|part| &part.entries.left_out) {
            errln!("left out: {}", crate::view::visible(told.as_bytes()));
            status = FOUND;
        }
        let count: usize = parts.iter().map(|part| part.entries.all.len()).sum();
        let (text, told) = match &self.changes_from {
            None => {
                let all: Vec<Entry> = parts.into_iter().flat_map(|part| part.entries.all).collect();
                (entries_text(&all), counted(count, "entry", "entries"))
            }
            Some(file) => {
                let dump = read_input(file)?;
                let mut all = Changes::default();
                for part in parts {
                    let at = (part.scope, part.place);
                    let found = changes(part.entries.all, &dump, at, hashes, part.is_here);
                    all.append(found.map_err(|faults| not_a_dump(file, &dump, faults))?);
                }
                if all.elsewhere > 0 {
                    errln!(
                        "left alone: {} elsewhere in the directory",
                        counted(all.elsewhere, "entry of that class", "entries of that class")
                    );
                }
                (changes_text(&all), counted(all.count(), "change", "changes"))
            }
        };
        self.write_text(global, to, (&text, &told), hashes).map(|()| status)
    }

    fn write_text(
        &self,
        global: &Global,
        to: Option<&Path>,
        (text, told): (&[u8], &str),
        hashes: bool,
    ) -> Result<()> {
        let Some(path) = to else {
            crate::output::flush();
            return std::io::stdout().lock().write_all(text).map_err(|error| {
                Failure::new(UNTOUCHED, "output", format!("it can't be written: {error}"))
            });
        };
        write_new(path, text, if hashes { 0o600 } else { 0o644 })?;
        if !global.quiet && !global.json() {
            let whose = if hashes { ", readable for root alone: it holds hashes" } else { "" };
            outln!("{}: {told}{whose}", path.display());
            let shown = quoted(path);
            match self.changes_from {
                None => outln!("next: ldapadd -x -D ADMIN -W -f {shown}"),
                Some(_) => outln!("next: ldapmodify -x -D ADMIN -W -f {shown}"),
            }
        }
        Ok(())
    }
}

/// Entries of one kind, and where they are.
pub struct Part<'d> {
    /// The entries.
    pub entries: Entries,
    /// Of what they are all.
    pub scope: Scope,
    /// What they are below.
    pub place: &'d str,
    /// Whether one of that name is here: then its entry does not go, wanted or not.
    pub is_here: &'d dyn Fn(&[u8]) -> bool,
}

impl<'d> Part<'d> {
    /// What users and groups are below.
    pub fn containers(directory: &'d Directory) -> Self {
        let entries = Entries { all: containers(directory), ..Entries::default() };
        let (scope, place) = (Scope::Containers, directory.people.as_str());
        Part { entries, scope, place, is_here: &|_| true }
    }
}

/// A dump that can't be gone by: everything that is wrong with it.
pub fn not_a_dump(file: &Path, dump: &[u8], faults: Vec<LdifFault>) -> Failure {
    let shown = file.display().to_string();
    let source = RosterSource::new(shown.as_str(), Form::Ldif, dump.to_vec());
    let told = faults
        .into_iter()
        .map(|fault| source.fault(fault.offset, None, Wrong::new(fault.message, fault.instead)));
    let message = format!("{shown} is no dump of a directory that can be gone by");
    let mut failure = Failure::new(REFUSED, "no-dump", message);
    failure.faults = told.collect();
    failure
}
