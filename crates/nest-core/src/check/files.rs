//! The account files themselves: loose-mode, wrong-owner, missing-file,
//! unfinished-change.

use bstr::BString;

use super::{Command, Finding, Mark, Out, Remedy, Rule, Selection, rule};
use crate::context::PlanContext;
use crate::ownership::{Access, Owner};
use crate::surroundings::Facts;
use crate::table::File;

/// The permissions that a file everybody reads may have at most.
const OPEN: u32 = 0o644;

/// Those of a file with hashes. Its group is root's or [`SHADOW`].
const CLOSED: u32 = 0o640;

/// A group that programs run in which check passwords, where there is one.
const SHADOW: &[u8] = b"shadow";

pub(super) fn run(context: PlanContext<'_>, selection: &Selection) -> Out {
    let wanted = |name| rule(name).filter(|rule| selection.wants(rule));
    let mut out = Out::default();
    let (loose, owner) = (wanted("loose-mode"), wanted("wrong-owner"));
    if loose.is_some() || owner.is_some() {
        access(loose, owner, context, &mut out);
    }
    if let Some(rule) = wanted("missing-file") {
        let missing = [File::Passwd, File::Shadow, File::Group, File::Gshadow].into_iter();
        let missing = missing.filter(|file| {
            context.book.lines(*file).is_none() && !context.book.unreadable.contains_key(file)
        });
        out.findings.extend(missing.map(|file| not_there(rule, file)));
    }
    if let Some(rule) = wanted("unfinished-change")
        && let Some(what) = context.world.unfinished()
    {
        let message = format!("{what} was cut off by a crash and stands unfinished.");
        let mut finding = about(rule, File::Passwd, message, Remedy::run([b"recover"]));
        finding.subject = what.into();
        out.findings.push(finding);
    }
    out
}

/// The access to an account file as it should be; what is right already stays.
pub(crate) fn right_access(context: PlanContext<'_>, file: File, is: Facts) -> Access {
    let shadow = context.book.group(SHADOW).and_then(|(_, group)| group.gid());
    let most = if file.is_secret() { CLOSED } else { OPEN };
    let gid = match file.is_secret() && is.gid != 0 && Some(is.gid) != shadow {
        true if is.mode & 0o040 != 0 => shadow.unwrap_or(0),
        _ => is.gid,
    };
    Access { owner: Owner { uid: 0, gid }, mode: is.mode & most }
}

fn access(
    loose: Option<&'static Rule>,
    owner: Option<&'static Rule>,
    context: PlanContext<'_>,
    out: &mut Out,
) {
    let owners = context.world.owners_are_real();
    if let (Some(rule), Err(why)) = (owner, &owners) {
        out.skip(rule.name, why.as_str());
    }
    for file in File::ALL {
        let path = BString::from(format!("/{}", file.path()));
        let is = match context.world.facts(path.as_ref()) {
            Ok(Some(is)) => is,
            Ok(None) => continue,
            Err(why) => {
                for rule in [loose, owner].into_iter().flatten() {
                    out.skip(rule.name, format!("{}: {why}", file.path()));
                }
                continue;
            }
        };
        let right = right_access(context, file, is);
        if let Some(rule) = loose.filter(|_| right.mode != is.mode) {
            let more = is.mode & !right.mode;
            let can = match more {
                more if more & 0o002 != 0 => "everybody may alter it",
                more if more & 0o020 != 0 => "its whole group may alter it",
                more if more & 0o004 != 0 => "everybody may read the hashes in it",
                _ => "it is no program",
            };
            let message = format!("mode {:04o}: {can}. It is to be {:04o}.", is.mode, right.mode);
            out.findings.push(about(rule, file, message, Remedy::repair(rule)));
        }
        let Some(rule) = owner.filter(|_| owners.is_ok()) else { continue };
        let Owner { uid, gid } = right.owner;
        if (uid, gid) != (is.uid, is.gid) {
            let message = match uid == is.uid {
                false => format!("it belongs to uid {}, who can alter it; it is root's.", is.uid),
                true => format!("gid {} may read the hashes in it; that is for {gid}.", is.gid),
            };
            out.findings.push(about(rule, file, message, Remedy::repair(rule)));
        }
    }
}

fn not_there(rule: &'static Rule, file: File) -> Finding {
    let (holds, mode) = match file {
        File::Shadow => {
            ("passwords are where everybody can read them", "install -m 0600 /dev/null")
        }
        File::Gshadow => ("groups have no administrators", "install -m 0600 /dev/null"),
        File::Group => ("no group has a name", "install -m 0644 /dev/null"),
        _ => ("nobody has an account", "install -m 0644 /dev/null"),
    };
    let message = format!("there is no such file: {holds}.");
    let path = BString::from(format!("/{}", file.path()));
    let make = Command::System(mode, vec![path]);
    let remedy = match file {
        // The lines that are to be in it come with the next repair.
        File::Shadow | File::Gshadow => Remedy::all([make]),
        _ => Remedy::by_hand("put a copy of it back"),
    };
    about(rule, file, message, remedy)
}

/// A finding about a file as a whole.
fn about(rule: &'static Rule, file: File, message: String, remedies: Vec<Remedy>) -> Finding {
    Finding {
        rule,
        file,
        line: 0,
        place: None,
        text: "".into(),
        mark: Mark::Line,
        subject: file.path().into(),
        message,
        remedies,
        related: Vec::new(),
    }
}
