//! Taking back what a change altered in a line that has changed since: field by field, and in
//! lists member by member.

use bstr::ByteSlice;

use crate::secret::HIDDEN;
use crate::table::{Column, File, GroupField, GshadowField};
use crate::value::{members, with_member, without_member};

/// The line as it is now, with the fields as they were `before` that a change left as they are
/// in `after`; `now` is the line without its hash, as the other two are. Nothing where a field
/// that the change altered is another one by now, or where it holds a hash.
pub(super) fn taken_back(
    file: File,
    line: &[u8],
    now: &[u8],
    before: &[u8],
    after: &[u8],
) -> Option<Vec<u8>> {
    let split =
        |line: &'_ [u8]| -> Vec<Vec<u8>> { line.split_str(":").map(<[u8]>::to_vec).collect() };
    let (now, before, after) = (split(now), split(before), split(after));
    let mut fields = split(line);
    if [now.len(), before.len(), after.len()] != [fields.len(); 3] {
        return None;
    }
    for (at, field) in fields.iter_mut().enumerate() {
        let (now, was, left) = (&now[at], &before[at], &after[at]);
        if was == left {
            continue;
        }
        let hidden = |field: &Vec<u8>| field.contains_str(HIDDEN);
        if at == Column::NAME.index() || [now, was, left].into_iter().any(hidden) {
            return None;
        }
        if now == left {
            field.clone_from(was);
        } else if is_list(file, at) {
            *field = list_taken_back(now, was, left);
        } else {
            return None;
        }
    }
    Some(fields.join(&b':'))
}

/// Whether a field is a list of names.
fn is_list(file: File, at: usize) -> bool {
    let columns: &[Column] = match file {
        File::Group => &[GroupField::Members.into()],
        File::Gshadow => &[GshadowField::Members.into(), GshadowField::Admins.into()],
        File::Passwd | File::Shadow | File::Subuid | File::Subgid => &[],
    };
    columns.iter().any(|column| column.index() == at)
}

/// A list without the names that came, and with those that went.
fn list_taken_back(now: &[u8], was: &[u8], left: &[u8]) -> Vec<u8> {
    let mut list = now.to_vec();
    for name in members(left).filter(|name| !members(was).any(|other| other == *name)) {
        if let Some((without, _)) = without_member(&list, name) {
            list = without;
        }
    }
    for name in members(was).filter(|name| !members(left).any(|other| other == *name)) {
        if let Some((with, _)) = with_member(&list, name) {
            list = with;
        }
    }
    list
}

#[cfg(test)]
mod tests {
    use super::*;

    fn merged(file: File, now: &str, before: &str, after: &str) -> Option<String> {
        let bytes = |text: &str| text.as_bytes().to_vec();
        let (now, before, after) = (bytes(now), bytes(before), bytes(after));
        let line = taken_back(file, &now, &now, &before, &after)?;
        Some(String::from_utf8(line).unwrap())
    }

    #[test]
    fn what_others_changed_stays() {
        for (now, before, after, merged_to) in [
            // Others joined and left since.
            ("crew:x:7:b,maren,c", "crew:x:7:a,b", "crew:x:7:a,b,maren", Some("crew:x:7:b,c")),
            // Who left is back, behind those who came.
            ("crew:x:7:b,c", "crew:x:7:a,b", "crew:x:7:b", Some("crew:x:7:b,c,a")),
            // It was taken back by hand already.
            ("crew:x:7:a,c", "crew:x:7:a", "crew:x:7:a,maren", Some("crew:x:7:a,c")),
            // The gid that was set has been set again.
            ("crew:x:9:a", "crew:x:7:a", "crew:x:8:a", None),
        ] {
            assert_eq!(merged(File::Group, now, before, after).as_deref(), merged_to, "{now}");
        }
        let (before, after) =
            ("maren:x:1:1:M:/home/m:/bin/sh", "maren:x:1:1:Maren:/home/m:/bin/sh");
        let now = "maren:x:1:1:Maren:/home/m:/bin/bash";
        assert_eq!(
            merged(File::Passwd, now, before, after).as_deref(),
            Some("maren:x:1:1:M:/home/m:/bin/bash")
        );
        let (before, after) = ("maren:(hash):1::::::", "maren:!(hash):1::::::");
        assert_eq!(merged(File::Shadow, "maren:!(hash):2::::::", before, after), None);
    }
}
