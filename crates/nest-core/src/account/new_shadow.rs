//! Lines of shadow for accounts that have none.

use super::AccountKind;
use crate::policy::{Days, Policy};
use crate::value::{Day, Uid};

/// Makes lines of `etc/shadow`. How passwords age is for the policy to say, whichever
/// command makes the line.
#[derive(Debug, Clone)]
pub(crate) struct NewShadow {
    /// The fields from hold to late, as shadow writes them.
    aging: String,
    today: String,
}

impl NewShadow {
    /// Which of the pieces of a line says when the password was last changed.
    pub const CHANGED: usize = 2;

    /// Which of them says how it ages.
    pub const AGING: usize = 3;

    pub fn new(policy: &Policy, today: Day) -> Self {
        let days = |days| match days {
            Days::After(days) => days.to_string(),
            Days::Never => String::new(),
        };
        let aging = format!(
            "{}:{}:{}:{}",
            policy.passwords_hold_days,
            days(policy.passwords_renew_days),
            policy.passwords_remind_days,
            days(policy.passwords_late_days)
        );
        NewShadow { aging, today: today.0.to_string() }
    }

    /// A line in pieces between which colons belong, with the day of expiry. Nobody changes
    /// a service's password: it does not age. Who must change the password gets one that was
    /// changed on no day.
    pub fn fields<'l>(
        &'l self,
        kind: AccountKind,
        name: &'l [u8],
        password: &'l [u8],
        must_change: bool,
        expires: &'l [u8],
    ) -> [&'l [u8]; 6] {
        let aging = match kind {
            AccountKind::Person => &self.aging,
            AccountKind::Service => ":::",
        };
        let changed = if must_change { "0" } else { &self.today };
        [name, password, changed.as_bytes(), aging.as_bytes(), expires, b""]
    }

    /// The whole line of a user of this uid.
    pub fn line(
        &self,
        policy: &Policy,
        uid: Option<Uid>,
        name: &[u8],
        password: &[u8],
        must_change: bool,
    ) -> Vec<u8> {
        let kind = match uid.is_some_and(|uid| policy.is_person(uid)) {
            true => AccountKind::Person,
            false => AccountKind::Service,
        };
        self.fields(kind, name, password, must_change, b"").join(&b':')
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_passwords_of_people_age_as_the_policy_says() {
        let text = "[passwords]\nrenew_days = 365\nhold_days = 1\nlate_days = 30\n";
        let policy = Policy::read("policy.toml", text).unwrap();
        let new = NewShadow::new(&policy, Day(20_781));
        let line = |uid, must| new.line(&policy, uid, b"maren", b"!", must);
        assert_eq!(line(Some(Uid(1004)), false), b"maren:!:20781:1:365:7:30::");
        assert_eq!(line(Some(Uid(1004)), true), b"maren:!:0:1:365:7:30::");
        assert_eq!(line(Some(Uid(200)), false), b"maren:!:20781::::::");
        assert_eq!(line(None, false), b"maren:!:20781::::::");
    }
}
