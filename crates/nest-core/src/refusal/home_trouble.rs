//! Why a home can't be had: made, taken over, or moved.

use bstr::BString;
use strum::IntoStaticStr;

use crate::surroundings::SkeletonFault;
use crate::value::FileKind;

/// What is wrong with a home. The words stand here.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum HomeTrouble {
    /// A home is to be made, and there is one.
    #[error("its home {home} is there already")]
    HasHome { home: BString },
    /// The home is there.
    #[error("{path} exists already: {kind}, owned by {owner}")]
    HomeExists { path: BString, kind: FileKind, owner: BString },
    /// Something that can't be taken over as a home.
    #[error("{path} can't be adopted: {fault}")]
    NothingToAdopt { path: BString, fault: String },
    /// The parent is not there.
    #[error("the home {home} can't be made: {parent} {fault}")]
    HomeParent { home: BString, parent: BString, fault: String },
    /// A link on the way.
    #[error("the way to the home {home} goes through the link {link}")]
    HomeThroughLink { home: BString, link: BString },
    /// The skeleton can't be copied.
    #[error("the skeleton {path} {fault}")]
    Skeleton { path: BString, fault: SkeletonFault },
    /// Keys without a home to keep them.
    #[error("an SSH key needs a home to be kept in, and none is made")]
    KeyWithoutHome,
    /// A home that can't be moved.
    #[error("its home can't be moved: {0}")]
    HomeNotMovable(String),
}
