//! Why a line is not taken out.

use strum::IntoStaticStr;

use bstr::BString;

use crate::table::File;

/// A line, or something that was left, that can't be mended as it was asked, and why.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum LineTrouble {
    /// There is none of this number.
    #[error("{} has {count} lines", .file.path())]
    NoSuchLine { file: File, count: usize },
    /// No rule finds fault with it: what it is about is deleted by its own command.
    #[error(
        "nothing is wrong with {}:{line} that taking it out would mend; \
         an account is deleted by delete user, a group by delete group",
        .file.path()
    )]
    LineInOrder { file: File, line: usize },
    /// The line that was to come in its place could not be read either.
    #[error("the line that was given {fault}: programs would not read it as one of {}", .file.path())]
    Unfit { file: File, fault: String },
    /// No rule finds fault with it: each part of it has its own command.
    #[error(
        "nothing is wrong with {}:{line}; what is in order is changed by change user, change group \
         and the like",
        .file.path()
    )]
    NothingToSet { file: File, line: usize },
    /// It is somebody's, or the system's.
    #[error("{path} {fault}")]
    NotToBeSetAside { path: BString, fault: String },
    /// Hours and places of an account that is there.
    #[error("there is an account {name}: its hours and places are changed by change user")]
    WindowOfSomebody { name: BString },
    /// Hours and places that nobody has.
    #[error("there are no hours and no places of {name}")]
    NoWindow { name: BString },
}
