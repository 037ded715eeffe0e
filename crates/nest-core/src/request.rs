//! Requests that more than one planner, or a roster, makes: what the administrator
//! asked for, as data.

use bstr::BString;

use crate::account::AccountKind;
use crate::book::Lookups;
use crate::change::{Decision, NewFile};
use crate::policy::Policy;
use crate::value::{Day, GecosParts, Gid, GroupName, IdSpan, Uid, UserName, join};
use crate::windows::{Hours, Places, WindowTrouble};

/// A request: it says what its planner will look up, before anything is loaded.
pub trait Request {
    /// What will be looked up.
    fn lookups(&self, policy: &Policy) -> Lookups;
    /// The guards that are waved through.
    fn overrides(&self) -> GuardOverrides {
        GuardOverrides::default()
    }
}

/// One or more users to be made. What is `None` is left to the policy.
#[derive(Debug, Clone, Default)]
pub struct CreateUser {
    /// The login names.
    pub names: Vec<UserName>,
    /// The full name.
    pub full_name: Option<BString>,
    /// A uid of the administrator's choice.
    pub uid: Option<Uid>,
    /// The uid may be somebody else's too.
    pub share_id: bool,
    /// The uid may be one that was somebody else's and is retired.
    pub reuse_id: bool,
    /// The primary group, by name or gid, in place of a private group.
    pub primary: Option<GroupName>,
    /// Groups to join.
    pub join: Vec<GroupName>,
    /// Joins none, not those of the policy either.
    pub no_groups: bool,
    /// Joins the administrators' group.
    pub admin: bool,
    /// The path of the home.
    pub home: Option<BString>,
    /// No home is made.
    pub no_home: bool,
    /// Its path is recorded all the same, also where only the policy names it.
    pub record_home: bool,
    /// The home exists and is taken over.
    pub adopt_home: bool,
    /// What the home is a copy of; `none` for nothing.
    pub skeleton: Option<BString>,
    /// The login shell.
    pub shell: Option<BString>,
    /// A service: an id of that span, no login shell, no home unless named.
    pub service: bool,
    /// When the account stops working: a date, `+90d` or `never`.
    pub expires: Option<String>,
    /// How many subordinate ids; 0 for none.
    pub ranges: Option<u32>,
    /// Subordinate ranges of the administrator's choice, known to be free.
    pub spans: Vec<IdSpan>,
    /// Public keys for signing in.
    pub keys: Vec<KeyFile>,
    /// The hash of a first password for each name; nothing where none is set.
    pub hashes: Vec<Option<BString>>,
    /// The password must be changed at the first sign-in.
    pub must_change: bool,
    /// When and from where it may sign in.
    pub window: WindowRequest,
    /// The account from which it gets what is not said.
    pub like: Option<UserName>,
    /// What is said of it beside that.
    pub details: Option<Box<Details>>,
    /// What it got from another account.
    pub copied: Vec<Decision>,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

/// What only a table says of an account, or another account that it is like: what it was
/// somewhere else.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Details {
    /// What follows the full name.
    pub gecos: GecosParts,
    /// How its password ages.
    pub aging: AgingFields,
    /// The day on which the password was last changed, where there is one.
    pub changed: Option<Option<Day>>,
    /// Whether it is suspended, and why.
    pub suspended: Option<SuspensionAsked>,
}

/// How a password ages, as the fields of shadow hold it: in days, or empty. Nothing is for the
/// policy to say.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AgingFields {
    /// Days for which it can't be changed again.
    pub hold: Option<BString>,
    /// Days after which it must be changed.
    pub renew: Option<BString>,
    /// Days of reminder before that.
    pub remind: Option<BString>,
    /// Days of grace after that.
    pub late: Option<BString>,
}

impl AgingFields {
    /// The four in the order of the file.
    pub fn in_order(&self) -> [Option<&BString>; 4] {
        [&self.hold, &self.renew, &self.remind, &self.late].map(Option::as_ref)
    }

    /// The four fields of shadow, with what is said here in place of what is there.
    pub(crate) fn over(&self, fields: &[u8]) -> BString {
        let old = fields.split(|byte| *byte == b':');
        let new = old.zip(self.in_order());
        bstr::join(":", new.map(|(old, new)| new.map_or(old, |new| &new[..]))).into()
    }
}

/// Whether an account is suspended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SuspensionAsked {
    /// It is not.
    No,
    /// It is, for this reason; it may be empty.
    Yes(String),
}

impl CreateUser {
    /// The shell that it gets.
    pub(crate) fn shell<'r>(&'r self, policy: &'r Policy) -> &'r [u8] {
        match &self.shell {
            Some(shell) => shell,
            None if self.service => policy.services_shell.as_bytes(),
            None => policy.people_shell.as_bytes(),
        }
    }

    /// Whose span its numbers come from.
    pub(crate) fn kind(&self) -> AccountKind {
        if self.service { AccountKind::Service } else { AccountKind::Person }
    }
}

/// What is asked of the window of an account; nothing stays as it is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WindowRequest {
    /// The hours: `mon-fri 08:00-18:00`, or `any`.
    pub hours: Option<String>,
    /// The places: `10.20.0.0/16, console`, or `anywhere`.
    pub places: Option<String>,
    /// The services that are made to ask.
    pub enforce: Vec<String>,
}

impl WindowRequest {
    /// Whether something is asked.
    pub fn asks(&self) -> bool {
        self.hours.is_some() || self.places.is_some() || !self.enforce.is_empty()
    }

    /// What can't be read in it, whoever is asked about.
    pub(crate) fn faults(&self) -> Vec<WindowTrouble> {
        let hours = self.hours.as_ref().and_then(|text| Hours::parse(text).err());
        let places = self.places.as_ref().and_then(|text| Places::parse(text).err());
        hours.map(WindowTrouble::from).into_iter().chain(places.map(Into::into)).collect()
    }
}

/// A file of public keys, already read.
#[derive(Debug, Clone)]
pub struct KeyFile {
    /// Its path, for messages.
    pub path: String,
    /// What it holds.
    pub text: Vec<u8>,
}

/// The file that holds public keys where the SSH server looks for them; nothing where there are
/// none.
pub(crate) fn key_file(keys: &[KeyFile]) -> Option<NewFile> {
    let mut contents = BString::default();
    for file in keys {
        contents.extend_from_slice(&file.text);
        if !contents.ends_with(b"\n") {
            contents.push(b'\n');
        }
    }
    let path = join(b".ssh", b"authorized_keys");
    (!keys.is_empty()).then_some(NewFile { path, contents, mode: 0o600 })
}

/// A group to be made.
#[derive(Debug, Clone, Default)]
pub struct CreateGroup {
    /// Its name.
    pub name: GroupName,
    /// A gid of the administrator's choice.
    pub gid: Option<Gid>,
    /// The gid may be another group's too.
    pub share_id: bool,
    /// The gid may be one that was another group's and is retired.
    pub reuse_id: bool,
    /// A service's group: an id of that span.
    pub service: bool,
    /// Who is in it.
    pub members: Vec<UserName>,
    /// Who administers it.
    pub admins: Vec<UserName>,
    /// Nobody is to be in it.
    pub no_members: bool,
    /// Nobody is to administer it.
    pub no_admins: bool,
    /// What stands for its password in gshadow; `!` where nothing is said, which is none.
    pub password: Option<BString>,
    /// Whose primary group it becomes.
    pub primary_of: Vec<UserName>,
    /// Names that the files do not know may be a directory's.
    pub unlisted: bool,
}

/// Which guards the administrator has waved through.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct GuardOverrides {
    /// `--even-me`
    pub me: bool,
    /// `--even-root`
    pub root: bool,
    /// `--even-last-admin`
    pub last_admin: bool,
    /// `--even-service`
    pub service: bool,
    /// `--even-if-busy`
    pub busy: bool,
}

impl GuardOverrides {
    /// Every guard is waved through.
    pub const ALL: GuardOverrides =
        GuardOverrides { me: true, root: true, last_admin: true, service: true, busy: true };
}

impl Request for CreateUser {
    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }

    /// Lines about the users and the groups they join, others with the same home, and all
    /// numbers. A uid of one's own choice may have any holder, and a home that is taken over
    /// may be below anybody's: then whole files are needed.
    fn lookups(&self, policy: &Policy) -> Lookups {
        if self.uid.is_some()
            || self.adopt_home
            || self.like.is_some()
            || !self.window.enforce.is_empty()
        {
            return Lookups::whole().names(&self.names).with_belongings();
        }
        let mut groups: Vec<&[u8]> =
            self.join.iter().chain(&self.primary).map(|group| group.as_slice()).collect();
        groups.extend(policy.people_groups.iter().map(|name| name.as_bytes()));
        if !policy.people_private_group {
            groups.push(policy.people_primary.as_bytes());
        }
        if policy.mail_create {
            groups.push(b"mail");
        }
        if self.admin {
            groups.extend(policy.admins_groups.iter().map(|name| name.as_bytes()));
        }
        let lookups = groups.into_iter().fold(Lookups::few().numbers(), Lookups::group);
        self.names.iter().fold(lookups, |lookups, name| {
            let home = self.home.clone().unwrap_or_else(|| policy.home_of(name).into());
            lookups.user(name).home(&home)
        })
    }
}

impl Request for CreateGroup {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.members)
    }
}

/// Subordinate ids that are asked for: so many, or these.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RangesAsked {
    /// So many; 0 for none.
    Count(u32),
    /// These spans.
    Spans(Vec<IdSpan>),
}

impl RangesAsked {
    /// Reads a number, `none`, or spans with semicolons between them.
    pub fn parse(text: &str) -> Option<Self> {
        match text {
            "none" => Some(RangesAsked::Count(0)),
            text if text.contains('-') => {
                let spans = text.split(';').map(|span| IdSpan::parse(span.trim()).ok());
                spans.collect::<Option<_>>().map(RangesAsked::Spans)
            }
            text => text.parse().ok().map(RangesAsked::Count),
        }
    }
}
