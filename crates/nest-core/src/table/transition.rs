//! In what order new versions of the account files have to become visible, so
//! that a reader in between never meets a user without its group or shadow line.

use std::collections::BTreeSet;

use super::{Edit, File, Group, Gshadow, Passwd, Record};
use crate::value::members;

/// When passwd is replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Order {
    /// After all others: users come.
    PasswdLast,
    /// Before all others: users go.
    PasswdFirst,
    /// In between: users get other names or groups. Before it the other files
    /// are replaced by versions that hold the old and the new, see
    /// [`holding_both`].
    Between,
}

/// The order that some edits need.
pub fn order(edits: &[Edit]) -> Order {
    let edits = || edits.iter().filter(|edit| edit.file == File::Passwd);
    if edits().all(|edit| edit.before.is_none()) {
        return Order::PasswdLast;
    }
    fn key(line: &[u8]) -> Option<(&[u8], &[u8])> {
        Passwd::read(line.trim_ascii_start()).map(|user| (user.name, user.gid))
    }
    let before: BTreeSet<_> = edits().filter_map(|edit| key(edit.before.as_ref()?)).collect();
    let after: BTreeSet<_> =
        edits().flat_map(Edit::lines_after).filter_map(|(_, line)| key(line)).collect();
    match (before.is_subset(&after), after.is_subset(&before)) {
        (true, _) => Order::PasswdLast,
        (false, true) => Order::PasswdFirst,
        (false, false) => Order::Between,
    }
}

/// The edits of one file, so that it holds the old and the new: nothing goes
/// yet, a line that gets another name stands there under both, a group that gets another
/// gid with both, and a list of members names the old and the new ones.
pub fn holding_both(edits: &[&Edit]) -> Vec<Edit> {
    let both = |edit: &&Edit| match (&edit.before, &edit.after) {
        (Some(_), None) => None,
        (Some(before), Some(after)) => {
            let name = |line: &'_ [u8]| {
                let line = line.trim_ascii_start();
                line[..line.iter().position(|&byte| byte == b':').unwrap_or(line.len())].to_vec()
            };
            let gid = |line: &'_ [u8]| {
                let group = Group::read(line.trim_ascii_start())?;
                (edit.file == File::Group).then(|| group.gid.to_vec())
            };
            if name(before) != name(after) || gid(before) != gid(after) {
                let range = edit.range.start..edit.range.start;
                return Some(Edit { before: None, range, ..(*edit).clone() });
            }
            let after = with_all_members(edit.file, before, after).unwrap_or(after.to_vec());
            Some(Edit { after: Some(after.into()), ..(*edit).clone() })
        }
        _ => Some((*edit).clone()),
    };
    edits.iter().filter_map(both).collect()
}

fn with_all_members(file: File, before: &[u8], after: &[u8]) -> Option<Vec<u8>> {
    let lists = |before: &[u8], after: &[u8]| {
        let mut names: Vec<&[u8]> = members(after).collect();
        let old: Vec<&[u8]> = members(before).filter(|name| !names.contains(name)).collect();
        names.extend(old);
        names.join(&b',')
    };
    let (before, after) = (before.trim_ascii_start(), after.trim_ascii_start());
    match file {
        File::Group => {
            let (before, now) = (Group::read(before)?, Group::read(after)?);
            let list = lists(before.members, now.members);
            Some([now.name, now.password, now.gid, &list].join(&b':'))
        }
        File::Gshadow => {
            let (before, now) = (Gshadow::read(before)?, Gshadow::read(after)?);
            let list = lists(before.members, now.members);
            Some([now.name, now.password, now.admins, &list].join(&b':'))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn edit(file: File, before: Option<&str>, after: Option<&str>) -> Edit {
        let range = 10..10 + before.map_or(0, str::len);
        Edit { file, line: 2, before: before.map(Into::into), after: after.map(Into::into), range }
    }

    #[test]
    fn passwd_comes_last_for_those_who_come_and_first_for_those_who_go() {
        let passwd = |before, after| order(&[edit(File::Passwd, before, after)]);
        let (maren, marlo) = ("maren:x:4:4:::", "marlo:x:4:4:::");
        assert_eq!(passwd(None, Some(maren)), Order::PasswdLast);
        assert_eq!(passwd(Some(maren), None), Order::PasswdFirst);
        assert_eq!(passwd(Some(maren), Some(marlo)), Order::Between);
        assert_eq!(passwd(Some(maren), Some("maren:x:4:4:New::")), Order::PasswdLast);
        assert_eq!(passwd(Some(maren), Some("maren:x:4:5:::")), Order::Between);
        assert_eq!(order(&[edit(File::Group, Some("a:x:1:"), None)]), Order::PasswdLast);
    }

    #[test]
    fn versions_in_between_hold_the_old_and_the_new() {
        let edits = [
            edit(File::Group, Some("maren:x:4:"), Some("marlo:x:4:")),
            edit(File::Group, Some("crew:x:7:a,maren"), Some("crew:x:7:a,marlo")),
            edit(File::Group, Some("old:x:8:"), None),
            edit(File::Group, None, Some("new:x:9:")),
            edit(File::Group, Some("pilots:x:210:a"), Some("pilots:x:2210:a")),
        ];
        let both = holding_both(&edits.iter().collect::<Vec<_>>());
        let after: Vec<_> = both.iter().map(|edit| edit.after.clone().unwrap()).collect();
        let wanted = ["marlo:x:4:", "crew:x:7:a,marlo,maren", "new:x:9:", "pilots:x:2210:a"];
        assert_eq!(after, wanted);
        for at in [0, 3] {
            assert_eq!((both[at].before.clone(), both[at].range.clone()), (None, 10..10));
        }
    }
}
