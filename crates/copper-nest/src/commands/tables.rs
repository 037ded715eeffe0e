//! Tables of the administrator's: how they are read.

use std::path::{Path, PathBuf};

use clap::ValueEnum;
use nest_core::roster::{DateOrder, Form, ReadingOptions, Roster, RosterSource};

use super::{Failure, Global, REFUSED, Result, USAGE, read_input};
use crate::prompt;

/// How a table is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum FormArg {
    Csv,
    Json,
    Toml,
    Ldif,
}

impl From<FormArg> for Form {
    fn from(form: FormArg) -> Form {
        match form {
            FormArg::Csv => Form::Csv,
            FormArg::Json => Form::Json,
            FormArg::Toml => Form::Toml,
            FormArg::Ldif => Form::Ldif,
        }
    }
}

/// How tables are read.
#[derive(Debug, clap::Args)]
pub struct TableArgs {
    /// How they are written, where the ending does not say so.
    #[arg(long, value_enum, value_name = "csv|json|toml|ldif|xlsx|xls|ods")]
    from: Option<FromArg>,
    /// Which sheet of a spreadsheet; the first, if none is named.
    #[arg(long, value_name = "SHEET")]
    sheet: Option<String>,
    /// What stands between the values of CSV; else that is told from the header.
    #[arg(long, value_name = "CHAR|tab")]
    separator: Option<String>,
    /// Columns that are passed over.
    #[arg(long, value_name = "NAME,…", value_delimiter = ',')]
    ignore_columns: Vec<String>,
    /// Pass over every column that is not known, and say which.
    #[arg(long)]
    ignore_unknown: bool,
    /// In which order days are written like 31.03.2027 or 3/31/2027.
    #[arg(long, value_enum, value_name = "dmy|mdy")]
    dates: Option<DatesArg>,
}

/// How a table to be read is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum FromArg {
    Csv,
    Json,
    Toml,
    Ldif,
    Xlsx,
    Xls,
    Ods,
}

impl FromArg {
    /// The form; nothing for a spreadsheet.
    fn form(self) -> Option<Form> {
        match self {
            FromArg::Csv => Some(Form::Csv),
            FromArg::Json => Some(Form::Json),
            FromArg::Toml => Some(Form::Toml),
            FromArg::Ldif => Some(Form::Ldif),
            FromArg::Xlsx | FromArg::Xls | FromArg::Ods => None,
        }
    }
}

/// Whether a file is one of a spreadsheet program by its name.
fn is_sheet(file: &Path) -> bool {
    let ending = file.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    ["xlsx", "xlsm", "xls", "ods"].iter().any(|known| ending.eq_ignore_ascii_case(known))
}

/// In which order days are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum DatesArg {
    Dmy,
    Mdy,
}

impl TableArgs {
    /// Reads tables. Whoever is at a terminal is asked whether a title that is nearly a column's
    /// is meant as that.
    pub fn read(&self, global: &Global, files: &[PathBuf]) -> Result<Roster> {
        let sources = || -> Result<Vec<RosterSource>> {
            files.iter().map(|file| self.source(file, "intake")).collect()
        };
        let mut options = ReadingOptions {
            ignored: self.ignore_columns.clone(),
            ignores_unknown: self.ignore_unknown,
            dates: self.dates.map(|order| match order {
                DatesArg::Dmy => DateOrder::Dmy,
                DatesArg::Mdy => DateOrder::Mdy,
            }),
            meant: Vec::new(),
        };
        let roster = Roster::read_with(sources()?, &options);
        let at_terminal = prompt::somebody_is_there();
        let from_stdin = files.iter().any(|file| file.as_path() == Path::new("-"));
        if roster.near.is_empty() || !at_terminal || global.yes || from_stdin {
            return Ok(roster);
        }
        for (title, column) in &roster.near {
            let question = format!("There is no column {title:?}. Is it {column}?");
            if is_confirmed(&question) {
                options.meant.push((title.clone(), *column));
            }
        }
        match options.meant.is_empty() {
            true => Ok(roster),
            false => Ok(Roster::read_with(sources()?, &options)),
        }
    }

    /// One of the tables.
    fn source(&self, file: &Path, command: &str) -> Result<RosterSource> {
        let by_option = self.from.map(FromArg::form);
        if by_option.map_or_else(|| is_sheet(file), |form| form.is_none()) {
            let shown = shown(file);
            let read =
                RosterSource::of_sheet(shown.as_str(), read_input(file)?, self.sheet.as_deref());
            return read.map_err(|fault| {
                let message = format!("nothing was taken in: {shown}: {fault}");
                Failure::new(REFUSED, "no-sheet", message)
            });
        }
        if self.sheet.is_some() {
            let message = format!("--sheet is about spreadsheets, and {} is none", shown(file));
            return Err(Failure::new(USAGE, "usage", message));
        }
        let source = source(file, by_option.flatten(), command)?;
        match self.separator.as_deref() {
            None => Ok(source),
            Some("tab") => Ok(source.separated_by(b'\t')),
            Some(separator) => match separator.as_bytes() {
                [separator] if !separator.is_ascii_alphanumeric() && *separator != b'"' => {
                    Ok(source.separated_by(*separator))
                }
                _ => {
                    let message = format!(
                        "\"{separator}\" can't stand between values: it is one sign, or tab"
                    );
                    Err(Failure::new(USAGE, "usage", message))
                }
            },
        }
    }

    /// The options as they were given.
    pub fn again(&self) -> String {
        let mut again = String::new();
        if let Some(from) = self.from {
            let value = from.to_possible_value();
            again += &format!(" --from {}", value.as_ref().map_or("csv", |value| value.get_name()));
        }
        if let Some(sheet) = &self.sheet {
            again += &format!(" --sheet {}", shell_words::quote(sheet));
        }
        if let Some(separator) = &self.separator {
            again += &format!(" --separator {}", shell_words::quote(separator));
        }
        if !self.ignore_columns.is_empty() {
            let names = self.ignore_columns.join(",");
            again += &format!(" --ignore-columns {}", shell_words::quote(&names));
        }
        if self.ignore_unknown {
            again += " --ignore-unknown";
        }
        match self.dates {
            None => {}
            Some(DatesArg::Dmy) => again += " --dates dmy",
            Some(DatesArg::Mdy) => again += " --dates mdy",
        }
        again
    }
}

/// Whether whoever is at the terminal says yes.
fn is_confirmed(question: &str) -> bool {
    matches!(prompt::agrees(question, true), Ok(true))
}

/// A table of the administrator's, for a command.
pub fn source(file: &Path, from: Option<Form>, command: &str) -> Result<RosterSource> {
    let ending = file.extension().and_then(|ending| ending.to_str());
    let by_ending = ending.and_then(|ending| ending.to_ascii_lowercase().parse().ok());
    let form = from.or(by_ending).ok_or_else(|| {
        let message = match file == Path::new("-") {
            true => "it can't be told how standard input is written".to_owned(),
            false => format!(
                "it can't be told how {} is written: it ends in none of .csv, .json, .toml and .ldif",
                file.display()
            ),
        };
        Failure::new(REFUSED, "form", message)
            .or("say so", format!("{command} {} --from csv", quoted(file)))
    })?;
    Ok(RosterSource::new(shown(file), form, read_input(file)?))
}

/// How a file is named in messages.
fn shown(file: &Path) -> String {
    match file == Path::new("-") {
        true => "standard input".to_owned(),
        false => file.display().to_string(),
    }
}

/// A path as a shell takes it.
pub fn quoted(path: &Path) -> String {
    shell_words::quote(&path.to_string_lossy()).into_owned()
}
