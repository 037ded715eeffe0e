//! The account files themselves: unfinished-change.

use super::{Finding, Mark, Out, Selection, rule};
use crate::plan::Ground;
use crate::table::File;

pub(super) fn run(ground: Ground<'_>, selection: &Selection) -> Out {
    let mut out = Out::default();
    let unfinished = rule("unfinished-change").filter(|rule| selection.wants(rule));
    if let Some(rule) = unfinished
        && let Some(what) = ground.world.unfinished()
    {
        out.findings.push(Finding {
            rule,
            file: File::Passwd,
            line: 0,
            place: None,
            text: "".into(),
            mark: Mark::Line,
            subject: what.as_str().into(),
            message: format!("{what} was cut off by a crash and stands unfinished."),
            remedy: "copper-nest recover".into(),
            related: Vec::new(),
        });
    }
    out
}
