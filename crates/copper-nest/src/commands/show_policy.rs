//! `show policy`.

use nest_core::policy::{KEYS, Policy, SettingSource};
use serde_json::json;

use super::{Format, Global, Result, Session};
use crate::view::{self, style};

/// Show every setting, its value, and where it comes from.
#[derive(Debug, clap::Args)]
#[command(name = "policy", after_help = EXAMPLES)]
pub struct ShowPolicy {}

const EXAMPLES: &str = "Examples:
  copper-nest show policy
  copper-nest show policy --verbose      with what each setting means
  copper-nest show policy --format toml  as a file that can be used";

impl ShowPolicy {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open_anyway(global)?;
        let policy = &session.policy;
        if global.format == Format::Toml {
            print_file(policy);
            return Ok(0);
        }
        if global.json() {
            let settings: Vec<_> = KEYS
                .iter()
                .map(|key| {
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
                })
                .collect();
            view::print_json(&json!(settings));
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
            let source = match policy.source(key.name) {
                SettingSource::BuiltIn => "built in".to_owned(),
                SettingSource::File { file, line } => format!("{file}:{line}"),
            };
            outln!("  {:names$}   {value:values$}   {quiet}{source}{quiet:#}", key.last());
            if global.verbose > 0 {
                outln!("  {:names$}   {quiet}{}{quiet:#}", "", key.meaning);
            }
        }
        Ok(0)
    }
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
