//! Hours and places of accounts that are gone are taken out.

use bstr::{BString, ByteSlice};

use super::Repairing;
use crate::check::windows::IDLE_WINDOW;
use crate::drafting::{PlanBuilder, has_window, take_window};
use crate::refusal::{LineTrouble, Refusal, Result};

impl Repairing<'_> {
    /// Takes out the lines that were an account's own.
    pub(super) fn drop_windows(&mut self, names: &[BString]) -> Result<()> {
        let mut builder = PlanBuilder::new(self.context, "repair");
        for name in names {
            let refuse = |reason| Refusal::new(format!("the window of {name} stays"), reason);
            if self.context.book.user(name).is_some() {
                return Err(refuse(LineTrouble::WindowOfSomebody { name: name.clone() }.into())
                    .or("take the hours out", format!("change user {name} --hours any"))
                    .or("or the places", format!("change user {name} --places anywhere")));
            }
            if !has_window(self.context.world, name.as_bstr()) {
                let none = LineTrouble::NoWindow { name: name.clone() };
                return Err(refuse(none.into()).or("see what is at fault", "check"));
            }
            let taken = take_window(&mut builder, name.as_bstr());
            let taken = taken.map_err(|trouble| refuse(trouble.into()))?;
            for (half, line) in taken {
                let path = BString::from(half.word());
                let what = format!("takes out {line}");
                let why = format!("there is no account {name}");
                self.done.entry(path).or_default().push((IDLE_WINDOW.name, what, why));
            }
        }
        self.plan.steps.append(&mut builder.plan.steps);
        Ok(())
    }
}
