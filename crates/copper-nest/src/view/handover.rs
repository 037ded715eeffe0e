//! Whom a directory can take over.

use nest_core::handover::{HandedOver, Handover};
use nest_core::words::{counted, list};
use serde_json::{Value, json};

use super::{JsonTexts, beside, remark, style, visible, width};
use crate::cli::Global;

/// Prints what was found, those who are not ready first.
pub fn print(global: &Global, found: &Handover, dump: &str) {
    let (heading, quiet) = (style::HEADING, style::QUIET);
    let (ready, rest): (Vec<&HandedOver>, Vec<&HandedOver>) =
        found.people.iter().partition(|person| person.is_ready());
    let wide = found.people.iter().map(|person| width(&visible(&person.name))).max().unwrap_or(0);
    let row = |label: &str, margin: usize, colour: anstyle::Style, text: &str| {
        let mut label = label.to_owned();
        for line in beside(margin, &visible(text.as_bytes())) {
            let gap = " ".repeat(wide - width(&label));
            outln!("  {label}{gap}  {colour}{line}{colour:#}");
            label = String::new();
        }
    };
    let block = |title: &str, people: &[&HandedOver]| {
        if people.is_empty() {
            return;
        }
        outln!("{heading}{title}{heading:#}");
        for person in people {
            let mut label = visible(&person.name);
            let mut tell = |colour, text: &str| {
                row(&label, wide + 4, colour, text);
                label.clear();
            };
            for fault in &person.faults {
                tell(style::BAD, fault);
            }
            if !person.leaves.is_empty() {
                let of_these = if person.leaves.len() == 1 { "it is" } else { "they are" };
                tell(
                    style::WARN,
                    &format!("leaves {}: {of_these} not in the directory", list(&person.leaves)),
                );
            }
            for note in &person.notes {
                tell(quiet, note);
            }
            if person.is_ready() && person.leaves.is_empty() && person.notes.is_empty() {
                tell(style::GOOD, "is the same there");
            }
        }
        outln!();
    };
    block("not ready", &rest);
    block("ready", &ready);
    if !found.groups.is_empty() {
        outln!("{heading}groups of this machine that stand before the directory's{heading:#}");
        found.groups.iter().for_each(|told| outln!("  {}", visible(told.as_bytes())));
        outln!();
    }
    let asks = match &found.asks {
        Some(asks) => format!("etc/nsswitch.conf asks {asks} for users, too"),
        None => "etc/nsswitch.conf names no directory yet: nobody who is let go could sign in"
            .to_owned(),
    };
    remark(&asks);
    remark(&format!(
        "{} of {} can be handed over",
        found.ready(),
        counted(found.people.len(), "person", "people")
    ));
    if !ready.is_empty() && !global.quiet {
        remark(&format!(
            "next: {} --delete --dry-run",
            global.command(&format!("handover {dump}"))
        ));
    }
}

/// The same for machines.
pub fn to_json(found: &Handover) -> Value {
    let people = found.people.iter().map(|person| {
        let texts = JsonTexts::default();
        let document = json!({
            "name": texts.text(&person.name),
            "ready": person.is_ready(),
            "faults": person.faults.iter().map(|it| texts.text(it.as_bytes())).collect::<Vec<_>>(),
            "leaves": person.leaves.iter().map(|it| texts.text(it)).collect::<Vec<_>>(),
            "notes": person.notes.iter().map(|it| texts.text(it.as_bytes())).collect::<Vec<_>>(),
        });
        texts.mark(document)
    });
    json!({
        "people": people.collect::<Vec<_>>(),
        "groups": found.groups.iter().map(|it| visible(it.as_bytes())).collect::<Vec<_>>(),
        "asks": found.asks,
        "ready": found.ready(),
    })
}
