//! The system calls of a program that can change a file, as `strace` tells them, in the
//! order in which they were completed.

use std::collections::HashMap;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::harness::NOW;

/// What is traced.
const CALLS: &str = "open,openat,openat2,close,dup,fcntl,mkdirat,write,pwrite64,copy_file_range,\
                     ftruncate,renameat,renameat2,unlinkat,linkat,symlinkat,mknodat,fchmod,\
                     fchmodat,fchown,fchownat,fsync,fdatasync,syncfs,sync";

/// A system call that succeeded.
#[derive(Debug)]
pub struct Call {
    pub name: String,
    pub arguments: Vec<Argument>,
    pub result: i64,
}

/// An argument: text as the bytes that it is of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Argument {
    Text(Vec<u8>),
    Other(String),
}

impl Call {
    /// A number: a descriptor, a mode or an owner.
    pub fn number(&self, at: usize) -> i64 {
        match self.arguments.get(at) {
            Some(Argument::Other(text)) if text == "AT_FDCWD" => -100,
            Some(Argument::Other(text)) => match text.strip_prefix('0') {
                Some(octal) if !octal.is_empty() => i64::from_str_radix(octal, 8).unwrap(),
                _ => text.parse().unwrap_or(-1),
            },
            _ => panic!("{self:?} has no number at {at}"),
        }
    }

    pub fn text(&self, at: usize) -> &[u8] {
        match self.arguments.get(at) {
            Some(Argument::Text(text)) => text,
            _ => panic!("{self:?} has no text at {at}"),
        }
    }

    /// Whether a flag is named anywhere among the arguments.
    pub fn has(&self, flag: &str) -> bool {
        self.arguments.iter().any(|argument| {
            matches!(argument, Argument::Other(text)
                if text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_').any(|word| word == flag))
        })
    }
}

/// Runs the program on a tree and traces it. Returns its output and the calls.
pub fn record<S: AsRef<std::ffi::OsStr>>(root: &Path, words: &[S]) -> (String, Vec<Call>) {
    let trace = root.join("../trace");
    let output = Command::new("strace")
        .args(["-f", "-qq", "-xx", "-s", "100000000", "-o"])
        .arg(&trace)
        .args(["-e", &format!("trace={CALLS}"), "-e", "signal=none"])
        .arg(env!("CARGO_BIN_EXE_copper-nest"))
        .arg("--tree")
        .arg(root)
        .args(words)
        .env("SOURCE_DATE_EPOCH", NOW)
        .env_remove("RUST_LOG")
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned();
    assert!(output.status.success(), "{told}");
    (told, parse(&std::fs::read_to_string(trace).unwrap()))
}

fn parse(trace: &str) -> Vec<Call> {
    let mut begun: HashMap<&str, &str> = HashMap::new();
    let mut calls = Vec::new();
    for line in trace.lines() {
        let (process, line) = line.split_once(' ').unwrap();
        let line = line.trim_start();
        if let Some(first) = line.strip_suffix(" <unfinished ...>") {
            // The number may be another file's before the call is back.
            calls.extend(
                first.starts_with("close(").then(|| call(&format!("{first}) = 0"))).flatten(),
            );
            begun.insert(process, first);
        } else if let Some(rest) = line.strip_prefix("<... ") {
            let (name, rest) = rest.split_once(" resumed>").unwrap();
            if name == "close" {
                continue;
            }
            calls.extend(call(&format!("{}{rest}", begun.remove(process).unwrap())));
        } else {
            calls.extend(call(line));
        }
    }
    calls
}

/// One line; nothing for a call that failed, and for the end of a process.
fn call(line: &str) -> Option<Call> {
    let (name, rest) = line.split_once('(')?;
    let (arguments, result) = rest.rsplit_once(" = ")?;
    let result: i64 = result.split_whitespace().next()?.parse().ok()?;
    let arguments = arguments.trim_end().strip_suffix(')')?;
    (result >= 0).then(|| Call { name: name.into(), arguments: split(arguments), result })
}

fn split(text: &str) -> Vec<Argument> {
    let mut arguments = Vec::new();
    let (mut current, mut quoted, mut depth) = (String::new(), false, 0);
    for c in text.chars() {
        match c {
            '"' => quoted = !quoted,
            '{' | '[' if !quoted => depth += 1,
            '}' | ']' if !quoted => depth -= 1,
            _ => {}
        }
        if c == ',' && !quoted && depth == 0 {
            arguments.push(argument(&std::mem::take(&mut current)));
        } else {
            current.push(c);
        }
    }
    arguments.push(argument(&current));
    arguments
}

fn argument(text: &str) -> Argument {
    let text = text.trim();
    let Some(quoted) = text.strip_prefix('"') else { return Argument::Other(text.to_owned()) };
    let quoted = quoted.strip_suffix('"').expect("all of a text is traced");
    let digits = quoted.split("\\x").skip(1);
    Argument::Text(digits.map(|digits| u8::from_str_radix(digits, 16).unwrap()).collect())
}

#[test]
fn a_trace_is_read_in_the_order_of_completion() {
    let calls = parse(
        "7 openat(3, \"\\x61\\x2f\\x62\", O_WRONLY|O_CREAT|O_EXCL, 0600 <unfinished ...>\n\
         8 fsync(4)                          = 0\n\
         7 <... openat resumed>)             = 5\n\
         7 renameat2(3, \"\\x61\", 3, \"\\x62\", RENAME_NOREPLACE) = -1 EEXIST (File exists)\n\
         7 +++ exited with 0 +++\n",
    );
    let names: Vec<_> = calls.iter().map(|call| (call.name.as_str(), call.result)).collect();
    assert_eq!(names, [("fsync", 0), ("openat", 5)]);
    assert_eq!((calls[1].text(1), calls[1].number(3)), (&b"a/b"[..], 0o600));
    assert!(calls[1].has("O_EXCL") && !calls[1].has("O_TRUNC"));
}
