//! `show policy`.

use std::cell::RefCell;

use nest_core::book::Lookups;
use nest_core::policy::{KEYS, Policy, PolicyKey, SettingSource};
use nest_core::request::Request;
use nest_core::suggest::{Suggested, suggest};
use nest_core::words::{agree, counted};
use serde_json::{Value, json};

use super::{Asks, Format, Global, Result, Session};
use crate::failure::{Failure, REFUSED, USAGE};
use crate::view::{self, style, visible};

/// Show every setting, its value, and where it comes from; or which would suit the tree.
#[derive(Debug, clap::Args)]
#[command(name = "policy", after_help = EXAMPLES)]
pub struct ShowPolicy {
    /// Show the settings that would suit the tree better than the built-in ones, by what it has:
    /// its people, their homes and shells, its groups, what is there and what not.
    #[arg(long)]
    suggest: bool,
    /// With --suggest: write them to etc/copper-nest/policy.toml, where there is none.
    #[arg(long, requires = "suggest")]
    write: bool,
}

const EXAMPLES: &str = "Examples:
  copper-nest show policy
  copper-nest show policy --verbose      with what each setting means
  copper-nest show policy --format toml  as a file that can be used
  copper-nest show policy --suggest      what would suit this system";

/// What is suggested is to be written.
struct Write;

impl Request for Write {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }
}

impl ShowPolicy {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        if self.write {
            return write(global);
        }
        let idle = [("--dry-run", global.dry_run), ("--note", global.note.is_some())];
        if let Some((option, _)) = idle.into_iter().find(|(_, given)| *given) {
            let message = format!("{option} does nothing with show policy but with --write");
            return Err(Failure::new(USAGE, "usage", message));
        }
        let session = Session::open_anyway(global)?;
        if self.suggest {
            return show_suggested(&session, global);
        }
        let policy = &session.policy;
        if global.format == Format::Toml {
            print_file(policy);
            return Ok(0);
        }
        if global.json() {
            view::print_json("policy", &json!({"settings": settings(policy)}));
            return Ok(0);
        }
        let rows: Vec<_> = KEYS.iter().map(|key| (key, (key.get)(policy))).collect();
        let names = rows.iter().map(|(key, _)| key.last().len()).max().unwrap_or(0);
        let values = rows.iter().map(|(_, value)| value.chars().count()).max().unwrap_or(0).min(34);
        let (quiet, heading) = (style::QUIET, style::HEADING);
        let mut section = "";
        for (key, value) in rows {
            if key.section() != section {
                if !section.is_empty() {
                    outln!();
                }
                section = key.section();
                outln!("{heading}[{section}]{heading:#}");
            }
            let source = source_of(policy, key);
            outln!("  {:names$}   {value:values$}   {quiet}{source}{quiet:#}", key.last());
            if global.verbose > 0 {
                outln!("  {:names$}   {quiet}{}{quiet:#}", "", key.meaning);
            }
        }
        Ok(0)
    }
}

/// Every setting for machines, with where it comes from.
pub fn settings(policy: &Policy) -> Vec<Value> {
    let one = |key: &PolicyKey| {
        let (file, line) = match policy.source(key.name) {
            SettingSource::BuiltIn => (None, None),
            SettingSource::File { file, line } => (Some(file), Some(line)),
        };
        json!({
            "key": key.name,
            "value": key.value(policy),
            "source": if file.is_some() { "file" } else { "built-in" },
            "file": file,
            "line": line,
            "meaning": key.meaning,
        })
    };
    KEYS.iter().map(one).collect()
}

/// Where the value of a setting comes from.
pub fn source_of(policy: &Policy, key: &PolicyKey) -> String {
    match policy.source(key.name) {
        SettingSource::BuiltIn => "built in".to_owned(),
        SettingSource::File { file, line } => format!("{file}:{line}"),
    }
}

/// Shows what would suit the tree.
fn show_suggested(session: &Session<'_>, global: &Global) -> Result {
    let loaded = session.load()?;
    let world = session.world_to_look_at()?;
    let suggested = suggest(session.context(&loaded, &world));
    let Suggested { system, people, suggestions, settled } = &suggested;
    if global.format == Format::Toml {
        outln!("{}", suggested.file().trim_end());
        return Ok(0);
    }
    let built_in = Policy::default();
    if global.json() {
        let all: Vec<_> = suggestions
            .iter()
            .map(|suggestion| {
                let key = suggestion.key();
                json!({
                    "key": key.name,
                    "built_in": key.value(&built_in),
                    "value": suggestion.value,
                    "why": suggestion.why,
                })
            })
            .collect();
        let system = (!system.is_empty()).then_some(system);
        view::print_json(
            "suggestions",
            &json!({"system": system, "people": people, "settled": settled, "suggestions": all}),
        );
        return Ok(0);
    }
    let of = match system.is_empty() {
        true => String::new(),
        false => format!("{}, ", visible(system.as_bytes())),
    };
    outln!("{of}{} looked at", counted(*people, "person", "people"));
    let (plus, minus, quiet, heading) = (style::GOOD, style::BAD, style::QUIET, style::HEADING);
    let mut section = "";
    for suggestion in suggestions {
        let key = suggestion.key();
        if key.section() != section {
            section = key.section();
            outln!("\n{heading}[{section}]{heading:#}");
        }
        let name = key.last();
        outln!("{minus}- {name} = {}{minus:#}", (key.get)(&built_in));
        outln!("{plus}+ {name} = {}{plus:#}", visible(suggestion.value.as_bytes()));
        outln!("  {quiet}{}{quiet:#}", visible(suggestion.why.as_bytes()));
    }
    outln!();
    if *settled > 0 {
        let (many, them) = (counted(*settled, "more", "more"), agree(settled, "it", "them"));
        outln!("{many} would be otherwise, but the policy of the tree sets {them}");
    }
    if suggestions.is_empty() {
        outln!("the built-in settings suit it");
        return Ok(0);
    }
    let many = counted(suggestions.len(), "setting", "settings");
    match has_policy(session)? {
        false => {
            let command = global.command("show policy --suggest --write");
            outln!("nothing was written; to write these {many} to etc/copper-nest/policy.toml:");
            outln!("  {command}");
        }
        true => {
            let command = global.command("show policy --suggest --format toml");
            outln!("nothing was written; etc/copper-nest/policy.toml is yours: as lines for it,");
            outln!("  {command}");
        }
    }
    Ok(0)
}

/// Whether the tree has a policy of its own.
fn has_policy(session: &Session<'_>) -> Result<bool> {
    use nest_core::surroundings::Surroundings;
    let world = session.world_to_look_at()?;
    let found = world.facts("/etc/copper-nest/policy.toml".into());
    let unknown =
        |why| Failure::new(REFUSED, "refused", format!("etc/copper-nest/policy.toml: {why}"));
    Ok(found.map_err(unknown)?.is_some())
}

/// Writes what would suit the tree, as a change like any other.
fn write(global: &Global) -> Result {
    let session = Session::open(global)?;
    if has_policy(&session)? {
        let way = global.command("show policy --suggest --format toml");
        let message = format!(
            "nothing was written: etc/copper-nest/policy.toml is there already, and stays as you made it\n\
             To see what could go into it: {way}"
        );
        return Err(Failure::new(REFUSED, "refused", message));
    }
    let shown = RefCell::new(false);
    session.carry_out(&Write, Asks::Nothing, |context| {
        let suggested = suggest(context);
        if !global.json()
            && !global.quiet
            && !shown.replace(true)
            && !suggested.suggestions.is_empty()
        {
            outln!("{}", suggested.file());
        }
        Ok(suggested.plan(context))
    })
}

/// The policy in force as a file, with what each setting means.
fn print_file(policy: &Policy) {
    let mut section = "";
    for key in KEYS {
        if key.section() != section {
            if !section.is_empty() {
                outln!();
            }
            section = key.section();
            outln!("[{section}]");
        }
        for line in view::wrap(key.meaning, 90) {
            outln!("# {line}");
        }
        outln!("{} = {}", key.last(), (key.get)(policy));
    }
}
