//! What the policy that the running kernel has loaded lets the SSH server do: asked through
//! selinuxfs, as the C library of SELinux does it.

use std::fs;
use std::io::{Read, Write};
use std::path::Path;

use nest_core::labels::Label;
use nest_core::value::FileKind;

/// Where the kernel answers.
const KERNEL: &str = "/sys/fs/selinux";

/// What the SSH server runs as where none is running.
const SERVER: &str = "system_u:system_r:sshd_t:s0";

/// Whether the kernel keeps the SSH server from something with this label: from passing through a
/// directory, or from reading a file.
pub(super) fn keeps_ssh_out(carried: &Label, kind: FileKind) -> bool {
    let read = |path: &Path| fs::read_to_string(path).ok();
    let kernel = Path::new(KERNEL);
    let enforces = read(&kernel.join("enforce")).is_some_and(|enforce| enforce.trim() == "1");
    if !enforces {
        return false;
    }
    let (class, wanted): (&str, &[&str]) = match kind {
        FileKind::Directory => ("dir", &["search"]),
        FileKind::File => ("file", &["read", "open"]),
        FileKind::Link => ("lnk_file", &["read"]),
        FileKind::Fifo | FileKind::Socket | FileKind::Device => return false,
    };
    let folder = kernel.join("class").join(class);
    let number = |path: &Path| read(path).and_then(|text| text.trim().parse::<u32>().ok());
    let Some(index) = number(&folder.join("index")) else { return false };
    let Some(allowed) = allowed(&running(), carried, index) else { return false };
    wanted.iter().any(|name| {
        // Permissions are counted from 1.
        let bit = number(&folder.join("perms").join(name)).and_then(|at| at.checked_sub(1));
        bit.is_some_and(|bit| bit < u32::BITS && allowed >> bit & 1 == 0)
    })
}

/// The permissions that the policy gives; nothing where it can't be asked.
fn allowed(server: &str, carried: &Label, class: u32) -> Option<u32> {
    let path = Path::new(KERNEL).join("access");
    let mut access = fs::File::options().read(true).write(true).open(path).ok()?;
    access.write_all(format!("{server} {carried} {class} ffffffff").as_bytes()).ok()?;
    let mut answer = String::new();
    access.read_to_string(&mut answer).ok()?;
    u32::from_str_radix(answer.split_whitespace().next()?, 16).ok()
}

/// What the SSH server runs as.
fn running() -> String {
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let servers = processes.filter_map(|process| {
        let path = process.path();
        let name = fs::read_to_string(path.join("comm")).ok()?;
        let label = || fs::read_to_string(path.join("attr/current")).ok();
        (name.trim() == "sshd").then(label).flatten()
    });
    let labels = servers.map(|label| label.trim_end_matches(['\0', '\n']).to_owned());
    let mut domains = labels.filter(|label| Label::parse(label.as_bytes()).is_some());
    domains.next().unwrap_or_else(|| SERVER.to_owned())
}
