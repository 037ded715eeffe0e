//! How bad a finding is.

use strum::{Display, EnumString, IntoStaticStr};

/// How bad a finding is. Each rule has one, which the policy may set otherwise.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Display, EnumString, IntoStaticStr,
)]
#[strum(serialize_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Note,
    /// Should be looked at.
    Warning,
    /// Broken, or dangerous.
    Error,
}
