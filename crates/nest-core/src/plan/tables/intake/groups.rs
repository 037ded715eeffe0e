//! The groups that a roster makes, and who is in them.

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashSet;

use crate::account::admin_group;
use crate::change::{Caution, Subject};
use crate::context::PlanContext;
use crate::drafting::{check_new_group_name, find_group, find_member};
use crate::plan::groups::create_group::choose_gid;
use crate::plan::tables::intake::{Existing, IntakePlanner, faults};
use crate::request::CreateGroup;
use crate::roster::{Column, RosterRow, RowRequest, Wrong};
use crate::value::{Gid, GroupName, UserName, members};
use crate::words::list;

impl<'r> IntakePlanner<'_, 'r> {
    /// Makes the group of a row, unless it is there.
    pub(crate) fn group(&mut self, row: &'r RosterRow, group: &'r CreateGroup) {
        let name = BStr::new(&group.name);
        if let Some((line, found)) = self.context.book.group(name) {
            let number = self.context.book.groups.lines().number(line.start);
            match self.request.existing {
                Existing::Refuse => {
                    self.fault(row, Column::Name, faults::exists("group", name, number));
                }
                Existing::Update if group.gid.is_some() && group.gid != found.gid() => {
                    let gid = BStr::new(found.gid);
                    let wrong = Wrong::new(
                        format!("the group {name} has the gid {gid}"),
                        format!("{gid}, or renumber it first: change group {name} --gid"),
                    );
                    self.fault(row, Column::Gid, wrong);
                }
                _ => self.counts.groups_kept += 1,
            }
            return;
        }
        self.make_group(row, group);
    }

    fn make_group(&mut self, row: &RosterRow, group: &CreateGroup) {
        let name = BStr::new(&group.name);
        if self.batch.made.get(name).is_some() {
            return;
        }
        match check_new_group_name(self.context, name, "") {
            Ok(cautions) => self.batch.builder.plan.cautions.extend(cautions),
            Err(refusal) => return self.refused(row, &refusal),
        }
        let mut subject = Subject::new(name);
        let gid = choose_gid(&mut self.batch.builder, group, "", &mut subject);
        match gid {
            Err(refusal) => self.refused(row, &refusal),
            Ok(gid) => {
                self.batch.make_group(name, Gid(gid), group.password.as_ref());
                self.counts.groups.push(group.name.clone());
                self.request.first_decision(row, &mut subject, "new group");
                self.batch.builder.tell(subject);
            }
        }
    }

    /// Makes every group that rows name and that is not there.
    pub(crate) fn missing_groups(&mut self) {
        let rows = &self.request.roster.rows;
        let of_rows = rows.iter().filter_map(|row| match &row.what {
            RowRequest::Group(group) => Some(&group.name),
            RowRequest::User(_) => None,
        });
        let mut seen: HashSet<GroupName> = of_rows.cloned().collect();
        for row in rows {
            let Some(user) = self.request.user(row) else { continue };
            for name in user.primary.iter().chain(&user.join) {
                let number = name.first().is_none_or(u8::is_ascii_digit);
                if number
                    || seen.contains(name)
                    || !seen.insert(name.clone())
                    || self.later(name.as_ref()).is_some()
                    || find_group(self.context, name.as_ref(), "").is_ok()
                {
                    continue;
                }
                let group = CreateGroup { name: name.clone(), ..CreateGroup::default() };
                self.make_group(row, &group);
            }
        }
    }

    /// Notes who is in the group of a row and who administers it.
    pub(crate) fn lists_of(&mut self, row: &'r RosterRow, group: &'r CreateGroup) {
        let exists = self.context.book.group(&group.name).is_some();
        if exists && self.request.existing != Existing::Update {
            return;
        }
        let book = self.context.book;
        let found = book.group(&group.name).map(|(_, group)| group);
        let listed =
            |name: &UserName| found.is_some_and(|group| group.members().any(|it| *name == it));
        let administers = |name: &[u8]| {
            let of = book.gshadow(&group.name).map(|(_, line)| line);
            of.is_some_and(|line| members(line.admins).any(|admin| admin == name))
        };
        let (mut joins, mut more_admins) = (Vec::new(), Vec::new());
        for name in &group.members {
            if self.is_somebody(row, group, Column::Member, name) {
                self.batch.join(&group.name, name.as_ref());
                joins.extend(Some(name.clone()).filter(|name| !listed(name)));
            }
        }
        for name in &group.admins {
            if self.is_somebody(row, group, Column::GroupAdmin, name) {
                self.batch.builder.lists().add_admin(&group.name, name.as_ref());
                more_admins.extend(Some(name.clone()).filter(|name| !administers(name)));
            }
        }
        if !exists {
            return;
        }
        let secret = book.gshadow(&group.name).map(|(_, line)| BString::from(line.password));
        if group.password.is_some() && group.password != secret {
            let (name, what) = (group.name.clone().into(), "the password of the group");
            self.batch.builder.caution(Caution::RowNotDone { name, what });
        }
        let exact = self.request.exact_groups && row.given.contains(Column::Member);
        let leaves =
            if exact || group.no_members { self.unasked_members(group) } else { Vec::new() };
        for name in &leaves {
            self.leaving.entry(group.name.clone()).or_default().push(name.clone());
        }
        let former = book.gshadow(&group.name).filter(|_| group.no_admins);
        let former =
            former.into_iter().flat_map(|(_, line)| members(line.admins).map(UserName::from));
        let fewer_admins: Vec<UserName> = former.collect();
        for name in &fewer_admins {
            self.batch.builder.lists().drop_admin(&group.name, name.as_ref());
        }
        let mut subject = Subject::new(group.name.as_bstr());
        for (label, names) in [
            ("joins", joins),
            ("leave", leaves),
            ("new admins", more_admins),
            ("no admins", fewer_admins),
        ] {
            if !names.is_empty() {
                subject.decide(label, list(&names), "");
            }
        }
        if !subject.decisions.is_empty() {
            self.counts.groups_changed += 1;
            self.counts.groups_kept = self.counts.groups_kept.saturating_sub(1);
            self.request.first_decision(row, &mut subject, "changed group");
            self.batch.builder.tell(subject);
        }
    }

    /// The members of a group for whom neither its row nor their own asks.
    pub(crate) fn unasked_members(&self, group: &CreateGroup) -> Vec<UserName> {
        let found = self.context.book.group(&group.name);
        let listed = found.into_iter().flat_map(|(_, group)| group.members().map(UserName::from));
        let joining = self.joining(&group.name);
        listed.filter(|name| !group.members.contains(name) && !joining.contains(name)).collect()
    }

    /// The users whose rows ask for a group.
    fn joining(&self, group: &GroupName) -> HashSet<UserName> {
        let PlanContext { book, policy, .. } = self.context;
        let admins = admin_group(book, policy).is_some_and(|admins| **group == admins.name);
        let rows = self.request.roster.rows.iter().zip(&*self.names);
        let asks = rows.filter(|(row, _)| {
            let user = self.request.user(row);
            user.is_some_and(|user| user.join.contains(group) || admins && user.admin)
        });
        asks.filter_map(|(_, name)| Some(name.clone()?.into_owned().into())).collect()
    }

    fn is_somebody(
        &mut self,
        row: &RosterRow,
        group: &CreateGroup,
        column: Column,
        name: &UserName,
    ) -> bool {
        if self.rows.get(&self.names, name.as_bstr()).is_some() {
            return true;
        }
        match find_member(self.context, name.as_ref(), group.unlisted, "") {
            Ok(caution) => {
                self.batch.builder.plan.cautions.extend(caution);
                true
            }
            Err(refusal) => {
                let wrong = faults::wrong(self.request, &refusal.reason, row);
                self.fault(row, column, wrong);
                false
            }
        }
    }

    /// Takes those out who leave.
    pub(crate) fn leave(&mut self) {
        for (group, names) in std::mem::take(&mut self.leaving) {
            for name in names {
                self.batch.builder.lists().leave(&group, name.as_ref());
            }
        }
    }
}
