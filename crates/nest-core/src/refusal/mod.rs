//! Requests that are not planned: what did not happen, why, and the way round.

mod home_trouble;
mod key_trouble;
mod line_trouble;
mod not_kept;
mod reason;

pub use home_trouble::HomeTrouble;
pub use key_trouble::KeyTrouble;
pub use line_trouble::LineTrouble;
pub use not_kept::NotKept;
pub use reason::Reason;

/// What comes of a request that may be refused.
pub type Result<T, E = Box<Refusal>> = std::result::Result<T, E>;

/// A request that was refused. Nothing was changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what}: {reason}")]
pub struct Refusal {
    /// What did not happen: `maren was not created`.
    pub what: String,
    /// Why.
    pub reason: Reason,
    /// What to do instead.
    pub ways: Vec<Way>,
}

/// A way round a refusal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    /// What it does, in a few words.
    pub label: String,
    /// The command, without the program's name and global options; or what `is` says.
    pub text: String,
    /// What the text is.
    pub is: WayIs,
}

/// What the text of a way round is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WayIs {
    /// A command.
    Command,
    /// An option, to be given with the same command again.
    Option,
    /// A word, to be given with the same command in the place of another.
    Instead {
        /// The word that was given.
        of: String,
    },
    /// What to look at or edit, in words.
    Words,
}

impl Refusal {
    /// A refusal without a way round; [`Refusal::or`] adds them.
    pub fn new(what: impl Into<String>, reason: Reason) -> Box<Self> {
        Box::new(Refusal { what: what.into(), reason, ways: Vec::new() })
    }

    /// Adds a way round that is a command.
    #[must_use]
    pub fn or(self: Box<Self>, label: impl Into<String>, command: impl Into<String>) -> Box<Self> {
        self.with(label.into(), command.into(), WayIs::Command)
    }

    /// Adds a way round that is the same command with an option.
    #[must_use]
    pub fn or_again(
        self: Box<Self>,
        label: impl Into<String>,
        option: impl Into<String>,
    ) -> Box<Self> {
        self.with(label.into(), option.into(), WayIs::Option)
    }

    /// Adds a way round that is the same command with a word in the place of another.
    #[must_use]
    pub fn or_instead(
        self: Box<Self>,
        label: impl Into<String>,
        of: impl Into<String>,
        word: impl Into<String>,
    ) -> Box<Self> {
        self.with(label.into(), word.into(), WayIs::Instead { of: of.into() })
    }

    /// Adds a way round that is no command.
    #[must_use]
    pub fn or_else(
        self: Box<Self>,
        label: impl Into<String>,
        text: impl Into<String>,
    ) -> Box<Self> {
        self.with(label.into(), text.into(), WayIs::Words)
    }

    fn with(mut self: Box<Self>, label: String, text: String, is: WayIs) -> Box<Self> {
        self.ways.push(Way { label, text, is });
        self
    }

    /// Whether the cause is damage in an account file, which has an exit status
    /// of its own.
    pub fn is_damage(&self) -> bool {
        matches!(self.reason, Reason::Damaged { .. } | Reason::Empty { .. })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::File;

    #[test]
    fn damage_is_told_apart_and_ways_keep_their_order() {
        let refusal = Refusal::new("maren was not created", Reason::Empty(File::Passwd))
            .or("first", "show policy")
            .or_else("second", "the policy");
        assert!(refusal.is_damage());
        assert_eq!(
            refusal.ways.iter().map(|way| way.is.clone()).collect::<Vec<_>>(),
            [WayIs::Command, WayIs::Words]
        );
        assert!(!Refusal::new("x", Reason::NameTwice).is_damage());
        let kind: &'static str = (&Reason::NameTwice).into();
        assert_eq!(kind, "name-twice");
    }
}
