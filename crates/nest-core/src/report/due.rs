//! What ends on which day.

use std::collections::BTreeMap;

use bstr::BString;

use crate::account::Account;
use crate::value::Day;

/// What ends.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, strum::Display, strum::IntoStaticStr,
)]
#[strum(serialize_all = "kebab-case")]
pub enum DueKind {
    /// An account no longer works from this day on.
    Account,
    /// This is the last day on which a password may stay as it is.
    Password,
    /// A finding is accepted up to this day.
    Acceptance,
}

/// What ends on a day, and whose.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Due {
    /// The day.
    pub day: Day,
    /// What ends.
    pub kind: DueKind,
    /// Whose accounts or passwords, or what is accepted.
    pub names: Vec<BString>,
}

/// What ends, by day.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Dues {
    /// What has ended before today, the earliest first.
    pub past: Vec<Due>,
    /// What ends from today on, within so many days.
    pub coming: Vec<Due>,
    /// How many more things end after that.
    pub later: usize,
}

/// For so many days what is coming is told: a year, whatever today is.
const DAYS_AHEAD: i64 = 366;

/// What ends for accounts, and for findings that are accepted up to a day.
pub fn dues<'a, 'b: 'a>(
    accounts: impl Iterator<Item = &'a Account<'b>>,
    accepted: impl Iterator<Item = (BString, Day)>,
    today: Day,
) -> Dues {
    let mut by_day: BTreeMap<(Day, DueKind), Vec<BString>> = BTreeMap::new();
    let mut add = |day, kind, name| by_day.entry((day, kind)).or_default().push(name);
    for account in accounts {
        let Some(aging) = account.aging() else { continue };
        let name = || BString::from(account.user.name);
        // What suspending writes there is no day on which anything ends.
        if let Some(day) = aging.expires.filter(|_| !account.is_suspended()) {
            add(day, DueKind::Account, name());
        }
        let set = account.password().scheme().is_some();
        let renew = aging.changed.zip(aging.renew).filter(|(changed, _)| set && *changed > 0);
        if let Some((changed, renew)) = renew {
            add(Day(changed.saturating_add(renew)), DueKind::Password, name());
        }
    }
    for (subject, day) in accepted {
        add(day, DueKind::Acceptance, subject);
    }
    let mut dues = Dues::default();
    for ((day, kind), names) in by_day {
        let due = Due { day, kind, names };
        match day.0 - today.0 {
            ..0 => dues.past.push(due),
            0..DAYS_AHEAD => dues.coming.push(due),
            _ => dues.later += due.names.len(),
        }
    }
    dues
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountIndex;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::table::File;

    #[test]
    fn what_ends_is_told_by_day() {
        let book = book(&[
            (File::Passwd, "maren:x:1004:1004:::\nodalys:x:1005:1005:::\nperrin:x:1006:6:::\n"),
            (
                File::Shadow,
                "maren:$6$saltsalt$abcdefgh:20000:0:1000:7::21000:\nodalys:$6$saltsalt$abcdefgh:20700:0:99999:7::20700:\n\
                 perrin:!:20000:0:90:7::1:\n",
            ),
        ]);
        let policy = Policy::default();
        let accounts: Vec<Account<'_>> = AccountIndex::new(&book, &policy).accounts().collect();
        let accepted = [("group slipway".into(), Day(30_000)), ("ann".into(), Day(21_000))];
        let found = dues(accounts.iter(), accepted.into_iter(), Day(20_781));
        let due = |day, kind, name: &str| Due { day: Day(day), kind, names: vec![name.into()] };
        assert_eq!(found.past, [due(20_700, DueKind::Account, "odalys")]);
        assert_eq!(
            found.coming,
            [
                due(21_000, DueKind::Account, "maren"),
                due(21_000, DueKind::Password, "maren"),
                due(21_000, DueKind::Acceptance, "ann")
            ]
        );
        assert_eq!(found.later, 1, "of perrin, who is suspended, nothing ends");
    }
}
