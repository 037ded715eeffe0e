//! Asking for a password at the terminal, without showing it.

use std::io::{Error, ErrorKind, Write};
use std::os::fd::OwnedFd;

use rustix::fs::{Mode, OFlags};
use rustix::termios::{
    LocalModes, OptionalActions, SpecialCodeIndex, Termios, tcgetattr, tcsetattr,
};
use zeroize::Zeroizing;

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
