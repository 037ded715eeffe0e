//! Writing the line of an account's own.

use bstr::{BStr, BString, ByteSlice};
use strum::IntoStaticStr;

use super::pam::{enforcing, line_for};
use super::{
    ACCESS, ACCESS_MORE, EnforceTrouble, Half, Hours, HoursFault, Places, PlacesFault, TIME,
    Windows, access_rules, own, time_rules,
};
use crate::configuration::ConfigFiles;
use crate::text_edit::LineChange;

/// A file, and what happens to lines of it.
pub(crate) struct FileEdit {
    pub path: String,
    pub lines: Vec<LineChange>,
}

/// Why an account can't have a window.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum WindowTrouble {
    /// Hours that can't be read.
    #[error("the hours can't be read: {0}")]
    #[strum(serialize = "bad-hours")]
    Hours(#[from] HoursFault),
    /// Places that can't be read.
    #[error("the places can't be read: {0}")]
    #[strum(serialize = "bad-places")]
    Places(#[from] PlacesFault),
    /// A name that the file can't hold.
    #[error("{file} can't hold the name {name}: a sign or a word in it means something else there")]
    NameMeansOther { file: &'static str, name: BString },
    /// A file that can't be read.
    #[error("{path} {why}")]
    RulesUnreadable { path: String, why: String },
    /// The file is that of the system's maker.
    #[error(
        "the rules are in {vendors}, which comes with the system; a file of yours, {path}, would take its place: copy it there first"
    )]
    VendorsRules { vendors: &'static str, path: &'static str },
    /// A service can't be made to ask.
    #[error(transparent)]
    #[strum(serialize = "not-enforced")]
    Enforce(#[from] EnforceTrouble),
    /// There is nothing that a service could be made to ask about.
    #[error("{0} has neither hours nor places that a service could ask about")]
    NothingToEnforce(BString),
    /// Nowhere to write.
    #[error(
        "there is no etc/security, where the rules of the system's modules are: none seem to be installed"
    )]
    NoFolder,
}

/// What one half of a window is to be; the line of the account's own says it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Line {
    Hours(Option<Hours>),
    Places(Option<Places>),
}

impl Line {
    pub fn half(&self) -> Half {
        match self {
            Line::Hours(_) => Half::Hours,
            Line::Places(_) => Half::Places,
        }
    }

    /// The line as the file has it.
    fn text(&self, name: &BStr) -> Option<BString> {
        let text = match self {
            Line::Hours(hours) => format!("*;*;{name};{}", hours.as_ref()?.field()),
            Line::Places(places) => format!("-:{name}:ALL EXCEPT {}", places.as_ref()?.field()),
        };
        Some(text.into())
    }

    /// The edit that makes the line of an account's own say it.
    ///
    /// # Errors
    /// Why it can't be written.
    pub fn write(&self, files: &dyn ConfigFiles, name: &BStr) -> Result<FileEdit, WindowTrouble> {
        put(files, self.half(), name, self.text(name))
    }
}

/// The edit that puts a line in the place of an account's own, or takes that out.
fn put(
    files: &dyn ConfigFiles,
    half: Half,
    name: &BStr,
    line: Option<BString>,
) -> Result<FileEdit, WindowTrouble> {
    let ([path, vendors], can_hold) = match half {
        Half::Hours => (TIME, time_rules::can_hold as fn(&[u8]) -> bool),
        Half::Places => (ACCESS, access_rules::can_hold as fn(&[u8]) -> bool),
    };
    if line.is_some() && !can_hold(name) {
        return Err(WindowTrouble::NameMeansOther { file: path, name: name.into() });
    }
    let read = |path: &str| {
        let unreadable = |why| WindowTrouble::RulesUnreadable { path: path.to_owned(), why };
        files.read(path.into()).map_err(unreadable)
    };
    let mut text = read(path)?;
    if text.is_none() && line.is_some() && read(vendors)?.is_some() {
        return Err(WindowTrouble::VendorsRules { vendors, path });
    }
    let mut path = path.to_owned();
    let has_it = |text: &Option<Vec<u8>>| {
        text.as_ref().is_some_and(|text| !own::own_lines(text, half, name).is_empty())
    };
    // A line that stands in the folder beside the file is altered there.
    if half == Half::Places && !has_it(&text) {
        let unreadable = |why| {
            let path = ACCESS_MORE.to_owned();
            WindowTrouble::RulesUnreadable { path, why }
        };
        for more in files.named(ACCESS_MORE.into()).map_err(unreadable)? {
            let more = more.to_str_lossy().into_owned();
            let other = read(&more)?;
            if has_it(&other) {
                (path, text) = (more, other);
                break;
            }
        }
    }
    let lines = own::replacing(text.as_deref().unwrap_or(b""), half, name, line);
    Ok(FileEdit { path, lines })
}

/// An account's own line, as it stands there.
pub(crate) fn own_line(
    files: &dyn ConfigFiles,
    windows: &Windows,
    half: Half,
    name: &BStr,
) -> Option<BString> {
    let mut marks = windows.owners().filter(|(of, owner, _)| (*of, *owner) == (half, name));
    let (.., place) = marks.next()?;
    let text = files.read(place.file.as_bstr()).ok()??;
    own::own_lines(&text, half, name).get(1).map(|line| BString::from(*line))
}

/// The edit that gives an account a line that was its own under another name.
///
/// # Errors
/// Why it can't be written.
pub(crate) fn give_back(
    files: &dyn ConfigFiles,
    half: Half,
    line: &BStr,
    (old, new): (&BStr, &BStr),
) -> Result<FileEdit, WindowTrouble> {
    put(files, half, new, Some(own::renamed(line, old, new)))
}

/// The edits by which the lines of an account's own go to another name, or go altogether.
pub(crate) fn renaming(
    files: &dyn ConfigFiles,
    windows: &Windows,
    old: &BStr,
    new: Option<&BStr>,
) -> Result<Vec<FileEdit>, WindowTrouble> {
    let mut edits: Vec<FileEdit> = Vec::new();
    for (half, _, place) in windows.owners().filter(|(_, name, _)| *name == old) {
        let path = place.file.to_string();
        if edits.iter().any(|edit| edit.path == path) {
            continue;
        }
        let unreadable = |why| WindowTrouble::RulesUnreadable { path: path.clone(), why };
        let text = files.read(place.file.as_bstr()).map_err(unreadable)?.unwrap_or_default();
        let lines = match new {
            None => own::replacing(&text, half, old, None),
            Some(new) => {
                let can_hold = match half {
                    Half::Hours => time_rules::can_hold(new),
                    Half::Places => access_rules::can_hold(new),
                };
                if !can_hold {
                    let file = if half == Half::Hours { TIME[0] } else { ACCESS[0] };
                    return Err(WindowTrouble::NameMeansOther { file, name: new.into() });
                }
                let lines = own::own_lines(&text, half, old).into_iter();
                let renamed = lines.map(|line| LineChange {
                    was: Some(line.into()),
                    becomes: Some(own::renamed(line, old, new)),
                    before: None,
                });
                renamed.collect()
            }
        };
        edits.push(FileEdit { path, lines });
    }
    Ok(edits)
}

/// The edit by which a service asks about one half; `is_installed` says whether a module is
/// there.
///
/// # Errors
/// Why there is none.
pub(crate) fn enforce(
    files: &dyn ConfigFiles,
    is_installed: impl Fn(&str) -> bool,
    service: &str,
    half: Half,
) -> Result<FileEdit, EnforceTrouble> {
    let (path, line) = enforcing(files, is_installed, service, half)?;
    Ok(FileEdit { path, lines: vec![line] })
}

/// The line that a service would need to ask about one half.
pub(crate) fn line_that_asks(half: Half) -> String {
    line_for(half)
}
