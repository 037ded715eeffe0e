//! What was decided about an account, and why.

use std::borrow::Cow;

use bstr::BString;
use serde::{Deserialize, Serialize};

use crate::retired::BelongingKind;
use crate::value::escaped;

/// What a decision is about, in a word or two. Those that the program itself looks for among
/// decisions are named here.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Label(Cow<'static, str>);

#[expect(missing_docs, reason = "each is the word of its name")]
impl Label {
    pub const ROW: Label = Label(Cow::Borrowed("row"));
    pub const UID: Label = Label(Cow::Borrowed("uid"));
    pub const GID: Label = Label(Cow::Borrowed("gid"));
    pub const HOME: Label = Label(Cow::Borrowed("home"));
    pub const COMES_TO: Label = Label(Cow::Borrowed("comes to"));
    pub const MAIL: Label = Label(Cow::Borrowed("mail"));
    pub const MEMBER_OF: Label = Label(Cow::Borrowed("member of"));
    pub const PRIMARY: Label = Label(Cow::Borrowed("primary"));
    pub const JOINS: Label = Label(Cow::Borrowed("joins"));
    pub const RANGES: Label = Label(Cow::Borrowed("ranges"));
    pub const RUNS: Label = Label(Cow::Borrowed("runs"));
    pub const ENDS: Label = Label(Cow::Borrowed("ends"));
    pub const SIGN_IN: Label = Label(Cow::Borrowed("sign-in"));

    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl From<&'static str> for Label {
    fn from(word: &'static str) -> Self {
        Label(Cow::Borrowed(word))
    }
}

impl From<BelongingKind> for Label {
    fn from(kind: BelongingKind) -> Self {
        <&'static str>::from(kind).into()
    }
}

/// The decisions about one account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subject {
    /// Its name.
    #[serde(with = "escaped::text")]
    pub name: BString,
    /// The decisions, in the order in which they are shown.
    pub decisions: Vec<Decision>,
    /// What becomes of the row of a table that it is about, in a word or two.
    #[serde(skip)]
    pub row: &'static str,
    /// Where that row stands: `row 2 of crew.csv`.
    #[serde(skip)]
    pub place: String,
    /// Nobody wants to know: nothing is noted.
    #[serde(skip)]
    silent: bool,
}

/// One decision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Decision {
    /// What it is about, in a word or two.
    pub label: Label,
    /// What was decided.
    #[serde(with = "escaped::text")]
    pub value: BString,
    /// Why, or what it is made from. May be empty.
    pub why: String,
    /// What was asked for is there already: nothing changes by it.
    #[serde(skip)]
    pub(crate) unchanged: bool,
}

impl Decision {
    /// What was decided, and why.
    pub(crate) fn new(
        label: impl Into<Label>,
        value: impl Into<BString>,
        why: impl Into<String>,
    ) -> Self {
        let (label, value, why) = (label.into(), value.into(), why.into());
        Decision { label, value, why, unchanged: false }
    }

    fn asks_for_sign_in(&self) -> bool {
        self.label == Label::SIGN_IN && self.value.is_empty()
    }
}

impl Subject {
    /// Nothing decided yet.
    pub(crate) fn new(name: impl Into<BString>) -> Self {
        Subject {
            name: name.into(),
            decisions: Vec::new(),
            row: "",
            place: String::new(),
            silent: false,
        }
    }

    /// One of which nobody wants to know what was decided.
    pub(crate) fn silent() -> Self {
        Subject { silent: true, ..Subject::new("") }
    }

    /// Notes a decision.
    pub(crate) fn decide(
        &mut self,
        label: impl Into<Label>,
        value: impl Into<BString>,
        why: impl Into<String>,
    ) {
        if !self.silent {
            self.decisions.push(Decision::new(label, value, why));
        }
    }

    /// Notes a decision before all others.
    pub(crate) fn decide_first(
        &mut self,
        label: impl Into<Label>,
        value: impl Into<BString>,
        why: impl Into<String>,
    ) {
        if !self.silent {
            self.decisions.insert(0, Decision::new(label, value, why));
        }
    }

    /// Notes that something was asked for that is there already.
    pub(crate) fn decide_unchanged(&mut self, label: impl Into<Label>, value: impl Into<BString>) {
        if !self.silent {
            let decision = Decision::new(label, value, "as it was");
            self.decisions.push(Decision { unchanged: true, ..decision });
        }
    }

    /// Notes that it is to be told whether the account can sign in, once that is judged.
    pub(crate) fn ask_for_sign_in(&mut self) {
        self.decide(Label::SIGN_IN, "", "");
    }

    /// Whether it is to be told if the account can sign in.
    pub(crate) fn asks_for_sign_in(&self) -> bool {
        self.decisions.iter().any(Decision::asks_for_sign_in)
    }

    /// Tells whether the account can sign in, where that was asked for.
    pub(crate) fn tell_sign_in(&mut self, sentence: &str) {
        let mut decisions = self.decisions.iter_mut();
        if let Some(decision) = decisions.find(|decision| decision.asks_for_sign_in()) {
            decision.value = sentence.into();
        }
    }

    /// As [`Subject::decide`], where the words take some making.
    pub(crate) fn decide_with<V: Into<BString>, W: Into<String>>(
        &mut self,
        label: impl Into<Label>,
        words: impl FnOnce() -> (V, W),
    ) {
        if !self.silent {
            let (value, why) = words();
            self.decide(label, value, why);
        }
    }
}
