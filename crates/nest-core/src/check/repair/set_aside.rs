//! What earlier accounts left is put where only root gets.

use bstr::{BString, ByteSlice};

use super::Repairing;
use crate::change::Step;
use crate::check::left_behind::{HOME_ORPHAN, MAIL_ORPHAN};
use crate::check::{Selection, check};
use crate::drafting::{Claim, Judged, Purpose};
use crate::refusal::{LineTrouble, Reason, Refusal, Result};
use crate::retired::set_aside_place;
use crate::value::parent_of;

impl Repairing<'_> {
    /// Sets aside what nobody's is any more, whole, as a deleted account's is.
    pub(super) fn set_aside(&mut self, paths: &[BString]) -> Result<()> {
        if paths.is_empty() {
            return Ok(());
        }
        let only = vec![&HOME_ORPHAN, &MAIL_ORPHAN];
        let report = check(self.context, &Selection { only, ..Selection::default() });
        for path in paths {
            let refuse = |reason| Refusal::new(format!("{path} was not set aside"), reason);
            let unfit =
                |fault| refuse(LineTrouble::NotToBeSetAside { path: path.clone(), fault }.into());
            let found = report.findings.iter().find(|finding| finding.place.as_ref() == Some(path));
            let facts = self.context.world.facts(path.as_ref()).ok().flatten();
            let (Some(finding), Some(facts)) = (found, facts) else {
                let fault = "is not what an account left that is gone".to_owned();
                return Err(unfit(fault).or("see what is at fault", "check"));
            };
            let claim = Claim {
                path,
                uid: facts.uid,
                name: &finding.subject,
                kind: facts.kind,
                purpose: Purpose::Move,
            };
            let from = match claim.judge(self.context) {
                Judged::Sound(from, ..) => from,
                Judged::Nothing => return Err(unfit("is not there any more".to_owned())),
                Judged::Fault(fault) => return Err(unfit(fault)),
            };
            let to = set_aside_place(path, &finding.subject, facts.uid, self.context.change);
            let hidden = parent_of(&to);
            self.context.world.can_hide_in(hidden.as_bstr()).map_err(|fault| {
                refuse(Reason::Planted(fault))
                    .or_else("look at it, and move it away", format!("ls -la {}", hidden.as_bstr()))
            })?;
            if self
                .plan
                .steps
                .iter()
                .any(|step| matches!(step, Step::Move { from: other, .. } if *other == from))
            {
                continue;
            }
            let (rule, why) = (finding.rule.name, finding.message.trim_end_matches('.').to_owned());
            self.done.entry(path.clone()).or_default().push((
                rule,
                format!("set aside as {to}"),
                why,
            ));
            self.plan.steps.push(Step::Move { from, to, aside: true });
        }
        Ok(())
    }
}
