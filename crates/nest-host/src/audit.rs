//! The kernel's audit log, by its netlink protocol: netlink(7), `linux/audit.h`.

use nest_core::audit::AuditRecord;
use rustix::net::netlink::{AUDIT, SocketAddrNetlink};
use rustix::net::{AddressFamily, SendFlags, SocketFlags, SocketType, sendto, socket_with};

/// The header of a netlink message: length, type, flags, number, and whom it is for.
const HEADER: usize = 16;

/// It is a request; nothing is answered, and nothing waited for.
const REQUEST: u16 = 1;

/// Sends records, where there is somebody to take them: a change does not fail for want of an
/// audit log, and where the kernel has none nothing happens.
pub fn send(records: &[AuditRecord]) {
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, flags, Some(AUDIT));
    let socket = match socket {
        Ok(socket) => socket,
        Err(error) => {
            tracing::debug!(%error, "the kernel has no audit log");
            return;
        }
    };
    let kernel = SocketAddrNetlink::new(0, 0);
    for (number, record) in (1..).zip(records) {
        let message = message(number, record);
        if let Err(error) = sendto(&socket, &message, SendFlags::empty(), &kernel) {
            // Without the right to, in a container say, the others would not get there either.
            tracing::debug!(%error, "no record in the audit log");
            return;
        }
    }
}

fn message(number: u32, record: &AuditRecord) -> Vec<u8> {
    let text = record.text.as_bytes();
    // The text ends as those of C do.
    let length = HEADER + text.len() + 1;
    let mut message = Vec::with_capacity(length.next_multiple_of(4));
    message.extend_from_slice(&u32::try_from(length).unwrap_or(u32::MAX).to_ne_bytes());
    message.extend_from_slice(&record.kind.number().to_ne_bytes());
    message.extend_from_slice(&REQUEST.to_ne_bytes());
    message.extend_from_slice(&number.to_ne_bytes());
    message.extend_from_slice(&0_u32.to_ne_bytes());
    message.extend_from_slice(text);
    message.resize(length.next_multiple_of(4), 0);
    message
}

#[cfg(test)]
mod tests {
    use super::*;
    use nest_core::audit::AuditKind;

    #[test]
    fn a_message_says_how_long_it_is_and_ends_on_a_word() {
        let record = AuditRecord { kind: AuditKind::UserAdded, text: "op=x".to_owned() };
        let message = message(7, &record);
        let number = |at: usize| u32::from_ne_bytes(message[at..at + 4].try_into().unwrap());
        assert_eq!((number(0), number(8), number(12), message.len()), (21, 7, 0, 24));
        assert_eq!(u16::from_ne_bytes([message[4], message[5]]), 1114);
        assert_eq!(&message[16..], b"op=x\0\0\0\0");
    }
}
