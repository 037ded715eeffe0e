//! Who can sign in: open-password, second-root.

use bstr::BStr;

use super::lines::found;
use super::{Mark, Out, Related, Rule, Selection, rule};
use crate::plan::Ground;
use crate::secret::shown;
use crate::table::File;

pub(super) fn run(ground: Ground<'_>, selection: &Selection) -> Out {
    let wanted = |name| rule(name).filter(|rule| selection.wants(rule));
    let mut out = Out::default();
    if let Some(rule) = wanted("open-password") {
        open_passwords(rule, ground, &mut out);
    }
    if let Some(rule) = wanted("second-root") {
        second_roots(rule, ground, &mut out);
    }
    out
}

fn open_passwords(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) {
    let book = ground.book;
    let message = |name: &[u8]| {
        format!("the password field of {} is empty: no password is asked.", BStr::new(name))
    };
    let remedy = "put ! into the field, or set a password".to_owned();
    for (line, user) in book.users.records().filter(|(_, user)| user.password.is_empty()) {
        let lines = book.users.lines();
        let message = message(user.name);
        out.findings.push(found(rule, lines, line, Mark::Field(1), message, remedy.clone()));
    }
    let Some(table) = &book.shadow else { return };
    for (line, shadow) in table.records().filter(|(_, shadow)| shadow.password.is_empty()) {
        let message = message(shadow.name);
        out.findings.push(found(
            rule,
            table.lines(),
            line,
            Mark::Field(1),
            message,
            remedy.clone(),
        ));
    }
}

fn second_roots(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) {
    let lines = ground.book.users.lines();
    let mut roots = ground.book.users.records().filter(|(_, user)| user.uid() == Some(0));
    let Some((first_line, first)) = roots.next() else {
        return;
    };
    for (line, user) in roots.filter(|(_, user)| user.name != first.name) {
        let message = format!(
            "{} has uid 0 and is root under another name, like {} (line {}).",
            BStr::new(user.name),
            BStr::new(first.name),
            lines.number(first_line.start)
        );
        let remedy =
            "give it another uid; the administrators' group is enough to administer".to_owned();
        let mut finding = found(rule, lines, line, Mark::Field(2), message, remedy);
        finding.related.push(Related {
            file: File::Passwd,
            line: lines.number(first_line.start),
            text: shown(File::Passwd, first_line.bytes),
        });
        out.findings.push(finding);
    }
}
