//! Which build this is.

use std::ffi::OsString;

/// What `--version` tells with `--verbose`: of which build this is.
fn build() -> String {
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

/// What is answered where nothing is asked for but which version or which build this is: before
/// the commands are put together, which takes longer than all of it.
pub fn answer(words: &[OsString]) -> Option<String> {
    let is = |word: &OsString, names: &[&str]| names.iter().any(|name| word == *name);
    let version = words.iter().any(|word| is(word, &["--version", "-V"]));
    let verbose = words.iter().any(|word| is(word, &["--verbose", "-v"]));
    match words.len() {
        1 if version => Some(concat!("copper-nest ", env!("CARGO_PKG_VERSION")).to_owned()),
        2 if version && verbose => Some(build()),
        _ => None,
    }
}
