//! `change user`.

use std::ffi::OsString;
use std::path::PathBuf;

use nest_core::plan::users::{AgingRequest, ChangeUser, ChangeUsers, change_users};
use nest_core::policy::Days;
use nest_core::value::{GecosParts, UserName};

use super::even::ALL;
use super::{
    Asks, Even, Failure, Global, Names, REFUSED, Result, Session, USAGE, Window, bytes, read_keys,
    read_ranges, read_span, read_uid,
};

/// Change accounts: names, numbers, places, keys, how long they last.
///
/// Several accounts are changed as one change. What is not said stays as it is. A new uid goes with the files that carry the
/// old one in the home and the mail spool; a new home takes the files along.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = EXAMPLES)]
pub struct ChangeUserArgs {
    #[command(flatten)]
    names: Names,
    /// The full name.
    #[arg(long, value_name = "TEXT")]
    full_name: Option<OsString>,
    /// Another uid.
    #[arg(long, value_name = "N")]
    uid: Option<String>,
    /// Let the uid be somebody else's too.
    #[arg(long, requires = "uid")]
    share_id: bool,
    /// Let the uid be one that was somebody else's and is retired.
    #[arg(long, requires = "uid")]
    reuse_id: bool,
    /// With --uid: the group of its own keeps its gid. Else that goes along.
    #[arg(long, requires = "uid")]
    keep_gid: bool,
    /// Another primary group; the old one stays an ordinary membership.
    #[arg(long, value_name = "GROUP")]
    primary: Option<OsString>,
    /// Another place for the home; what is in it is moved.
    #[arg(long, value_name = "PATH")]
    home: Option<OsString>,
    /// With --home: change the record only, and move nothing.
    #[arg(long, requires = "home")]
    record_only: bool,
    /// Make the home, of the skeleton, where there is none.
    #[arg(long, conflicts_with = "record_only")]
    make_home: bool,
    /// The login shell.
    #[arg(long, value_name = "PATH")]
    shell: Option<OsString>,
    /// The first day on which the account no longer works: 2027-03-31, +90d, never.
    #[arg(long, value_name = "DATE")]
    expires: Option<String>,
    /// How many subordinate ids it has in all, or which: spans with semicolons between them.
    #[arg(long, value_name = "N|SPAN|none")]
    ranges: Option<String>,
    /// Give them another subordinate range, as large, in the place of this one.
    #[arg(long, value_name = "SPAN", conflicts_with = "ranges")]
    move_range: Option<String>,
    /// Days after which the password must be changed.
    #[arg(long, value_name = "DAYS|never")]
    password_renew: Option<String>,
    /// Days for which it can't be changed again.
    #[arg(long, value_name = "DAYS")]
    password_hold: Option<String>,
    /// Days of reminder before it must be changed.
    #[arg(long, value_name = "DAYS")]
    password_remind: Option<String>,
    /// Days of grace after that.
    #[arg(long, value_name = "DAYS|never")]
    password_late: Option<String>,
    /// The password must be changed at the next sign-in.
    #[arg(long)]
    must_change: bool,
    /// Add public keys for signing in, one a line; - is standard input. More than one file
    /// may be given.
    #[arg(long, value_name = "FILE|-")]
    add_key: Vec<PathBuf>,
    /// Drop a key: by its fingerprint, the beginning of that, or its comment. More than one may
    /// be given.
    #[arg(long, value_name = "FINGERPRINT|COMMENT")]
    drop_key: Vec<String>,
    #[command(flatten)]
    window: Window,
    #[command(flatten)]
    even: Even<ALL>,
}

const EXAMPLES: &str = "Examples:
  copper-nest change user maren --full-name \"Maren Solvik-Rowe\" --expires 2027-03-31
  copper-nest change user maren --home /srv/crew/maren
  copper-nest change user maren --add-key maren.pub --drop-key maren@old-laptop
  copper-nest change user maren tavish --expires 2027-09-30
  copper-nest change user maren --hours \"mon-fri 08:00-18:00, sat 09:00-12:00\"";

impl ChangeUserArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        if !self.asks() {
            let message = "nothing to change was named: --full-name, --uid, --primary, --home, \
                           --shell, --expires, --ranges, --must-change, --add-key, --drop-key, \
                           --hours, --places, --enforce, or one of the days of the password";
            return Err(Failure::new(USAGE, "usage", message).or("see how", "change user --help"));
        }
        let names: Vec<UserName> = self.names.read()?;
        if let Some(option) = self.for_one_alone().filter(|_| names.len() > 1) {
            let message = format!("{option} is for one account, and {} are named", names.len());
            return Err(Failure::new(USAGE, "usage", message));
        }
        let from_stdin = [&self.names.names_from].into_iter().flatten().chain(&self.add_key);
        if from_stdin.filter(|path| path.as_os_str() == "-").count() > 1 {
            let message = "standard input can be read once only, and - is given more than once";
            return Err(Failure::new(USAGE, "usage", message));
        }
        let session = Session::open(global)?;
        let change = ChangeUser {
            name: UserName::default(),
            full_name: self.full_name.as_ref().map(bytes),
            gecos: GecosParts::default(),
            uid: self.uid.as_deref().map(read_uid).transpose()?,
            share_id: self.share_id,
            reuse_id: self.reuse_id,
            keep_gid: self.keep_gid,
            primary: self.primary.as_ref().map(bytes),
            home: self.home.as_ref().map(bytes),
            record_only: self.record_only,
            make_home: self.make_home,
            shell: self.shell.as_ref().map(bytes),
            expires: self.expires.clone(),
            ranges: self.ranges.as_deref().map(read_ranges).transpose()?,
            move_range: self.move_range.as_deref().map(read_span).transpose()?,
            aging: self.aging()?,
            add_keys: self.add_key.iter().map(|path| read_keys(path)).collect::<Result<_>>()?,
            drop_keys: self.drop_key.clone(),
            window: self.window.read(),
            overrides: self.even.read(),
        };
        let request = ChangeUsers { names, change };
        session.carry_out(&request, Asks::Nothing, |context| change_users(context, &request))
    }

    /// An option that was given and can't be the same for several accounts.
    fn for_one_alone(&self) -> Option<&'static str> {
        let given = [
            (self.full_name.is_some(), "--full-name"),
            (self.uid.is_some() && !self.share_id, "--uid"),
            (self.home.is_some() && !self.record_only, "--home"),
            (self.move_range.is_some(), "--move-range"),
        ];
        given.into_iter().find(|(given, _)| *given).map(|(_, option)| option)
    }

    /// Whether something is to be changed.
    fn asks(&self) -> bool {
        let words = [&self.full_name, &self.primary, &self.home, &self.shell];
        let texts = [
            &self.uid,
            &self.expires,
            &self.ranges,
            &self.move_range,
            &self.password_renew,
            &self.password_hold,
            &self.password_remind,
            &self.password_late,
        ];
        words.iter().any(|word| word.is_some())
            || texts.iter().any(|text| text.is_some())
            || self.must_change
            || self.make_home
            || !self.add_key.is_empty()
            || !self.drop_key.is_empty()
            || self.window.read().asks()
    }

    fn aging(&self) -> Result<AgingRequest> {
        let days = |text: &Option<String>| text.as_deref().map(read_days).transpose();
        let or_never = |text: &Option<String>| match text.as_deref() {
            Some("never") => Ok(Some(Days::Never)),
            _ => Ok::<_, Failure>(days(text)?.map(Days::After)),
        };
        Ok(AgingRequest {
            renew: or_never(&self.password_renew)?,
            hold: days(&self.password_hold)?,
            remind: days(&self.password_remind)?,
            late: or_never(&self.password_late)?,
            must_change: self.must_change,
        })
    }
}

fn read_days(text: &str) -> Result<u32> {
    text.parse().ok().filter(|days| *days <= 99_999).ok_or_else(|| {
        let message = format!("\"{text}\" is no number of days; write a number from 0 to 99999");
        Failure::new(REFUSED, "bad-number", message)
    })
}
