//! The options that wave guards through, on the commands where each can matter.

use clap::{Arg, ArgAction, ArgMatches, Command, Error};
use nest_core::request::GuardOverrides;

/// Root.
pub const ROOT: u8 = 1;
/// The administrator's own account.
pub const ME: u8 = 2;
/// The last one that can administer the machine.
pub const LAST_ADMIN: u8 = 4;
/// A service.
pub const SERVICE: u8 = 8;
/// What runs.
pub const BUSY: u8 = 16;
/// Every guard.
pub const ALL: u8 = ROOT | ME | LAST_ADMIN | SERVICE | BUSY;

/// Each guard with its option and what that means.
const OPTIONS: [(u8, &str, &str); 5] = [
    (ROOT, "even-root", "Even if it is root"),
    (ME, "even-me", "Even if it is your own account"),
    (LAST_ADMIN, "even-last-admin", "Even if nobody else could administer the machine"),
    (SERVICE, "even-service", "Even if it is a service"),
    (BUSY, "even-if-busy", "Even if processes run under it"),
];

/// The guards of a set that are waved through.
#[derive(Debug, Default)]
pub struct Even<const GUARDS: u8>(GuardOverrides);

impl<const GUARDS: u8> Even<GUARDS> {
    /// As the planners take them.
    pub fn read(&self) -> GuardOverrides {
        self.0
    }
}

impl<const GUARDS: u8> clap::Args for Even<GUARDS> {
    fn augment_args(command: Command) -> Command {
        let options = OPTIONS.into_iter().filter(|(guard, ..)| guard & GUARDS != 0);
        command.args(options.map(|(_, option, help)| {
            Arg::new(option).long(option).help(help).action(ArgAction::SetTrue)
        }))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<const GUARDS: u8> clap::FromArgMatches for Even<GUARDS> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, Error> {
        let [root, me, last_admin, service, busy] =
            OPTIONS.map(|(guard, option, _)| guard & GUARDS != 0 && matches.get_flag(option));
        Ok(Even(GuardOverrides { me, root, last_admin, service, busy }))
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), Error> {
        *self = Self::from_arg_matches(matches)?;
        Ok(())
    }
}
