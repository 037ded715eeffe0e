//! Accounts of a large roster: numbered one after the other, written side by side.

use std::borrow::Cow;
use std::sync::Arc;

use rayon::prelude::*;

use crate::change::Subject;
use crate::plan::tables::intake::{Intake, IntakePlanner, RowNames, check_row};
use crate::plan::users::create_user::{AccountIds, AccountLines, Writer};
use crate::refusal::Refusal;
use crate::request::CreateUser;
use crate::roster::RowBuffer;

/// So many rows are numbered in one go, while those before them are written.
const WAVE: usize = 8192;

/// So many accounts are written in one go.
const AT_ONCE: usize = 512;

/// A new account whose numbers are chosen.
struct Numbered {
    /// Its row.
    at: usize,
    numbers: AccountIds,
    /// The request, where it is not what the row says.
    own: Option<Box<CreateUser>>,
}

/// Lines, and what is wrong with which rows.
type WrittenRows = (AccountLines, Vec<(usize, Refusal)>);

impl IntakePlanner<'_, '_> {
    /// Plans all users, of whom only the totals are told.
    pub(crate) fn many(&mut self) {
        let (request, names) = (self.request, Arc::clone(&self.names));
        let writer = self.batch.writer.clone();
        let (mut buffer, mut last, mut all) = (RowBuffer::default(), Vec::new(), Vec::new());
        let users = self.users();
        for wave in users.chunks(WAVE) {
            let number = |at: &usize| self.number(*at, &names, &mut buffer);
            let (numbered, written) = rayon::join(
                || wave.iter().filter_map(number).collect(),
                || write(request, &writer, &names, &last),
            );
            all.extend(written);
            last = numbered;
        }
        all.extend(write(request, &writer, &names, &last));
        for (written, refused) in all {
            for (at, refusal) in refused {
                self.refused(&request.roster.rows[at], &refusal);
            }
            self.batch.add_many(written);
        }
    }

    /// Chooses the numbers of a new account.
    fn number(
        &mut self,
        at: usize,
        names: &RowNames<'_>,
        buffer: &mut RowBuffer,
    ) -> Option<Numbered> {
        let row = &self.request.roster.rows[at];
        let (name, user) = (names[at].as_deref()?, self.request.user_on(row, buffer)?);
        self.at = Some(at);
        if self.is_there(row, user, name) {
            return None;
        }
        let user = self.complete(user, name);
        let hash = user.hashes.first().and_then(Option::as_ref);
        let (mut cautions, mut wrong) = (Vec::new(), Vec::new());
        let subject = &mut Subject::silent();
        let numbers = self.batch.number(&user, name, hash, subject, &mut cautions, &mut wrong);
        self.batch.builder.plan.cautions.extend(cautions);
        wrong.iter().for_each(|refusal| self.refused(row, refusal));
        self.counts.made += 1;
        if self.request.wants_password(&user) {
            self.newcomers.push(name.to_owned());
        }
        let own = match user {
            Cow::Borrowed(_) => None,
            Cow::Owned(user) => Some(Box::new(user)),
        };
        Some(Numbered { at, numbers, own })
    }
}

/// Writes the lines of accounts that were numbered.
fn write(
    request: &Intake,
    writer: &Writer<'_>,
    names: &RowNames<'_>,
    numbered: &[Numbered],
) -> Vec<WrittenRows> {
    let write_some = |some: &[Numbered]| {
        let (mut written, mut refused) = (AccountLines::with_room(some.len()), Vec::new());
        let mut buffer = RowBuffer::default();
        for Numbered { at, numbers, own } in some {
            let user = match own.as_deref() {
                Some(own) => Some(own),
                None => request.user_on(&request.roster.rows[*at], &mut buffer),
            };
            let (Some(name), Some(user)) = (names[*at].as_deref(), user) else { continue };
            let (values, caution) = check_row(writer.context, user, name);
            written.cautions.extend(caution);
            let reasons = values.into_iter();
            let mut wrong: Vec<Refusal> = reasons.map(|reason| *Refusal::new("", reason)).collect();
            let hash = user.hashes.first().and_then(Option::as_ref);
            let subject = &mut Subject::silent();
            writer.look_at_name(user, name, &mut written, &mut wrong);
            writer.write(user, name, hash, numbers, subject, &mut written, &mut wrong);
            refused.extend(wrong.into_iter().map(|refusal| (*at, refusal)));
        }
        (written, refused)
    };
    numbered.par_chunks(AT_ONCE).map(write_some).collect()
}
