//! Bringing deleted groups back.

use bstr::{BStr, BString};

use crate::account::kind_of;
use crate::allot::{Holder, IdUse, Taker};
use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::PlanBuilder;
use crate::order;
use crate::plan::history::find_kept::find_restorable;
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::Request;
use crate::retired::{Kept, Listed};
use crate::table::{Column, File, GroupField, GshadowField, with_fields};
use crate::value::{
    Gid, GroupName, Uid, UserOrGroup, check_name, members, read_id, without_member,
};
use crate::words::{self, list};

/// Groups to be brought back, as one change.
#[derive(Debug, Clone, Default)]
pub struct RestoreGroup {
    /// The groups: by name, or by gid where a name was deleted twice.
    pub names: Vec<GroupName>,
    /// Another name for the one group.
    pub as_name: Option<GroupName>,
    /// Another gid, where the old one is taken.
    pub new_id: bool,
}

/// A line that comes back, and where to.
pub(crate) type Back = (File, usize, Vec<u8>);

impl Request for RestoreGroup {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names).with_belongings()
    }
}

/// Plans the bringing back of groups: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn restore_group(context: PlanContext<'_>, request: &RestoreGroup) -> Result<Plan> {
    let all = list(&request.names);
    let summary = format!("restore group {all}");
    let mut builder = PlanBuilder::new(context, summary);
    builder.plan.returning = !request.new_id;
    if request.names.len() > 1 && request.as_name.is_some() {
        return Err(Refusal::new("no group was restored", Reason::OneOnly("--as")));
    }
    let mut lines: Vec<Back> = Vec::new();
    let mut folders = Vec::new();
    for wanted in &request.names {
        let wanted = BStr::new(wanted);
        let what = format!("the group {wanted} was not restored");
        let found = find_restorable(context, UserOrGroup::Group, wanted, &what)?;
        if folders.contains(&&found.folder) {
            continue;
        }
        folders.push(&found.folder);
        let name = request.as_name.as_deref().unwrap_or(&found.kept.name);
        let mut subject = Subject::new(name.clone());
        let day = found.time.split('T').next().unwrap_or_default();
        subject.decide("deleted", day, format!("by change {}", found.change));
        let command = format!("restore group {wanted}");
        let new =
            Restored { as_name: request.as_name.as_deref(), new_id: request.new_id, uid: None };
        let of = (&what[..], &command[..]);
        let mut rest = Subject::new(name.clone());
        let back = lines_of_group(&mut builder, &found.kept, new, of, &mut rest)?;
        subject.decide(Label::GID, back.gid.to_string(), back.why);
        subject.decisions.append(&mut rest.decisions);
        lines.extend(back.lines);
        let kept = Box::new(found.kept.clone());
        builder.step(Step::Release { folder: found.folder.clone(), kept, purged: false });
        builder.tell(subject);
    }
    put_back(&mut builder, lines);
    let next = match builder.plan.subjects.as_slice() {
        [one] => format!("show group {}", one.name),
        _ => "list groups".into(),
    };
    Ok(builder.finish(next))
}

/// A group as it comes back.
pub(crate) struct GroupBack {
    pub lines: Vec<Back>,
    pub gid: Gid,
    /// Why it is that number.
    pub why: String,
}

/// How a group is to come back.
#[derive(Clone, Copy)]
pub(crate) struct Restored<'r> {
    pub as_name: Option<&'r BString>,
    pub new_id: bool,
    /// The number that its user gets, where that is a new one.
    pub uid: Option<Uid>,
}

/// Lines come back from the top down, file by file.
pub(crate) fn put_back(builder: &mut PlanBuilder<'_>, mut lines: Vec<Back>) {
    order::sort_by_key(&mut lines, |(file, line, _)| (*file, *line));
    for (file, line, text) in lines {
        builder.edits.put_back(file, line, text);
    }
}

/// The lines of a group as they come back, with the members that there still are.
///
/// # Errors
/// The [`Refusal`]: its name or its gid is taken.
pub(crate) fn lines_of_group(
    builder: &mut PlanBuilder<'_>,
    kept: &Kept,
    new: Restored<'_>,
    (what, command): (&str, &str),
    subject: &mut Subject,
) -> Result<GroupBack> {
    let context = builder.context;
    let book = context.book;
    let refuse = |reason| Refusal::new(what, reason);
    let name = new.as_name.unwrap_or(&kept.name);
    if let Some(new) = new.as_name {
        let style = context.policy.names_style;
        check_name(style, new.as_ref()).map_err(|fault| refuse(Reason::UnfitName(fault)))?;
    }
    for file in [File::Group, File::Gshadow] {
        if let Some(line) = book.named(file, name).first() {
            let line_number = book.lines(file).map_or(0, |all| all.number(line.start));
            let gid = Column::from(GroupField::Gid).of(line.bytes).into();
            let reason = match file {
                File::Group => Reason::GroupNameTaken { line: line_number, gid },
                _ => Reason::Leftover { file, line: line_number },
            };
            return Err(refuse(reason).or("under another name", format!("{command} --as NAME")));
        }
    }
    let (gid, why) = gid_of_restored(builder, kept, new, (what, command))?;
    let gone = gone_members(context, &kept.listed);
    if !gone.is_empty() {
        let names: Vec<String> =
            gone.iter().map(|(listed, why)| format!("{} ({why})", listed.name)).collect();
        subject.decide("not back", names.join(", "), "was listed in it, and is left out");
    }
    let mut lines = Vec::new();
    for line in kept.lines.iter().filter(|line| line.name() == kept.name) {
        if !matches!(line.file, File::Group | File::Gshadow) {
            continue;
        }
        if book.lines(line.file).is_none() {
            builder.caution(Caution::NoGshadow);
            continue;
        }
        let mut text = with_fields(&line.text, &[(Column::NAME, name)]);
        if line.file == File::Group {
            text = with_fields(&text, &[(GroupField::Gid, gid.to_string().as_bytes())]);
        }
        let lists: &[GshadowField] = match line.file {
            File::Group => &[GshadowField::Members],
            _ => &[GshadowField::Admins, GshadowField::Members],
        };
        for at in lists {
            let mut list = Column::from(*at).of(&text).to_vec();
            for (listed, _) in &gone {
                if let Some((without, _)) = without_member(&list, &listed.name) {
                    list = without;
                }
            }
            text = with_fields(&text, &[(*at, &list)]);
        }
        if line.file == File::Group {
            let list = Column::from(GroupField::Members).of(&text);
            let names: Vec<&[u8]> = members(list).collect();
            if !names.is_empty() {
                subject.decide("members", words::list(names), "as before");
            }
        }
        lines.push((line.file, line.line, text));
    }
    Ok(GroupBack { lines, gid: Gid(gid), why })
}

/// The gid, and why it is that.
fn gid_of_restored(
    builder: &mut PlanBuilder<'_>,
    kept: &Kept,
    new: Restored<'_>,
    (what, command): (&str, &str),
) -> Result<(u32, String)> {
    let context = builder.context;
    let refuse = |reason| Refusal::new(what, reason);
    let old = kept
        .line_of(File::Group)
        .and_then(|line| read_id(Column::from(GroupField::Gid).of(&line.text)))
        .unwrap_or(kept.id);
    if let Some(holder) =
        taken_gid(context, kept, Gid(old), new).map_err(|why| refuse(Reason::ServiceFailed(why)))?
    {
        if !new.new_id {
            return Err(refuse(Reason::IdTaken { what: "gid", id: old, holder })
                .or("with another number", format!("{command} --new-id")));
        }
        let kind = kind_of(context.policy, Some(Uid(old)));
        let by = Taker { name: kept.name.as_ref(), reuse: false };
        // A user's own group goes on with the user's number.
        let gid = match new.uid {
            Some(uid) => builder.allotter.choose_gid_like(uid.0, true, kind, by),
            None => builder.allotter.choose(IdUse::Gid, kind, None).map(|chosen| chosen.id),
        };
        let gid = gid.map_err(|fault| refuse(fault.reason(IdUse::Gid, old)))?;
        return Ok((gid, format!("another: {old} is taken; its files keep {old}")));
    }
    let shared = context.book.group_by_gid(Gid(old));
    let why = match shared {
        Some((_, other)) => format!("as before, shared with {}", BStr::new(other.name)),
        None => "as before".to_owned(),
    };
    Ok((old, why))
}

/// Who holds a gid by now, its own retirement apart. One that two groups shared
/// when one of them was deleted is shared again, unless another is asked for.
fn taken_gid(
    context: PlanContext<'_>,
    kept: &Kept,
    gid: Gid,
    new: Restored<'_>,
) -> Result<Option<Holder>, String> {
    if let Some((_, group)) = context.book.group_by_gid(gid) {
        let taken = !kept.shared_gid || new.new_id;
        return Ok(taken.then(|| Holder::Group(group.name.into())));
    }
    let known = context.world.service_group_by_gid(gid)?;
    Ok(known.map(Holder::Group))
}

/// The listed accounts that are not there any more, and why.
fn gone_members<'k>(context: PlanContext<'_>, listed: &'k [Listed]) -> Vec<(&'k Listed, String)> {
    let why = |listed: &Listed| {
        // One of a directory is none of the files' business.
        let uid = listed.uid?;
        match context.book.user(&listed.name) {
            None => Some("is gone".to_owned()),
            Some((_, user)) if user.uid() != Some(uid) => {
                Some(format!("is another account now, uid {}", BStr::new(user.uid)))
            }
            Some(_) => None,
        }
    };
    listed.iter().filter_map(|listed| Some((listed, why(listed)?))).collect()
}
