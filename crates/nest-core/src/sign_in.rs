//! Can this account sign in, and if not, why not?
//!
//! The order and meaning of the aging fields are those of shadow(5), as the
//! system's authentication modules apply them.

use bstr::BString;

use crate::book::ShadowFile;
use crate::context::PlanContext;
use crate::surroundings::{Keys, Program, Surroundings};
use crate::table::{Passwd, Shadow};
use crate::value::{Day, PasswordField, Uid};

/// Something that keeps an account out.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Obstacle {
    /// `!`.
    #[error("no password is set")]
    NoPassword,
    /// `!` before a hash.
    #[error("the password is locked")]
    Locked,
    /// A field that nothing matches.
    #[error("the password field ({0}) matches no password")]
    NoMatch(BString),
    /// No shadow line.
    #[error("etc/shadow has no line for it that can be read")]
    NoShadowLine,
    /// `x`, but no shadow file.
    #[error("the password is in etc/shadow, and there is no such file")]
    NoShadowFile,
    /// Expired.
    #[error("{}", expired(*.0))]
    Expired(Day),
    /// Too old, with the days of grace over.
    #[error("the password is too old: it had to be changed by {0}")]
    TooOld(Day),
    /// A shell that turns everybody away.
    #[error("the shell {0} lets nobody in")]
    NoLoginShell(BString),
    /// A shell that is not there.
    #[error("the shell {0} does not exist")]
    ShellMissing(BString),
    /// A shell that can't be started.
    #[error("the shell {0} can't be executed")]
    ShellNotExecutable(BString),
    /// A file that says so.
    #[error("{0} keeps everybody but root out")]
    Nologin(&'static str),
    /// No key.
    #[error("{0}/.ssh holds none")]
    NoKey(BString),
    /// No home.
    #[error("the home {0} is missing")]
    NoHome(BString),
    /// Keys the SSH server ignores.
    #[error("{0}")]
    KeysIgnored(String),
    /// Could not be looked at.
    #[error("not known, {0}")]
    Unknown(String),
}

/// Suspending writes day 1, which is no day anybody would choose.
fn expired(day: Day) -> String {
    match day {
        Day(1) => "the account is suspended".to_owned(),
        day => format!("the account expired on {day}"),
    }
}

impl Obstacle {
    /// The obstacle in a word or two.
    pub fn in_short(&self) -> &'static str {
        match self {
            Obstacle::NoPassword | Obstacle::NoMatch(_) => "no password",
            Obstacle::Locked => "locked",
            Obstacle::NoShadowLine | Obstacle::NoShadowFile => "no shadow line",
            Obstacle::Expired(Day(1)) => "suspended",
            Obstacle::Expired(_) => "expired",
            Obstacle::TooOld(_) => "password too old",
            Obstacle::NoLoginShell(_) => "no login shell",
            Obstacle::ShellMissing(_) | Obstacle::ShellNotExecutable(_) => "shell missing",
            Obstacle::Nologin(path) => path,
            Obstacle::NoKey(_) | Obstacle::NoHome(_) | Obstacle::KeysIgnored(_) => "no key",
            Obstacle::Unknown(_) => "not known",
        }
    }
}

/// The answer, by password and by key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignIn {
    /// What stands in the way of both.
    pub both: Vec<Obstacle>,
    /// What stands in the way of a password only.
    pub password: Vec<Obstacle>,
    /// What stands in the way of a key only.
    pub key: Vec<Obstacle>,
    /// The password must be changed at the next sign-in.
    pub must_change: bool,
    /// The password field is empty: no password is asked.
    pub open: bool,
    /// How many keys there are.
    pub keys: usize,
}

impl SignIn {
    /// Whether a password (or, with an open field, none) lets the account in.
    pub fn by_password(&self) -> bool {
        self.both.is_empty() && self.password.is_empty()
    }

    /// Whether a key lets it in.
    pub fn by_key(&self) -> bool {
        self.both.is_empty() && self.key.is_empty()
    }

    /// Whether it can't be told if a key lets it in.
    pub fn key_is_unknown(&self) -> bool {
        self.is_unknown(&self.key)
    }

    /// Whether it can't be told if a password lets it in, as shadow is closed to whoever
    /// looks: then nor can it whether the account is over.
    pub fn password_is_unknown(&self) -> bool {
        self.is_unknown(&self.password)
    }

    fn is_unknown(&self, obstacles: &[Obstacle]) -> bool {
        let unknown = |obstacle: &Obstacle| matches!(obstacle, Obstacle::Unknown(_));
        self.both.is_empty() && !obstacles.is_empty() && obstacles.iter().all(unknown)
    }

    /// `yes`, or the first reason why not in a word or two, for a table.
    pub fn in_short(&self) -> String {
        if self.password_is_unknown() {
            return "not known".to_owned();
        }
        if self.by_password() || self.by_key() {
            return match self.must_change && self.by_password() {
                true => "yes, new password".into(),
                false => "yes".into(),
            };
        }
        if self.key_is_unknown() {
            return "key not known".to_owned();
        }
        let first = self.both.first().or(self.password.first());
        first.map_or("no", Obstacle::in_short).to_owned()
    }

    /// The first thing that keeps out an account that nothing lets in.
    ///
    /// # Panics
    /// Where something lets it in.
    pub(crate) fn first_obstacle(&self) -> &Obstacle {
        let first = self.both.first().or(self.password.first()).or(self.key.first());
        first.expect("BUG: nothing keeps an account out that can't sign in")
    }

    /// Each reason once, in words.
    pub fn reasons(&self) -> Vec<String> {
        let all = self.both.iter().chain(&self.password).chain(&self.key);
        all.map(Obstacle::to_string).collect()
    }
}

/// Judges one account on the day `today`.
pub fn sign_in(
    user: &Passwd<'_>,
    shadow: Option<&Shadow<'_>>,
    shadow_file: ShadowFile,
    today: Day,
    world: &dyn Surroundings,
) -> SignIn {
    let keys = world.keys(user.home.into(), user.uid().unwrap_or(Uid(u32::MAX)), today);
    sign_in_with_keys(user, shadow, shadow_file, today, world, keys)
}

/// The same, where it is known already which keys there are, or will be.
pub(crate) fn sign_in_with_keys(
    user: &Passwd<'_>,
    shadow: Option<&Shadow<'_>>,
    shadow_file: ShadowFile,
    today: Day,
    world: &dyn Surroundings,
    keys: Keys,
) -> SignIn {
    let mut answer = SignIn {
        both: Vec::new(),
        password: Vec::new(),
        key: Vec::new(),
        must_change: false,
        open: false,
        keys: 0,
    };
    if let Some(shadow) = shadow {
        judge_aging(shadow, today, &mut answer);
    }
    judge_shell(user, world, &mut answer.both);
    if let Some(path) = world.nologin().filter(|_| user.uid() != Some(Uid::ROOT)) {
        answer.both.push(Obstacle::Nologin(path));
    }
    let field = match (user.is_shadowed(), shadow) {
        (true, Some(shadow)) => Ok(shadow.password),
        (true, None) => Err(match shadow_file {
            ShadowFile::Read => Obstacle::NoShadowLine,
            ShadowFile::Missing => Obstacle::NoShadowFile,
            ShadowFile::Unreadable => Obstacle::Unknown("etc/shadow can't be read".to_owned()),
        }),
        (false, _) => Ok(user.password),
    };
    match field {
        Err(obstacle) => answer.password.push(obstacle),
        Ok(field) => match PasswordField::read(field) {
            PasswordField::None => answer.password.push(Obstacle::NoPassword),
            PasswordField::Locked(_) => answer.password.push(Obstacle::Locked),
            PasswordField::Never => answer.password.push(Obstacle::NoMatch(marker(field))),
            PasswordField::Open => answer.open = true,
            PasswordField::Set(_) => {}
        },
    }
    match keys {
        Keys::Count(0) => answer.key.push(Obstacle::NoKey(user.home.into())),
        Keys::Count(count) => answer.keys = count,
        Keys::NoHome => answer.key.push(Obstacle::NoHome(user.home.into())),
        Keys::Ignored(why) => answer.key.push(Obstacle::KeysIgnored(why)),
        Keys::Unknown(why) => answer.key.push(Obstacle::Unknown(why)),
    }
    answer
}

/// Whether an account can sign in at all.
pub(crate) fn can_sign_in(context: PlanContext<'_>, user: &Passwd<'_>) -> bool {
    let PlanContext { book, today, world, .. } = context;
    let shadow = book.shadow(user.name).map(|(_, shadow)| shadow);
    let answer = sign_in(user, shadow.as_ref(), book.shadow_file(), today, world);
    answer.by_password() || answer.by_key()
}

/// The field if it is a plain marker; else it might be a hash.
fn marker(field: &[u8]) -> BString {
    if PasswordField::is_harmless(field) { field.into() } else { crate::secret::HIDDEN.into() }
}

fn judge_aging(shadow: &Shadow<'_>, today: Day, answer: &mut SignIn) {
    let aging = shadow.aging();
    if let Some(expires) = aging.expires.filter(|expires| *expires <= today) {
        answer.both.push(Obstacle::Expired(expires));
    }
    // Where the day of the last change is left out, it counts as the day before the first.
    match aging.changed.unwrap_or(-1) {
        0 => answer.must_change = true,
        // A change in the future: aging is passed over.
        changed if changed <= today.0 => {
            let Some(renew) = aging.renew else { return };
            let due = changed.saturating_add(renew);
            let last = aging.late.map(|late| due.saturating_add(late));
            if let Some(last) = last.filter(|last| *last < today.0) {
                answer.both.push(Obstacle::TooOld(Day(last)));
            } else {
                answer.must_change = due < today.0;
            }
        }
        _ => {}
    }
}

/// Whether a shell is one of those that turn everybody away.
pub(crate) fn turns_away(shell: &[u8]) -> bool {
    let last = shell.rsplit(|&byte| byte == b'/').next().unwrap_or_default();
    matches!(last, b"nologin" | b"false")
}

fn judge_shell(user: &Passwd<'_>, world: &dyn Surroundings, both: &mut Vec<Obstacle>) {
    let shell: BString = user.effective_shell().into();
    if turns_away(&shell) {
        both.push(Obstacle::NoLoginShell(shell));
        return;
    }
    match world.program(shell.as_ref()) {
        Program::Fine | Program::Unknown => {}
        Program::Missing => both.push(Obstacle::ShellMissing(shell)),
        Program::NotExecutable => both.push(Obstacle::ShellNotExecutable(shell)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::Record;
    use crate::test_support::World;

    const HASH: &str = "$6$saltsalt$abcdefghijklmnop";

    fn judge(shell: &str, shadow: Option<&str>, world: &World) -> SignIn {
        let passwd = format!("maren:x:1004:1004::/home/maren:{shell}");
        let user = Passwd::read(passwd.as_bytes()).unwrap();
        let shadow = shadow.map(|line| Shadow::read(line.as_bytes()).unwrap());
        sign_in(&user, shadow.as_ref(), ShadowFile::Read, Day(20781), world)
    }

    fn reasons(shadow: &str) -> Vec<String> {
        let world = World { keys: 1, ..World::default() };
        judge("/bin/sh", Some(&shadow.replace("H", HASH)), &world).reasons()
    }

    #[test]
    fn each_field_that_keeps_an_account_out_is_a_reason() {
        assert_eq!(reasons("maren:H:20000::::::"), [""; 0]);
        assert_eq!(reasons("maren:!:20000::::::"), ["no password is set"]);
        assert_eq!(reasons("maren:!H:20000::::::"), ["the password is locked"]);
        assert_eq!(reasons("maren:*:20000::::::"), ["the password field (*) matches no password"]);
        assert_eq!(reasons("maren:H:20000:::::20781:"), ["the account expired on 2026-11-24"]);
        assert_eq!(reasons("maren:H:20000:::::20782:"), [""; 0]);
        assert_eq!(
            reasons("maren:H:20700:0:50:7:30::"),
            ["the password is too old: it had to be changed by 2026-11-23"]
        );
        assert_eq!(reasons("maren:H:20700:0:50:7:31::"), [""; 0]);
    }

    #[test]
    fn an_old_password_must_be_changed_and_a_future_one_need_not() {
        let world = World::default();
        let must = |line: &str| judge("/bin/sh", Some(line), &world).must_change;
        assert!(must("maren:x:0::::::") && must("maren:x:20700:0:50:7:::"));
        assert!(must("maren:x::0:50:7:::") && !must("maren:x::0::7:::"));
        assert!(!must("maren:x:20731:0:50:7:::") && !must("maren:x:20800:0:1:7:::"));
    }

    #[test]
    fn shells_keys_and_the_machine_count_too() {
        let mut world = World { keys: 2, ..World::default() };
        let fine = judge("", Some("maren::20000::::::"), &world);
        assert!(fine.by_password() && fine.by_key() && fine.open);
        let closed = judge("/usr/sbin/nologin", Some("maren:!:1::::::"), &world);
        assert!(!closed.by_key());
        assert_eq!(closed.both[0].to_string(), "the shell /usr/sbin/nologin lets nobody in");
        world.missing_programs.push("/bin/fish".into());
        assert_eq!(
            judge("/bin/fish", None, &world).reasons()[0],
            "the shell /bin/fish does not exist"
        );
        assert_eq!(judge("", None, &world).password, [Obstacle::NoShadowLine]);
        world.keys = 0;
        assert_eq!(judge("", None, &world).key[0].to_string(), "/home/maren/.ssh holds none");
        world.nologin = true;
        assert_eq!(judge("", None, &world).both, [Obstacle::Nologin("etc/nologin")]);
    }
}
