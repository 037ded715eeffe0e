//! The policy of a tree, or the one that is named in its place.

use std::io::Read;
use std::path::Path;

use nest_core::check::verify_named_rules;
use nest_core::policy::{Policy, PolicyFaults};
use nest_host::tree::Tree;
use nest_host::untrusted::{self, CONFIGURATION, Unreadable};

use crate::cli::Global;
use crate::failure::{Failure, REFUSED, Result};

/// Where the policy of a tree is.
pub const POLICY: &str = "etc/copper-nest/policy.toml";

/// The policy that is gone by; the built-in one where the tree has none.
pub fn read(global: &Global, tree: &Tree) -> Result<Policy> {
    let mut policy = match text(global, tree)? {
        Some((shown, text)) => judge(&shown, &text)?,
        None => Policy::default(),
    };
    // Half of all systems reach the mail by a link of their own: nothing goes through one.
    if let Some((directory, file)) = policy.mail_spool.rsplit_once('/')
        && let Some(real) = tree.behind_own_link(Path::new(directory))
        && let Some(real) = real.to_str()
    {
        policy.mail_spool = format!("{real}/{file}");
    }
    Ok(policy)
}

/// The file as it is shown, and what stands in it; nothing where the tree has none.
pub fn text(global: &Global, tree: &Tree) -> Result<Option<(String, String)>> {
    let unreadable = |shown: &str, why: String| {
        Failure::new(REFUSED, "policy", format!("the policy {shown} can't be read: {why}"))
    };
    let (shown, text) = match &global.policy {
        // Whatever the administrator names is read, be it the end of a pipe.
        Some(path) => {
            let shown = path.display().to_string();
            let text = read_at_most(path, CONFIGURATION);
            let text =
                text.map_err(|error| unreadable(&shown, std::io::Error::from(error).to_string()))?;
            (shown, text)
        }
        None => match untrusted::read_configuration(tree, POLICY) {
            Ok(text) => (POLICY.to_owned(), text),
            Err(missing) if missing.is_missing() => return Ok(None),
            Err(error) => return Err(unreadable(POLICY, std::io::Error::from(error).to_string())),
        },
    };
    let text = String::from_utf8(text).map_err(|_| unreadable(&shown, "it is not UTF-8".into()))?;
    Ok(Some((shown, text)))
}

/// The policy of a file.
///
/// # Errors
/// All that is wrong with it.
pub fn judge(shown: &str, text: &str) -> Result<Policy, PolicyFaults> {
    let policy = Policy::read(shown, text)?;
    let faults = verify_named_rules(&policy);
    if faults.is_empty() { Ok(policy) } else { Err(PolicyFaults(faults)) }
}

fn read_at_most(path: &Path, most: u64) -> Result<Vec<u8>, Unreadable> {
    let mut text = Vec::new();
    std::fs::File::open(path)?.take(most + 1).read_to_end(&mut text)?;
    if text.len() as u64 > most { Err(Unreadable::TooLong(most)) } else { Ok(text) }
}
