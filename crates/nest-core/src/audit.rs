//! What a change tells the kernel's audit log: one record an account, of the types that
//! audit has for accounts (`linux/audit.h` and those of its user space, 1100 to 1199).

use bstr::{BStr, ByteSlice};

use crate::change::Plan;
use crate::record::{RecordedEdit, Secret};
use crate::table::File;

/// What a record is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum AuditKind {
    /// Attributes of a user: `USER_MGMT`.
    UserChanged,
    /// A password of a user: `USER_CHAUTHTOK`.
    UserPassword,
    /// `ADD_USER`.
    UserAdded,
    /// `DEL_USER`.
    UserDeleted,
    /// `ADD_GROUP`.
    GroupAdded,
    /// `DEL_GROUP`.
    GroupDeleted,
    /// Attributes and members of a group: `GRP_MGMT`.
    GroupChanged,
    /// A password of a group: `GRP_CHAUTHTOK`.
    GroupPassword,
}

impl AuditKind {
    /// The number of the type.
    pub fn number(self) -> u16 {
        match self {
            AuditKind::UserChanged => 1102,
            AuditKind::UserPassword => 1108,
            AuditKind::UserAdded => 1114,
            AuditKind::UserDeleted => 1115,
            AuditKind::GroupAdded => 1116,
            AuditKind::GroupDeleted => 1117,
            AuditKind::GroupChanged => 1132,
            AuditKind::GroupPassword => 1133,
        }
    }

    fn operation(self) -> &'static str {
        match self {
            AuditKind::UserChanged => "change-user",
            AuditKind::UserPassword => "change-password",
            AuditKind::UserAdded => "create-user",
            AuditKind::UserDeleted => "delete-user",
            AuditKind::GroupAdded => "create-group",
            AuditKind::GroupDeleted => "delete-group",
            AuditKind::GroupChanged => "change-group",
            AuditKind::GroupPassword => "change-group-password",
        }
    }
}

/// One record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AuditRecord {
    /// What it is about.
    pub kind: AuditKind,
    /// Its text, as audit's readers take it: `op=… acct="…" …`.
    pub text: String,
}

/// So many records a change makes at most: what is about more is told as one.
const MOST: usize = 1000;

/// The records of a change: what was done to whom, in the order of the files, each once.
/// `program` is the path of the program, `terminal` where it was started; nothing of either is
/// told as `?`. With `worked` the change was made, else it failed.
pub fn records(
    plan: &Plan,
    program: &str,
    terminal: Option<&str>,
    worked: bool,
) -> Vec<AuditRecord> {
    let mut told: Vec<(AuditKind, Vec<u8>)> = Vec::new();
    for edit in plan.edits.iter().flat_map(RecordedEdit::lines) {
        for (kind, name) in told_by(&edit) {
            if !told.iter().rev().take(MOST).any(|(known, of)| *known == kind && *of == name) {
                told.push((kind, name));
            }
        }
        if told.len() > MOST {
            break;
        }
    }
    let rest = format!(
        "exe={} hostname=? addr=? terminal={} res={}",
        value(program.as_bytes()),
        terminal.unwrap_or("?"),
        if worked { "success" } else { "failed" }
    );
    if told.len() > MOST {
        let kind = AuditKind::UserChanged;
        let summary = value(plan.summary.as_bytes());
        return vec![AuditRecord {
            kind,
            text: format!("op=change-accounts change={summary} {rest}"),
        }];
    }
    let record = |(kind, name): (AuditKind, Vec<u8>)| {
        let of = match kind {
            AuditKind::GroupAdded
            | AuditKind::GroupDeleted
            | AuditKind::GroupChanged
            | AuditKind::GroupPassword => "grp",
            _ => "acct",
        };
        AuditRecord { kind, text: format!("op={} {of}={} {rest}", kind.operation(), value(&name)) }
    };
    told.into_iter().map(record).collect()
}

/// What a line that came, went or was altered says.
fn told_by(edit: &RecordedEdit) -> Vec<(AuditKind, Vec<u8>)> {
    let name = |line: &Option<bstr::BString>| {
        let line = line.as_ref()?.trim_ascii_start();
        Some(line.split_str(":").next().unwrap_or_default().to_vec())
    };
    let (before, after) = (name(&edit.before), name(&edit.after));
    let set = matches!(edit.secret, Secret::New | Secret::Lost);
    match (edit.file, before, after) {
        (File::Passwd, None, Some(name)) => vec![(AuditKind::UserAdded, name)],
        (File::Passwd, Some(name), None) => vec![(AuditKind::UserDeleted, name)],
        (File::Group, None, Some(name)) => vec![(AuditKind::GroupAdded, name)],
        (File::Group, Some(name), None) => vec![(AuditKind::GroupDeleted, name)],
        (File::Passwd, Some(name), Some(_)) => vec![(AuditKind::UserChanged, name)],
        (File::Group, Some(name), Some(_)) => vec![(AuditKind::GroupChanged, name)],
        (File::Shadow, Some(_), Some(name)) if set => vec![(AuditKind::UserPassword, name)],
        (File::Shadow, Some(_), Some(name)) => vec![(AuditKind::UserChanged, name)],
        // A new account's first password is one too.
        (File::Shadow, None, Some(name)) if set => vec![(AuditKind::UserPassword, name)],
        (File::Gshadow, _, Some(name)) if set => vec![(AuditKind::GroupPassword, name)],
        (File::Gshadow, Some(_), Some(name)) => vec![(AuditKind::GroupChanged, name)],
        (File::Subuid | File::Subgid, before, after) => {
            let name = after.or(before);
            name.map(|name| (AuditKind::UserChanged, name)).into_iter().collect()
        }
        (File::Shadow | File::Gshadow, ..) | (File::Passwd | File::Group, None, None) => Vec::new(),
    }
}

/// A value as audit writes it: in quotes, or as hexadecimal digits where it holds a blank, a
/// quote, or what is no plain letter.
fn value(text: &[u8]) -> String {
    let is_plain = |byte: &u8| (0x21..0x7f).contains(byte) && *byte != b'"';
    match text.iter().all(is_plain) {
        true => format!("\"{}\"", BStr::new(text)),
        false => text.iter().map(|byte| format!("{byte:02X}")).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::Edit;

    fn edit(file: File, before: Option<&str>, after: Option<&str>) -> Edit {
        let line = |line: Option<&str>| line.map(bstr::BString::from);
        Edit { file, line: 1, before: line(before), after: line(after), range: 0..0 }
    }

    fn told(edits: Vec<Edit>) -> Vec<String> {
        let plan = Plan { summary: "change many".into(), edits, ..Plan::default() };
        let records = records(&plan, "/usr/bin/copper-nest", Some("pts/1"), true);
        records.iter().map(|record| format!("{} {}", record.kind.number(), record.text)).collect()
    }

    const REST: &str = "exe=\"/usr/bin/copper-nest\" hostname=? addr=? terminal=pts/1 res=success";

    #[test]
    fn each_account_is_told_once_by_what_was_done_to_it() {
        let hash = "maren:$6$Gullhaven2$0123456789abcdef:20602:0::7:::";
        let all = told(vec![
            edit(File::Passwd, None, Some("maren:x:1004:1004::/home/maren:/bin/sh")),
            edit(File::Shadow, None, Some(hash)),
            edit(File::Group, Some("pilots:x:210:"), Some("pilots:x:210:maren")),
            edit(File::Gshadow, Some("pilots:!::"), Some("pilots:!::maren")),
            edit(File::Shadow, Some("tavish:!:1::::::"), Some("tavish:!:1:::::2:")),
            edit(File::Subuid, None, Some("maren:100000:65536")),
            edit(File::Subgid, None, Some("maren:100000:65536")),
            edit(File::Passwd, Some("ol\u{e9}:x:7:7::/:/bin/sh"), None),
        ]);
        assert_eq!(
            all,
            [
                format!("1114 op=create-user acct=\"maren\" {REST}"),
                format!("1108 op=change-password acct=\"maren\" {REST}"),
                format!("1132 op=change-group grp=\"pilots\" {REST}"),
                format!("1102 op=change-user acct=\"tavish\" {REST}"),
                format!("1102 op=change-user acct=\"maren\" {REST}"),
                format!("1115 op=delete-user acct=6F6CC3A9 {REST}"),
            ]
        );
        assert!(!all.concat().contains("$6$"));
    }

    #[test]
    fn what_is_about_very_many_is_one_record() {
        let line = |at: usize| format!("hand{at}:x:{at}:{at}::/h:/s");
        let edits = |count: usize| {
            (0..count).map(|at| edit(File::Passwd, None, Some(&line(at)))).collect::<Vec<_>>()
        };
        assert_eq!(told(edits(MOST)).len(), MOST);
        assert_eq!(
            told(edits(MOST + 1)),
            [format!("1102 op=change-accounts change=6368616E6765206D616E79 {REST}")]
        );
    }
}
