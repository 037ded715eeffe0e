//! `repair`.

use std::cell::RefCell;
use std::ffi::OsString;
use std::path::Path;

use bstr::{BString, ByteSlice};
use clap::builder::NonEmptyStringValueParser;
use nest_core::check::{CheckReport, Rule, Selection, repair};
use nest_core::table::File;

use super::even::ALL;
use super::show_rule::find;
use super::{Asks, Even, Failure, Global, REFUSED, Result, Session, USAGE, bytes, read_input};
use crate::view::{self, findings};

/// Mend what has one right answer, and list what takes a decision.
///
/// Nobody gains access by it, and nothing is lost: what it takes out is in the
/// change's record, and undo brings it back. Homes that are missing are made only
/// with --only missing-home. A line that is at fault, and that only you can judge, is
/// written anew with --set, or taken out with --take-out.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct RepairArgs {
    /// Only what these rules find.
    #[arg(long, value_name = "RULE,…", value_delimiter = ',')]
    only: Vec<String>,
    /// Not what these rules find.
    #[arg(long, value_name = "RULE,…", value_delimiter = ',')]
    skip: Vec<String>,
    /// Take this line out, and do nothing else; more than one may be given.
    #[arg(long, value_name = "FILE:LINE", value_parser = NonEmptyStringValueParser::new())]
    take_out: Vec<String>,
    /// Put LINE in the place of one that is at fault, and do nothing else; - reads it from
    /// standard input. More than one may be given.
    #[arg(long, num_args = 2, value_names = ["FILE:LINE", "LINE"], allow_hyphen_values = true)]
    set: Vec<OsString>,
    /// Set aside what an account left that is gone, where only root gets, and do nothing
    /// else; more than one may be given.
    #[arg(long, value_name = "PATH")]
    set_aside: Vec<OsString>,
    /// Take the hours and places of an account out that is gone, and do nothing else; more than
    /// one may be given.
    #[arg(long, value_name = "FORMER")]
    drop_window: Vec<OsString>,
    #[command(flatten)]
    even: Even<ALL>,
}

const EXAMPLES: &str = "Examples:
  copper-nest repair --dry-run
  copper-nest repair --only stray-space,duplicate-member
  copper-nest repair --set etc/group:9 'pilots:x:210:odalys,tavish'
  copper-nest repair --take-out etc/passwd:17";

impl RepairArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let rules = |names: &[String]| -> Result<Vec<&'static Rule>> {
            names.iter().map(|name| find(name)).collect()
        };
        let only = rules(&self.only)?;
        if let Some(rule) = only.iter().find(|rule| !rule.is_mended()) {
            let message =
                format!("what {} finds takes a decision, and is not mended by repair", rule.name);
            return Err(Failure::new(REFUSED, "takes-a-decision", message)
                .or("see what there is to decide", format!("check --only {}", rule.name)));
        }
        let selection =
            Selection { only, skip: rules(&self.skip)?, files_only: false, in_brief: false };
        let take_out: Result<Vec<_>> = self.take_out.iter().map(|place| line_of(place)).collect();
        let (take_out, overrides) = (take_out?, self.even.read());
        let set = self.lines_to_set()?;
        let set_aside = self.set_aside.iter().map(bytes).collect();
        let drop_windows = self.drop_window.iter().map(bytes).collect();
        let request = nest_core::check::Repair {
            selection,
            take_out,
            set,
            set_aside,
            drop_windows,
            overrides,
        };
        let session = Session::open(global)?;
        let left: RefCell<Option<CheckReport>> = RefCell::default();
        let status = session.carry_out(&request, Asks::First, |context| {
            let repaired = repair(context, &request)?;
            if global.json() && request.is_of_all() {
                let left = repaired.left.findings.iter();
                let left: Vec<_> = left.map(|one| findings::finding_json(global, one)).collect();
                session.beside.replace(Some(("left", left.into())));
            }
            left.replace(Some(repaired.left));
            Ok(repaired.plan)
        })?;
        if let Some(left) = left.into_inner().filter(|_| request.is_of_all()) {
            tell_left(global, &left);
        }
        Ok(status)
    }
}

impl RepairArgs {
    /// The lines of `--set`, with their places.
    fn lines_to_set(&self) -> Result<Vec<(File, usize, BString)>> {
        let pairs = self.set.chunks_exact(2).map(|pair| {
            let place = pair[0].to_string_lossy();
            let (file, line) = line_of(&place)?;
            let text = match pair[1].as_encoded_bytes() {
                b"-" => read_input(Path::new("-"))?.trim_end_with(|c| c == '\n').into(),
                text => text.into(),
            };
            Ok((file, line, text))
        });
        pairs.collect()
    }
}

/// What repair leaves to the administrator.
fn tell_left(global: &Global, left: &CheckReport) {
    if global.json() || global.quiet || left.findings.is_empty() {
        return;
    }
    outln!();
    view::heading("left to you, as it takes a decision");
    outln!();
    if view::for_a_person(global) {
        findings::grouped(global, &left.findings, findings::most(false));
    } else {
        left.findings.iter().for_each(|finding| {
            outln!("{}", findings::one_line(finding));
            for remedy in &finding.remedies {
                if let Some(command) = view::remedy::pasteable(global, remedy) {
                    outln!("    {command}");
                }
            }
        });
    }
}

/// `etc/passwd:17`, as check prints it.
fn line_of(place: &str) -> Result<(File, usize)> {
    let parsed = place.rsplit_once(':').and_then(|(file, line)| {
        let file = file.trim_start_matches('/');
        let file = File::ALL.into_iter().find(|known| known.path() == file)?;
        Some((file, line.parse::<usize>().ok()?))
    });
    parsed.ok_or_else(|| {
        let message = format!("{place} is no line of an account file, such as etc/passwd:17");
        Failure::new(USAGE, "usage", message)
    })
}
