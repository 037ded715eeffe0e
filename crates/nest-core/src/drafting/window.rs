//! When and from where an account may sign in, in a plan: the lines of its own.

use std::sync::Arc;

use bstr::{BStr, BString};

use super::PlanBuilder;
use crate::change::{Caution, Step, Subject, TextEdit};
use crate::ownership::Owner;
use crate::request::WindowRequest;
use crate::surroundings::Surroundings;
use crate::value::{Gid, TreePath, Uid};
use crate::windows::{
    self, Asked, EnforceTrouble, FileEdit, Half, Hours, Line, Places, Who, WindowTrouble, Windows,
    give_back, line_that_asks, names_in, own_line, renaming,
};
use crate::words::list;

/// Gives an account the window that is asked for.
///
/// # Errors
/// Why it can't have it.
pub(crate) fn set_window(
    builder: &mut PlanBuilder<'_>,
    request: &WindowRequest,
    who: &Who<'_>,
    subject: &mut Subject,
) -> Result<(), WindowTrouble> {
    if !request.asks() {
        return Ok(());
    }
    let world = builder.context.world;
    let files = world.configuration();
    let windows = builder.windows();
    let (windows, name) = (&*windows, BStr::new(who.name));
    let mut lines = Vec::new();
    if let Some(text) = &request.hours {
        lines.push(Line::Hours(Hours::parse(text)?));
    }
    if let Some(text) = &request.places {
        lines.push(Line::Places(Places::parse(text)?));
    }
    let set = lines.iter().any(|line| !matches!(line, Line::Hours(None) | Line::Places(None)));
    let folder = world.facts("/etc/security".into());
    if set && matches!(folder, Ok(None)) {
        return Err(WindowTrouble::NoFolder);
    }
    let mut halves = Vec::new();
    for line in &lines {
        let edit = line.write(files, name)?;
        let unchanged = edit.lines.is_empty();
        tell(line, unchanged, world, subject);
        builder.edit_file(edit);
        if !matches!(line, Line::Hours(None) | Line::Places(None)) {
            halves.push(line.half());
        }
    }
    let asked_for: Vec<Half> = lines.iter().map(Line::half).collect();
    // Services are made to ask about what the account has by now, too.
    if !request.enforce.is_empty() {
        let has = [
            (Half::Hours, windows.hours_of(name).is_some()),
            (Half::Places, windows.places_of(name).is_some()),
        ];
        let more = has.into_iter().filter(|(half, has)| *has && !asked_for.contains(half));
        halves.extend(more.map(|(half, _)| half));
        if halves.is_empty() {
            return Err(WindowTrouble::NothingToEnforce(name.into()));
        }
    }
    // A word of that file is a user's name or a group's.
    let others = match (halves.contains(&Half::Places), builder.context.book.group(name)) {
        (true, Some((_, group))) => {
            group.members().filter(|member| *member != who.name).map(BString::from).collect()
        }
        _ => Vec::new(),
    };
    if !others.is_empty() {
        builder.caution(Caution::PlacesOfGroup { name: name.into(), others });
    }
    for half in halves {
        enforced(builder, request, who, half, subject)?;
        let lines = windows.others_about(half, who);
        if !lines.is_empty() {
            let name = BString::from(name);
            builder.caution(Caution::WindowNotAlone { name, lines });
        }
    }
    Ok(())
}

fn tell(line: &Line, unchanged: bool, world: &dyn Surroundings, subject: &mut Subject) {
    let (label, value, why) = match line {
        Line::Hours(None) => ("hours", "any".to_owned(), String::new()),
        Line::Hours(Some(hours)) => {
            let zone = world.moment().zone;
            ("hours", hours.to_string(), format!("by the clock of the machine, {zone}"))
        }
        Line::Places(None) => ("places", "anywhere".to_owned(), String::new()),
        Line::Places(Some(places)) => {
            let names: Vec<&str> = places.names().collect();
            let why = match names.as_slice() {
                [] => String::new(),
                names => format!(
                    "{} only where the service looks names up, as sshd does with UseDNS yes",
                    list(names)
                ),
            };
            ("places", places.to_string(), why)
        }
    };
    match unchanged {
        true => subject.decide_unchanged(label, value),
        false => subject.decide(label, value, why),
    }
}

/// Makes services ask, and says which do.
fn enforced(
    builder: &mut PlanBuilder<'_>,
    request: &WindowRequest,
    who: &Who<'_>,
    half: Half,
    subject: &mut Subject,
) -> Result<(), WindowTrouble> {
    let world = builder.context.world;
    let windows = builder.windows();
    for service in &request.enforce {
        if windows.asks(service, half, who) != Asked::Yes {
            builder.edit_file(enforce(world, service, half)?);
        }
    }
    let is_made = |service: &str| request.enforce.iter().any(|made| made == service);
    let made = request.enforce.iter().map(String::as_str);
    let mut services: Vec<&str> = windows.services().collect();
    services.extend(made.filter(|made| !windows.services().any(|known| known == *made)));
    let asks = |service: &&str| is_made(service) || windows.asks(service, half, who).is_yes();
    let (by, not_by): (Vec<&str>, Vec<&str>) = services.into_iter().partition(asks);
    let label = match half {
        Half::Hours => "hours kept",
        Half::Places => "places kept",
    };
    if by.is_empty() {
        subject.decide_first(label, "by no service yet", "nothing holds the account to them");
        let (name, line) = (BString::from(who.name), line_that_asks(half));
        builder.caution(Caution::WindowUnenforced { name, half, line, services: not_by.join(",") });
        return Ok(());
    }
    let unsure = not_by.iter().filter_map(|service| match windows.asks(service, half, who) {
        Asked::Depends(on) | Asked::Unknown(on) => Some(format!("of {service} it depends on {on}")),
        Asked::Yes | Asked::No | Asked::Shut => None,
    });
    let not: Option<String> = (!not_by.is_empty()).then(|| format!("not by {}", list(&not_by)));
    let why: Vec<String> = not.into_iter().chain(unsure).collect();
    subject.decide(label, format!("by {}", list(&by)), why.join("; "));
    Ok(())
}

/// Takes the lines of an account's own out, and returns them.
///
/// # Errors
/// Why not.
pub(crate) fn take_window(
    builder: &mut PlanBuilder<'_>,
    name: &BStr,
) -> Result<Vec<(Half, BString)>, WindowTrouble> {
    let world = builder.context.world;
    if !has_marks(world.windows(), name) {
        return Ok(Vec::new());
    }
    let files = world.configuration();
    let lines = [Half::Hours, Half::Places];
    let lines = lines.map(|half| Some((half, own_line(files, world.windows(), half, name)?)));
    for edit in renaming(files, world.windows(), name, None)? {
        builder.edit_file(edit);
    }
    Ok(lines.into_iter().flatten().collect())
}

/// Gives the lines of an account's own another name.
///
/// # Errors
/// Why not.
pub(crate) fn rename_window(
    builder: &mut PlanBuilder<'_>,
    old: &BStr,
    new: &BStr,
) -> Result<bool, WindowTrouble> {
    let world = builder.context.world;
    let edits = renaming(world.configuration(), world.windows(), old, Some(new))?;
    let any = !edits.is_empty();
    edits.into_iter().for_each(|edit| builder.edit_file(edit));
    Ok(any)
}

/// Puts back a line that was an account's own.
///
/// # Errors
/// Why not.
pub(crate) fn return_window(
    builder: &mut PlanBuilder<'_>,
    (half, line): (Half, &BStr),
    names: (&BStr, &BStr),
) -> Result<(), WindowTrouble> {
    let edit = give_back(builder.context.world.configuration(), half, line, names)?;
    builder.edit_file(edit);
    Ok(())
}

/// Whether a module is in one of the folders where they are installed.
fn is_installed(world: &dyn Surroundings, module: &str) -> bool {
    let is_in = |folder: &str| {
        let path = format!("{folder}/security/{module}.so");
        matches!(world.facts(path.as_str().into()), Ok(Some(_)))
    };
    ["/usr/lib", "/usr/lib64", "/lib", "/lib64"].iter().any(|folder| {
        let inner = world.entries((*folder).into()).unwrap_or_default();
        is_in(folder) || inner.iter().any(|(name, _)| is_in(&format!("{folder}/{name}")))
    })
}

/// The edit by which a service of the tree asks about one half.
///
/// # Errors
/// Why there is none.
pub(crate) fn enforce(
    world: &dyn Surroundings,
    service: &str,
    half: Half,
) -> Result<FileEdit, EnforceTrouble> {
    let is_there = |module: &str| is_installed(world, module);
    windows::enforce(world.configuration(), is_there, service, half)
}

/// Whether there are lines of somebody's own.
pub(crate) fn has_window(world: &dyn Surroundings, name: &BStr) -> bool {
    has_marks(world.windows(), name)
}

fn has_marks(windows: &Windows, name: &BStr) -> bool {
    windows.owners().any(|(_, owner, _)| owner == name)
}

impl PlanBuilder<'_> {
    /// The rules of the tree and its services, read once.
    fn windows(&mut self) -> Arc<Windows> {
        let files = self.context.world.configuration();
        let windows = self.windows.get_or_insert_with(|| Arc::new(Windows::read_whole(files)));
        Arc::clone(windows)
    }

    /// Edits a file of root's; where the plan edits it already, by the same step.
    pub fn edit_file(&mut self, edit: FileEdit) {
        let path = TreePath::judged(format!("/{}", edit.path).as_bytes());
        let owner = Owner { uid: Uid(0), gid: Gid(0) };
        let edit = TextEdit { path, lines: edit.lines, owner, mode: 0o644 };
        // What is an account's own is nobody else's.
        let is_own = names_in(&edit).next().is_some();
        self.edit_lines(edit, !is_own);
    }

    /// Edits a file; where the plan edits it already, by the same step. What is done there by now
    /// is not done again.
    pub fn edit_text(&mut self, edit: TextEdit) {
        self.edit_lines(edit, true);
    }

    fn edit_lines(&mut self, edit: TextEdit, once: bool) {
        if edit.lines.is_empty() {
            return;
        }
        let at = self.text_edits.get(&edit.path).copied();
        match at.and_then(|at| self.plan.steps.get_mut(at)) {
            Some(Step::EditText(other)) => {
                for line in edit.lines {
                    if !once || !other.lines.contains(&line) {
                        other.lines.push(line);
                    }
                }
            }
            _ => {
                self.text_edits.insert(edit.path.clone(), self.plan.steps.len());
                self.step(Step::EditText(edit));
            }
        }
    }
}
