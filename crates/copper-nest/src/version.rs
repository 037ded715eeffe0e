//! Which build this is.

use std::ffi::OsString;

/// What `--version` tells with `--verbose`: of which build this is.
pub fn build() -> String {
    let commit = match env!("COPPER_NEST_BUILT_FROM") {
        "" => "not known",
        commit => commit,
    };
    let services = match nest_host::surroundings::CAN_ASK_SERVICES {
        true => "",
        false => "\nstatic   the name services are not asked: nsswitch.conf is read instead",
    };
    format!(
        "copper-nest {}\ncommit   {commit}\nbuilt    {}, for {}{services}",
        env!("CARGO_PKG_VERSION"),
        env!("COPPER_NEST_BUILT_AS"),
        env!("COPPER_NEST_BUILT_FOR")
    )
}

/// Whether nothing is asked for but which build this is.
pub fn asks_for_build(words: &[OsString]) -> bool {
    let is = |word: &OsString, names: &[&str]| names.iter().any(|name| word == *name);
    let version = words.iter().any(|word| is(word, &["--version", "-V"]));
    let verbose = words.iter().any(|word| is(word, &["--verbose", "-v"]));
    version && verbose && words.len() == 2
}
