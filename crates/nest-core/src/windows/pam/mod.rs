//! Which services ask the modules about hours and places, by their account stacks.
//!
//! - `stack`: the stack of a service, and what comes of it
//! - `condition`: what modules say about an account

mod condition;
mod stack;

use bstr::{BStr, BString, ByteSlice};

use self::condition::possible_answers;
use self::stack::{Answer, Entry, FOLDERS, Module, Stack};
use super::Who;
use super::own::Half;
use crate::configuration::ConfigFiles;
use crate::text_edit::{LineChange, LinesOf};

/// The services at which people sign in or work is started for them, by the names that they
/// have on systems of different descent.
const SERVICES: [&str; 22] = [
    "login",
    "sshd",
    "su",
    "su-l",
    "sudo",
    "cron",
    "crond",
    "atd",
    "gdm-password",
    "gdm-autologin",
    "gdm",
    "lightdm",
    "lightdm-autologin",
    "sddm",
    "sddm-autologin",
    "kde",
    "lxdm",
    "xdm",
    "greetd",
    "cockpit",
    "remote",
    "vsftpd",
];

/// Whether a service asks a module about an account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// It does, and a no keeps the account out.
    Yes,
    /// It does not, or a no has no effect.
    No,
    /// It depends on this line.
    Depends(String),
    /// That can't be told: why.
    Unknown(String),
    /// It lets the account in never, whatever the module says.
    Shut,
}

impl Asked {
    /// Whether it surely does.
    pub fn is_yes(&self) -> bool {
        *self == Asked::Yes
    }
}

/// The module that reads the file of a half, and its file.
pub(super) fn module_of(half: Half) -> &'static str {
    match half {
        Half::Hours => "pam_time",
        Half::Places => "pam_access",
    }
}

/// The services of a tree, each with its account stack.
#[derive(Debug, Clone, Default)]
pub(super) struct Services(Vec<(String, Stack)>);

impl Services {
    /// Reads them. `login` and `sshd` are always there: where they have no file, `other` stands
    /// for them.
    pub fn read(files: &dyn ConfigFiles) -> Self {
        let counts = |service: &&&str| {
            ["login", "sshd"].contains(*service) || stack::file_of(files, service).is_some()
        };
        let services = SERVICES.iter().filter(counts);
        Services(services.map(|name| ((*name).to_owned(), stack::read(files, name))).collect())
    }

    /// Their names.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.0.iter().map(|(name, _)| name.as_str())
    }

    /// Whether a service asks about one half of an account's window.
    pub fn asks(&self, service: &str, half: Half, who: &Who<'_>) -> Asked {
        let Some((_, stack)) = self.0.iter().find(|(name, _)| name == service) else {
            return Asked::No;
        };
        match stack {
            Err(why) => Asked::Unknown(why.clone()),
            Ok(stack) => asks(stack, half, who),
        }
    }
}

/// So many modules of which it is not known what they say are gone through with either answer.
const MOST_UNSURE: usize = 8;

fn asks(stack: &[Entry], half: Half, who: &Who<'_>) -> Asked {
    let target = module_of(half);
    let mut modules = Vec::new();
    all_modules(stack, &mut modules);
    let is_target = |module: &Module| module.name == target && reads_usual_file(module);
    let with_words = modules
        .iter()
        .find(|module| module.name == target && (separators(module) || !reads_usual_file(module)));
    if let Some(module) = with_words {
        let words = bstr::join(" ", &module.words);
        let why = format!("{} has {}", module.place, BStr::new(&words));
        return if separators(module) { Asked::Unknown(why) } else { Asked::Depends(why) };
    }
    if !modules.iter().any(|module| is_target(module)) {
        return Asked::No;
    }
    let unsure: Vec<&&Module> =
        modules.iter().filter(|module| possible_answers(module, who).len() > 1).collect();
    if unsure.len() > MOST_UNSURE {
        return Asked::Depends(unsure[0].place.to_string());
    }
    let (mut heeded, mut passed_by) = (false, false);
    for world in 0..1_u32 << unsure.len() {
        let answer = |module: &Module| {
            let answers = possible_answers(module, who);
            let at = unsure.iter().position(|other| other.place == module.place);
            match at {
                Some(at) => answers[usize::from(world & (1 << at) != 0)],
                None => answers[0],
            }
        };
        if !stack::lets_in(stack, &answer) {
            continue;
        }
        let refused = |module: &Module| {
            if is_target(module) { Answer::Refusal } else { answer(module) }
        };
        match stack::lets_in(stack, &refused) {
            true => passed_by = true,
            false => heeded = true,
        }
    }
    match (heeded, passed_by) {
        (true, false) => Asked::Yes,
        (false, true) => Asked::No,
        (true, true) => {
            let place = unsure.first().map_or(&modules[0].place, |module| &module.place);
            Asked::Depends(place.to_string())
        }
        (false, false) => Asked::Shut,
    }
}

fn all_modules<'s>(stack: &'s [Entry], modules: &mut Vec<&'s Module>) {
    for entry in stack {
        match entry {
            Entry::Module(module) => modules.push(module),
            Entry::Substack(inner) => all_modules(inner, modules),
        }
    }
}

/// Whether a module reads the file that it reads unless it is told another one.
fn reads_usual_file(module: &Module) -> bool {
    let named = module.words.iter().filter_map(|word| word.split_once_str("="));
    let mut others = named.filter(|(option, _)| [&b"accessfile"[..], b"conffile"].contains(option));
    others.all(|(_, path)| {
        path.ends_with(b"etc/security/access.conf") || path.ends_with(b"etc/security/time.conf")
    })
}

/// Whether other signs stand between the fields or words of its file than usual.
fn separators(module: &Module) -> bool {
    module.words.iter().any(|word| word.starts_with(b"fieldsep=") || word.starts_with(b"listsep="))
}

/// Why a line can't be added to the stack of a service.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EnforceTrouble {
    /// No such service.
    #[error("there is no service {0} in etc/pam.d; there {1}")]
    NoService(String, String),
    /// Its file is that of the system's maker.
    #[error("the file of {0} is {1}, which comes with the system: copy it to etc/pam.d/{0} first")]
    Vendors(String, String),
    /// It can't be read.
    #[error("etc/pam.d/{0} {1}")]
    Unreadable(String, String),
    /// The module is not there: with the line nobody gets in.
    #[error("{0}.so is not installed: with a line that asks for it nobody could sign in any more")]
    NoModule(&'static str),
}

/// The line that makes a service ask.
pub(super) fn line_for(half: Half) -> String {
    format!("account    required     {}.so", module_of(half))
}

/// The change by which a service asks about one half: the line comes before all others of its
/// account stack, so that none of them ends it before.
///
/// # Errors
/// Why not.
pub(super) fn enforcing(
    files: &dyn ConfigFiles,
    is_installed: impl Fn(&str) -> bool,
    service: &str,
    half: Half,
) -> Result<(String, LineChange), EnforceTrouble> {
    let unreadable = |why: String| EnforceTrouble::Unreadable(service.to_owned(), why);
    let path = format!("{}/{service}", FOLDERS[0]);
    let is_name = !service.is_empty() && !service.contains('/') && !service.starts_with('.');
    let text = match is_name {
        true => files.read(path.as_str().into()).map_err(unreadable)?,
        false => None,
    };
    let Some(text) = text else {
        return Err(match stack::file_of(files, service).filter(|_| is_name) {
            Some((path, _)) => EnforceTrouble::Vendors(service.to_owned(), path),
            None => no_service(files, service),
        });
    };
    let module = module_of(half);
    if !is_installed(module) {
        return Err(EnforceTrouble::NoModule(module));
    }
    let mut change = LineChange::adding(line_for(half));
    let is_first = |line: &&[u8]| {
        let kind = line.trim_ascii_start().split(|byte| b" \t".contains(byte)).next();
        kind.is_some_and(|kind| kind == b"@include" || stack::is_account(kind.into()))
    };
    change.before = text.lines_of().find(is_first).map(BString::from);
    Ok((path, change))
}

fn no_service(files: &dyn ConfigFiles, service: &str) -> EnforceTrouble {
    let pattern = format!("{}/*", FOLDERS[0]);
    let found = files.named(pattern.as_str().into()).unwrap_or_default();
    let names = found.iter().filter_map(|path| path.rsplit_once_str("/"));
    let names: Vec<String> = names.map(|(_, name)| name.to_str_lossy().into_owned()).collect();
    let told = match names.len() {
        0 => "are none".to_owned(),
        1 => format!("is {}", names[0]),
        _ => format!("are {}", crate::words::list(&names)),
    };
    EnforceTrouble::NoService(service.to_owned(), told)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::configuration::WrittenFiles;
    use crate::value::Uid;

    fn asked(text: &'static str, half: Half, uid: u32) -> Asked {
        let files = WrittenFiles(vec![("etc/pam.d/sshd", text)]);
        let groups = || vec![BString::from("crew")];
        let who = Who { name: b"maren", uid: Some(Uid(uid)), groups: &groups };
        Services::read(&files).asks("sshd", half, &who)
    }

    #[test]
    fn whether_a_stack_asks_is_told_for_the_account() {
        let redhat = "account required pam_unix.so\naccount sufficient pam_localuser.so\n\
                      account required pam_time.so\n";
        assert_eq!(asked(redhat, Half::Hours, 1004), Asked::No);
        let first = "account required pam_time.so\naccount sufficient pam_localuser.so\n";
        assert_eq!(asked(first, Half::Hours, 1004), Asked::Yes);
        assert_eq!(asked(first, Half::Places, 1004), Asked::No);
        let people = "account [success=1 default=ignore] pam_succeed_if.so uid < 1000\n\
                      account required pam_access.so\naccount required pam_unix.so\n";
        assert_eq!(asked(people, Half::Places, 1004), Asked::Yes);
        assert_eq!(asked(people, Half::Places, 7), Asked::No);
        let by_script = "account [success=1 default=ignore] pam_exec.so /bin/quay\n\
                         account required pam_access.so\naccount required pam_unix.so\n";
        assert_eq!(asked(by_script, Half::Places, 7), Asked::Depends("etc/pam.d/sshd:1".into()));
        let elsewhere = "account required pam_access.so accessfile=/etc/quay.conf\n";
        assert!(matches!(asked(elsewhere, Half::Places, 7), Asked::Depends(_)));
        let odd = "account required pam_access.so fieldsep=|\n";
        assert!(matches!(asked(odd, Half::Places, 7), Asked::Unknown(_)));
        let shut = "account required pam_time.so\naccount required pam_deny.so\n";
        assert_eq!(asked(shut, Half::Hours, 7), Asked::Shut);
        assert!(matches!(asked("account odd pam_time.so\n", Half::Hours, 7), Asked::Unknown(_)));
    }

    #[test]
    fn the_line_comes_before_all_that_could_end_the_stack() {
        let text = "auth x y.so\n# account\n@include common\naccount required z.so\n";
        let files = WrittenFiles(vec![("etc/pam.d/sshd", text), ("usr/lib/pam.d/su", "")]);
        let installed = |module: &str| module == "pam_time";
        let (path, change) = enforcing(&files, installed, "sshd", Half::Hours).unwrap();
        assert_eq!(
            (path.as_str(), change.before),
            ("etc/pam.d/sshd", Some("@include common".into()))
        );
        assert_eq!(change.becomes, Some("account    required     pam_time.so".into()));
        let trouble =
            |service, half| enforcing(&files, installed, service, half).unwrap_err().to_string();
        assert!(trouble("sshd", Half::Places).contains("pam_access.so is not installed"));
        assert!(trouble("su", Half::Hours).contains("copy it to etc/pam.d/su first"));
        assert!(trouble("quay", Half::Hours).contains("there is sshd"));
        assert!(trouble("../sshd", Half::Hours).contains("no service ../sshd"));
    }
}
