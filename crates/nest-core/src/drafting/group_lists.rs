//! Editing who is in a group and who administers it: in group and gshadow alike,
//! where a line of gshadow that is missing is made on the way.

use std::cell::RefCell;
use std::collections::BTreeSet;

use bstr::{BStr, BString};
use hashbrown::HashMap;
use hashbrown::hash_map::Entry;

use super::edited_list::EditedList;
use crate::book::Book;
use crate::change::Caution;
use crate::context::PlanContext;
use crate::drafting::LineEdits;
use crate::order;
use crate::retired::{KeptPlace, with_member_back};
use crate::table::{
    Column, File, Group, GroupField, Gshadow, GshadowField, Line, Record, with_fields,
};
use crate::value::{PasswordField, members, replace_member, with_member, without_member};

/// The lists of members and administrators that name a user; those of its own group are left
/// out where that goes too.
pub(crate) fn places_naming(book: &Book, name: &BStr, own_goes: bool) -> Vec<KeptPlace> {
    let stays = |group: &[u8]| !(own_goes && group == name);
    let mut places = Vec::new();
    for (_, group) in book.groups_listing(name) {
        if stays(group.name) {
            let (file, admins) = (File::Group, false);
            let (list, gid) = (group.members.into(), group.gid());
            places.push(KeptPlace { file, admins, group: group.name.into(), gid, list });
        }
    }
    for line in book.gshadow_mentioning(name) {
        let Some(now) = Gshadow::read(line.record()).filter(|now| stays(now.name)) else {
            continue;
        };
        let gid = book.group(now.name).and_then(|(_, group)| group.gid());
        for (admins, list) in [(false, now.members), (true, now.admins)] {
            if members(list).any(|member| member == name) {
                let (file, group, list) = (File::Gshadow, now.name.into(), list.into());
                places.push(KeptPlace { file, admins, group, gid, list });
            }
        }
    }
    places
}

/// What becomes of a list, and whether it was tidied for that; nothing where it
/// stays.
type Edited = Option<(Vec<u8>, bool)>;

/// Edits over the lists of groups, and what has to be told about them.
pub(crate) struct GroupLists<'p, 'a> {
    pub context: PlanContext<'a>,
    pub edits: &'p mut LineEdits<'a>,
    pub pending: &'p mut PendingLists<'a>,
    pub cautions: &'p mut Vec<Caution>,
}

/// Lists that names join and leave one by one, until all have: then each is written once.
#[derive(Default)]
pub(crate) struct PendingLists<'a>(HashMap<(File, usize, Column), Pending<'a>>);

struct Pending<'a> {
    line: Line<'a>,
    list: EditedList<'a>,
    altered: bool,
}

/// What becomes of one name in a list.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Move {
    Joins,
    Leaves,
}

impl<'a> GroupLists<'_, 'a> {
    /// Adds a member. Returns whether a list had to be altered.
    pub fn join(&mut self, group: &[u8], name: &BStr) -> bool {
        self.move_member(group, name, Move::Joins)
    }

    /// Adds several members at once, to a group that there is or that is being made.
    pub fn join_all(&mut self, group: &[u8], edit: impl Fn(&[u8]) -> Edited) {
        // Nearly always both files list the same, and the names may be many.
        let known: RefCell<Option<(Vec<u8>, Edited)>> = RefCell::new(None);
        let edit = |list: &[u8]| {
            let mut known = known.borrow_mut();
            if known.as_ref().is_none_or(|(of, _)| of != list) {
                *known = Some((list.to_vec(), edit(list)));
            }
            known.as_ref().and_then(|(_, edited)| edited.clone())
        };
        self.flush();
        let known = self.context.book.group(group).is_some();
        if !known && let Some(line) = self.edits.added(File::Group, group) {
            if let Some((list, _)) = Group::read(line).and_then(|now| edit(now.members)) {
                *line = with_fields(line, &[(GroupField::Members, &list[..])]).into();
            }
            if self.keeps_gshadow() {
                self.gshadow(group, GshadowField::Members, edit);
            }
            return;
        }
        let mut altered = false;
        if let Some((line, _)) = self.context.book.group(group)
            && let Some(tidied) = self.edit_field(File::Group, line, GroupField::Members, edit)
        {
            self.tidied(tidied, group);
            altered = true;
        }
        let has_line = self.is_made() || self.context.book.gshadow(group).is_some();
        if self.keeps_gshadow() && (has_line || altered) {
            self.gshadow(group, GshadowField::Members, edit);
        }
    }

    /// Takes a member out. Returns whether a list had to be altered.
    pub fn leave(&mut self, group: &[u8], name: &BStr) -> bool {
        self.move_member(group, name, Move::Leaves)
    }

    /// Writes another name in the place of one, in every list of members and of
    /// administrators.
    pub fn replace_everywhere(&mut self, old: &BStr, new: &BStr) {
        self.flush();
        let book = self.context.book;
        let replaced = |list: &[u8]| replace_member(list, old, new).map(|list| (list, false));
        for (line, _) in book.groups_listing(old) {
            self.edit_field(File::Group, line, GroupField::Members, replaced);
        }
        for line in book.gshadow_mentioning(old) {
            for list in [GshadowField::Admins, GshadowField::Members] {
                self.edit_field(File::Gshadow, line, list, replaced);
            }
        }
    }

    /// Puts a name back to where it stood in a list.
    pub fn give_back(&mut self, place: &KeptPlace, old: &BStr, new: &BStr) {
        self.flush();
        let book = self.context.book;
        let line = match place.file {
            File::Group => book.group(&place.group).map(|(line, _)| line),
            _ => book.gshadow(&place.group).map(|(line, _)| line),
        };
        let Some(line) = line else { return };
        let list = match old == new {
            true => Some(place.list.to_vec()),
            false => replace_member(&place.list, old, new),
        };
        let back = |now: &[u8]| {
            let list = with_member_back(now, list.as_deref().unwrap_or_default(), new)?;
            Some((list.into(), false))
        };
        let list = if place.admins { GshadowField::Admins } else { GshadowField::Members };
        self.edit_field(place.file, line, list, back);
    }

    /// Edits a field of a line that is there. Returns whether it is another now, and whether
    /// the list was tidied for that.
    fn edit_field(
        &mut self,
        file: File,
        line: Line<'a>,
        at: impl Into<Column>,
        edit: impl Fn(&[u8]) -> Edited,
    ) -> Option<bool> {
        let (current, at) = (self.edits.current(file, line), at.into());
        let (list, tidied) = edit(at.of(&current))?;
        self.edits.alter(file, line, with_fields(&current, &[(at, &list[..])]));
        Some(tidied)
    }

    /// Edits the list in both files. Who joins gets the line that gshadow lacks;
    /// nobody else needs it.
    fn move_member(&mut self, group: &[u8], name: &BStr, moves: Move) -> bool {
        let book = self.context.book;
        let line = book.group(group).map(|(line, _)| line);
        let mut altered = line.is_some_and(|line| {
            self.move_name(File::Group, line, GroupField::Members, name, moves)
        });
        match book.gshadow(group) {
            Some((line, _)) => {
                altered |= self.move_name(File::Gshadow, line, GshadowField::Members, name, moves)
            }
            None => {
                let makes = self.is_made() || altered && moves == Move::Joins;
                if self.keeps_gshadow() && makes {
                    self.flush();
                    altered |= self.gshadow(group, GshadowField::Members, moves.of(name));
                }
            }
        }
        altered
    }

    /// Edits a list of a line that is there. Returns whether it is another now.
    fn move_name(
        &mut self,
        file: File,
        line: Line<'a>,
        at: impl Into<Column>,
        name: &BStr,
        moves: Move,
    ) -> bool {
        let at = at.into();
        let original = at.of(line.bytes);
        let pending = match self.pending.0.entry((file, line.start, at)) {
            Entry::Occupied(pending) => pending.into_mut(),
            Entry::Vacant(place) => {
                let current = self.edits.current(file, line);
                if at.of(&current) != original {
                    // Something else was done to it already.
                    let tidied = self.edit_field(file, line, at, moves.of(name));
                    tidied.into_iter().for_each(|tidied| self.tidied(tidied, line.name()));
                    return tidied.is_some();
                }
                place.insert(Pending { line, list: EditedList::new(original), altered: false })
            }
        };
        let altered = match moves {
            Move::Joins => pending.list.join(name),
            Move::Leaves => pending.list.leave(name),
        };
        if altered && !std::mem::replace(&mut pending.altered, true) {
            let tidied = pending.list.was_ragged();
            self.tidied(tidied, line.name());
        }
        altered
    }

    /// Writes the lists that names have joined and left.
    pub fn flush(&mut self) {
        let mut lists: Vec<_> = self.pending.0.drain().collect();
        order::sort_by_key(&mut lists, |(place, _)| *place);
        for ((file, _, at), Pending { line, list, .. }) in
            lists.into_iter().filter(|(_, pending)| pending.altered)
        {
            let current = self.edits.current(file, line);
            self.edits.alter(file, line, with_fields(&current, &[(at, &list.text()[..])]));
        }
    }

    /// Makes a user an administrator of a group. Returns whether that is new.
    pub fn add_admin(&mut self, group: &[u8], name: &BStr) -> bool {
        self.move_admin(group, name, Move::Joins)
    }

    /// Takes a user out of the administrators of a group.
    pub fn drop_admin(&mut self, group: &[u8], name: &BStr) -> bool {
        let known = self.context.book.gshadow(group).is_some();
        known && self.move_admin(group, name, Move::Leaves)
    }

    fn move_admin(&mut self, group: &[u8], name: &BStr, moves: Move) -> bool {
        match self.context.book.gshadow(group) {
            Some((line, _)) => {
                self.move_name(File::Gshadow, line, GshadowField::Admins, name, moves)
            }
            None => {
                self.flush();
                self.gshadow(group, GshadowField::Admins, moves.of(name))
            }
        }
    }

    /// Sets the password field of a group. Returns whether it is another now.
    pub fn set_password(&mut self, group: &[u8], field: &[u8]) -> bool {
        let altered = self.gshadow(group, GshadowField::Password, |old| {
            (old != field).then(|| (field.to_vec(), false))
        });
        altered | self.shadowed(group)
    }

    /// Takes the password of a group away, wherever it stands.
    pub fn take_password(&mut self, group: &[u8]) -> bool {
        let kept = self.context.book.gshadow(group).map(|(_, gshadow)| gshadow.password);
        let mut altered = kept.is_some_and(|field| !PasswordField::is_harmless(field))
            && self.gshadow(group, GshadowField::Password, |_| Some((b"!".to_vec(), false)));
        if let Some((line, found)) = self.context.book.group(group)
            && !PasswordField::is_harmless(found.password)
        {
            let field: &[u8] = if kept.is_some() { b"x" } else { b"!" };
            let current = self.edits.current(File::Group, line);
            self.edits.alter(
                File::Group,
                line,
                with_fields(&current, &[(GroupField::Password, field)]),
            );
            altered = true;
        }
        altered
    }

    /// What stands in group itself is no longer used: `x` says so.
    fn shadowed(&mut self, group: &[u8]) -> bool {
        let Some((line, _)) = self.context.book.group(group) else { return false };
        let current = self.edits.current(File::Group, line);
        let stale = Group::read(current.trim_ascii_start()).filter(|group| group.password != b"x");
        if stale.is_some() {
            self.edits.alter(
                File::Group,
                line,
                with_fields(&current, &[(GroupField::Password, b"x")]),
            );
        }
        stale.is_some()
    }

    /// Edits one field of a group's line in gshadow.
    fn gshadow(&mut self, group: &[u8], at: GshadowField, edit: impl Fn(&[u8]) -> Edited) -> bool {
        let existing = self.context.book.gshadow(group).map(|(line, _)| line);
        let current = match existing {
            Some(line) => self.edits.current(File::Gshadow, line),
            None => match self.edits.added(File::Gshadow, group) {
                Some(line) => line.clone(),
                None => self.make_line(group),
            },
        };
        let Some((list, tidied)) = edit(Column::from(at).of(&current)) else { return false };
        let new = with_fields(&current, &[(at, &list[..])]);
        self.tidied(tidied, group);
        match existing {
            Some(line) => self.edits.alter(File::Gshadow, line, new),
            None => {
                if let Some(line) = self.edits.added(File::Gshadow, group) {
                    *line = new.into();
                }
            }
        }
        true
    }

    /// Makes the line that gshadow lacks; the whole file where there is none, so
    /// that no group is left without one. Returns the line.
    fn make_line(&mut self, group: &[u8]) -> BString {
        let book = self.context.book;
        if book.gshadow.is_some() {
            self.cautions.push(Caution::GshadowLineMade { group: group.into() });
            return self.add_line(group);
        }
        self.make_file_but(Some(group));
        self.add_line(group)
    }

    /// Makes the file with a line for every group that there is.
    pub fn make_file(&mut self) {
        self.flush();
        self.make_file_but(None);
    }

    /// Whether the file is made by this plan.
    fn is_made(&self) -> bool {
        self.context.book.gshadow.is_none() && self.cautions.contains(&Caution::GshadowMade)
    }

    fn keeps_gshadow(&self) -> bool {
        self.context.book.gshadow.is_some() || self.is_made()
    }

    /// Gives the groups that come a line each, where the file is made by this plan.
    pub fn complete(&mut self) {
        let new = if self.is_made() { self.edits.new_groups() } else { Vec::new() };
        for group in new {
            if self.edits.added(File::Gshadow, &group).is_none() {
                self.add_line(&group);
            }
        }
    }

    fn make_file_but(&mut self, but: Option<&[u8]>) {
        if self.is_made() {
            return;
        }
        self.cautions.retain(|caution| *caution != Caution::NoGshadow);
        self.cautions.push(Caution::GshadowMade);
        let mut seen: BTreeSet<&[u8]> = but.into_iter().collect();
        let book = self.context.book;
        for (_, other) in book.groups.records() {
            if seen.insert(other.name) {
                self.add_line(other.name);
            }
        }
    }

    /// The line says what group says; a hash that everybody could read moves.
    fn add_line(&mut self, group: &[u8]) -> BString {
        let found = self.context.book.group(group).map(|(line, _)| line);
        let current = match found {
            Some(line) => Some(self.edits.current(File::Group, line)),
            None => self.edits.added(File::Group, group).cloned(),
        };
        let now = current.as_ref().and_then(|line| Group::read(line.trim_ascii_start()));
        let exposed =
            now.map(|now| now.password).filter(|field| !PasswordField::is_harmless(field));
        let fields: [&[u8]; 4] =
            [group, exposed.unwrap_or(b"!"), b"", now.map_or(b"", |now| now.members)];
        let line = BString::from(fields.join(&b':'));
        self.edits.add_named(File::Gshadow, group, line.to_vec());
        if exposed.is_some() {
            self.shadowed(group);
        }
        line
    }

    fn tidied(&mut self, tidied: bool, group: &[u8]) {
        let caution = Caution::ListTidied { group: group.into() };
        if tidied && !self.cautions.contains(&caution) {
            self.cautions.push(caution);
        }
    }
}

impl Move {
    /// The same, done at once to a list as it is written.
    fn of(self, name: &BStr) -> impl Fn(&[u8]) -> Edited {
        move |list| match self {
            Move::Joins => with_member(list, name),
            Move::Leaves => without_member(list, name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::test_support::World;
    use crate::value::Day;

    fn edited(
        files: &[(File, &str)],
        edit: impl Fn(&mut GroupLists<'_, '_>) -> bool,
    ) -> (bool, Vec<(File, String)>, Vec<Caution>) {
        let (book, policy, world) = (book(files), Policy::default(), World::default());
        let today = Day(20_781);
        let context =
            PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
        let (mut edits, mut cautions) = (LineEdits::new(&book), Vec::new());
        let mut pending = PendingLists::default();
        let (now, told) = (&mut edits, &mut cautions);
        let mut lists = GroupLists { context, edits: now, pending: &mut pending, cautions: told };
        let altered = edit(&mut lists);
        lists.flush();
        let lines = edits.finish().into_iter();
        let lines = lines.map(|edit| (edit.file, edit.after.unwrap_or_default().to_string()));
        (altered, lines.collect(), cautions)
    }

    #[test]
    fn a_ragged_list_is_left_alone_until_it_is_edited() {
        let files = [(File::Group, "crew:x:7:a,, b,\n"), (File::Gshadow, "crew:!::a,b\n")];
        let (altered, lines, _) = edited(&files, |lists| lists.join(b"crew", "a".into()));
        assert_eq!((altered, lines.len()), (false, 0));
        let (altered, lines, cautions) = edited(&files, |lists| lists.leave(b"crew", "a".into()));
        assert!(altered);
        assert_eq!(lines[0], (File::Group, "crew:x:7:b".into()));
        assert_eq!(lines[1], (File::Gshadow, "crew:!::b".into()));
        assert_eq!(cautions, [Caution::ListTidied { group: "crew".into() }]);
    }

    #[test]
    fn a_missing_line_is_made_once_and_told() {
        let files = [(File::Group, "crew:$6$a$hash:7:a\n"), (File::Gshadow, "rest:!::\n")];
        let (_, lines, cautions) = edited(&files, |lists| {
            lists.join(b"crew", "b".into());
            lists.join(b"crew", "c".into());
            lists.add_admin(b"crew", "a".into())
        });
        assert_eq!(lines[0], (File::Group, "crew:x:7:a,b,c".into()));
        assert_eq!(lines[1], (File::Gshadow, "crew:$6$a$hash:a:a,b,c".into()));
        assert_eq!(cautions, [Caution::GshadowLineMade { group: "crew".into() }]);
    }

    #[test]
    fn a_missing_file_is_made_whole_and_only_when_it_is_needed() {
        let files = [(File::Group, "crew:x:7:a\nrest:x:8:b\n")];
        let (_, lines, cautions) = edited(&files, |lists| lists.join(b"crew", "b".into()));
        assert_eq!((lines.len(), cautions.len()), (1, 0));
        let (_, lines, cautions) = edited(&files, |lists| lists.add_admin(b"crew", "a".into()));
        let lines: Vec<&str> = lines.iter().map(|(_, line)| line.as_str()).collect();
        assert_eq!(lines, ["rest:!::b", "crew:!:a:a"]);
        assert_eq!(cautions, [Caution::GshadowMade]);
    }
}
