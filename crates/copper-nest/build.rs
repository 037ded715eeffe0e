//! Asks the linker for a smaller program, where it is known to be able to.

use std::process::Command;

/// The first C library whose loader reads packed relocations.
const PACKED_SINCE: (u32, u32) = (2, 36);

/// The first compiler that brings a linker of its own for this kind of machine.
const LINKER_SINCE: (u32, u32) = (1, 90);

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    // Of another machine's library and linker nothing is known.
    if set("PROFILE") != "release" || set("HOST") != set("TARGET") {
        return;
    }
    if set("TARGET").ends_with("linux-gnu") && library().is_some_and(|is| is >= PACKED_SINCE) {
        // A quarter of a megabyte that would tell the loader one thing ten
        // thousand times.
        println!("cargo:rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
    if set("TARGET") == "x86_64-unknown-linux-gnu"
        && compiler().is_some_and(|is| is >= LINKER_SINCE)
        && set("RUSTC_LINKER").is_empty()
        && !set("CARGO_ENCODED_RUSTFLAGS").contains("link")
    {
        // Functions of the same machine code become one.
        println!("cargo:rustc-link-arg-bins=-Wl,--icf=all");
        leave_out_unwinding();
    }
}

/// The release build aborts when it panics, and unwinds nothing: the tables for that,
/// half a megabyte, are left out.
fn leave_out_unwinding() {
    let script = std::path::Path::new(&set("OUT_DIR")).join("no-unwinding.ld");
    let tables = "*(.eh_frame) *(.eh_frame_hdr) *(.gcc_except_table .gcc_except_table.*)";
    let text = format!("SECTIONS {{ /DISCARD/ : {{ {tables} }} }} INSERT AFTER .text;\n");
    // Without the script the program is only larger.
    if std::fs::write(&script, text).is_ok() {
        println!("cargo:rustc-link-arg-bins=-Wl,--no-eh-frame-hdr");
        println!("cargo:rustc-link-arg-bins=-Wl,-T,{}", script.display());
    }
}

fn set(name: &str) -> String {
    std::env::var(name).unwrap_or_default()
}

/// The version of this machine's C library.
fn library() -> Option<(u32, u32)> {
    told(Command::new("getconf").arg("GNU_LIBC_VERSION"), "glibc ")
}

/// The version of the compiler.
fn compiler() -> Option<(u32, u32)> {
    told(Command::new(set("RUSTC")).arg("--version"), "rustc ")
}

/// The first two numbers that a command tells after `before`.
fn told(command: &mut Command, before: &str) -> Option<(u32, u32)> {
    let told = String::from_utf8(command.output().ok()?.stdout).ok()?;
    let mut parts = told.trim().strip_prefix(before)?.split(['.', '-', ' ']).map(str::parse);
    Some((parts.next()?.ok()?, parts.next()?.ok()?))
}
