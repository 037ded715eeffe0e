//! The table of rules: what each finds, why it matters, what to do, and a bad
//! and a good example, which are also its tests and its documentation.

mod duplicates;
mod files;
mod homes;
mod lines;
mod memberships;
mod orphans;
mod ranges;
mod sign_in;

use std::sync::LazyLock;

use strum::{Display, EnumString, IntoStaticStr};

use crate::table::File;

/// How bad a finding is. Fixed for each rule.
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

/// Rules that belong together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Display)]
#[strum(serialize_all = "kebab-case")]
pub enum Family {
    /// The form of lines.
    Lines,
    /// Things that must be unique.
    Duplicates,
    /// Lines whose counterpart is missing.
    Orphans,
    /// Who is in which group.
    Memberships,
    /// Who can sign in.
    SignIn,
    /// Home directories.
    Homes,
    /// Subordinate ids.
    Ranges,
    /// The account files themselves.
    Files,
}

/// Account files that show a rule.
#[derive(Debug, Clone, Copy)]
pub struct Example {
    /// The texts.
    pub files: &'static [(File, &'static str)],
    /// What else has to be known about the tree; may be empty.
    pub besides: &'static str,
}

/// One rule.
#[derive(Debug, Clone, Copy)]
pub struct Rule {
    /// Its name.
    pub name: &'static str,
    /// How bad its findings are.
    pub severity: Severity,
    /// The family.
    pub family: Family,
    /// Whether it looks at the tree besides the account files.
    pub looks_at_tree: bool,
    /// The files it cannot do without.
    pub reads: &'static [File],
    /// What it finds, in a line.
    pub finds: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// What to do.
    pub remedy: &'static str,
    /// What it finds, shown.
    pub bad: Example,
    /// The same, as it should be.
    pub good: Example,
}

/// The rule of this name.
pub fn rule(name: &str) -> Option<&'static Rule> {
    RULES.iter().find(|rule| rule.name == name)
}

const ALL: &[File] = &File::ALL;
const MAREN: &str = "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\n";
const MAREN_GROUP: &str = "maren:x:1004:\n";
const MAREN_SHADOW: &str = "maren:!:20781:0::7:::\n";
const SOUND: Example = Example {
    files: &[(File::Passwd, MAREN), (File::Group, MAREN_GROUP), (File::Shadow, MAREN_SHADOW)],
    besides: "",
};

/// All rules, family by family.
pub static RULES: LazyLock<Vec<Rule>> = LazyLock::new(|| {
    let families = [
        lines::RULES,
        duplicates::RULES,
        orphans::RULES,
        memberships::RULES,
        sign_in::RULES,
        homes::RULES,
        ranges::RULES,
        files::RULES,
    ];
    families.concat()
});
