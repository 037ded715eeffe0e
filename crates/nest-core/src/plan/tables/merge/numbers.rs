//! Which number became which: files that are copied from the other tree carry the old ones.

use std::collections::HashMap;

use bstr::{BStr, BString};

use super::merging::Merging;
use super::{Action, Coming};
use crate::change::Plan;
use crate::table::{File, Group, Passwd, Record, lines_of};
use crate::value::UserOrGroup;

/// A number that is another one here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewNumberOf {
    /// Of a user or of a group.
    pub thing: UserOrGroup,
    /// What it is called here.
    pub name: BString,
    /// The number there.
    pub was: u32,
    /// The number here.
    pub id: u32,
}

/// The numbers that a plan gives, and those that are here already.
pub(super) fn found(merging: &Merging<'_>, coming: &[Coming], plan: &Plan) -> Vec<NewNumberOf> {
    let (mut users, mut groups) = (HashMap::new(), HashMap::new());
    let edits = plan.edits.iter().filter_map(|edit| Some((edit.file, edit.after.as_ref()?)));
    for (file, text) in edits {
        for line in lines_of(text) {
            match file {
                File::Passwd => {
                    let user = Passwd::read(line);
                    users.extend(
                        user.and_then(|user| Some((BString::from(user.name), user.uid()?.0))),
                    );
                }
                File::Group => {
                    let group = Group::read(line);
                    groups.extend(
                        group.and_then(|group| Some((BString::from(group.name), group.gid()?.0))),
                    );
                }
                File::Shadow | File::Gshadow | File::Subuid | File::Subgid => {}
            }
        }
    }
    let (here, there) = (merging.context.book, merging.there);
    let uid_here = |name: &BString| {
        let known = || Some(here.user(name)?.1.uid()?.0);
        users.get(name).copied().or_else(known)
    };
    let gid_here = |name: &BString| {
        let known = || Some(here.group(name)?.1.gid()?.0);
        groups.get(name).copied().or_else(known)
    };
    let mut all = Vec::new();
    for one in coming.iter().filter(|one| one.action != Action::Skip) {
        let (was, id) = match one.thing {
            UserOrGroup::User => (
                there.user(&one.there).and_then(|(_, user)| user.uid()).map(|id| id.0),
                uid_here(&one.here),
            ),
            UserOrGroup::Group => (
                there.group(&one.there).and_then(|(_, group)| group.gid()).map(|id| id.0),
                gid_here(&one.here),
            ),
        };
        push(&mut all, one.thing, &one.here, was, id);
        let own = one.thing == UserOrGroup::User && merging.own.contains(&one.there[..]);
        if own && one.action == Action::Create {
            let was = there.group(&one.there).and_then(|(_, group)| group.gid()).map(|id| id.0);
            push(&mut all, UserOrGroup::Group, &one.here, was, gid_here(&one.here));
        }
    }
    all
}

fn push(
    all: &mut Vec<NewNumberOf>,
    thing: UserOrGroup,
    name: &BString,
    was: Option<u32>,
    id: Option<u32>,
) {
    if let (Some(was), Some(id)) = (was, id)
        && was != id
    {
        all.push(NewNumberOf { thing, name: name.clone(), was, id });
    }
}

/// The numbers as a table that `renumber` takes.
pub fn written_numbers(numbers: &[NewNumberOf]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let mut write = |cells: [&str; 4]| {
        writer.write_record(cells).expect("BUG: a table can't be written into memory");
    };
    write(["kind", "name", "was", "id"]);
    for one in numbers {
        let name = BStr::new(&one.name).to_string();
        write([&one.thing.to_string(), &name, &one.was.to_string(), &one.id.to_string()]);
    }
    let text = writer.into_inner().expect("BUG: a table can't be written into memory");
    String::from_utf8_lossy(&text).into_owned()
}
