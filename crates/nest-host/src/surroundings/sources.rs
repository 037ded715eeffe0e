//! Where users come from besides the files, nsswitch.conf(5).

use bstr::ByteSlice;

/// Sources of users that are this machine's own: files, and the accounts that
/// its service manager makes up while a service runs.
const LOCAL_SOURCES: [&str; 5] = ["files", "compat", "systemd", "db", "altfiles"];

/// The sources besides the machine's own that nsswitch.conf(5) names for users.
pub(super) fn others_in(text: &[u8]) -> Option<String> {
    let line = text.lines().find_map(|line| line.trim_ascii().strip_prefix(b"passwd:"))?;
    let line = line.split(|&byte| byte == b'#').next()?.to_str_lossy().into_owned();
    // Actions like [NOTFOUND=return] may hold spaces.
    let mut outside = true;
    let plain: String = line
        .chars()
        .filter(|c| {
            outside = match c {
                '[' => false,
                ']' => true,
                _ => return outside,
            };
            false
        })
        .collect();
    let others: Vec<&str> =
        plain.split_whitespace().filter(|source| !LOCAL_SOURCES.contains(source)).collect();
    (!others.is_empty()).then(|| others.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_sources_beyond_this_machine_are_others() {
        let read = |text: &str| others_in(text.as_bytes());
        assert_eq!(read("passwd: files systemd\n"), None);
        assert_eq!(read("hosts: dns\n"), None);
        assert_eq!(
            read("# x\npasswd:\tfiles [SUCCESS = merge] sss ldap # two\n").as_deref(),
            Some("sss, ldap")
        );
    }
}
