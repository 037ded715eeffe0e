//! The comma-separated lists of members and administrators in group files.

use hashbrown::HashSet;

/// The names in a list. Empty entries are passed over, and so are the spaces
/// before a name, as the C library does.
pub fn members(list: &[u8]) -> impl Iterator<Item = &[u8]> {
    list.split(|&byte| byte == b',').map(<[u8]>::trim_ascii_start).filter(|name| !name.is_empty())
}

/// The list with `name` added at its end, and whether it had to be tidied for
/// that (empty entries and spaces taken out). `None` when it holds the name.
pub fn with_member(list: &[u8], name: &[u8]) -> Option<(Vec<u8>, bool)> {
    with_members(list, &[name])
}

/// The list with the names that it lacks added at its end, each once, and whether
/// it had to be tidied for that. `None` when it holds them all.
pub fn with_members(list: &[u8], more: &[impl AsRef<[u8]>]) -> Option<(Vec<u8>, bool)> {
    let mut names: Vec<&[u8]> = members(list).map(<[u8]>::trim_ascii_end).collect();
    let before = names.len();
    if let [name] = more {
        if !members(list).any(|member| member == name.as_ref()) {
            names.push(name.as_ref());
        }
    } else {
        let mut seen: HashSet<&[u8]> = HashSet::with_capacity(before + more.len());
        seen.extend(members(list));
        names.extend(more.iter().map(AsRef::as_ref).filter(|name| seen.insert(name)));
    }
    let tidied = names[..before].join(&b","[..]) != list;
    (names.len() > before).then(|| (names.join(&b","[..]), tidied))
}

/// The list without `name`, however often it stands there, and whether it had to
/// be tidied for that. `None` when it does not hold the name.
pub fn without_member(list: &[u8], name: &[u8]) -> Option<(Vec<u8>, bool)> {
    if !members(list).any(|member| member == name) {
        return None;
    }
    let names: Vec<&[u8]> = members(list).map(<[u8]>::trim_ascii_end).collect();
    let tidied = names.join(&b","[..]) != list;
    let others: Vec<&[u8]> = names.into_iter().filter(|other| *other != name).collect();
    Some((others.join(&b","[..]), tidied))
}

/// The list with `name` only where it stands first, tidied.
pub fn with_member_once(list: &[u8], name: &[u8]) -> Vec<u8> {
    let mut seen = false;
    let first = |member: &&[u8]| *member != name || !std::mem::replace(&mut seen, true);
    bstr::join(",", members(list).map(<[u8]>::trim_ascii_end).filter(first))
}

/// The list with one name replaced by another, and all else as it is; `None` when
/// it does not hold the name.
pub fn replace_member(list: &[u8], old: &[u8], new: &[u8]) -> Option<Vec<u8>> {
    if !members(list).any(|member| member == old) {
        return None;
    }
    let parts: Vec<Vec<u8>> = list
        .split(|&byte| byte == b',')
        .map(|part| match part.trim_ascii_start() == old {
            true => [&part[..part.len() - old.len()], new].concat(),
            false => part.to_vec(),
        })
        .collect();
    Some(parts.join(&b','))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_member_is_added_once_and_at_the_end() {
        assert_eq!(with_member(b"", b"maren"), Some((b"maren".to_vec(), false)));
        assert_eq!(with_member(b"tavish", b"maren"), Some((b"tavish,maren".to_vec(), false)));
        assert_eq!(with_member(b"tavish,maren", b"maren"), None);
        let several = with_members(b"a,b", &["c", "a", "c", "d"]);
        assert_eq!(several, Some((b"a,b,c,d".to_vec(), false)));
        assert_eq!(with_members(b"a,b", &["b", "a"]), None);
    }

    #[test]
    fn a_member_is_taken_out_wherever_it_stands() {
        assert_eq!(without_member(b"a,b,c", b"b"), Some((b"a,c".to_vec(), false)));
        assert_eq!(without_member(b"a", b"a"), Some((b"".to_vec(), false)));
        assert_eq!(without_member(b"a,b", b"ab"), None);
        assert_eq!(without_member(b"a,, b,a", b"a"), Some((b"b".to_vec(), true)));
    }

    #[test]
    fn a_name_is_replaced_where_it_stands() {
        let replaced = |list: &[u8]| replace_member(list, b"maren", b"marlo");
        assert_eq!(replaced(b"a, maren,,marenb"), Some(b"a, marlo,,marenb".to_vec()));
        assert_eq!(replaced(b"a,marenb"), None);
    }

    #[test]
    fn a_ragged_list_is_tidied_and_told() {
        assert_eq!(with_member(b"a,, b,", b"c"), Some((b"a,b,c".to_vec(), true)));
        assert_eq!(with_member(b" maren", b"maren"), None);
    }
}
