//! Giving files other numbers as an effect: the lists in the journal, and how far they are
//! gone through.

use std::io::{Error, Read, Result, Seek, SeekFrom};
use std::sync::{Mutex, PoisonError};

use nest_core::ownership::Reown;
use nest_core::value::PlainName;
use xxhash_rust::xxh3::Xxh3;

use super::EffectRunner;
use crate::digest::in_hexadecimal;
use crate::interrupt::Patience;
use crate::journal::{reached_name, there_name};
use crate::reown::{self, Carriers, Giving, Search};
use crate::state::Fresh;
use crate::{changes, read};

/// The list of files that get other numbers, as one of the two of it that is sound.
pub struct SoundList {
    /// Its name in the journal; nothing where it was taken over by the records already.
    pub name: Option<PlainName>,
    file: std::fs::File,
    files: u64,
}

/// Lists in the journal that a walk writes.
struct Writing {
    files: Vec<(PlainName, Mutex<Fresh>)>,
}

impl Writing {
    fn begin(runner: &EffectRunner<'_>, names: Vec<PlainName>) -> Result<Self> {
        let begin = |name: PlainName| Ok((name.clone(), runner.journal.begin_kept(&name)?.into()));
        Ok(Writing { files: names.into_iter().map(begin).collect::<Result<_>>()? })
    }

    fn write(&self, part: &[u8]) -> Result<()> {
        self.files.iter().try_for_each(|(_, file)| {
            let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
            std::io::Write::write_all(&mut *file, part)
        })
    }

    /// Flushes them. Returns the digest that they have in common.
    fn finish(self, runner: &EffectRunner<'_>) -> Result<String> {
        let mut digest = String::new();
        for (name, file) in self.files {
            let file = file.into_inner().unwrap_or_else(PoisonError::into_inner);
            digest = runner.journal.finish_kept(&name, file)?;
        }
        Ok(digest)
    }
}

impl EffectRunner<'_> {
    /// Looks for the files that get other numbers, and keeps the list of them, twice: no other
    /// file says whose they were. Returns its digest, and what was found.
    ///
    /// # Errors
    /// The system's, where the tree can't be looked through or the journal takes no file more.
    pub fn keep_list(&self, reown: &Reown, name: &PlainName) -> Result<(String, Carriers)> {
        let list = Writing::begin(
            self,
            [Some(name.clone()), second(name)].into_iter().flatten().collect(),
        )?;
        let write = |part: &[u8]| list.write(part);
        let carriers = match reown.of_change {
            Some(number) if !reown.follows => {
                for file in changes::kept_lists(self.state, number)? {
                    reown::turned_round(file, reown, &write)?;
                }
                Carriers::default()
            }
            None if let Some(found) = self.earlier.and_then(|earlier| earlier.take(reown)) => {
                list.write(&found.list)?;
                let there = Writing::begin(self, vec![there_name(name)])?;
                there.write(&found.there)?;
                there.finish(self)?;
                found.carriers
            }
            of_change => {
                let but = match of_change {
                    Some(number) => changes::kept_there(self.state, number)?,
                    None => Vec::new(),
                };
                let there = Writing::begin(self, vec![there_name(name)])?;
                let write_there = |part: &[u8]| there.write(part);
                let search = Search { list: Some(&write), there: Some(&write_there), but: &but };
                let carriers = reown::find(self.tree, reown, search)?;
                there.finish(self)?;
                carriers
            }
        };
        Ok((list.finish(self)?, carriers))
    }

    /// Gives the files of a list other numbers, or back those that they had.
    ///
    /// # Errors
    /// The system's; where they are given, `ECANCELED` once the program is told to stop.
    pub(super) fn reown(
        &self,
        (reown, list, digest): (&Reown, &PlainName, Option<&str>),
        back: bool,
    ) -> Result<()> {
        let reached = reached_name(list);
        let SoundList { file: mut sound, files, .. } = self.sound_list(list, digest)?;
        let mut at = 0;
        if back {
            // From here on nothing is known to be done.
            self.journal.forget(&reached)?;
        } else if let Some(text) = self.journal.kept(&reached)? {
            let text = String::from_utf8_lossy(&text);
            at = text
                .parse()
                .map_err(|_| Error::other("how far the list of files is done can't be read"))?;
            sound.seek(SeekFrom::Start(at))?;
        }
        let recovering = self.recovering;
        let patience = if recovering || back { Patience::Endless } else { Patience::Ends };
        let what = "giving files other numbers";
        let progress = |more| self.watcher.made(what, files, more);
        let (tree, progress) = (self.tree, &progress);
        let giving = Giving { tree, reown, back, recovering, patience, progress };
        let note = |at: u64| match back {
            true => Ok(()),
            false => self.journal.keep(&reached, at.to_string().as_bytes()).map(drop),
        };
        let given = giving.give(sound, at, &note)?;
        let told = if back { given.told(&reown.back()) } else { given.told(reown) };
        told.into_iter().for_each(|told| self.note(told));
        Ok(())
    }

    /// The list of files that get other numbers.
    ///
    /// # Errors
    /// The system's, and one where none is there that is sound.
    pub fn sound_list(&self, name: &PlainName, digest: Option<&str>) -> Result<SoundList> {
        for name in [Some(name.clone()), second(name)].into_iter().flatten() {
            if let Some(file) = self.journal.open_kept(&name)?
                && let Some(sound) = sound(Some(name), file, digest)?
            {
                return Ok(sound);
            }
        }
        if let Some(number) = self.number
            && let Some(file) = changes::list(self.state, number, name)?
            && let Some(sound) = sound(None, file, digest)?
        {
            return Ok(sound);
        }
        let message = format!("{name}, the list of those files, is not in the journal any more");
        Err(Error::other(message))
    }

    /// The records take over what taking the change back will need.
    ///
    /// # Errors
    /// The system's, where a list can't be moved.
    pub fn hand_over(
        &self,
        number: u64,
        (reown, list, digest): (&Reown, &PlainName, Option<&str>),
    ) -> Result<()> {
        if reown.follows {
            let there = there_name(list);
            return match self.journal.open_kept(&there)? {
                Some(file) if file.metadata()?.len() > 0 => {
                    changes::take_list(self.state, number, &there, (self.journal, &there))
                }
                _ => Ok(()),
            };
        }
        // After a crash one of the two may be lost, or have been taken over already.
        let sound = match self.recovering {
            true => self.sound_list(list, digest)?.name,
            false => Some(list.clone()),
        };
        match sound {
            Some(sound) => changes::take_list(self.state, number, list, (self.journal, &sound)),
            None => Ok(()),
        }
    }
}

/// A list that has the digest, if it has; with how many files are on it.
fn sound(
    name: Option<PlainName>,
    mut file: std::fs::File,
    wanted: Option<&str>,
) -> Result<Option<SoundList>> {
    let (mut hasher, mut files) = (Xxh3::new(), 0);
    let mut piece = vec![0; read::PIECE];
    loop {
        match file.read(&mut piece)? {
            0 => break,
            count => {
                hasher.update(&piece[..count]);
                files += memchr::memchr_iter(0, &piece[..count]).count() as u64;
            }
        }
    }
    if wanted.is_some_and(|wanted| wanted != in_hexadecimal(&hasher)) {
        return Ok(None);
    }
    file.seek(SeekFrom::Start(0))?;
    Ok(Some(SoundList { name, file, files }))
}

/// The name of the second one of a list.
fn second(name: &PlainName) -> Option<PlainName> {
    PlainName::parse(format!("{name}.again")).ok()
}
