//! The program; all of it is in the library beside it.

use std::process::ExitCode;

fn main() -> ExitCode {
    copper_nest::run()
}
