//! Giving an account another primary group, for the commands that do it.

use bstr::BStr;

use crate::change::{Caution, Label, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::PlanBuilder;
use crate::drafting::find::FoundUser;
use crate::surroundings::{Process, Site};
use crate::table::{File, PasswdField};
use crate::value::{Gid, TreePath, Uid};

/// More sessions than this are only counted.
const MOST_SESSIONS: usize = 4;

/// Another primary group.
#[derive(Clone, Copy)]
pub(crate) struct NewPrimary<'r> {
    /// Its name.
    pub name: &'r BStr,
    /// Its gid.
    pub gid: Gid,
    /// Groups that are left: the old primary group is not kept when it is one.
    pub leaves: &'r [&'r [u8]],
    /// Whether files in the home that carry the old gid get the new one; nothing where that
    /// can't be asked for.
    pub regroup_home: Option<bool>,
}

/// Plans it over the line as it stands in the draft. Returns whether anything
/// changes.
pub(crate) fn change_primary<'a>(
    builder: &mut PlanBuilder<'a>,
    found: &FoundUser<'a>,
    new: NewPrimary<'_>,
    subject: &mut Subject,
) -> bool {
    let context = builder.context;
    let gid = new.gid;
    let (name, old) = (BStr::new(found.user.name), found.gid);
    let label = format!("{} {gid}", new.name);
    if gid == old {
        subject.decide_unchanged(Label::PRIMARY, label);
        return false;
    }
    let text = gid.to_string();
    builder.set_fields(File::Passwd, found.line, &[(PasswdField::Gid, text.as_bytes())]);
    let old_group = context.book.group_by_gid(old).map(|(_, group)| group.name);
    let was = match old_group {
        Some(group) => format!("{} {old}", BStr::new(group)),
        None => format!("gid {old}, which no group has"),
    };
    subject.decide(Label::PRIMARY, label, format!("was {was}"));
    subject.decide("new files", new.name.to_owned(), "from the next sign-in on");
    // An account's line may name anything as its home.
    let home = TreePath::new(found.user.home).filter(|home| *home != TreePath::root());
    let home = home.filter(|home| matches!(context.world.site(home[..].into()), Site::Taken(_)));
    if let Some(home) = home.clone().filter(|_| new.regroup_home == Some(true)) {
        let value = format!("get gid {gid}");
        subject.decide("old files", value, format!("those in {home} that carry gid {old}"));
        builder.step(Step::regroup(vec![home], old, gid));
    } else {
        let offer = match home {
            Some(home) if new.regroup_home.is_some() => {
                format!("in {home} too; --regroup-home gives them the new one")
            }
            Some(home) => format!("in {home} too"),
            None => String::new(),
        };
        subject.decide("old files", format!("keep gid {old}"), offer);
    }
    if let Some(old_name) = old_group.filter(|old| *old != found.user.name) {
        let roots = old == Gid::ROOT && found.uid != Uid::ROOT;
        if new.leaves.contains(&old_name) || roots {
            let why = if roots {
                "the old primary group, which is root's"
            } else {
                "the old primary group"
            };
            subject.decide("leaves", old_name, why);
        } else {
            builder.lists().join(old_name, name);
            subject.decide(
                Label::MEMBER_OF,
                old_name,
                "the old primary group, kept as an ordinary one",
            );
        }
    }
    true
}

/// Tells from when on a change of groups counts, and which sessions go on with
/// the old ones.
pub(crate) fn tell_sessions(
    context: PlanContext<'_>,
    name: &BStr,
    uid: Option<Uid>,
    subject: &mut Subject,
    cautions: &mut Vec<Caution>,
) {
    let sessions = uid.map(|uid| context.world.sessions(uid)).unwrap_or_default();
    let why = |process: &Process| format!("since {}, with the groups of then", process.since);
    for process in sessions.iter().take(MOST_SESSIONS) {
        let value = format!("{} {}", process.pid, process.command);
        subject.decide("session", value, why(process));
    }
    if sessions.len() > MOST_SESSIONS {
        let more = sessions.len() - MOST_SESSIONS;
        subject.decide("session", format!("and {more} more"), "");
    }
    cautions.push(Caution::NextSignIn { name: name.to_owned() });
}

/// Makes one sentence of many.
pub(crate) fn gather_next_sign_ins(cautions: &mut Vec<Caution>) {
    const MOST: usize = 4;
    let of_one = |caution: &Caution| matches!(caution, Caution::NextSignIn { .. });
    let count = cautions.iter().filter(|caution| of_one(caution)).count();
    if count > MOST {
        cautions.retain(|caution| !of_one(caution));
        cautions.push(Caution::NextSignIns { count });
    }
}
