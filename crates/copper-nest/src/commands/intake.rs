//! `intake`.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use clap::ValueEnum;
use nest_core::plan::tables::{Among, Existing, Intake, Others, OthersBecome, intake};

use super::even::ALL;
use super::first_passwords::FirstPasswords;
use super::tables::{TableArgs, quoted};
use super::{Asks, Even, Failure, Global, Result, Session, USAGE, bytes, listed};
use crate::cli::whole;

/// Take in a table of users or groups: all of its rows as one change, or none.
///
/// The columns of CSV and the keys of JSON and TOML are named as the options of
/// create user and create group; docs/rosters.md lists them. A row without a name
/// gets one made from its full_name. Every row is looked at before anything is
/// touched, and everything that is wrong is told at once.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct IntakeArgs {
    /// The tables; - is standard input.
    #[arg(value_name = "FILE|-", required = true)]
    files: Vec<PathBuf>,
    #[command(flatten)]
    table: TableArgs,
    /// What becomes of rows that exist: refused, left as they are, or brought to
    /// the row.
    #[arg(long, value_enum, value_name = "refuse|keep|update", default_value = "refuse")]
    existing: ExistingArg,
    /// With --existing update: leave the groups, and take out the members, that no
    /// row asks for.
    #[arg(long)]
    exact_groups: bool,
    /// What becomes of accounts that no row names: they are told, suspended, or deleted and
    /// kept. Those who come back are resumed, or restored.
    #[arg(long, value_enum, value_name = "tell|suspend|delete")]
    others: Option<OthersArg>,
    /// With --others: only those in these groups; people for all people.
    #[arg(long, value_name = "GROUP,…|people", value_delimiter = ',', requires = "others")]
    among: Vec<OsString>,
    /// With --others: refuse where more would be suspended or deleted. A tenth of them if
    /// nothing is said, and at least 5.
    #[arg(long, value_name = "COUNT", requires = "others", value_parser = whole::<usize>)]
    not_more_than: Option<usize>,
    /// Make groups that are missing.
    #[arg(long)]
    groups_too: bool,
    /// Give each new account a first password that must be changed; FILE is made
    /// for it, readable for root alone.
    #[arg(long, value_name = "FILE")]
    passwords_to: Option<PathBuf>,
    /// Make no homes; only record their paths.
    #[arg(long, conflicts_with = "adopt_home")]
    no_home: bool,
    /// Take over homes that exist.
    #[arg(long, conflicts_with = "skeleton")]
    adopt_home: bool,
    /// What the homes are copies of; none for empty ones.
    #[arg(long, value_name = "DIR|none", conflicts_with = "no_home")]
    skeleton: Option<OsString>,
    #[command(flatten)]
    even: Even<ALL>,
}

/// Of more rows only the totals are told, unless more is asked for.
pub const MOST_DETAILED: usize = 1000;

const EXAMPLES: &str = "Examples:
  copper-nest intake crew.csv --dry-run
  copper-nest intake groups.csv crew.csv --existing update
  copper-nest intake crew.xlsx --existing update --others suspend --among crew
  copper-nest intake crew.csv --groups-too --passwords-to /root/first-passwords.csv";

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum ExistingArg {
    Refuse,
    Keep,
    Update,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum OthersArg {
    Tell,
    Suspend,
    Delete,
}

impl IntakeArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let mut request = self.request(global)?;
        // The record of a large table keeps the lines alone.
        request.detailed = global.dry_run
            || global.verbose > 0
            || request.existing == Existing::Update
            || request.roster.rows.len() <= MOST_DETAILED;
        let asks = match (self.others, request.existing) {
            (Some(OthersArg::Suspend | OthersArg::Delete), _) => Asks::First,
            (_, Existing::Update) => Asks::AtTerminal,
            _ => Asks::Nothing,
        };
        let first_passwords = match &self.passwords_to {
            None => None,
            Some(path) => {
                session.require_rights()?;
                let taken_in = session.before_asking(&[], |context| intake(context, &request))?;
                let file = FirstPasswords::prepare(path, global.dry_run, "intake FILE")?;
                if !global.dry_run {
                    request.hashes = file.fill(&session, &taken_in.newcomers)?;
                }
                Some(file)
            }
        };
        let status = session.carry_out(&request, asks, |context| {
            intake(context, &request).map(|taken_in| taken_in.plan)
        })?;
        if let Some(file) = first_passwords {
            file.keep(global, request.hashes.len());
        }
        // The process ends: freeing row by row would only take time.
        std::mem::forget(request);
        Ok(status)
    }

    fn request(&self, global: &Global) -> Result<Intake> {
        if self.exact_groups && self.existing != ExistingArg::Update {
            let message = "--exact-groups is about accounts that exist; it needs --existing update";
            return Err(Failure::new(USAGE, "usage", message));
        }
        if self.others.is_some() && self.existing == ExistingArg::Refuse {
            let message = "--others is about a table that names accounts that exist: say \
                           --existing keep or --existing update";
            return Err(Failure::new(USAGE, "usage", message));
        }
        if self.files.iter().filter(|file| file.as_path() == Path::new("-")).count() > 1 {
            return Err(Failure::new(USAGE, "usage", "standard input can be read once only"));
        }
        Ok(Intake {
            roster: self.table.read(global, &self.files)?,
            existing: match self.existing {
                ExistingArg::Refuse => Existing::Refuse,
                ExistingArg::Keep => Existing::Keep,
                ExistingArg::Update => Existing::Update,
            },
            others: self.others(),
            exact_groups: self.exact_groups,
            groups_too: self.groups_too,
            no_home: self.no_home,
            adopt_home: self.adopt_home,
            skeleton: self.skeleton.as_ref().map(bytes),
            first_passwords: self.passwords_to.is_some(),
            overrides: self.even.read(),
            again: self.again(),
            ..Intake::default()
        })
    }

    fn others(&self) -> Option<Others> {
        let what = match self.others? {
            OthersArg::Tell => OthersBecome::Told,
            OthersArg::Suspend => OthersBecome::Suspended,
            OthersArg::Delete => OthersBecome::Deleted,
        };
        let among = match self.among.as_slice() {
            [] => Among::People,
            [one] if one == "people" => Among::People,
            groups => Among::Groups(listed(groups)),
        };
        Some(Others { what, among, most: self.not_more_than })
    }

    /// The command as it was given, but for the option that says what becomes of
    /// rows that exist.
    fn again(&self) -> String {
        let files: Vec<String> = self.files.iter().map(|file| quoted(file)).collect();
        let mut again = format!("intake {}{}", files.join(" "), self.table.again());
        if let Some(others) = self.others {
            let value = others.to_possible_value();
            again +=
                &format!(" --others {}", value.as_ref().map_or("tell", |value| value.get_name()));
        }
        if !self.among.is_empty() {
            let among: Vec<String> =
                self.among.iter().map(|group| group.to_string_lossy().into_owned()).collect();
            again += &format!(" --among {}", shell_words::quote(&among.join(",")));
        }
        if let Some(most) = self.not_more_than {
            again += &format!(" --not-more-than {most}");
        }
        for (option, given) in [
            ("--groups-too", self.groups_too),
            ("--no-home", self.no_home),
            ("--adopt-home", self.adopt_home),
        ] {
            if given {
                again += &format!(" {option}");
            }
        }
        let skeleton = self.skeleton.as_deref().map(Path::new);
        for (option, path) in
            [("--passwords-to", self.passwords_to.as_deref()), ("--skeleton", skeleton)]
        {
            again += &path.map(|path| format!(" {option} {}", quoted(path))).unwrap_or_default();
        }
        again
    }
}
