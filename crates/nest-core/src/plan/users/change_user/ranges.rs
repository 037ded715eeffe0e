//! How many subordinate ids an account has.

use crate::allot::IdUse;
use crate::change::Label;
use crate::plan::users::change_user::UserChange;
use crate::refusal::Result;
use crate::table::{File, SubIdField};
use crate::value::IdSpan;

impl UserChange<'_, '_> {
    /// Fewer ids retire the rest; more come as a further range.
    pub(crate) fn ranges(&mut self) -> Result<()> {
        let Some(wanted) = self.request.ranges else { return Ok(()) };
        let book = self.context.book;
        let (name, uid) = (self.name(), Some(self.found.uid));
        let mut further = None;
        for file in [File::Subuid, File::Subgid] {
            let lines = book.ranges_of(file, name, uid);
            let count: u64 =
                lines.iter().filter_map(|(_, range)| Some(range.span()?.count())).sum();
            if u64::from(wanted) > count {
                let missing = wanted - count as u32;
                let span = match further {
                    Some((had, span)) if had == missing => span,
                    _ => self.free_range(missing)?,
                };
                further = Some((missing, span));
                self.builder
                    .edits
                    .add(file, format!("{name}:{}:{missing}", span.first()).into_bytes());
                continue;
            }
            let mut left = u64::from(wanted);
            for (line, range) in lines {
                let Some(span) = range.span() else { continue };
                if left == 0 {
                    self.builder.edits.remove(file, line);
                } else if span.count() > left {
                    self.builder.set_fields(
                        file,
                        line,
                        &[(SubIdField::Count, left.to_string().as_bytes())],
                    );
                    left = 0;
                } else {
                    left -= span.count();
                }
            }
        }
        let (value, why) = match (wanted, further) {
            (0, _) => ("none".to_owned(), "given up".to_owned()),
            (count, Some((_, span))) => (format!("{count} ids"), format!("{span} added")),
            (count, None) => (format!("{count} ids"), String::new()),
        };
        self.subject.decide(Label::RANGES, value, why);
        Ok(())
    }

    fn free_range(&mut self, count: u32) -> Result<IdSpan> {
        let range = self.builder.allotter.choose_range(count);
        range.map_err(|fault| self.refuse(fault.reason(IdUse::Uid, 0)))
    }
}
