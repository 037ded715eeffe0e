//! Finding the users and groups that a request names, and editing their lines.

use bstr::BStr;

use crate::account::admin_group;
use crate::change::Caution;
use crate::context::PlanContext;
use crate::drafting::new_name::damaged;
use crate::refusal::{Reason, Refusal, Result};
use crate::retired::RetiredAccount;
use crate::surroundings::Origin;
use crate::table::{File, Group, Line, Passwd, Record, Shadow};
use crate::value::{Gid, NameStyle, Uid, UserOrGroup, check_name, is_component, read_plain_id};

/// A user that a request names.
#[derive(Clone, Copy)]
pub(crate) struct FoundUser<'a> {
    pub line: Line<'a>,
    pub user: Passwd<'a>,
    pub uid: Uid,
    pub gid: Gid,
    /// Its shadow line, where there is one that can be edited.
    pub shadow: Option<(Line<'a>, Shadow<'a>)>,
}

/// A user by name, whose lines can be edited safely.
///
/// # Errors
/// The [`Refusal`], of `what`: there is none, or a line is malformed or doubled.
pub(crate) fn find_user<'a>(
    context: PlanContext<'a>,
    name: &BStr,
    what: &str,
) -> Result<FoundUser<'a>> {
    let book = context.book;
    let refuse = |reason| Refusal::new(what, reason);
    let once = |file: File| -> Result<Option<Line<'a>>> {
        let named = book.named(file, name);
        let number = |line: &Line<'_>| book.lines(file).map_or(0, |lines| lines.number(line.start));
        match named[..] {
            [] => Ok(None),
            [line] => Ok(Some(line)),
            [first, second, ..] => Err(refuse(Reason::Damaged {
                file,
                line: number(&second),
                fault: format!("says {name} again, after line {}", number(&first)),
            })),
        }
    };
    let Some(line) = once(File::Passwd)? else {
        let near = book.nearest_user(name).map(ToOwned::to_owned);
        let mut refusal = refuse(Reason::NoUser { name: name.to_owned(), near });
        // Nobody slipped who names somebody that was here.
        let kept = context.world.kept().unwrap_or_default();
        let is_it =
            |kept: &RetiredAccount| kept.kept.thing == UserOrGroup::User && kept.kept.name == name;
        if kept.iter().any(is_it) {
            refusal = refusal
                .or("it was deleted; see what is kept", format!("show user {name} --retired"))
                .or("or bring it back", format!("restore user {name}"));
        }
        let whole = !book.is_partial(File::Passwd);
        let number =
            read_plain_id(name).filter(|_| whole).and_then(|uid| book.user_by_uid(Uid(uid)));
        return Err(match number {
            Some((_, user)) => {
                let user = BStr::new(user.name);
                refusal.or("the user of that number", format!("show user {user}")).or_instead(
                    "or the same, by the name",
                    name.to_string(),
                    user.to_string(),
                )
            }
            None => refusal.or("see them all", "list users --kind all"),
        });
    };
    // Counting lines is for those that are wrong.
    let at = || book.users.lines().number(line.start);
    let unreadable = |what: &str| Reason::Damaged {
        file: File::Passwd,
        line: at(),
        fault: format!("has no readable {what}"),
    };
    let user = Passwd::read(line.record()).ok_or_else(|| refuse(damaged(File::Passwd, at())))?;
    let uid = user.uid().ok_or_else(|| refuse(unreadable("uid")))?;
    let gid = user.gid().ok_or_else(|| refuse(unreadable("gid")))?;
    let shadow = match once(File::Shadow)? {
        None => None,
        Some(line) => {
            let number =
                || book.shadow.as_ref().map_or(0, |table| table.lines().number(line.start));
            let shadow = Shadow::read(line.record()).filter(Shadow::is_readable);
            Some((line, shadow.ok_or_else(|| refuse(damaged(File::Shadow, number())))?))
        }
    };
    Ok(FoundUser { line, user, uid, gid, shadow })
}

/// That files can be named after an account or a group, whose line is in this file: its
/// mail spool file, its crontab, what is kept of it.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn require_file_name(
    (context, file): (PlanContext<'_>, File),
    name: &BStr,
    what: &str,
) -> Result<()> {
    match is_component(name) {
        true => Ok(()),
        false => Err(not_a_file_name(what, context, file, name)),
    }
}

/// The refusal of a name that can't be that of a file.
pub(crate) fn not_a_file_name(
    what: &str,
    context: PlanContext<'_>,
    file: File,
    name: &BStr,
) -> Box<Refusal> {
    let lines = context.book.lines(file);
    let line = context.book.named(file, name).first().map(|line| line.start);
    let line = line.zip(lines).map_or(0, |(start, lines)| lines.number(start));
    let place = format!("{}:{line}", file.path());
    Refusal::new(what, Reason::NoFileName { name: name.to_owned() })
        .or("take the line out", format!("repair --take-out {place}"))
}

/// A group by name, or by gid.
pub(crate) fn find_group<'a>(
    context: PlanContext<'a>,
    wanted: &BStr,
    what: &str,
) -> Result<Group<'a>> {
    let book = context.book;
    let refuse = |reason| Refusal::new(what, reason);
    let by_name = book.named(File::Group, wanted);
    if by_name.len() > 1 {
        let lines = book.groups.lines();
        return Err(refuse(Reason::Damaged {
            file: File::Group,
            line: lines.number(by_name[1].start),
            fault: format!("says {wanted} again, after line {}", lines.number(by_name[0].start)),
        }));
    }
    let found = match by_name.first() {
        Some(line) => Group::read(line.record())
            .ok_or_else(|| refuse(damaged(File::Group, book.groups.lines().number(line.start))))?,
        None => {
            let gid = read_plain_id(wanted);
            let by_gid = gid.and_then(|gid| book.group_by_gid(Gid(gid)));
            by_gid.map(|(_, group)| group).ok_or_else(|| {
                if let Some(line) = book.named(File::Gshadow, wanted).first() {
                    let line = book.lines(File::Gshadow).map_or(0, |all| all.number(line.start));
                    return refuse(Reason::OnlyGshadow { name: wanted.to_owned(), line })
                        .or("see what is left over", "check --files-only");
                }
                let near = book.nearest_group(wanted).map(ToOwned::to_owned);
                refuse(Reason::NoGroup { name: wanted.to_owned(), near })
                    .or("see them all", "list groups")
            })?
        }
    };
    Ok(found)
}

/// A member that a request names: an account of the files, or one that only a
/// directory knows. Returns what has to be told about it.
///
/// # Errors
/// The [`Refusal`], of `what`: nobody has that name.
pub(crate) fn find_member(
    context: PlanContext<'_>,
    name: &BStr,
    unlisted: bool,
    what: &str,
) -> Result<Option<Caution>> {
    let refuse = |reason| Refusal::new(what, reason);
    if context.book.user(name).is_some() {
        return Ok(None);
    }
    // A number is nobody's name; whose it is, is told.
    if read_plain_id(name).is_none() {
        check_name(NameStyle::Loose, name).map_err(|fault| refuse(Reason::UnfitName(fault)))?;
    }
    let known = context.world.service_knows_user(name);
    if known.map_err(|why| refuse(Reason::ServiceFailed(why)))? {
        return Ok(Some(Caution::OfDirectory { name: name.into() }));
    }
    // Says what is wrong, the nearest name included.
    let refusal = match find_user(context, name, what) {
        Ok(_) => return Ok(None),
        Err(refusal) if refusal.is_damage() => return Err(refusal),
        Err(refusal) => refusal,
    };
    match (unlisted, context.world.origin()) {
        _ if read_plain_id(name).is_some() => Err(refusal),
        (false, _) => {
            let label = "or, where a directory knows that name";
            Err(refusal.or_again(label, "--unlisted"))
        }
        (true, Origin::Others(sources)) => {
            Ok(Some(Caution::Unlisted { name: name.into(), sources }))
        }
        (true, Origin::FilesAlone) => Ok(Some(Caution::UnlistedGhost { name: name.into() })),
    }
}

/// The administrators' group, which `--admin` and `--no-admin` mean.
///
/// # Errors
/// The [`Refusal`], of `what`: none of the policy's groups exists.
pub(crate) fn find_admin_group<'a>(context: PlanContext<'a>, what: &str) -> Result<Group<'a>> {
    let policy = context.policy;
    admin_group(context.book, policy).ok_or_else(|| {
        let groups = policy.admins_groups.join(", ");
        let setting = policy.origin("admins.groups");
        let place = "admins.groups in etc/copper-nest/policy.toml";
        Refusal::new(what, Reason::NoAdminGroup { groups, setting })
            .or_else("name the one there is", place)
    })
}

/// The gid of a group whose line can be edited.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn gid_of(context: PlanContext<'_>, group: &Group<'_>, what: &str) -> Result<Gid> {
    group.gid().ok_or_else(|| {
        let (line, _) = context.book.group(group.name).unzip();
        let line = line.map_or(0, |line| context.book.groups.lines().number(line.start));
        let fault = "has no readable gid".into();
        Refusal::new(what, Reason::Damaged { file: File::Group, line, fault })
    })
}

/// The group of a user's own name, if there is one.
///
/// # Errors
/// Who else is in it, listed or by primary group: then it is not the user's alone.
pub(crate) fn private_group<'a>(
    context: PlanContext<'a>,
    found: &FoundUser<'a>,
) -> Result<Option<Group<'a>>, &'a [u8]> {
    let name = found.user.name;
    let Some((_, group)) = context.book.group(name) else { return Ok(None) };
    let primaries = context.book.users_by_gid(group.gid().unwrap_or(found.gid));
    let mut others = group.members().chain(primaries.into_iter().map(|(_, user)| user.name));
    match others.find(|other| *other != name) {
        Some(other) => Err(other),
        None => Ok(Some(group)),
    }
}
