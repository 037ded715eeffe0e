//! Where users come from besides the files, nsswitch.conf(5).

use bstr::ByteSlice;

/// Sources of users that are read as files: the account files, with what they take in, the
/// lists that an image brings, those of an overlay, and the records of user databases. The
/// accounts that a service manager makes up while a service runs are nobody's in a file.
const LOCAL_SOURCES: [&str; 5] = ["files", "compat", "systemd", "altfiles", "extrausers"];

/// The sources besides the machine's own that nsswitch.conf(5) names for users.
pub(super) fn others_in(text: &[u8]) -> Option<String> {
    let (_, sources) = sources_of(text, "passwd:")?;
    let others: Vec<&str> = sources
        .iter()
        .map(String::as_str)
        .filter(|source| !LOCAL_SOURCES.contains(source))
        .collect();
    (!others.is_empty()).then(|| others.join(", "))
}

/// The sources that are named for users or groups, and the line, where the account files are
/// none of them.
pub(super) fn without_files(text: &[u8]) -> Option<(usize, String)> {
    ["passwd:", "group:"].into_iter().find_map(|which| {
        let (line, sources) = sources_of(text, which)?;
        let asks = |source: &String| matches!(source.as_str(), "files" | "compat");
        (!sources.is_empty() && !sources.iter().any(asks)).then(|| (line, sources.join(", ")))
    })
}

/// The sources of one line, and its number.
fn sources_of(text: &[u8], which: &str) -> Option<(usize, Vec<String>)> {
    let (at, line) = text
        .lines()
        .enumerate()
        .find_map(|(at, line)| Some((at, line.trim_ascii().strip_prefix(which.as_bytes())?)))?;
    let line = line.split(|&byte| byte == b'#').next()?.to_str_lossy().into_owned();
    // Actions like [NOTFOUND=return] may hold spaces, and end the word before them.
    let mut outside = true;
    let plain: String = line
        .chars()
        .map(|c| match c {
            '[' | ']' => {
                outside = c == ']';
                ' '
            }
            c if outside => c,
            _ => ' ',
        })
        .collect();
    Some((at + 1, plain.split_whitespace().map(str::to_owned).collect()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_sources_beyond_this_machine_are_others() {
        let read = |text: &str| others_in(text.as_bytes());
        assert_eq!(read("passwd: files systemd\n"), None);
        assert_eq!(read("hosts: dns\n"), None);
        let glued = "passwd: files[NOTFOUND=return]sss\ngroup: [ SUCCESS = merge ]files\n";
        assert_eq!(without_files(glued.as_bytes()), None);
        assert_eq!(read(glued).as_deref(), Some("sss"));
        assert_eq!(
            read("# x\npasswd:\tfiles [SUCCESS = merge] sss ldap # two\n").as_deref(),
            Some("sss, ldap")
        );
    }

    #[test]
    fn a_line_without_the_files_is_found() {
        let read = |text: &str| without_files(text.as_bytes());
        assert_eq!(read("passwd: files ldap\ngroup: compat\n"), None);
        assert_eq!(
            read("passwd: files\n\ngroup: ldap [NOTFOUND=return] sss\n"),
            Some((3, "ldap, sss".into()))
        );
        assert_eq!(read("passwd:\n"), None);
    }
}
