//! `create user`.

use std::ffi::OsString;
use std::path::PathBuf;

use bstr::BString;
use nest_core::allot::propose_login;
use nest_core::context::PlanContext;
use nest_core::plan::users::create_user;
use nest_core::request::{CreateUser, RangesAsked};
use nest_core::value::UserName;
use nest_core::words::list;

use super::even::{LAST_ADMIN, ME, ROOT};
use super::first_passwords::FirstPasswords;
use super::passwords::{self, PasswordSource};
use super::{
    Asks, Even, Failure, Global, Names, REFUSED, Result, Session, USAGE, Window, bytes, listed,
    read_keys, read_ranges, read_uid,
};
use crate::prompt;
use crate::view::visible;

/// Create users: account, private group, home, subordinate ids.
///
/// Several names are one change: all are made, or none. Without a name one is made
/// from the full name, and asked about. What is not said here is decided by the
/// policy; the receipt tells each decision and why.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = EXAMPLES)]
pub struct CreateUserArgs {
    #[command(flatten)]
    names: Names,
    /// The full name.
    #[arg(long, value_name = "TEXT")]
    full_name: Option<OsString>,
    /// A uid of your choice.
    #[arg(long, value_name = "N")]
    uid: Option<String>,
    /// Let the uid be somebody else's too.
    #[arg(long, requires = "uid")]
    share_id: bool,
    /// Let the uid be one that was somebody else's and is retired.
    #[arg(long, requires = "uid")]
    reuse_id: bool,
    /// The primary group, in place of a private group.
    #[arg(long, value_name = "GROUP")]
    primary: Option<OsString>,
    /// Groups to join.
    #[arg(long, value_name = "G,…", value_delimiter = ',')]
    join: Vec<OsString>,
    /// Make an administrator of the machine.
    #[arg(long)]
    admin: bool,
    /// The path of the home.
    #[arg(long, value_name = "PATH")]
    home: Option<OsString>,
    /// Make no home; with --home, only record its path.
    #[arg(long)]
    no_home: bool,
    /// Take over a home that exists.
    #[arg(long)]
    adopt_home: bool,
    /// What the home is a copy of; none for an empty one.
    #[arg(long, value_name = "DIR|none")]
    skeleton: Option<OsString>,
    /// The login shell.
    #[arg(long, value_name = "PATH")]
    shell: Option<OsString>,
    /// Make a service: an id of their span, no login shell, no home unless named.
    #[arg(long)]
    service: bool,
    /// The first day on which the account no longer works: 2027-03-31, +90d, never.
    #[arg(long, value_name = "DATE")]
    expires: Option<String>,
    /// How many subordinate ids, or which: spans with semicolons between them.
    #[arg(long, value_name = "N|SPAN|none")]
    ranges: Option<String>,
    /// A first password: ask for it, read it from standard input, or make one up.
    #[arg(long, value_enum, value_name = "ask|stdin|generate|none", default_value = "none")]
    password: FirstPassword,
    /// Give each a first password that must be changed; FILE is made for it, readable for root
    /// alone.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["password", "must_change"])]
    passwords_to: Option<PathBuf>,
    /// Use it even if it is easily guessed.
    #[arg(long)]
    accept_weak: bool,
    /// The first password must be changed at the first sign-in.
    #[arg(long)]
    must_change: bool,
    /// Public keys for signing in, one a line; - is standard input. More than one file may be
    /// given.
    #[arg(long, value_name = "FILE|-")]
    ssh_key: Vec<PathBuf>,
    /// Take from this account what is not said: groups, but none that administers, shell,
    /// aging, the way of its primary group.
    #[arg(long, value_name = "NAME")]
    like: Option<OsString>,
    #[command(flatten)]
    window: Window,
    #[command(flatten)]
    even: Even<{ ROOT | ME | LAST_ADMIN }>,
}

const EXAMPLES: &str = "Examples:
  copper-nest create user maren --full-name \"Maren Solvik\" --join pilots,slipway
  copper-nest create user tidegauge --service --home /var/lib/tidegauge
  copper-nest create user --full-name \"Odalys Brink\"
  copper-nest create user perrin --hours \"mon-fri 08:00-18:00\" --places 10.20.0.0/16,console
  copper-nest create user perrin brannoc --dry-run";

/// Where a first password comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum FirstPassword {
    Ask,
    Stdin,
    Generate,
    None,
}

impl FirstPassword {
    fn source(self) -> Option<PasswordSource> {
        match self {
            FirstPassword::Ask => Some(PasswordSource::Ask),
            FirstPassword::Stdin => Some(PasswordSource::Stdin),
            FirstPassword::Generate => Some(PasswordSource::Generate),
            FirstPassword::None => None,
        }
    }
}

impl CreateUserArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let mut request = self.request(&session)?;
        let mut generated = Vec::new();
        if let Some(source) = self.password.source() {
            session.require_rights()?;
            // Nobody is asked for a password that could not be used.
            session.before_asking(&request.names, |context| {
                create_user(context, &request).map(drop)
            })?;
            let full_name = request.full_name.as_ref().map(ToString::to_string);
            (request.hashes, generated) = passwords::gather(
                &session,
                source,
                &request.names,
                &full_name.unwrap_or_default(),
                self.accept_weak,
                &format!("create user {} --password stdin", request.names[0]),
            )?;
        }
        let mut first_passwords = None;
        if let Some(path) = &self.passwords_to {
            session.require_rights()?;
            session.before_asking(&request.names, |context| {
                create_user(context, &request).map(drop)
            })?;
            let file = FirstPasswords::prepare(path, global.dry_run, "create user NAME")?;
            if !global.dry_run {
                let plain: Vec<BString> =
                    request.names.iter().cloned().map(BString::from).collect();
                let made = file.fill(&session, &plain)?;
                request.hashes = plain.iter().map(|name| made.get(name).cloned()).collect();
            }
            request.must_change = true;
            first_passwords = Some(file);
        }
        let status =
            session.carry_out(&request, Asks::Nothing, |context| create_user(context, &request))?;
        if let Some(file) = first_passwords {
            file.keep(global, request.hashes.len());
        }
        if !global.dry_run {
            passwords::tell(&generated, "password user")?;
        }
        Ok(status)
    }

    /// The names that were given; without any, one that is made from the full name.
    fn names(&self, session: &Session<'_>) -> Result<Vec<UserName>> {
        match &self.full_name {
            Some(full_name) if self.names.is_empty() => {
                Ok(vec![propose(session, &bytes(full_name))?.into()])
            }
            _ => self.names.read_all(),
        }
    }

    fn request(&self, session: &Session<'_>) -> Result<CreateUser> {
        let from_stdin = self.names.names_from.iter().chain(&self.ssh_key);
        if from_stdin.filter(|path| path.as_os_str() == "-").count() > 1 {
            let message = "standard input can be the names or the keys, not both, and only once";
            return Err(Failure::new(USAGE, "usage", message));
        }
        let (ranges, spans) = match self.ranges.as_deref().map(read_ranges).transpose()? {
            None => (None, Vec::new()),
            Some(RangesAsked::Count(count)) => (Some(count), Vec::new()),
            Some(RangesAsked::Spans(spans)) => (None, spans),
        };
        Ok(CreateUser {
            names: self.names(session)?,
            full_name: self.full_name.as_ref().map(bytes),
            uid: self.uid.as_deref().map(read_uid).transpose()?,
            share_id: self.share_id,
            reuse_id: self.reuse_id,
            primary: self.primary.as_ref().map(bytes),
            join: listed(&self.join),
            no_groups: false,
            admin: self.admin,
            home: self.home.as_ref().map(bytes),
            no_home: self.no_home,
            record_home: false,
            adopt_home: self.adopt_home,
            skeleton: self.skeleton.as_ref().map(bytes),
            shell: self.shell.as_ref().map(bytes),
            service: self.service,
            expires: self.expires.clone(),
            ranges,
            spans,
            hashes: Vec::new(),
            must_change: self.must_change,
            overrides: self.even.read(),
            window: self.window.read(),
            like: self.like.as_ref().map(bytes),
            details: None,
            copied: Vec::new(),
            keys: self.ssh_key.iter().map(|path| read_keys(path)).collect::<Result<_>>()?,
        })
    }
}

/// Proposes a login name for a full name, and asks about it: the answer may be
/// another name.
fn propose(session: &Session<'_>, full_name: &BString) -> Result<BString> {
    let proposed = session.before_asking(&[], |context| {
        let PlanContext { book, policy, world, .. } = context;
        let free = |name: &BString| {
            book.user(name).is_none()
                && book.group(name).is_none()
                && !world.service_knows_user(name.as_ref()).unwrap_or(true)
        };
        let users = book.users.records().map(|(_, user)| user);
        let mut called = users.filter(|user| user.full_name() == full_name.as_slice());
        let known = called.next().map(|user| BString::from(user.name));
        Ok((propose_login(policy, full_name.as_ref(), free), known))
    })?;
    let (proposed, known) = proposed;
    if let Some(known) = &known {
        errln!("{known} is called {full_name} already: copper-nest show user {known}");
    }
    let quoted = shell_words::quote(&full_name.to_string()).into_owned();
    let proposed = proposed.map_err(|fault| {
        Failure::new(REFUSED, "no-login-name", format!("{fault}; nobody was created"))
            .or("give one", format!("create user NAME --full-name {quoted}"))
    })?;
    let (first, others) = (&proposed.names[0], &proposed.names[1..]);
    if !proposed.lost.is_empty() {
        errln!("no login name can hold {}; that was left out", visible(proposed.lost.as_bytes()));
    }
    let others = list(others);
    let global = session.global;
    if global.yes || global.dry_run {
        if !global.quiet && !global.json() {
            let or =
                if others.is_empty() { String::new() } else { format!("; also free: {others}") };
            errln!("{first} is the login name proposed for {full_name}{or}");
        }
        return Ok(first.clone());
    }
    if !prompt::somebody_is_there() {
        let message = format!(
            "no name was given; {first} would be proposed for {full_name}, and there is no terminal to ask at"
        );
        let mut failure = Failure::new(REFUSED, "needs-yes", message)
            .or("take it", format!("create user {first} --full-name {quoted}"));
        for other in &proposed.names[1..] {
            failure = failure.or("or another", format!("create user {other} --full-name {quoted}"));
        }
        return Err(failure);
    }
    if !others.is_empty() {
        errln!("also free: {others}");
    }
    let question = format!("Login name of {full_name} [{first}] (^C: nobody is created):");
    match prompt::line(&question) {
        Ok(Some(name)) if name.is_empty() => Ok(first.clone()),
        Ok(Some(name)) => Ok(name.into()),
        Ok(None) | Err(_) => Err(Failure::new(REFUSED, "declined", "nobody was created")),
    }
}
