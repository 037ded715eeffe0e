//! What suspended accounts were like before, from `suspended.json` in the state
//! folder.

use nest_core::suspended::Suspended;
use nest_core::value::PlainName;
use serde::{Deserialize, Serialize};

use crate::retired::{RetiredError, read_document};
use crate::state::{State, to_text};
use crate::tree::Tree;

/// The file in the state folder.
pub(crate) const NAME: PlainName = PlainName::fixed("suspended.json");

const VERSION: u32 = 1;

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Notes {
    version: u32,
    accounts: Vec<Suspended>,
}

/// Reads the notes. A state folder without the file has none.
///
/// # Errors
/// [`RetiredError`] where the file is there and can't be read or understood.
pub fn read(tree: &Tree, state: &State) -> Result<Vec<Suspended>, RetiredError> {
    let notes: Option<Notes> = read_document(tree, state, &NAME, VERSION)?;
    Ok(notes.map(|notes| notes.accounts).unwrap_or_default())
}

/// The file that holds these notes: those of `notes`, with `more` and without
/// `gone`.
pub(crate) fn text(notes: &[Suspended], more: &[&Suspended], gone: &[&Suspended]) -> Vec<u8> {
    let kept = notes
        .iter()
        .filter(|note| !gone.contains(note) && !more.iter().any(|more| more.uid == note.uid));
    let accounts = kept.chain(more.iter().copied()).cloned();
    to_text(&Notes { version: VERSION, accounts: accounts.collect() })
}

#[cfg(test)]
mod tests {
    use nest_core::value::{Day, Uid};

    use super::*;

    #[test]
    fn notes_come_and_go() {
        let note = |uid| Suspended {
            name: format!("crew{uid}").into(),
            uid,
            expires: Some(Day(20_900)),
            was_locked: true,
            was_open: false,
            reason: "on leave".into(),
            since: Day(20_781),
        };
        let parse =
            |text: &[u8]| crate::state::parse(text, VERSION).map(|notes: Notes| notes.accounts);
        let one = text(&[], &[&note(Uid(1)), &note(Uid(2))], &[]);
        let read = parse(&one).unwrap();
        assert_eq!(read, [note(Uid(1)), note(Uid(2))]);
        assert_eq!(parse(&text(&read, &[], &[&note(Uid(1))])).unwrap(), [note(Uid(2))]);
        assert!(parse(b"{}").is_err() && parse(br#"{"version": 2, "accounts": []}"#).is_err());
    }
}
