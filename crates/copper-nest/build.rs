//! What `--version --verbose` tells of a build: the commit it was made from, where that is
//! known, and for what.

use std::path::Path;
use std::process::Command;

fn main() {
    let variable = |name: &str| std::env::var(name).unwrap_or_default();
    println!("cargo::rerun-if-env-changed=COPPER_NEST_COMMIT");
    // The demonstration's tree is built in.
    println!("cargo::rerun-if-changed=demo");
    // A package is built from an archive, which knows its commit no more: it is told.
    let told = variable("COPPER_NEST_COMMIT");
    let released = variable("PROFILE") == "release";
    let commit = match told.is_empty() && released {
        true => commit().unwrap_or_default(),
        false => told,
    };
    println!("cargo::rustc-env=COPPER_NEST_BUILT_FROM={commit}");
    println!("cargo::rustc-env=COPPER_NEST_BUILT_FOR={}", variable("TARGET"));
    println!("cargo::rustc-env=COPPER_NEST_BUILT_AS={}", variable("PROFILE"));
}

/// The commit that is checked out, where this is a checkout.
fn commit() -> Option<String> {
    let head = Path::new("../../.git/logs/HEAD");
    if head.exists() {
        println!("cargo::rerun-if-changed={}", head.display());
    }
    let told = Command::new("git").args(["rev-parse", "--short=12", "HEAD"]).output().ok()?;
    let commit = String::from_utf8(told.stdout).ok().filter(|_| told.status.success())?;
    Some(commit.trim().to_owned())
}
