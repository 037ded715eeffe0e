//! The account files as they were on an earlier day, by the records.

use nest_core::drift::Drift;
use nest_core::earlier::{Earlier, after_change};
use nest_core::record::ChangeRecord;
use nest_core::value::Day;
use nest_host::changes::LeftBehind;
use nest_host::state::Folder;
use nest_host::store::Loaded;

use super::Session;
use crate::clock::for_people;
use crate::failure::{Failure, REFUSED, Result, UNTOUCHED};

/// The account files at the end of a day.
pub struct OnDay {
    /// The day.
    pub day: Day,
    /// The last change that had been made by then; 0 where none of those that are kept was.
    pub change: u64,
    /// What the files held.
    pub earlier: Earlier,
    /// What is to be known of it.
    pub notes: Vec<String>,
}

impl Session<'_> {
    /// The day that somebody named.
    ///
    /// # Errors
    /// It is none.
    pub fn day(&self, text: &str) -> Result<Day> {
        Day::parse(text, self.today)
            .map_err(|fault| Failure::new(REFUSED, "bad-date", fault.to_string()))
    }

    /// The day that somebody named: it has to have begun.
    ///
    /// # Errors
    /// It is none, or it is yet to come.
    pub fn past_day(&self, text: &str) -> Result<Day> {
        let day = self.day(text)?;
        // Where it is tomorrow already, that has begun.
        let today = Day::of_time(&self.time()).map_or(self.today, |here| here.max(self.today));
        match day > today {
            true => {
                let message = format!("{day} is yet to come: nobody knows what the files will say");
                Err(Failure::new(REFUSED, "bad-date", message))
            }
            false => Ok(day),
        }
    }

    /// What the account files said at the end of a day.
    ///
    /// # Errors
    /// They can't be read, or a record that is needed is gone.
    pub fn on_day(&self, text: &str) -> Result<OnDay> {
        let day = self.past_day(text)?;
        let loaded = self.load()?;
        let records = match self.changes_folder()? {
            Some(folder) => self.records(&folder)?,
            None => Vec::new(),
        };
        let made_by = |record: &&ChangeRecord| record.day().is_some_and(|made| made <= day);
        // A clock that went back makes an earlier change look younger than a later one: the
        // numbers are the order.
        let change = records.iter().filter(made_by).map(|record| record.number).max().unwrap_or(0);
        let mut notes = Vec::new();
        let first = records.iter().min_by_key(|record| record.number);
        let oldest = first.map_or(0, |first| first.number.saturating_sub(1));
        match first {
            None => notes
                .push("no record of a change is kept: this is what the files say now".to_owned()),
            Some(first) if change < first.number => notes.push(format!(
                "the records go back to change {}, of {}: what was before it is taken from then",
                first.number,
                for_people(&first.time)
            )),
            Some(_) => {}
        }
        let earlier = after_change(&loaded.book, &records, change.max(oldest))
            .map_err(|error| Failure::new(REFUSED, "record-gone", error.to_string()))?;
        notes.extend(
            earlier
                .other_hands
                .iter()
                .map(|told| format!("{told}. What they did is taken for having been there before")),
        );
        Ok(OnDay { day, change: change.max(oldest), earlier, notes })
    }
}

/// What other hands did to the account files since the newest change; where none was made,
/// nothing is known of that.
///
/// # Errors
/// The files can't be read.
pub fn other_hands(folder: Option<&Folder>, loaded: &Loaded) -> Result<Vec<Drift>> {
    let left = folder.map(LeftBehind::read).unwrap_or_default();
    left.drift(loaded).map_err(|error| {
        let message = format!("the account files can't be read: {error}");
        Failure::new(UNTOUCHED, "unreadable", message)
    })
}
