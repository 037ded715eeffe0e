//! What kind of thing a file is.

/// What kind of thing stands at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display)]
#[allow(missing_docs)]
pub enum FileKind {
    #[strum(serialize = "a directory")]
    Directory,
    #[strum(serialize = "a file")]
    File,
    #[strum(serialize = "a link")]
    Link,
    #[strum(serialize = "a fifo")]
    Fifo,
    #[strum(serialize = "a socket")]
    Socket,
    #[strum(serialize = "a device")]
    Device,
}
