//! Which subordinate ids an account has, or how many.

use crate::allot::IdUse;
use crate::change::Label;
use crate::plan::users::change_user::UserChange;
use crate::refusal::{Reason, Result};
use crate::request::RangesAsked;
use crate::table::{File, SubIdField};
use crate::value::{IdSpan, IdSpans};
use crate::words::list;

impl UserChange<'_, '_> {
    /// What was asked of the subordinate ids.
    pub(crate) fn ranges(&mut self) -> Result<()> {
        match &self.request.ranges {
            None => Ok(()),
            Some(RangesAsked::Count(wanted)) => self.so_many(*wanted),
            Some(RangesAsked::Spans(spans)) => self.these(spans),
        }
    }

    /// Exactly these spans, in both files: those that it has stay where they stand.
    fn these(&mut self, wanted: &[IdSpan]) -> Result<()> {
        let book = self.context.book;
        let (name, uid) = (self.name(), Some(self.found.uid));
        let own = |file| book.ranges_of(file, name, uid);
        let held: IdSpans = [File::Subuid, File::Subgid]
            .into_iter()
            .flat_map(own)
            .filter_map(|(_, range)| range.span())
            .collect();
        for span in wanted {
            // What is its own already may be cut to a part.
            if held.outside(*span).is_empty() {
                continue;
            }
            let free = self.builder.allotter.take_range(*span);
            if !free.map_err(|why| self.refuse(Reason::ServiceFailed(why)))? {
                let count = wanted.iter().map(|span| span.count()).sum::<u64>();
                return Err(self
                    .refuse(Reason::RangeTaken { span: *span })
                    .or("let the policy choose", format!("change user {name} --ranges {count}"))
                    .or("or see what is free", "list ranges"));
            }
        }
        for file in [File::Subuid, File::Subgid] {
            let mut missing = wanted.to_vec();
            for (line, range) in own(file) {
                let at = missing.iter().position(|span| range.span() == Some(*span));
                match at {
                    Some(at) => _ = missing.remove(at),
                    None => self.builder.edits.remove(file, line),
                }
            }
            for span in missing {
                let line = format!("{name}:{}:{}", span.first(), span.count());
                self.builder.edits.add(file, line.into_bytes());
            }
        }
        self.subject.decide(Label::RANGES, list(wanted.iter().map(IdSpan::to_string)), "as asked");
        Ok(())
    }

    /// Fewer ids retire the rest; more come as a further range.
    fn so_many(&mut self, wanted: u32) -> Result<()> {
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

    /// Another range in the place of one, as large, in both files; the old ids are retired.
    pub(crate) fn moved_range(&mut self) -> Result<()> {
        let Some(span) = self.request.move_range else { return Ok(()) };
        let book = self.context.book;
        let (name, uid) = (self.name(), Some(self.found.uid));
        let own = |file| {
            let lines = book.ranges_of(file, name, uid).into_iter();
            lines.filter(move |(_, range)| range.span() == Some(span))
        };
        let files = [File::Subuid, File::Subgid];
        let count = u32::try_from(span.count()).unwrap_or(u32::MAX);
        if files.into_iter().flat_map(own).next().is_none() {
            return Err(self
                .refuse(Reason::NotTheirRange { span })
                .or("see which they have", format!("show user {name}")));
        }
        let free = self.free_range(count)?;
        for file in files {
            for (line, _) in own(file) {
                let first = free.first().to_string();
                self.builder.set_fields(file, line, &[(SubIdField::First, first.as_bytes())]);
            }
        }
        let why = format!("in the place of {span}; containers have to be given the new ids");
        self.subject.decide(Label::RANGES, free.to_string(), why);
        Ok(())
    }

    fn free_range(&mut self, count: u32) -> Result<IdSpan> {
        let range = self.builder.allotter.choose_range(count);
        range.map_err(|fault| self.refuse(fault.reason(IdUse::Uid, 0)))
    }
}
