//! Turns that refusals and cautions share.

use bstr::BString;

use crate::surroundings::{Mention, Process};

/// The first few processes, one a line.
pub(super) fn listed(processes: &[Process]) -> String {
    const MOST: usize = 8;
    let mut text = String::new();
    for process in processes.iter().take(MOST) {
        text += &format!("\n  {:>7}  since {}  {}", process.pid, process.since, process.command);
    }
    if processes.len() > MOST {
        text += &format!("\n  and {} more", processes.len() - MOST);
    }
    text
}

/// The first few of some names.
pub(super) fn some(names: &[BString]) -> String {
    const MOST: usize = 5;
    let first: Vec<String> = names.iter().take(MOST).map(ToString::to_string).collect();
    match (first.as_slice(), names.len().saturating_sub(MOST)) {
        ([], _) => "nobody".to_owned(),
        ([one], _) => one.clone(),
        ([all @ .., last], 0) => format!("{} and {last}", all.join(", ")),
        (all, more) => format!("{} and {more} more", all.join(", ")),
    }
}

/// "one thing is", "7 things are".
pub(super) fn things(count: usize) -> String {
    if count == 1 { "one thing is".to_owned() } else { format!("{count} things are") }
}

/// Rows that would say the same as one that is told.
pub(super) fn also(alike: usize) -> String {
    match alike {
        0 | 1 => String::new(),
        alike => format!("; no number is left for {} further rows either", alike - 1),
    }
}

pub(super) fn gone(now: &Option<BString>) -> String {
    now.as_ref().map_or_else(|| "gone".to_owned(), ToString::to_string)
}

pub(super) fn nearest(near: &Option<BString>) -> String {
    near.as_ref().map(|near| format!("; the nearest is {near}")).unwrap_or_default()
}

/// So many processes; one alone is named.
pub(super) fn counted(processes: &[Process]) -> String {
    match processes {
        [one] => format!("1 process ({} {})", one.pid, one.command),
        all => format!("{} processes", all.len()),
    }
}

/// Places of configuration, one after the other.
pub(super) fn mentions(places: &[Mention]) -> String {
    let places: Vec<String> =
        places.iter().map(|place| format!("{}:{}", place.file, place.line)).collect();
    places.join(", ")
}

/// The verb that follows them.
pub(super) fn verb(places: &[Mention]) -> &'static str {
    if places.len() == 1 { "names" } else { "name" }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::Caution;

    #[test]
    fn of_many_names_the_first_are_told() {
        let names: Vec<BString> = (1..8).map(|at| BString::from(format!("crew{at}"))).collect();
        assert_eq!(some(&[]), "nobody");
        assert_eq!(some(&names[..1]), "crew1");
        assert_eq!(some(&names[..3]), "crew1, crew2 and crew3");
        assert_eq!(some(&names), "crew1, crew2, crew3, crew4, crew5 and 2 more");
    }

    #[test]
    fn of_many_processes_the_first_are_listed() {
        let process = |pid| Process { pid, command: "vi".into(), since: "today".into() };
        let all: Vec<Process> = (1..11).map(process).collect();
        let text = listed(&all);
        assert_eq!(text.lines().count(), 1 + 8 + 1, "{text}");
        assert!(text.ends_with("and 2 more"), "{text}");
    }

    #[test]
    fn mentions_read_as_a_sentence() {
        let place = |line| Mention { file: "etc/sudoers".into(), line };
        let one = Caution::Mentioned { name: "maren".into(), places: vec![place(4)] };
        assert_eq!(
            one.to_string(),
            "etc/sudoers:4 already names maren: what stands there is granted to the new account"
        );
        let two = Caution::Mentioned { name: "maren".into(), places: vec![place(4), place(9)] };
        assert!(two.to_string().starts_with("etc/sudoers:4, etc/sudoers:9 already name maren"));
    }
}
