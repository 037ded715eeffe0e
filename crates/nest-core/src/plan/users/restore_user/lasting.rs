//! What was set for an account for a while: that it was suspended, its hours and its places.

use bstr::{BStr, ByteSlice};

use super::Restoring;
use crate::change::{Caution, Step};
use crate::drafting::return_window;
use crate::refusal::Result;
use crate::suspended::Suspended;
use crate::table::{Record, Shadow, ShadowField, with_fields};
use crate::value::Uid;

impl Restoring<'_, '_> {
    /// The lines about its hours and its places.
    pub(super) fn window(&mut self) -> Result<()> {
        let names = (self.kept.name.as_bstr(), BStr::new(self.name));
        for rule in &self.kept.windows {
            let back = return_window(self.builder, (rule.about, rule.text.as_bstr()), names);
            back.map_err(|trouble| self.refuse(trouble.into()))?;
            self.subject.decide(rule.about.word(), rule.text.clone(), "its own line again");
        }
        Ok(())
    }

    /// The note of a suspension that is not to come back.
    pub(super) fn resumed(&self) -> Option<&Suspended> {
        let reason = self.request.resumed_of?;
        self.kept.suspended.as_ref().filter(|note| note.reason.starts_with(reason))
    }

    pub(super) fn suspension(&mut self, uid: Uid) {
        if self.resumed().is_some() {
            self.subject.decide("suspended", "no more", "resumed as it comes back");
        } else if let Some(note) = &self.kept.suspended {
            self.subject.decide("suspended", "yes", format!("as before, since {}", note.since));
            let note = Suspended { name: self.name.clone(), uid, ..note.clone() };
            self.builder.step(Step::NoteSuspended(note));
            self.builder.caution(Caution::StillSuspended { name: self.name.clone().into() });
        }
    }
}

/// The line of shadow of an account as it was before it was suspended.
pub(super) fn resumed_line(line: &[u8], note: &Suspended) -> Vec<u8> {
    let Some(known) = Shadow::read(line) else { return line.to_vec() };
    let hash = known.password.strip_prefix(b"!").filter(|hash| !hash.is_empty());
    let field = hash.filter(|_| !note.was_locked).unwrap_or(known.password);
    let expires = note.expires.map(|day| day.0.to_string());
    let expires = expires.as_deref().unwrap_or("").as_bytes();
    let fields = [(ShadowField::Password, field), (ShadowField::Expires, expires)];
    with_fields(line, &fields)
}
