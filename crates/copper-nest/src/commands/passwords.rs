//! Where passwords come from, for the commands that set them.

use std::io::ErrorKind;
use std::ops::Deref;

use bstr::BString;
use nest_core::value::{PasswordFault, check_hash, check_password, strength};
use nest_host::secrets;
use zeroize::Zeroizing;

use super::{Failure, REFUSED, Result, Session, UNTOUCHED};
use crate::{output, prompt};
use nest_core::words::counted;

/// Where the passwords of some accounts come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PasswordSource {
    /// Asked for at the terminal, twice.
    Ask,
    /// One line of standard input.
    Stdin,
    /// Made up, and printed once.
    Generate,
    /// Standard input holds a hash.
    Hashed,
    /// There is to be none.
    None,
}

/// The options that say where a password comes from.
#[derive(Debug, clap::Args)]
#[group(skip)]
pub struct PasswordSourceArgs {
    /// Read the password from standard input, one line.
    #[arg(long, group = "source")]
    from_stdin: bool,
    /// Make a strong one up, and print it once.
    #[arg(long, group = "source")]
    generate: bool,
    /// Standard input holds a hash that was made elsewhere.
    #[arg(long, group = "source")]
    hashed: bool,
    /// Take the password away.
    #[arg(long, group = "source")]
    none: bool,
    /// Use it even if it is easily guessed.
    #[arg(long)]
    pub accept_weak: bool,
}

impl PasswordSourceArgs {
    /// What they say.
    pub fn read(&self) -> PasswordSource {
        match (self.from_stdin, self.generate, self.hashed, self.none) {
            (true, ..) => PasswordSource::Stdin,
            (_, true, ..) => PasswordSource::Generate,
            (_, _, true, _) => PasswordSource::Hashed,
            (.., true) => PasswordSource::None,
            _ => PasswordSource::Ask,
        }
    }
}

/// Passwords that were made up, to be printed when the change is made.
pub type Generated = Vec<(BString, Zeroizing<String>)>;

/// Gets a password for each account, and hashes it. `full_name` is what else a
/// guesser would know.
pub fn gather(
    session: &Session<'_>,
    source: PasswordSource,
    names: &[impl Deref<Target = BString>],
    full_name: &str,
    accept_weak: bool,
    again: &str,
) -> Result<(Vec<Option<BString>>, Generated)> {
    let global = session.global;
    if names.len() > 1 && matches!(source, PasswordSource::Stdin | PasswordSource::Hashed) {
        let message = "standard input holds one password, and several accounts were named: \
                       no two accounts should share one";
        return Err(refused(message).or("give each its own", "password user NAME… --generate"));
    }
    if source == PasswordSource::Generate && global.json() {
        let message =
            "a generated password is printed, and JSON never holds one; leave --format out";
        return Err(refused(message));
    }
    if global.many.is_some() && matches!(source, PasswordSource::Ask | PasswordSource::Generate) {
        let message = "on several trees at once a password comes from standard input, so that it is \
                       the same on all: say --from-stdin, or --password stdin";
        return Err(refused(message));
    }
    let scheme = secrets::scheme(&session.tree, &session.policy.passwords_scheme);
    let hash = |password: &[u8]| {
        let hash = secrets::hash(scheme, password);
        hash.map(|hash| Some(BString::from(hash))).map_err(|fault| unfit("the password", fault))
    };
    let mut hashes = Vec::new();
    let mut generated = Generated::new();
    for name in names {
        hashes.push(match source {
            PasswordSource::None => None,
            PasswordSource::Hashed => {
                let text = read_line()?;
                check_hash(&text).map_err(|fault| unfit("the hash", fault))?;
                Some(text.as_slice().into())
            }
            PasswordSource::Stdin => {
                let password = read_line()?;
                judge(session, name, full_name, &password, accept_weak, Some(again))?;
                hash(&password)?
            }
            PasswordSource::Ask => hash(&ask(session, name, full_name, accept_weak)?)?,
            PasswordSource::Generate => {
                let password = secrets::generate().map_err(|fault| unfit("the password", fault))?;
                let hashed = hash(password.as_bytes())?;
                // Whoever pipes it into nothing learns that it is lost.
                output::insist();
                generated.push(((**name).clone(), password));
                hashed
            }
        });
    }
    Ok((hashes, generated))
}

/// Prints generated passwords, once. `again` is the command that makes another one for
/// a name.
///
/// # Errors
/// The [`Failure`], where they could not be printed: nobody knows them then.
pub fn tell(generated: &Generated, again: &str) -> Result<()> {
    if generated.is_empty() {
        return Ok(());
    }
    outln!();
    for (name, password) in generated {
        outln!("the password of {name}, shown this once: {}", password.as_str());
    }
    if !output::is_broken() {
        return Ok(());
    }
    let names: Vec<String> = generated.iter().map(|(name, _)| name.to_string()).collect();
    let names = names.join(" ");
    let message = format!(
        "the change was made, but what it has to say could not be printed: nobody knows the \
         generated password of {names}"
    );
    let again = format!("{again} {names} --generate");
    Err(Failure::new(UNTOUCHED, "password-lost", message).or("make another one", again))
}

fn refused(message: impl Into<String>) -> Failure {
    Failure::new(REFUSED, "password", message)
}

fn unfit(what: &str, fault: PasswordFault) -> Failure {
    refused(format!("{what} {fault}; nothing was changed"))
}

/// One line of standard input, without its end.
fn read_line() -> Result<Zeroizing<Vec<u8>>> {
    // Room for more than is allowed: growing would leave copies behind.
    let mut text = Zeroizing::new(Vec::with_capacity(4096));
    let read = crate::stdin::read_onto(&mut text, 4096);
    read.map_err(|error| refused(format!("standard input can't be read: {error}")))?;
    if text.last() == Some(&b'\n') {
        text.pop();
    }
    if text.contains(&b'\n') {
        return Err(refused("standard input holds more than one line; nothing was changed"));
    }
    Ok(text)
}

/// How often a password is asked for that is not typed as it has to be.
const TRIES: usize = 3;

/// Asks for a password at the terminal, and again where it was not typed the same twice or is not
/// what it has to be: those of others, which were typed before, are not lost by that.
fn ask(
    session: &Session<'_>,
    name: &BString,
    full_name: &str,
    accept_weak: bool,
) -> Result<Zeroizing<Vec<u8>>> {
    let mut tries = 1;
    loop {
        let judged = ask_twice(name).and_then(|password| {
            match judge(session, name, full_name, &password, accept_weak, None) {
                Ok(()) => Ok(password),
                Err(failure) => Err(Asked::No(failure)),
            }
        });
        match judged {
            Ok(password) => return Ok(password),
            Err(Asked::No(failure)) => return Err(failure),
            Err(Asked::Again(why)) if tries < TRIES => errln!("{why}; once more"),
            Err(Asked::Again(why)) => return Err(refused(format!("{why}; nothing was changed"))),
        }
        tries += 1;
    }
}

/// Why there is no password.
enum Asked {
    /// It may be asked for again.
    Again(String),
    /// Nobody is to be asked any more.
    No(Failure),
}

/// What was typed twice.
fn ask_twice(name: &BString) -> Result<Zeroizing<Vec<u8>>, Asked> {
    let ask = |question: String| {
        prompt::ask(&question).map_err(|error| {
            Asked::No(match error.kind() {
                ErrorKind::Interrupted => refused("interrupted; nothing was changed"),
                ErrorKind::UnexpectedEof => refused("the input ended; nothing was changed"),
                _ => {
                    let message =
                        "there is no terminal to ask for a password at; nothing was changed";
                    refused(message)
                        .or(
                            "read it from standard input",
                            format!("password user {name} --from-stdin"),
                        )
                        .or("or have one made up", format!("password user {name} --generate"))
                }
            })
        })
    };
    let first = ask(format!("new password of {name}: "))?;
    check_password(&first).map_err(|fault| Asked::Again(format!("the password {fault}")))?;
    let second = ask("the same again: ".to_owned())?;
    match *first == *second {
        true => Ok(first),
        false => Err(Asked::Again("the two were not the same".to_owned())),
    }
}

/// Holds a password against the policy. A weak one is used only if the
/// administrator insists: at the terminal, or in the command, which is `again`
/// where nobody can be asked.
fn judge(
    session: &Session<'_>,
    name: &BString,
    full_name: &str,
    password: &[u8],
    accept_weak: bool,
    again: Option<&str>,
) -> Result<()> {
    check_password(password).map_err(|fault| unfit("the password", fault))?;
    let policy = &session.policy;
    let length = String::from_utf8_lossy(password).chars().count();
    let login = name.to_string();
    let mut known: Vec<&str> = vec![&login];
    known.extend(full_name.split_whitespace());
    let verdict = strength(password, &known);
    let fault = if length < policy.passwords_min_length as usize {
        let characters = counted(length as u64, "character", "characters");
        format!("it has {characters}, and the policy wants {}", policy.passwords_min_length)
    } else if u32::from(verdict.score) < policy.passwords_min_score {
        verdict.verdict.clone()
    } else {
        if !session.global.quiet {
            errln!("strength: {}", verdict.verdict);
        }
        return Ok(());
    };
    if accept_weak {
        errln!("the password is weak ({fault}), and is used all the same");
        return Ok(());
    }
    let Some(again) = again else {
        errln!("the password is weak: {fault}");
        if matches!(prompt::agrees("Use it all the same?", false), Ok(true)) {
            return Ok(());
        }
        return Err(refused("nothing was changed"));
    };
    Err(refused(format!("the password is weak: {fault}; nothing was changed"))
        .or("use it all the same", format!("{again} --accept-weak")))
}
