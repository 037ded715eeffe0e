//! Bringing accounts that exist to their rows.

use bstr::{BStr, BString, ByteSlice};

use crate::account::{AccountKind, admin_groups, kind_of, means_no_home};
use crate::change::{Caution, Label, Subject};
use crate::context::PlanContext;
use crate::drafting::{FoundUser, NewPrimary, change_primary, find_admin_group};
use crate::order;
use crate::plan::tables::intake::IntakePlanner;
use crate::plan::users::{
    ChangeUser, change_into, is_out, resume_into, suspend_into, suspended_field,
};
use crate::policy::Days;
use crate::request::{AgingFields, CreateUser, Details, RangesAsked, SuspensionAsked};
use crate::roster::{Column, RosterRow, Wrong};
use crate::sign_in::keys_of;
use crate::surroundings::Keys;
use crate::table::{File, ShadowField};
use crate::value::{Expiry, Gid, GroupName, PasswordField, Scheme, UserName};
use crate::words::list;

/// So many days, or more, are never (shadow(5)).
const NEVER: u32 = 99_999;

impl<'a, 'r> IntakePlanner<'a, 'r> {
    /// Plans what makes an account what its row says. What the row leaves out
    /// stays; so do a password and keys that the account has by now.
    pub(crate) fn update(&mut self, row: &'r RosterRow, user: &CreateUser, name: &BStr) {
        let Some(found) = self.found(row, name) else { return };
        let before = (self.batch.builder.edits.count(), self.batch.builder.plan.steps.len());
        let mut subject = Subject::new(name);
        self.kind_stays(row, user, &found);
        self.home_stays(row, user, &found);
        self.fields(row, user, &found, &mut subject);
        let primary = self.primary(row, user, &found, &mut subject);
        let joins = self.memberships(row, user, &found, primary, &mut subject);
        self.secrets(row, user, &found, &mut subject);
        subject.decisions.retain(|decision| !decision.unchanged);
        let after = (self.batch.builder.edits.count(), self.batch.builder.plan.steps.len());
        if before == after && !joins {
            self.counts.kept += 1;
            return;
        }
        self.counts.updated += 1;
        self.request.first_decision(row, &mut subject, "changed");
        self.batch.builder.tell(subject);
    }

    fn kind_stays(&mut self, row: &RosterRow, user: &CreateUser, found: &FoundUser<'_>) {
        if !row.given.contains(Column::Service) {
            return;
        }
        let is_service = kind_of(self.context.policy, Some(found.uid)) == AccountKind::Service;
        if is_service != user.service {
            let (is, instead) = match is_service {
                true => ("a service", "yes"),
                false => ("a person", "no, or nothing"),
            };
            let message = format!("{} is {is}, which its uid says", BStr::new(found.user.name));
            self.fault(row, Column::Service, Wrong::new(message, instead));
        }
    }

    fn fields(
        &mut self,
        row: &RosterRow,
        user: &CreateUser,
        found: &FoundUser<'a>,
        subject: &mut Subject,
    ) {
        let name = BString::from(found.user.name);
        let details = user.details.as_deref().cloned().unwrap_or_default();
        let mut request = ChangeUser {
            name: name.clone().into(),
            full_name: user.full_name.clone().filter(|new| new != found.user.full_name()),
            gecos: details.gecos.clone(),
            uid: user.uid.filter(|uid| *uid != found.uid),
            share_id: user.share_id,
            // Who gets another primary group leaves the group of its own behind.
            keep_gid: user.primary.is_some(),
            home: user.home.clone().filter(|home| home != found.user.home),
            record_only: self.request.no_home,
            shell: user.shell.clone().filter(|shell| shell != found.user.shell),
            window: user.window.clone(),
            ..ChangeUser::default()
        };
        let expires = user.expires.clone();
        request.expires = expires.filter(|text| !self.expires_so(text, found));
        let files = [File::Subuid, File::Subgid];
        let has = |count: &u32| files.into_iter().all(|file| self.has(file, found, *count));
        request.ranges = user.ranges.filter(|count| !has(count)).map(RangesAsked::Count);
        self.spans_stay(row, user, found);
        self.aging(&details.aging, found, &mut request);
        let refusals = change_into(&mut self.batch.builder, &request, found, subject);
        refusals.iter().for_each(|refusal| self.refused(row, refusal));
        self.suspended(row, &details, found, subject);
        let changed = found.shadow.map(|(_, shadow)| shadow.aging().changed);
        let asked = details.changed.map(|day| day.map(|day| day.0));
        if asked.is_some_and(|asked| changed != Some(asked)) && !user.must_change {
            self.not_done(found, "the day of the last change of its password");
        }
    }

    /// How the password is to age, where that is other than it does.
    fn aging(&mut self, asked: &AgingFields, found: &FoundUser<'_>, request: &mut ChangeUser) {
        if *asked == AgingFields::default() {
            return;
        }
        let Some((_, shadow)) = found.shadow else {
            return self.not_done(found, "how its password ages: it has no line in etc/shadow");
        };
        let now = shadow.aging();
        let number =
            |field: &BString| field.to_str().ok().and_then(|text| text.parse::<u32>().ok());
        let differs = |field: &Option<BString>, now: Option<i64>| {
            let asked = number(field.as_ref()?);
            (asked.map(i64::from) != now).then_some(asked)
        };
        let days = |asked: Option<u32>| asked.map_or(Days::Never, Days::After);
        // Where it makes no difference, none is as good as nothing.
        let some = |asked: Option<u32>, now: Option<i64>| {
            Some(asked.unwrap_or(0)).filter(|days| i64::from(*days) != now.unwrap_or(0))
        };
        request.aging.hold = differs(&asked.hold, now.hold).and_then(|asked| some(asked, now.hold));
        request.aging.remind =
            differs(&asked.remind, now.remind).and_then(|asked| some(asked, now.remind));
        request.aging.renew = differs(&asked.renew, now.renew)
            .filter(|asked| asked.is_some_and(|days| days < NEVER) || now.renew.is_some())
            .map(days);
        request.aging.late = differs(&asked.late, now.late).map(days);
    }

    /// Suspends it or resumes it, where the row says so and it is otherwise.
    fn suspended(
        &mut self,
        row: &RosterRow,
        details: &Details,
        found: &FoundUser<'a>,
        subject: &mut Subject,
    ) {
        let Some(asked) = &details.suspended else { return };
        let is_suspended = found.shadow.is_some_and(|(_, shadow)| is_out(&shadow));
        let name = UserName::from(found.user.name);
        let builder = &mut self.batch.builder;
        let done = match asked {
            SuspensionAsked::Yes(reason) if !is_suspended => {
                suspend_into(builder, &name, Some(reason), false, subject).map(|_| ())
            }
            SuspensionAsked::No if is_suspended => resume_into(builder, &name, subject),
            SuspensionAsked::Yes(_) | SuspensionAsked::No => Ok(()),
        };
        if let Err(refusal) = done {
            self.refused(row, &refusal);
        }
    }

    fn expires_so(&self, text: &str, found: &FoundUser<'_>) -> bool {
        let mut now = found.shadow.and_then(|(_, shadow)| shadow.aging().expires);
        if found.shadow.is_some_and(|(_, shadow)| is_out(&shadow)) {
            // What it had before counts.
            let notes = self.context.world.suspended();
            let note = notes.iter().find(|note| note.is_of(found.user.name, Some(found.uid)));
            now = note.map_or(now, |note| note.expires);
        }
        match Expiry::parse(text, self.context.today) {
            Ok(Expiry::Never) => now.is_none(),
            Ok(Expiry::On(day)) => now == Some(day),
            Err(_) => false,
        }
    }

    fn has(&self, file: File, found: &FoundUser<'a>, count: u32) -> bool {
        let lines = self.context.book.ranges_of(file, found.user.name, Some(found.uid));
        let spans = lines.iter().filter_map(|(_, range)| range.span());
        spans.map(|span| span.count()).sum::<u64>() == u64::from(count)
    }

    /// Ranges of the row's own choice are not moved about.
    fn spans_stay(&mut self, row: &RosterRow, user: &CreateUser, found: &FoundUser<'_>) {
        if user.spans.is_empty() {
            return;
        }
        for file in [File::Subuid, File::Subgid] {
            let lines = self.context.book.ranges_of(file, found.user.name, Some(found.uid));
            let mut spans: Vec<_> = lines.iter().filter_map(|(_, range)| range.span()).collect();
            let mut wanted = user.spans.clone();
            order::sort(&mut spans);
            wanted.sort_unstable();
            if spans != wanted {
                let name = BStr::new(found.user.name);
                let message = format!("{name} has other ranges in {}", file.path());
                let instead = "a number of ids, which ranges are added or taken for";
                self.fault(row, Column::Ranges, Wrong::new(message, instead));
                return;
            }
        }
    }

    /// Returns the gid of the primary group as it will be.
    fn primary(
        &mut self,
        row: &RosterRow,
        user: &CreateUser,
        found: &FoundUser<'a>,
        subject: &mut Subject,
    ) -> u32 {
        let Some(wanted) = &user.primary else { return found.gid.0 };
        let target = match self.batch.find_group(wanted.as_ref(), "") {
            Ok(target) => target,
            Err(refusal) => {
                self.refused(row, &refusal);
                return found.gid.0;
            }
        };
        let new = NewPrimary {
            name: target.name.as_ref(),
            gid: target.gid,
            leaves: &[],
            regroup_home: None,
        };
        change_primary(&mut self.batch.builder, found, new, subject);
        target.gid.0
    }

    /// Joins what the row asks for; with exact groups, leaves the others. Returns
    /// whether anything is joined.
    fn memberships(
        &mut self,
        row: &'r RosterRow,
        user: &CreateUser,
        found: &FoundUser<'a>,
        primary: u32,
        subject: &mut Subject,
    ) -> bool {
        let name = BStr::new(found.user.name);
        let listed: Vec<BString> = self
            .context
            .book
            .groups_listing(name)
            .iter()
            .map(|(_, group)| group.name.into())
            .collect();
        let mut wanted: Vec<BString> = Vec::new();
        for group in &user.join {
            match self.batch.find_group(group.as_ref(), "") {
                Ok(target) if target.gid != Gid(primary) => wanted.push(target.name),
                Ok(_) => {}
                Err(refusal) => self.refused(row, &refusal),
            }
        }
        if user.admin {
            match find_admin_group(self.context, "") {
                Ok(group) => wanted.push(group.name.into()),
                Err(refusal) => self.refused(row, &refusal),
            }
        }
        let joins: Vec<BString> =
            wanted.iter().filter(|group| !listed.contains(group)).cloned().collect();
        for group in &joins {
            self.batch.join(group, name);
        }
        if !joins.is_empty() {
            subject.decide(Label::JOINS, list(&joins), "");
        }
        let exact = self.request.exact_groups && row.given.contains(Column::Join);
        let PlanContext { book, policy, .. } = self.context;
        let of_all = |group: &BString| policy.people_groups.iter().any(|name| group == name);
        let admins = match row.given.contains(Column::Admin) && !user.admin {
            true => admin_groups(book, policy),
            false => Vec::new(),
        };
        let goes = |group: &BString| {
            let unasked = user.no_groups || exact && !of_all(group);
            unasked || admins.iter().any(|admins| group == admins.name)
        };
        let listed = listed.into_iter().filter(|group| !wanted.contains(group) && goes(group));
        let gone: Vec<GroupName> = listed.map(GroupName::from).collect();
        let why = if exact { "no row asks for it" } else { "as the row says" };
        self.leave_groups(found, &gone, why, subject);
        !joins.is_empty() || !gone.is_empty()
    }

    fn leave_groups(
        &mut self,
        found: &FoundUser<'a>,
        gone: &[GroupName],
        why: &str,
        subject: &mut Subject,
    ) {
        let name = UserName::from(found.user.name);
        for group in gone {
            self.leaving.entry(group.clone()).or_default().push(name.clone());
        }
        if !gone.is_empty() {
            subject.decide("leaves", list(gone), why);
        }
    }

    /// Says that something a row asks for is not done to an account that is there.
    fn not_done(&mut self, found: &FoundUser<'_>, what: &'static str) {
        let name = found.user.name.into();
        self.batch.builder.caution(Caution::RowNotDone { name, what });
    }

    /// A home that is there is not taken away.
    fn home_stays(&mut self, row: &RosterRow, user: &CreateUser, found: &FoundUser<'_>) {
        let asks = row.given.contains(Column::Home) && user.home.is_none();
        if asks && !self.request.no_home && !means_no_home(found.user.home) {
            let home = BStr::new(found.user.home);
            let message = format!("{} has a home, {home}", BStr::new(found.user.name));
            let instead = "nothing, or its path: a table takes no home away";
            self.fault(row, Column::Home, Wrong::new(message, instead));
        }
    }

    /// Tells where an account that is kept as it is differs from its row.
    pub(crate) fn differs(&mut self, user: &CreateUser, name: &BStr) {
        let Some((_, found)) = self.context.book.user(name) else { return };
        let mut parts = Vec::new();
        if let Some(uid) = user.uid.filter(|uid| Some(*uid) != found.uid()) {
            parts.push(format!("uid {}, not {uid}", BStr::new(found.uid)));
        }
        if let Some(full_name) = user.full_name.as_ref().filter(|it| *it != found.full_name()) {
            parts.push(format!("the full name {}, not {full_name}", BStr::new(found.full_name())));
        }
        if !parts.is_empty() {
            let (name, has) = (name.to_owned(), list(&parts).to_string());
            self.batch.builder.caution(Caution::RowDiffers { name, has });
        }
    }

    fn has_no_keys(&self, found: &FoundUser<'_>) -> bool {
        matches!(keys_of(self.context, found.user), Keys::NONE | Keys::NoHome)
    }

    /// A first password is set where none is, and keys where none are; what the
    /// account has by now is its own.
    fn secrets(
        &mut self,
        row: &RosterRow,
        user: &CreateUser,
        found: &FoundUser<'a>,
        subject: &mut Subject,
    ) {
        let field = found.shadow.map(|(_, shadow)| shadow.password);
        let is_suspended = found.shadow.is_some_and(|(_, shadow)| is_out(&shadow));
        let same = |hash: &&BString| {
            field == Some(hash) || is_suspended && field == Some(&suspended_field(hash)[..])
        };
        let hash = user.hashes.first().and_then(Option::as_ref).filter(|hash| !same(hash));
        let has_one = field.is_some_and(|field| PasswordField::read(field) != PasswordField::None);
        if hash.is_some() && has_one {
            self.not_done(found, "the password: the account has one by now");
        }
        if let Some(hash) = hash
            && let Some((line, _)) = found.shadow
            && !has_one
        {
            let changed = if user.must_change { 0 } else { self.context.today.0 }.to_string();
            let fields: [(ShadowField, &[u8]); 2] =
                [(ShadowField::Password, hash), (ShadowField::Changed, changed.as_bytes())];
            self.batch.builder.set_fields(File::Shadow, line, &fields);
            let scheme = Scheme::of(hash).map_or("set", Scheme::name);
            subject.decide("password", scheme, "there was none");
        } else if user.must_change {
            match found.shadow {
                Some((_, shadow)) if shadow.changed == b"0" => {}
                Some((line, _)) => {
                    let fields: [(ShadowField, &[u8]); 1] = [(ShadowField::Changed, b"0")];
                    self.batch.builder.set_fields(File::Shadow, line, &fields);
                    subject.decide("password", "must be changed", "at the next sign-in");
                }
                None => self.not_done(found, "a new password: it has no line in etc/shadow"),
            }
        }
        if !user.keys.is_empty() && !self.has_no_keys(found) {
            self.not_done(found, "the keys: the account has some by now");
        } else if !user.keys.is_empty() {
            let add_keys = user.keys.clone();
            let request = ChangeUser { add_keys, ..ChangeUser::default() };
            let refusals = change_into(&mut self.batch.builder, &request, found, subject);
            refusals.iter().for_each(|refusal| self.refused(row, refusal));
        }
    }
}
