//! What of a new file could not be set.

/// Something of a new file that could not be set, and why.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, thiserror::Error)]
pub enum Undone {
    /// Only root may.
    #[error("not set, for lack of the right to: {0}")]
    Right(String),
    /// The file system has no place for it.
    #[error("not set, as the file system keeps no such thing: {0}")]
    FileSystem(String),
    /// The kernel's policy has no such label.
    #[error("not set, as the policy that the kernel goes by knows no such label: {0}")]
    Policy(String),
    /// It is reached by way of `/proc` alone.
    #[error("not set, as there is no /proc to reach it by: {0}")]
    Unreachable(String),
}
