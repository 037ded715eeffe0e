//! Deleting groups.

use std::collections::HashSet;

use bstr::{BStr, BString};

use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{PlanBuilder, find_group, gid_of, not_a_file_name, require_file_name};
use crate::plan::groups::change_group::admins_of;
use crate::plan::groups::rename_group::settings_naming;
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::retired::{Kept, KeptLine, Listed};
use crate::secret::told;
use crate::table::{File, Group};
use crate::value::{Gid, GroupName, UserOrGroup};
use crate::words::list;

/// Groups to be deleted, as one change.
#[derive(Debug, Clone, Default)]
pub struct DeleteGroup {
    /// The groups, by name or gid.
    pub names: Vec<GroupName>,
    /// How many files carry the gid is to be told.
    pub count_files: bool,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for DeleteGroup {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names).with_belongings()
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the deleting of groups: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn delete_group(context: PlanContext<'_>, request: &DeleteGroup) -> Result<Plan> {
    let all = list(&request.names);
    let mut builder = PlanBuilder::new(context, format!("delete group {all}"));
    let mut seen = HashSet::new();
    for wanted in request.names.iter().filter(|wanted| seen.insert(*wanted)) {
        delete_one(&mut builder, request, wanted.as_ref())?;
    }
    Ok(builder.finish("list groups"))
}

fn delete_one(builder: &mut PlanBuilder<'_>, request: &DeleteGroup, wanted: &BStr) -> Result<()> {
    let context = builder.context;
    let what = match request.names.len() {
        1 => format!("the group {wanted} was not deleted"),
        _ => format!("no group was deleted, because of {wanted}"),
    };
    let group = find_group(context, wanted, &what)?;
    let gid = gid_of(context, &group, &what)?;
    let name = BStr::new(group.name);
    may_go(context, &group, Gid(gid.0), &what)?;
    let mut subject = Subject::new(name.to_owned());
    subject.decide(Label::GID, gid.to_string(), "");
    let members: Vec<&[u8]> = group.members().collect();
    let members_shown: BString = if members.is_empty() { "none".into() } else { list(&members) };
    subject.decide("members", members_shown, "");
    let admins = admins_of(context, name);
    let admins: Vec<&BStr> = admins.iter().map(|admin| told(File::Gshadow, admin)).collect();
    if !admins.is_empty() {
        subject.decide("admins", list(&admins), "");
    }
    if request.count_files {
        match context.world.carriers_elsewhere(gid.0, true, &[]) {
            Ok(count) => subject.decide("files", count.to_string(), format!("carry gid {gid}")),
            Err(why) => subject.decide("files", "not counted", why),
        }
    }
    require_file_name((context, File::Group), name, &what)?;
    let kept = take_out(builder, name, Gid(gid.0));
    match context.change {
        Some(change) => {
            let folder = kept
                .folder(change)
                .map_err(|_| not_a_file_name(&what, context, File::Group, name))?;
            subject.decide("kept", format!("retired/{folder}"), "to be restored from");
            builder.step(Step::Keep { folder, kept: Box::new(kept) });
        }
        None => builder.caution(Caution::NothingKept { name: name.into() }),
    }
    let settings = settings_naming(context.policy, name);
    if !settings.is_empty() {
        builder.caution(Caution::PolicyNames { name: name.into(), settings });
    }
    let places = context.world.mentions_of_group(name);
    if !places.is_empty() {
        builder.caution(Caution::StillNamed { name: name.into(), places });
    }
    builder.tell(subject);
    Ok(())
}

/// What stands in the way of a group's going.
fn may_go(context: PlanContext<'_>, group: &Group<'_>, gid: Gid, what: &str) -> Result<()> {
    let name = BStr::new(group.name);
    let refuse = |reason| Refusal::new(what, reason);
    let same = context.book.groups_by_gid(gid);
    let shared = same.iter().any(|(_, other)| other.name != group.name);
    let users: Vec<BString> = match shared {
        // The gid keeps a group.
        true => Vec::new(),
        false => context.book.users_by_gid(gid).iter().map(|(_, user)| user.name.into()).collect(),
    };
    if let Some(first) = users.first() {
        let all: Vec<String> = users.iter().take(5).map(ToString::to_string).collect();
        let all = if users.len() > 5 { first.to_string() } else { all.join(" ") };
        return Err(refuse(Reason::StillPrimary { users })
            .or("give another one first", format!("regroup {all} --primary GROUP")));
    }
    let members: Vec<BString> = group.members().map(BString::from).collect();
    if context.policy.makes_admins(name) && !members.is_empty() {
        let drop: Vec<String> = members.iter().map(ToString::to_string).collect();
        let way = format!("change group {name} --drop-member {}", drop.join(","));
        return Err(refuse(Reason::AdminGroup { members }).or("take them out first", way));
    }
    Ok(())
}

/// Takes the lines of a group out; returns what is kept of it.
pub(crate) fn take_out(builder: &mut PlanBuilder<'_>, name: &BStr, gid: Gid) -> Kept {
    let context = builder.context;
    let book = context.book;
    let mut lines = Vec::new();
    for file in [File::Group, File::Gshadow] {
        let Some(table) = book.lines(file) else { continue };
        for line in book.named(file, name) {
            let text = line.bytes.into();
            lines.push(KeptLine { file, line: table.number(line.start), text });
            builder.edits.remove(file, line);
        }
    }
    let shared_gid = book.groups_by_gid(gid).iter().any(|(_, other)| other.name != name);
    let group = book.group(name).map(|(_, group)| group);
    let mut names: Vec<&[u8]> = group.iter().flat_map(Group::members).collect();
    names.extend(admins_of(context, name));
    names.extend(book.gshadow(name).iter().flat_map(|(_, gshadow)| gshadow.members()));
    let mut listed: Vec<Listed> = Vec::new();
    let mut seen = HashSet::new();
    for name in names.into_iter().filter(|name| seen.insert(*name)) {
        let uid = book.user(name).and_then(|(_, user)| user.uid());
        listed.push(Listed { name: name.into(), uid });
    }
    let kept = Kept::new(UserOrGroup::Group, name.into(), gid.0);
    Kept { shared_gid, lines, listed, ..kept }
}
