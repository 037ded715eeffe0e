//! When and from where an account may sign in, as options.

use nest_core::request::WindowRequest;

/// The window of an account.
#[derive(Debug, clap::Args)]
pub struct Window {
    /// The hours in which it may sign in: "mon-fri 08:00-18:00, sat 09:00-12:00".
    #[arg(long, value_name = "HOURS|any")]
    hours: Option<String>,
    /// The places from which it may: networks, addresses, hosts, and console for the machine
    /// itself: "10.20.0.0/16, console".
    #[arg(long, value_name = "PLACES|anywhere")]
    places: Option<String>,
    /// Make these services ask for the hours and the places of accounts: login,sshd.
    #[arg(long, value_name = "SERVICE,…", value_delimiter = ',')]
    enforce: Vec<String>,
}

impl Window {
    /// As the planners take it.
    pub fn read(&self) -> WindowRequest {
        let (hours, places) = (self.hours.clone(), self.places.clone());
        WindowRequest { hours, places, enforce: self.enforce.clone() }
    }
}
