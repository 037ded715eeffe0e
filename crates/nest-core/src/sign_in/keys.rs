//! The files of keys that the SSH server looks at for an account, and whether it would go by
//! them: what `StrictModes` wants, sshd_config(5), and that it reads them as that user.

use bstr::{BStr, BString, ByteSlice};

use crate::labels::Carried;
use crate::ssh::Rules;
use crate::surroundings::{Facts, KeyFile, Keys};
use crate::value::{Day, Gid, KeyLine, Uid, key_lines, usable_keys};

/// Where keys are looked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum KeyPlace {
    /// Below the home.
    InHome(BString),
    /// Elsewhere in the tree.
    At(BString),
}

impl KeyPlace {
    /// Where that is.
    pub fn path(&self, home: &BStr) -> BString {
        match self {
            KeyPlace::InHome(file) => [home.as_bytes(), b"/", file].concat().into(),
            KeyPlace::At(path) => path.clone(),
        }
    }
}

/// The places that a server looks at for an account.
pub(crate) fn key_places(rules: &Rules, name: &[u8], uid: Option<Uid>) -> Vec<KeyPlace> {
    let place = |file: &BString| {
        let file = file.strip_prefix(b"%h/").unwrap_or(file);
        let number = uid.map(|uid| uid.to_string()).unwrap_or_default();
        let (mut path, mut bytes) = (BString::default(), file.iter().copied());
        while let Some(byte) = bytes.next() {
            match (byte, byte == b'%') {
                (_, true) => match bytes.next() {
                    Some(b'u') => path.extend_from_slice(name),
                    Some(b'U') => path.extend_from_slice(number.as_bytes()),
                    other => path.extend(other),
                },
                (byte, false) => path.push(byte),
            }
        }
        match path.starts_with(b"/") {
            true => KeyPlace::At(path),
            false => KeyPlace::InHome(path),
        }
    };
    rules.files.iter().map(place).collect()
}

/// What matters about the account whose keys a file holds.
pub(crate) struct KeyOwner<'k> {
    /// Its number.
    pub uid: Uid,
    /// The home, where it is now.
    pub home: &'k BStr,
    /// Whether it is in a group of this number.
    pub is_in: &'k dyn Fn(Gid) -> bool,
    /// Whether nobody but it is in a group of this number, and the server minds that.
    pub is_private: &'k dyn Fn(Gid, Uid) -> bool,
    /// Whether owners mean anything in the tree.
    pub owners_are_real: bool,
}

/// A key that an account has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyFound {
    /// The file, as a path in the tree.
    pub file: BString,
    /// The key.
    pub key: KeyLine,
    /// What keeps it from working: the file as a whole, or its own time.
    pub fault: Option<String>,
}

impl KeyFound {
    /// Whether the SSH server would go by it.
    pub fn works(&self) -> bool {
        self.fault.is_none()
    }
}

/// The keys of a file, each with what keeps it from working.
pub(crate) fn keys_in(
    path: &BStr,
    file: &KeyFile,
    rules: &Rules,
    owner: &KeyOwner<'_>,
    today: Day,
) -> Vec<KeyFound> {
    let Ok(Some(text)) = &file.text else { return Vec::new() };
    let of_all =
        || loose(path, file, rules, owner).map(|(place, wrong)| format!("{place} {wrong}"));
    let of_all = of_all()
        .or_else(|| closed(file, owner).map(|place| format!("{place} is closed to its own user")))
        .or_else(|| Some(sealed(file.closed.as_ref()?)));
    let told = |key: KeyLine| {
        let fault = match &rules.only_forced {
            _ if of_all.is_some() => of_all.clone(),
            _ if key.has_expired => Some("it has expired".to_owned()),
            Some(why) if !key.is_forced => Some(format!("it has no command, as {why} asks for")),
            _ => None,
        };
        KeyFound { file: path.into(), key, fault }
    };
    key_lines(text, today).into_iter().map(told).collect()
}

/// The keys of a file that let its account in.
pub(crate) fn judge_file(
    path: &BStr,
    file: &KeyFile,
    rules: &Rules,
    owner: &KeyOwner<'_>,
    today: Day,
) -> Keys {
    let text = match &file.text {
        Ok(Some(text)) => text,
        Ok(None) => return Keys::NONE,
        Err(why) => return Keys::Unknown(format!("{path} {why}")),
    };
    if let Some((place, wrong)) = loose(path, file, rules, owner) {
        return Keys::Ignored(format!("{place} {wrong}, and the SSH server then ignores the keys"));
    }
    if let Some(closed) = closed(file, owner) {
        return Keys::Ignored(format!(
            "{closed} is closed to uid {}, and the SSH server reads the keys as that user",
            owner.uid
        ));
    }
    if let Some(place) = &file.closed {
        return Keys::Ignored(sealed(place));
    }
    let count = usable_keys(text, today);
    if rules.only_forced.is_some() && count.forced == 0 && count.usable > 0 {
        let why = rules.only_forced.as_deref().expect("BUG: it was there a line ago");
        return Keys::Ignored(format!("no key in {path} has a command, as {why} asks for"));
    }
    match (count.usable, count.expired) {
        (0, expired) if expired > 0 => Keys::Ignored(format!("each key in {path} has expired")),
        (usable, _) => Keys::Count { usable, forced: count.forced },
    }
}

/// What others could have put there: the place, and what is wrong with it.
fn loose<'f>(
    path: &BStr,
    file: &'f KeyFile,
    rules: &Rules,
    owner: &KeyOwner<'_>,
) -> Option<(&'f BStr, String)> {
    if !rules.strict {
        return None;
    }
    // From the file up to the home; of one that is not in the home, up to the root.
    let within = path.starts_with(&[owner.home.as_bytes(), b"/"].concat());
    let up_to_home = |place: &&(BString, Facts)| !within || place.0.len() >= owner.home.len();
    file.way.iter().rev().take_while(up_to_home).find_map(|(place, facts)| {
        let place = place.as_bstr();
        let writable = facts.mode & 0o002 != 0
            || facts.mode & 0o020 != 0 && !(owner.is_private)(facts.gid, facts.uid);
        if writable {
            return Some((place, "can be written by others".to_owned()));
        }
        let strange = owner.owners_are_real && facts.uid != owner.uid && facts.uid != Uid::ROOT;
        strange.then(|| (place, format!("belongs to uid {}", facts.uid)))
    })
}

/// The first directory on the way to a file, or the file itself, that its user may not enter
/// or read.
fn closed<'f>(file: &'f KeyFile, owner: &KeyOwner<'_>) -> Option<&'f BStr> {
    if owner.uid == Uid::ROOT || !owner.owners_are_real {
        return None;
    }
    let (last, _) = file.way.split_last()?;
    let is_closed = |(place, facts): &&(BString, Facts)| {
        let wanted = if *place == last.0 { 0o4 } else { 0o1 };
        let shift = match facts {
            facts if facts.uid == owner.uid => 6,
            // Asked only where it matters.
            facts if facts.mode >> 3 & wanted == facts.mode & wanted => 0,
            facts if (owner.is_in)(facts.gid) => 3,
            _ => 0,
        };
        facts.mode >> shift & wanted == 0
    };
    file.way.iter().find(is_closed).map(|(place, _)| place.as_bstr())
}

/// That a label keeps the SSH server out, in words.
fn sealed((place, carried): &(BString, Carried)) -> String {
    format!("{place} {carried}, which keeps the SSH server from the keys")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::FileKind;

    const KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAILM+rvN+ot98qgEN796jTiQfZfG1KaT0PtFDJ/XFSqti maren@harbour";

    fn file(way: &[(&str, u32, u32, u32)]) -> KeyFile {
        let way = way.iter().map(|&(place, uid, gid, mode)| {
            let (kind, uid, gid) = (FileKind::Directory, Uid(uid), Gid(gid));
            (place.into(), Facts { kind, uid, gid, mode })
        });
        KeyFile { way: way.collect(), closed: None, text: Ok(Some(KEY.as_bytes().to_vec())) }
    }

    fn judge(path: &str, way: &[(&str, u32, u32, u32)]) -> String {
        let owner = KeyOwner {
            uid: Uid(1004),
            home: "/home/maren".into(),
            is_in: &|gid| gid == Gid(1004),
            is_private: &|gid, _| gid == Gid(1004),
            owners_are_real: true,
        };
        let rules = Rules::default();
        match judge_file(path.into(), &file(way), &rules, &owner, Day(20781)) {
            Keys::Count { usable, .. } => usable.to_string(),
            Keys::Ignored(why) => why,
            other => format!("{other:?}"),
        }
    }

    #[test]
    fn what_others_could_have_written_is_ignored() {
        let keys = "/home/maren/.ssh/authorized_keys";
        for (home, ssh, file, wanted) in [
            ((1004, 1004, 0o755), (1004, 1004, 0o700), (1004, 1004, 0o600), "1"),
            ((1004, 1004, 0o775), (0, 0, 0o755), (0, 0, 0o644), "1"),
            ((1004, 1004, 0o755), (1004, 1004, 0o702), (1004, 1004, 0o600), "/home/maren/.ssh can"),
            ((1004, 50, 0o775), (1004, 1004, 0o700), (1004, 1004, 0o600), "/home/maren can be"),
            ((1005, 1004, 0o755), (1004, 1004, 0o700), (1004, 1004, 0o600), "/home/maren belongs"),
            ((1004, 1004, 0o755), (0, 0, 0o700), (1004, 1004, 0o600), "/home/maren/.ssh is closed"),
            ((1004, 1004, 0o755), (0, 1004, 0o750), (1004, 1004, 0o600), "1"),
            ((1004, 1004, 0o755), (0, 1004, 0o705), (1004, 1004, 0o600), "/home/maren/.ssh is clo"),
            (
                (1004, 1004, 0o755),
                (1004, 1004, 0o700),
                (1004, 1004, 0o044),
                "/home/maren/.ssh/auth",
            ),
        ] {
            let on = |place, (uid, gid, mode)| (place, uid, gid, mode);
            let way = [
                // What is above the home does not matter to it.
                ("/", 0, 0, 0o777),
                ("/home", 0, 0, 0o777),
                on("/home/maren", home),
                on("/home/maren/.ssh", ssh),
                on(keys, file),
            ];
            let found = judge(keys, &way);
            assert!(found.starts_with(wanted), "{home:?} {ssh:?} {file:?}: {found}");
        }
        let central = "/etc/keys/maren";
        let way = [("/", 0, 0, 0o777), ("/etc", 0, 0, 0o755), ("/etc/keys", 0, 0, 0o755)];
        let way = [&way[..], &[(central, 0, 0, 0o644)]].concat();
        assert!(judge(central, &way).starts_with("/ can be written by others"));
    }

    #[test]
    fn places_are_spelled_with_the_account_s_name_and_number() {
        let rules = Rules {
            files: ["%h/keys", ".ssh/%u", "/etc/keys/%U%%"].map(BString::from).into(),
            ..Rules::default()
        };
        let places = key_places(&rules, b"maren", Some(Uid(1004)));
        let paths: Vec<BString> =
            places.iter().map(|place| place.path("/home/maren".into())).collect();
        assert_eq!(paths, ["/home/maren/keys", "/home/maren/.ssh/maren", "/etc/keys/1004%"]);
    }
}
