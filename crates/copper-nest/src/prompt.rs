//! Asking at the terminal: for a line, for a yes or no, and for a password, which is not shown.

use std::io::{Error, ErrorKind, IsTerminal, Write};
use std::os::fd::OwnedFd;

use nest_host::interrupt::Patience;
use rustix::event::{PollFd, PollFlags, poll};
use rustix::fs::{Mode, OFlags};
use rustix::termios::{
    LocalModes, OptionalActions, SpecialCodeIndex, Termios, tcgetattr, tcsetattr,
};
use zeroize::Zeroizing;

/// Whether somebody is at a terminal, and can be asked.
pub fn somebody_is_there() -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// Asks for a line; nothing where the input ended.
///
/// # Errors
/// `Interrupted` for the interrupt key where a handler has it; else it ends the program, and what
/// was asked about is not begun.
pub fn line(question: &str) -> std::io::Result<Option<String>> {
    crate::output::flush();
    let mut terminal = std::io::stderr();
    write!(terminal, "{question} ")?;
    terminal.flush()?;
    let stdin = std::io::stdin();
    // Reading is taken up again after a signal, waiting is not.
    while let Err(error) = poll(&mut [PollFd::new(&stdin, PollFlags::IN)], None) {
        if error != rustix::io::Errno::INTR {
            return Err(error.into());
        }
        Patience::Ends.check().map_err(|_| Error::from(ErrorKind::Interrupted))?;
    }
    let mut line = String::new();
    let read = stdin.read_line(&mut line)?;
    Ok((read > 0).then(|| line.trim().to_owned()))
}

/// Asks for a yes or no; an empty line is `otherwise`, and the end of input is no.
///
/// # Errors
/// Those of [`line`].
pub fn agrees(question: &str, otherwise: bool) -> std::io::Result<bool> {
    let default = if otherwise { "yes" } else { "no" };
    let question = format!("{question} yes or no [{default}] (^C: nothing is changed):");
    loop {
        let Some(answer) = line(&question)? else {
            // What is printed next begins a line of its own.
            errln!("");
            return Ok(false);
        };
        match answer.to_ascii_lowercase().as_str() {
            "" => return Ok(otherwise),
            "y" | "yes" => return Ok(true),
            "n" | "no" => return Ok(false),
            _ => {}
        }
    }
}

/// What the keys send.
const INTERRUPT: u8 = 3;
const END: u8 = 4;
const BACKSPACE: [u8; 2] = [8, 127];
const CLEAR: u8 = 21;

/// The terminal, without echo until it is dropped.
struct Quiet {
    terminal: OwnedFd,
    before: Termios,
}

impl Quiet {
    /// Turns the echo off. The interrupt key is read as a key: were it to end the
    /// program here, the echo would stay off.
    fn terminal() -> std::io::Result<Self> {
        let flags = OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC;
        let terminal = rustix::fs::open("/dev/tty", flags, Mode::empty())?;
        let before = tcgetattr(&terminal)?;
        let mut quiet = before.clone();
        quiet.local_modes -= LocalModes::ECHO | LocalModes::ICANON | LocalModes::ISIG;
        quiet.special_codes[SpecialCodeIndex::VMIN] = 1;
        quiet.special_codes[SpecialCodeIndex::VTIME] = 0;
        tcsetattr(&terminal, OptionalActions::Flush, &quiet)?;
        Ok(Quiet { terminal, before })
    }

    fn say(&self, text: &str) -> std::io::Result<()> {
        let mut terminal = std::fs::File::from(self.terminal.try_clone()?);
        terminal.write_all(text.as_bytes())
    }

    fn key(&self) -> std::io::Result<Option<u8>> {
        let mut key = [0; 1];
        match rustix::io::read(&self.terminal, &mut key)? {
            0 => Ok(None),
            _ => Ok(Some(key[0])),
        }
    }
}

impl Drop for Quiet {
    fn drop(&mut self) {
        let _ = tcsetattr(&self.terminal, OptionalActions::Flush, &self.before);
    }
}

/// Asks for one line without showing it.
///
/// # Errors
/// `NotFound` or the system's where there is no terminal; `Interrupted` for the
/// interrupt key; `UnexpectedEof` for the end of input.
pub fn ask(question: &str) -> std::io::Result<Zeroizing<Vec<u8>>> {
    let quiet = Quiet::terminal()?;
    quiet.say(question)?;
    // Room for the longest: growing would leave copies behind.
    let mut line = Zeroizing::new(Vec::with_capacity(1024));
    let outcome = loop {
        match quiet.key()? {
            None => break Err(Error::from(ErrorKind::UnexpectedEof)),
            Some(b'\n' | b'\r') => break Ok(()),
            Some(INTERRUPT) => break Err(Error::from(ErrorKind::Interrupted)),
            Some(END) if line.is_empty() => break Err(Error::from(ErrorKind::UnexpectedEof)),
            Some(END) => break Ok(()),
            Some(CLEAR) => line.clear(),
            Some(key) if BACKSPACE.contains(&key) => {
                // A whole character, not its last byte.
                while line.pop().is_some_and(|byte| byte & 0xc0 == 0x80) {}
            }
            Some(key) if line.len() < 1024 => line.push(key),
            Some(_) => {}
        }
    };
    quiet.say("\n")?;
    outcome.map(|()| line)
}
