//! The groups that an account was in.

use bstr::{BStr, ByteSlice};

use super::{ListBack, Restoring};
use crate::change::{Caution, Label};
use crate::retired::{KeptPlace, RetiredAccount};
use crate::table::File;
use crate::value::{Gid, UserOrGroup};
use crate::words::list;

impl<'a> Restoring<'_, 'a> {
    /// Puts it back into the lists of its groups, and says which of them it can't be in again.
    pub(super) fn memberships(&mut self, lists: &mut Vec<ListBack>) {
        if self.request.as_name.is_some() {
            let lines = self.context.book.groups.lines();
            for (line, group) in self.context.book.groups_listing(self.name) {
                let (name, group) = (self.name.clone().into(), group.name.into());
                let line = lines.number(line.start);
                self.builder.caution(Caution::ListedAlready { name, group, line });
            }
        }
        let kept = self.kept;
        let mut back: Vec<&BStr> = Vec::new();
        let mut why = "as before".to_owned();
        for place in &kept.places {
            let group = BStr::new(&place.group);
            let first = place.file == File::Group;
            let renamed = || self.renamed_since(place);
            match self.context.book.group(group) {
                Some((_, now)) if now.gid() == place.gid || place.gid.is_none() => {
                    lists.push((place.clone(), self.kept.name.clone(), self.name.clone()));
                    if first {
                        back.push(group);
                    }
                }
                Some((_, now)) if first => {
                    let why = format!("is another group now, gid {}", now.gid.as_bstr());
                    self.not_back(format!("member of {group}"), why);
                }
                None => match renamed() {
                    Some(now) => {
                        let place = KeptPlace { group: now.into(), ..place.clone() };
                        lists.push((place, self.kept.name.clone(), self.name.clone()));
                        if first {
                            back.push(now);
                            why += &format!("; {now} was called {group}");
                        }
                    }
                    None if first => self.group_is_gone(place),
                    None => {}
                },
                // Of the other file's list the same was told already.
                Some(_) => {}
            }
        }
        if !back.is_empty() {
            self.subject.decide(Label::MEMBER_OF, list(&back), why);
        }
    }

    /// What a group that it was in is called now, as its number tells. A number that somebody
    /// retired and another group got says nothing.
    fn renamed_since(&self, place: &KeptPlace) -> Option<&'a BStr> {
        let gid = place.gid?;
        let (_, now) = self.context.book.group_by_gid(gid)?;
        let kept = self.context.world.kept().ok()?;
        let was_deleted = |one: &RetiredAccount| {
            one.kept.thing == UserOrGroup::Group && one.kept.name == *place.group
        };
        (!kept.iter().any(was_deleted)).then(|| BStr::new(now.name))
    }

    /// Says that a group is gone; one that can be brought back, how.
    fn group_is_gone(&mut self, place: &KeptPlace) {
        let group = BStr::new(&place.group);
        let kept = self.context.world.kept().into_iter().flatten();
        let mut kept = kept.map(|one| &one.kept).filter(|kept| {
            kept.thing == UserOrGroup::Group
                && kept.name == group
                && Some(Gid(kept.id)) == place.gid
        });
        let why = match kept.next() {
            Some(_) => {
                let first = format!("copper-nest restore group {group}");
                format!("the group is deleted; to be in it, first: {first}")
            }
            None => "the group is gone".to_owned(),
        };
        self.not_back(format!("member of {group}"), why);
    }
}
