//! The comma-separated lists of members and administrators in group files.

/// The names in a list. Empty entries are passed over, and so are the spaces
/// before a name, as the C library does.
pub fn members(list: &[u8]) -> impl Iterator<Item = &[u8]> {
    list.split(|&byte| byte == b',').map(<[u8]>::trim_ascii_start).filter(|name| !name.is_empty())
}

/// The list with `name` added at its end, and whether it had to be tidied for
/// that (empty entries and spaces taken out). `None` when it holds the name.
pub fn with_member(list: &[u8], name: &[u8]) -> Option<(Vec<u8>, bool)> {
    if members(list).any(|member| member == name) {
        return None;
    }
    let mut names: Vec<&[u8]> = members(list).map(<[u8]>::trim_ascii_end).collect();
    let tidied = names.join(&b","[..]) != list;
    names.push(name);
    Some((names.join(&b","[..]), tidied))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_member_is_added_once_and_at_the_end() {
        assert_eq!(with_member(b"", b"maren"), Some((b"maren".to_vec(), false)));
        assert_eq!(with_member(b"tavish", b"maren"), Some((b"tavish,maren".to_vec(), false)));
        assert_eq!(with_member(b"tavish,maren", b"maren"), None);
    }

    #[test]
    fn a_ragged_list_is_tidied_and_told() {
        assert_eq!(with_member(b"a,, b,", b"c"), Some((b"a,b,c".to_vec(), true)));
        assert_eq!(with_member(b" maren", b"maren"), None);
    }
}
