//! A line a change for the system's log: the socket `/dev/log`, in the form of
//! syslog(3), which all its readers know (RFC 3164, section 4.1).

use std::os::unix::net::{UnixDatagram, UnixStream};

/// Facility authpriv (10), severity notice (5).
const PRIORITY: u8 = 10 * 8 + 5;

/// The socket.
const SOCKET: &str = "/dev/log";

/// Sends a line, if there is somebody to send it to: a change does not fail for
/// want of a log. `time` is the moment as `Nov 24 06:00:00`.
pub fn send(time: &str, text: &str) {
    let text = nest_core::secret::without_hashes(text);
    let line: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let line = format!("<{PRIORITY}>{time} copper-nest[{}]: {line}", std::process::id());
    let sent = UnixDatagram::unbound().and_then(|socket| {
        // A reader that is stuck must not hold the change up.
        socket.set_nonblocking(true)?;
        socket.send_to(line.as_bytes(), SOCKET).map(drop)
    });
    let sent = sent.or_else(|_| {
        let mut stream = UnixStream::connect(SOCKET)?;
        stream.set_nonblocking(true)?;
        std::io::Write::write_all(&mut stream, format!("{line}\0").as_bytes())
    });
    if let Err(error) = sent {
        tracing::debug!(%error, "no line in the system's log");
    }
}
