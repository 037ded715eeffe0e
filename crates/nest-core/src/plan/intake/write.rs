//! Accounts of a large roster: numbered one after the other, then written side by
//! side.

use std::borrow::Cow;

use bstr::BStr;
use rayon::prelude::*;

use super::{Intake, Planner};
use crate::plan::create_user::{Numbers, Written, check_values};
use crate::plan::{CreateUser, Refusal, Subject};
use crate::roster::Row;

/// So many accounts are written in one go.
const AT_ONCE: usize = 2048;

/// A new account whose numbers are chosen.
pub(super) struct Numbered {
    /// Its row.
    at: usize,
    numbers: Numbers,
    /// The request, where it is not what the row says.
    own: Option<Box<CreateUser>>,
}

impl<'a, 'r> Planner<'a, 'r> {
    /// Chooses the numbers of a new account.
    pub(super) fn number(&mut self, row: &Row, user: Cow<'_, CreateUser>, name: &BStr) {
        let hash = user.hashes.first().and_then(Option::as_ref);
        let (mut cautions, mut wrong) = (Vec::new(), Vec::new());
        let subject = &mut Subject::brief();
        let numbers = self.making.number(&user, name, hash, subject, &mut cautions, &mut wrong);
        self.making.plan.cautions.extend(cautions);
        wrong.iter().for_each(|refusal| self.refused(row, refusal));
        self.counts.made += 1;
        if self.request.first_passwords && hash.is_none() && user.hashes.is_empty() {
            self.newcomers.push(name.to_owned());
        }
        let own = match user {
            Cow::Borrowed(_) => None,
            Cow::Owned(user) => Some(Box::new(user)),
        };
        self.numbered.extend(self.at.map(|at| Numbered { at, numbers, own }));
    }

    /// Writes the lines of the accounts that were numbered.
    pub(super) fn write(&mut self) {
        let numbered = std::mem::take(&mut self.numbered);
        let (request, writer, names) = (self.request, &self.making.writer, &self.names);
        let write_some = |some: &[Numbered]| {
            let (mut written, mut refused) = (Written::default(), Vec::new());
            for Numbered { at, numbers, own } in some {
                let Some(name) = names[*at].as_deref() else { continue };
                let Some(user) = asked(request, *at, own) else { continue };
                let values = check_values(writer.ground, &user).into_iter();
                let mut wrong: Vec<Refusal> =
                    values.map(|reason| *Refusal::new("", reason)).collect();
                let hash = user.hashes.first().and_then(Option::as_ref);
                let subject = &mut Subject::brief();
                writer.look_at_name(&user, name, &mut written, &mut wrong);
                writer.write(&user, name, hash, numbers, subject, &mut written, &mut wrong);
                refused.extend(wrong.into_iter().map(|refusal| (*at, refusal)));
            }
            (written, refused)
        };
        let all: Vec<_> = numbered.par_chunks(AT_ONCE).map(write_some).collect();
        for (written, refused) in all {
            for (at, refusal) in refused {
                self.refused(&self.request.roster.rows[at], &refusal);
            }
            self.making.take_many(written);
        }
    }
}

fn asked<'r>(
    request: &'r Intake,
    at: usize,
    own: &'r Option<Box<CreateUser>>,
) -> Option<Cow<'r, CreateUser>> {
    match own {
        Some(own) => Some(Cow::Borrowed(own)),
        None => request.user(&request.roster.rows[at]),
    }
}
