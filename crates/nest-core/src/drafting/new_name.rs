//! Whether a name can be had.

use bstr::BStr;
use rayon::prelude::*;

use crate::book::Book;
use crate::change::Caution;
use crate::context::PlanContext;
use crate::refusal::{Reason, Refusal, Result};
use crate::table::{File, Group, Line, Passwd, Record};
use crate::value::check_name;

type NameHolders<'b> = Vec<(File, Vec<Line<'b>>)>;
type Listing<'b> = Vec<(Line<'b>, Group<'b>)>;

/// The name of a user must be new in every file, and well-formed; with `private`,
/// that of its group too. `group_way` is the command that does without that.
/// Returns what has to be told.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn check_new_name(
    context: PlanContext<'_>,
    name: &BStr,
    private: bool,
    what: &str,
    group_way: impl FnOnce() -> String,
) -> Result<Vec<Caution>> {
    let PlanContext { book, policy, world, .. } = context;
    let refuse = |reason| Refusal::new(what, reason);
    let mut cautions = Vec::new();
    check_name(policy.names_style, name).map_err(|fault| refuse(Reason::UnfitName(fault)))?;
    let number = |file: File, start| book.lines(file).map_or(0, |lines| lines.number(start));
    let (holders, listing) = match book.is_nowhere(name) {
        true => Default::default(),
        false => look_up_name(book, name, private),
    };
    // The plainest reason first: a user of that name, then a group, then
    // what is left over of either.
    let order =
        [File::Passwd, File::Group, File::Shadow, File::Gshadow, File::Subuid, File::Subgid];
    for file in order {
        let found = holders.iter().find(|(holder, _)| *holder == file);
        let Some(line) = found.and_then(|(_, lines)| lines.first()) else { continue };
        let at = number(file, line.start);
        return Err(match file {
            File::Passwd => match Passwd::read(line.record()) {
                Some(user) => refuse(Reason::UserExists { line: at, uid: user.uid.into() })
                    .or("look at it", format!("show user {name}")),
                None => refuse(damaged(file, at)),
            },
            File::Group => match Group::read(line.record()) {
                Some(group) => refuse(Reason::GroupExists { line: at, gid: group.gid.into() })
                    .or("leave that group as it is", group_way()),
                None => refuse(damaged(file, at)),
            },
            _ => refuse(Reason::Leftover { file, line: at })
                .or("see what is left over", "check --files-only"),
        });
    }
    let failed = |why| refuse(Reason::ServiceFailed(why));
    if world.service_knows_user(name).map_err(failed)? {
        return Err(refuse(Reason::ServiceKnows { what: "user" }));
    }
    if private && world.service_knows_group(name).map_err(failed)? {
        return Err(refuse(Reason::ServiceKnows { what: "group" }));
    }
    let earlier = world.retired().users.iter().find(|retired| retired.name == name);
    cautions.extend(
        earlier.map(|retired| Caution::EarlierHolder { name: name.into(), id: retired.id }),
    );
    let places = world.mentions(name);
    if !places.is_empty() {
        cautions.push(Caution::Mentioned { name: name.into(), places });
    }
    for (line, group) in listing {
        cautions.push(Caution::ListedAlready {
            name: name.into(),
            group: group.name.into(),
            line: number(File::Group, line.start),
        });
    }
    Ok(cautions)
}

/// The lines about a name in each file, and the groups that list it. Large files
/// are searched side by side.
fn look_up_name<'b>(book: &'b Book, name: &BStr, private: bool) -> (NameHolders<'b>, Listing<'b>) {
    let of_groups = |file: File| matches!(file, File::Group | File::Gshadow);
    rayon::join(
        || {
            let found = File::ALL.par_iter().map(|file| (*file, book.named(*file, name)));
            found.filter(|(file, _)| private || !of_groups(*file)).collect()
        },
        || book.groups_listing(name),
    )
}

/// The name of a group must be new in the files of groups, and well-formed.
/// Returns what has to be told.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn check_new_group_name(
    context: PlanContext<'_>,
    name: &BStr,
    what: &str,
) -> Result<Vec<Caution>> {
    let PlanContext { book, policy, world, .. } = context;
    let refuse = |reason| Refusal::new(what, reason);
    check_name(policy.names_style, name).map_err(|fault| refuse(Reason::UnfitName(fault)))?;
    let number = |file: File, start| book.lines(file).map_or(0, |lines| lines.number(start));
    if let Some(line) = book.named(File::Group, name).first() {
        let at = number(File::Group, line.start);
        return Err(match Group::read(line.record()) {
            Some(group) => refuse(Reason::GroupNameTaken { line: at, gid: group.gid.into() })
                .or("look at it", format!("show group {name}")),
            None => refuse(damaged(File::Group, at)),
        });
    }
    if let Some(line) = book.named(File::Gshadow, name).first() {
        let (file, line) = (File::Gshadow, number(File::Gshadow, line.start));
        return Err(refuse(Reason::Leftover { file, line })
            .or("see what is left over", "check --files-only"));
    }
    if world.service_knows_group(name).map_err(|why| refuse(Reason::ServiceFailed(why)))? {
        return Err(refuse(Reason::ServiceKnows { what: "group" }));
    }
    let mut cautions = Vec::new();
    let earlier = world.retired().groups.iter().find(|retired| retired.name == name);
    cautions.extend(
        earlier.map(|retired| Caution::EarlierHolder { name: name.into(), id: retired.id }),
    );
    let places = world.mentions_of_group(name);
    if !places.is_empty() {
        cautions.push(Caution::Mentioned { name: name.into(), places });
    }
    if let Some((_, user)) = book.user(name) {
        cautions.push(Caution::NameOfUser { name: name.into(), gid: user.gid.into() });
    }
    Ok(cautions)
}

/// A line that names something, but can't be read.
pub(crate) fn damaged(file: File, line: usize) -> Reason {
    let fault =
        format!("names it too, but is malformed (a line there has {} fields)", file.fields());
    Reason::Damaged { file, line, fault }
}
