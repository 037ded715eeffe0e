//! The processes of this machine, from `/proc`, proc(5).

use std::collections::HashSet;

use nest_core::surroundings::Process;
use nest_core::value::{Day, Uid};

/// Clock ticks a second in `/proc`: fixed at 100 for programs, whatever the
/// kernel's own clock does.
const TICKS: u64 = 100;

/// The processes that run under a uid, as their real or effective one: not this one, and not
/// the manager of the user's own services, which stays for seconds after the last sign-out.
pub fn of_uid(uid: Uid) -> Vec<Process> {
    let Ok(entries) = std::fs::read_dir("/proc") else { return Vec::new() };
    let booted = booted();
    let mut processes: Vec<Process> = entries
        .filter_map(|entry| entry.ok()?.file_name().to_str()?.parse::<u32>().ok())
        .filter(|pid| *pid != std::process::id() && uids(*pid).contains(&uid))
        .filter(|pid| !is_manager(&cgroups(*pid), uid))
        .filter_map(|pid| describe(pid, booted))
        .collect();
    processes.sort_by_key(|process| process.pid);
    processes
}

/// The uids that something runs under, as its real or effective one.
pub(crate) fn running_uids() -> HashSet<Uid> {
    let Ok(entries) = std::fs::read_dir("/proc") else { return HashSet::new() };
    let pids = entries.filter_map(|entry| entry.ok()?.file_name().to_str()?.parse::<u32>().ok());
    pids.flat_map(uids).collect()
}

/// Those of them that lead a session, as setsid(2) makes one at a sign-in.
pub fn leaders_of_uid(uid: Uid) -> Vec<Process> {
    let leads = |process: &Process| {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", process.pid));
        let stat = stat.unwrap_or_default();
        let after = stat.rfind(')').and_then(|at| stat.get(at + 2..)).unwrap_or_default();
        // State, parent, group, session.
        let session = after.split_whitespace().nth(3).and_then(|session| session.parse().ok());
        session == Some(process.pid)
    };
    of_uid(uid).into_iter().filter(leads).collect()
}

/// Who became root for this: the uid of the nearest process above this one that is not root's.
/// Nothing where all of them are, as after a sign-in as root or in a container.
pub fn behind_root() -> Option<Uid> {
    let mut pid = std::process::id();
    // No chain is endless, whatever is read meanwhile.
    for _ in 0..1000 {
        let status = std::fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
        let field = |name: &str| {
            let line = status.lines().find_map(|line| line.strip_prefix(name))?;
            line.split_whitespace().next()?.parse::<u32>().ok()
        };
        match field("Uid:")? {
            0 => pid = field("PPid:").filter(|parent| *parent > 0)?,
            uid => return Some(Uid(uid)),
        }
    }
    None
}

/// What came of ending the processes of somebody.
#[derive(Debug)]
pub struct Ended {
    /// How many ended.
    pub ended: usize,
    /// Those that are still there.
    pub left: Vec<Process>,
}

/// Ends the processes of a uid: asks them to stop, waits, then makes them.
pub fn end(uid: Uid, patience: std::time::Duration) -> Ended {
    use rustix::process::{Pid, Signal, kill_process};
    let began = std::time::Instant::now();
    let mut told = HashSet::new();
    let mut tell = |processes: &[Process], signal| {
        for process in processes {
            told.insert(process.pid);
            if let Some(pid) = Pid::from_raw(process.pid.cast_signed()) {
                // It may have ended by itself.
                let _ = kill_process(pid, signal);
            }
        }
    };
    tell(&of_uid(uid), Signal::TERM);
    while began.elapsed() < patience && !of_uid(uid).is_empty() {
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    // Some start others while they end.
    for _ in 0..20 {
        let left = of_uid(uid);
        if left.is_empty() {
            break;
        }
        tell(&left, Signal::KILL);
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    let left = of_uid(uid);
    let ended = told.iter().filter(|pid| left.iter().all(|process| process.pid != **pid)).count();
    Ended { ended, left }
}

/// The control groups of a process, cgroups(7).
fn cgroups(pid: u32) -> String {
    std::fs::read_to_string(format!("/proc/{pid}/cgroup")).unwrap_or_default()
}

/// Whether a process of these control groups is a user's manager itself, and not one of the
/// services that it runs, systemd.special(7).
fn is_manager(cgroups: &str, uid: Uid) -> bool {
    let manager = format!("/user@{uid}.service/init.scope");
    cgroups.lines().any(|line| line.ends_with(&manager))
}

/// The real and the effective uid.
fn uids(pid: u32) -> Vec<Uid> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("Uid:")).unwrap_or_default();
    line.split_whitespace().take(2).filter_map(|uid| uid.parse().ok().map(Uid)).collect()
}

fn describe(pid: u32, booted: u64) -> Option<Process> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The command's name is in brackets and may hold anything.
    let after = stat.get(stat.rfind(')')? + 2..)?;
    let mut fields = after.split_whitespace();
    // A zombie runs no more: only its parent has not noticed yet.
    if fields.next()? == "Z" {
        return None;
    }
    let started: u64 = fields.nth(18)?.parse().ok()?;
    let line = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
    let command = match line.is_empty() {
        true => stat.get(stat.find('(')?..=stat.rfind(')')?)?.to_owned(),
        false => String::from_utf8_lossy(&line).replace('\0', " ").trim_end().to_owned(),
    };
    Some(Process { pid, command, since: moment(booted + started / TICKS) })
}

/// When the machine was booted, in seconds since 1970-01-01.
fn booted() -> u64 {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    let line = stat.lines().find_map(|line| line.strip_prefix("btime "));
    line.and_then(|seconds| seconds.trim().parse().ok()).unwrap_or(0)
}

fn moment(seconds: u64) -> String {
    let (hour, minute) = (seconds / 3600 % 24, seconds / 60 % 60);
    format!("{} {hour:02}:{minute:02} UTC", Day::of_seconds(seconds as i64))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_users_manager_is_told_from_what_it_runs() {
        let of = |rest: &str| format!("0::/user.slice/user-1004.slice/{rest}\n");
        let is = |rest: &str| is_manager(&of(rest), Uid(1004));
        assert!(is("user@1004.service/init.scope"));
        for works in ["session-3.scope", "user@1004.service/app.slice/tides.service"] {
            assert!(!is(works), "{works}");
        }
        assert!(!is_manager(&of("user@1004.service/init.scope"), Uid(100)));
        assert!(!is_manager("", Uid(1004)));
    }

    #[test]
    fn a_process_is_found_by_its_uid() {
        let mut child = std::process::Command::new("sleep").arg("7").spawn().unwrap();
        let me = rustix::process::geteuid().as_raw();
        // Between fork and exec it has our own command line.
        let found = (0..50).find_map(|_| {
            std::thread::sleep(std::time::Duration::from_millis(10));
            let mut all = of_uid(Uid(me)).into_iter();
            all.find(|process| process.pid == child.id() && process.command == "sleep 7")
        });
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(found.unwrap().since.ends_with(" UTC"));
        assert_eq!(moment(1_795_500_000), "2026-11-24 06:00 UTC");
    }
}
