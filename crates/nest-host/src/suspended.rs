//! What suspended accounts were like before, from `suspended.json` in the state
//! folder.

use nest_core::suspended::Suspended;
use nest_core::value::{Day, PlainName, Uid, UserName};
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
    accounts: Vec<Note>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Note {
    name: UserName,
    uid: Uid,
    /// The expiry it had, in days since 1970-01-01.
    expires: Option<i64>,
    /// Whether its password was locked already.
    was_locked: bool,
    /// Whether its password field was empty.
    was_open: bool,
    reason: String,
    since: i64,
}

/// Reads the notes. A state folder without the file has none.
///
/// # Errors
/// [`RetiredError`].
pub fn read(tree: &Tree, state: &State) -> Result<Vec<Suspended>, RetiredError> {
    let notes: Option<Notes> = read_document(tree, state, &NAME, VERSION)?;
    Ok(notes.map(understand).unwrap_or_default())
}

fn understand(notes: Notes) -> Vec<Suspended> {
    let note = |note: Note| Suspended {
        name: note.name,
        uid: note.uid,
        expires: note.expires.map(Day),
        was_locked: note.was_locked,
        was_open: note.was_open,
        reason: note.reason,
        since: Day(note.since),
    };
    notes.accounts.into_iter().map(note).collect()
}

/// The file that holds these notes: those of `notes`, with `more` and without
/// `gone`.
pub(crate) fn text(notes: &[Suspended], more: &[&Suspended], gone: &[&Suspended]) -> Vec<u8> {
    let kept = notes
        .iter()
        .filter(|note| !gone.contains(note) && !more.iter().any(|more| more.uid == note.uid));
    let accounts = kept.chain(more.iter().copied()).map(|note| Note {
        name: note.name.clone(),
        uid: note.uid,
        expires: note.expires.map(|day| day.0),
        was_locked: note.was_locked,
        was_open: note.was_open,
        reason: note.reason.clone(),
        since: note.since.0,
    });
    let notes = Notes { version: VERSION, accounts: accounts.collect() };
    to_text(&notes)
}

#[cfg(test)]
mod tests {
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
        let parse = |text: &[u8]| crate::state::parse(text, VERSION).map(understand);
        let one = text(&[], &[&note(Uid(1)), &note(Uid(2))], &[]);
        let read = parse(&one).unwrap();
        assert_eq!(read, [note(Uid(1)), note(Uid(2))]);
        assert_eq!(parse(&text(&read, &[], &[&note(Uid(1))])).unwrap(), [note(Uid(2))]);
        assert!(parse(b"{}").is_err() && parse(br#"{"version": 2, "accounts": []}"#).is_err());
    }
}
