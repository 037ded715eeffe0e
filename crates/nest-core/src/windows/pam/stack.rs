//! The account stack of a service, pam.conf(5): its lines, with what they include, and what
//! comes of them.

use bstr::{BStr, BString, ByteSlice};

use crate::configuration::{ConfigFiles, Place};

/// What a module's answer does to a stack.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Action {
    Ignore,
    Ok,
    Done,
    Bad,
    Die,
    Reset,
    Jump(usize),
}

/// A module of a stack, or what is included as a stack of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Entry {
    Module(Module),
    Substack(Vec<Entry>),
}

/// A module, and what its answers do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Module {
    pub place: Place,
    /// Its file, without the way there and `.so`.
    pub name: BString,
    pub words: Vec<BString>,
    on_success: Action,
    on_ignore: Action,
    on_refusal: Action,
    /// Where nothing is said of an answer that a module gives about other accounts.
    on_unknown_user: Action,
}

/// A stack that can't be told.
pub(super) type Stack = Result<Vec<Entry>, String>;

/// As deep as files include each other before the modules give up.
const DEEPEST: usize = 32;

/// The folders where stacks are looked for, the first before the others.
pub(super) const FOLDERS: [&str; 3] = ["etc/pam.d", "usr/etc/pam.d", "usr/lib/pam.d"];

/// The file of a service, where there is one.
pub(super) fn file_of(files: &dyn ConfigFiles, service: &str) -> Option<(String, Vec<u8>)> {
    let paths = FOLDERS.iter().map(|folder| format!("{folder}/{service}"));
    paths.into_iter().find_map(|path| {
        let text = files.read(path.as_str().into());
        match text {
            Ok(None) => None,
            Ok(Some(text)) => Some((path, text)),
            Err(_) => Some((path, Vec::new())),
        }
    })
}

/// The account stack of a service; that of `other` where it has no file, or none in it.
pub(super) fn read(files: &dyn ConfigFiles, service: &str) -> Stack {
    let mut stack = Vec::new();
    if file_of(files, service).is_some() {
        include(files, service, 0, &mut stack)?;
    }
    // Where neither is there, there are no such modules at all.
    if stack.is_empty() && file_of(files, "other").is_some() {
        include(files, "other", 0, &mut stack)?;
    }
    Ok(stack)
}

fn include(
    files: &dyn ConfigFiles,
    name: &str,
    depth: usize,
    stack: &mut Vec<Entry>,
) -> Result<(), String> {
    if depth > DEEPEST {
        return Err(format!("etc/pam.d/{name} is included more than {DEEPEST} levels deep"));
    }
    let mut text = None;
    let mut path = format!("{}/{name}", FOLDERS[0]);
    for folder in FOLDERS {
        let at = match name.strip_prefix('/') {
            Some(absolute) => absolute.to_owned(),
            None => format!("{folder}/{name}"),
        };
        let found = files.read(at.as_str().into()).map_err(|why| format!("{at} {why}"))?;
        if found.is_some() {
            (text, path) = (found, at);
            break;
        }
    }
    let Some(text) = text else { return Err(format!("{path} is not there")) };
    for (line, words) in logical_lines(&text) {
        let place = Place { file: path.as_str().into(), line };
        read_line(files, place, &words, depth, stack)?;
    }
    Ok(())
}

/// The lines with words in them, each with its number; a backslash at the end joins two.
fn logical_lines(text: &[u8]) -> Vec<(usize, Vec<BString>)> {
    let mut lines = Vec::new();
    let mut rest = text.lines().enumerate();
    while let Some((at, first)) = rest.next() {
        let mut line = first.to_vec();
        while line.ends_with(b"\\") {
            line.pop();
            line.push(b' ');
            let Some((_, next)) = rest.next() else { break };
            line.extend_from_slice(next);
        }
        let words = words_of(&line);
        if !words.is_empty() {
            lines.push((at + 1, words));
        }
    }
    lines
}

/// The words of a line, up to a comment; what stands in brackets is one.
fn words_of(line: &[u8]) -> Vec<BString> {
    let mut words = Vec::new();
    let mut rest = line.trim_ascii();
    while let Some(first) = rest.first() {
        let end = match first {
            b'#' => break,
            b'[' => rest.find_byte(b']').map_or(rest.len(), |at| at + 1),
            _ => rest.find_byteset(b" \t#").unwrap_or(rest.len()),
        };
        words.push(BString::from(&rest[..end]));
        rest = rest[end..].trim_ascii_start();
    }
    words
}

fn read_line(
    files: &dyn ConfigFiles,
    place: Place,
    words: &[BString],
    depth: usize,
    stack: &mut Vec<Entry>,
) -> Result<(), String> {
    let [kind, rest @ ..] = words else { return Ok(()) };
    let called = |name: &BString| name.to_str_lossy().into_owned();
    if kind == "@include" {
        let Some(name) = rest.first() else { return Ok(()) };
        return include(files, &called(name), depth + 1, stack);
    }
    if !is_account(kind.as_bstr()) {
        return Ok(());
    }
    let [control, module, arguments @ ..] = rest else {
        return Err(format!("{place} is not understood"));
    };
    match control.to_ascii_lowercase().as_slice() {
        b"include" => return include(files, &called(module), depth + 1, stack),
        b"substack" => {
            let mut inner = Vec::new();
            include(files, &called(module), depth + 1, &mut inner)?;
            stack.push(Entry::Substack(inner));
            return Ok(());
        }
        _ => {}
    }
    let Some(actions) = actions(control.as_bstr()) else {
        return Err(format!("{place} has a control that is not known, {control}"));
    };
    let name = module.rsplit(|&byte| byte == b'/').next().unwrap_or(module);
    let name = name.strip_suffix(b".so").unwrap_or(name).into();
    let [on_success, on_ignore, on_refusal, on_unknown_user] = actions;
    let words = arguments.to_vec();
    let of = Module { place, name, words, on_success, on_ignore, on_refusal, on_unknown_user };
    stack.push(Entry::Module(of));
    Ok(())
}

/// Whether a line is of the account stack, or may be: what is included says so itself.
pub(super) fn is_account(kind: &BStr) -> bool {
    let kind = kind.strip_prefix(b"-").unwrap_or(kind);
    kind.eq_ignore_ascii_case(b"account")
}

/// What a control does on success, on an answer to be ignored, on a refusal, and where the
/// module does not know the user.
fn actions(control: &BStr) -> Option<[Action; 4]> {
    use Action::{Bad, Die, Done, Ignore, Ok};
    match control.to_ascii_lowercase().as_slice() {
        b"required" => return Some([Ok, Ignore, Bad, Bad]),
        b"requisite" => return Some([Ok, Ignore, Die, Die]),
        b"sufficient" => return Some([Done, Ignore, Ignore, Ignore]),
        b"optional" => return Some([Ok, Ignore, Ignore, Ignore]),
        _ => {}
    }
    let pairs = control.strip_prefix(b"[")?.strip_suffix(b"]")?.to_str().ok()?;
    let mut named = std::collections::BTreeMap::new();
    for pair in pairs.split_whitespace() {
        let (value, action) = pair.split_once('=')?;
        let action = match action {
            "ignore" => Ignore,
            "ok" => Ok,
            "done" => Done,
            "bad" => Bad,
            "die" => Die,
            "reset" => Action::Reset,
            number => Action::Jump(number.parse().ok().filter(|jump| *jump > 0)?),
        };
        named.insert(value, action);
    }
    let default = named.get("default").copied();
    let of = |value: &str| named.get(value).copied().or(default);
    // What nothing is said about is bad.
    Some([
        of("success").unwrap_or(Bad),
        of("ignore").unwrap_or(Bad),
        of("perm_denied").unwrap_or(Bad),
        of("user_unknown").unwrap_or(Bad),
    ])
}

/// What a module answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Answer {
    Success,
    Ignore,
    Refusal,
    UnknownUser,
}

/// Whether a stack lets somebody in, by what each module answers.
pub(super) fn lets_in(stack: &[Entry], answer: &dyn Fn(&Module) -> Answer) -> bool {
    let mut so_far = None;
    run(stack, answer, &mut so_far);
    so_far == Some(true)
}

/// Runs a stack; `so_far` is what was decided: nothing, good or bad.
fn run(stack: &[Entry], answer: &dyn Fn(&Module) -> Answer, so_far: &mut Option<bool>) {
    let mut at = 0;
    while let Some(entry) = stack.get(at) {
        at += 1;
        let module = match entry {
            // What ends it ends only itself.
            Entry::Substack(inner) => {
                run(inner, answer, so_far);
                continue;
            }
            Entry::Module(module) => module,
        };
        let answer = answer(module);
        let action = match answer {
            Answer::Success => module.on_success,
            Answer::Ignore => module.on_ignore,
            Answer::Refusal => module.on_refusal,
            Answer::UnknownUser => module.on_unknown_user,
        };
        let good = matches!(answer, Answer::Success);
        match action {
            Action::Ignore => {}
            Action::Reset => *so_far = None,
            Action::Ok | Action::Done => {
                if *so_far != Some(false) && answer != Answer::Ignore {
                    *so_far = Some(good);
                }
                if action == Action::Done && *so_far != Some(false) {
                    return;
                }
            }
            Action::Bad => *so_far = Some(false),
            Action::Die => {
                *so_far = Some(false);
                return;
            }
            Action::Jump(over) => {
                if at + over > stack.len() {
                    *so_far = Some(false);
                }
                at += over;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::configuration::WrittenFiles;

    fn stack(files: Vec<(&'static str, &'static str)>, service: &str) -> Stack {
        read(&WrittenFiles(files), service)
    }

    fn passes(text: &'static str, refusing: &str) -> bool {
        let stack = stack(vec![("etc/pam.d/login", text)], "login").unwrap();
        lets_in(&stack, &|module| match module.name == refusing || module.name == "pam_deny" {
            true => Answer::Refusal,
            false => Answer::Success,
        })
    }

    #[test]
    fn controls_decide_as_they_are_documented() {
        assert!(passes("account required pam_unix.so\n", "pam_time"));
        assert!(!passes(
            "account required pam_time.so\naccount required pam_unix.so\n",
            "pam_time"
        ));
        assert!(passes(
            "account sufficient pam_unix.so\naccount required pam_time.so\n",
            "pam_time"
        ));
        assert!(!passes(
            "account required pam_time.so\naccount sufficient pam_unix.so\n",
            "pam_time"
        ));
        assert!(passes("account optional pam_time.so\naccount required pam_unix.so\n", "pam_time"));
        let debian = "account [success=1 new_authtok_reqd=done default=ignore] pam_unix.so\n\
                      account requisite pam_deny.so\naccount required pam_permit.so\n";
        assert!(passes(debian, "pam_time") && !passes(debian, "pam_unix"));
        assert!(!passes("account [success=ok default=bad] \\\n pam_time.so # so\n", "pam_time"));
        assert!(!passes("account [success=3] pam_unix.so\n", "pam_time"));
        assert!(!passes("auth required pam_time.so\n", "pam_time"), "no account stack");
        assert!(passes("-account required /lib/security/pam_unix.so\n", "pam_time"));
    }

    #[test]
    fn includes_are_followed_and_loops_are_told() {
        let files = vec![
            (
                "etc/pam.d/login",
                "@include common\naccount substack inner\naccount required pam_c.so\n",
            ),
            ("etc/pam.d/common", "account required pam_a.so\nauth include nowhere\n"),
            ("usr/lib/pam.d/inner", "account sufficient pam_b.so\naccount required pam_time.so\n"),
            ("etc/pam.d/round", "account include round\n"),
            ("etc/pam.d/torn", "account include nowhere\n"),
            ("etc/pam.d/odd", "account mostly pam_unix.so\n"),
            ("etc/pam.d/other", "account required pam_deny.so\n"),
        ];
        let login = stack(files.clone(), "login").unwrap();
        assert!(lets_in(&login, &|_| Answer::Success));
        let deny = |name: &'static str| {
            move |module: &Module| match module.name == name {
                true => Answer::Refusal,
                false => Answer::Success,
            }
        };
        // The substack ends before it, the whole goes on.
        assert!(lets_in(&login, &deny("pam_time")) && !lets_in(&login, &deny("pam_c")));
        assert!(stack(files.clone(), "round").unwrap_err().contains("levels deep"));
        assert!(
            stack(files.clone(), "torn").unwrap_err().contains("etc/pam.d/nowhere is not there")
        );
        assert!(stack(files.clone(), "odd").unwrap_err().contains("etc/pam.d/odd:1"));
        let other = stack(files, "nosuch").unwrap();
        assert!(!lets_in(&other, &deny("pam_deny")));
    }
}
