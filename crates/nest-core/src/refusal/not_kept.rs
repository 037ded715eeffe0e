//! Why nothing that is kept of deleted accounts answers a request.

use bstr::BString;
use strum::IntoStaticStr;

use crate::value::UserOrGroup;
use crate::words::nearest;

/// Why nothing that is kept answers a request.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum NotKept {
    /// Without state nothing is kept.
    #[error("with --state none nothing is kept to restore from")]
    NothingIsKept,
    /// What is kept can't be read.
    #[error("what is kept of deleted accounts can't be read: {0}")]
    KeptUnreadable(String),
    /// Nothing of that name is kept.
    #[error("no deleted {thing} {name} is kept{}", nearest(.near))]
    NoneKept { thing: UserOrGroup, name: BString, near: Option<BString> },
    /// Lines alone are kept, which no account or group went with.
    #[error("of the {thing} {name} only lines are kept, which repair took out or rewrote")]
    LinesOnly { thing: UserOrGroup, name: BString },
    /// Several of that name are kept.
    #[error("{count} of the name {name} were deleted and are kept")]
    SeveralKept { name: BString, count: usize },
    /// What is kept belongs to an account that is there.
    #[error("the {thing} {name} is there again, and what is kept is its own")]
    LiveAgain { thing: UserOrGroup, name: BString },
}
