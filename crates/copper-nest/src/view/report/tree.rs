//! What a report tells of one tree.

use nest_core::account::AccountKind;
use nest_core::check::{CheckReport, Severity};
use nest_core::drift::Drift;
use nest_core::group_account::GroupAccount;
use nest_core::holdings::{OutsideUse, RangeOrGap, SpanUse};
use nest_core::policy::Policy;
use nest_core::powers::Way;
use nest_core::report::{AgeBar, Due, Dues, Matrix, Moment, NumberMap};
use nest_core::retired::RetiredAccount;
use nest_core::value::{Day, IdSpan};
use serde_json::{Value, json};

use crate::cli::Global;
use crate::commands::show_policy::settings;
use crate::view::admins::{self, Admin};
use crate::view::changes::{self, ShownChanges};
use crate::view::findings::{self, CheckRun};
use crate::view::user::{self, ShownUser};
use crate::view::{groups, ids, retired, visible};

/// What is told of one tree.
pub struct Reported<'a> {
    /// Where, when and by what.
    pub run: CheckRun,
    /// What the operating system calls itself; may be empty.
    pub system: String,
    /// Today.
    pub today: Day,
    /// The policy in force.
    pub policy: &'a Policy,
    /// Every user, in the order of the file.
    pub users: &'a [ShownUser<'a>],
    /// Every group, likewise.
    pub groups: &'a [GroupAccount<'a>],
    /// Who can become root.
    pub admins: &'a [Admin<'a>],
    /// What can't be judged of that.
    pub unclear: Vec<String>,
    /// Who of the people is in which group.
    pub matrix: Matrix<'a>,
    /// Where the numbers are.
    pub map: NumberMap,
    /// How full each span is.
    pub spans: Vec<SpanUse>,
    /// What is held outside of those.
    pub outside: Vec<OutsideUse>,
    /// The subordinate ranges.
    pub ranges: Vec<RangeOrGap>,
    /// Deleted users and groups that are kept.
    pub retired: Vec<RetiredAccount>,
    /// How old the passwords of people are.
    pub passwords: Vec<AgeBar>,
    /// How long people have been there.
    pub accounts: Vec<AgeBar>,
    /// When people were last seen.
    pub seen: Vec<AgeBar>,
    /// What ends when.
    pub dues: Dues,
    /// What is wrong.
    pub check: CheckReport,
    /// How many account files were read.
    pub files: usize,
    /// The changes since a day.
    pub changes: ShownChanges<'a>,
    /// That day.
    pub since: Day,
    /// How many users there were after each change.
    pub history: Vec<Moment>,
    /// What is to be known of all of it.
    pub notes: Vec<String>,
}

/// What is counted at a glance.
pub struct Totals {
    pub people: usize,
    pub services: usize,
    pub can_sign_in: usize,
    pub suspended: usize,
    pub can_become_root: usize,
}

impl Reported<'_> {
    /// The users that are people, in their order.
    pub fn people(&self) -> impl Iterator<Item = &ShownUser<'_>> {
        self.users.iter().filter(|user| user.account.kind == AccountKind::Person)
    }

    /// What is counted at a glance.
    pub fn totals(&self) -> Totals {
        let count = |wanted: fn(&&ShownUser<'_>) -> bool| self.users.iter().filter(wanted).count();
        let people = self.people().count();
        let root = |one: &&Admin<'_>| one.ways.iter().any(Way::amounts_to_root);
        Totals {
            people,
            services: self.users.len() - people,
            can_sign_in: count(|user| user.sign_in.is_possible_now()),
            suspended: count(|user| user.account.is_suspended()),
            can_become_root: self.admins.iter().filter(root).count(),
        }
    }
}

/// A report for machines: the documents of the lists, put together, and what it adds up itself.
pub fn to_json(global: &Global, reported: &Reported<'_>) -> Value {
    let totals = reported.totals();
    let count = |what: Severity| reported.check.count(what);
    let ages = |bars: &[AgeBar]| -> Vec<Value> {
        let bars = bars.iter();
        bars.map(|bar| json!({"label": bar.label, "most_days": bar.most, "count": bar.count}))
            .collect()
    };
    let dues = |dues: &[Due]| -> Vec<Value> {
        let dues = dues.iter();
        dues.map(|due| {
            let names: Vec<String> = due.names.iter().map(|name| visible(name)).collect();
            json!({"day": due.day.to_string(), "what": due.kind.to_string(), "names": names})
        })
        .collect()
    };
    let span = |span: &IdSpan| json!({"first": span.first(), "last": span.last()});
    let lanes = reported.map.lanes.iter().map(|lane| {
        let marks = lane.marks.iter().map(|mark| {
            json!({
                "first": mark.span.first(),
                "last": mark.span.last(),
                "count": mark.count,
                "words": visible(mark.words.as_bytes()),
            })
        });
        json!({"what": lane.kind.to_string(), "marks": marks.collect::<Vec<_>>()})
    });
    let group = |at: usize| visible(reported.matrix.groups[at]);
    let rows = reported.people().zip(&reported.matrix.rows).map(|(user, row)| {
        json!({
            "name": visible(user.account.user.name),
            "primary": row.primary.map(group),
            "listed": row.listed.iter().map(|at| group(*at)).collect::<Vec<_>>(),
        })
    });
    let columns = reported.matrix.groups.iter().map(|name| visible(name));
    let days = reported.policy.retired_keep_days;
    let mut document = json!({
        "system": visible(reported.system.as_bytes()),
        "notes": reported.notes.iter().map(|note| visible(note.as_bytes())).collect::<Vec<_>>(),
        "totals": {
            "people": totals.people,
            "services": totals.services,
            "groups": reported.groups.len(),
            "can_sign_in": totals.can_sign_in,
            "suspended": totals.suspended,
            "can_become_root": totals.can_become_root,
            "findings": findings::by_severity(count),
            "changes": reported.changes.records.len(),
        },
        "users": reported.users.iter().map(user::to_json).collect::<Vec<_>>(),
        "groups": reported.groups.iter().map(groups::to_json).collect::<Vec<_>>(),
        "matrix": {"groups": columns.collect::<Vec<_>>(), "people": rows.collect::<Vec<_>>()},
        "map": {
            "lanes": lanes.collect::<Vec<_>>(),
            "parts": reported.map.parts.iter().map(span).collect::<Vec<_>>(),
        },
        "retired": reported.retired.iter().map(|one| retired::to_json(one, days)).collect::<Vec<_>>(),
        "ages": {
            "passwords": ages(&reported.passwords),
            "accounts": ages(&reported.accounts),
            "seen": ages(&reported.seen),
        },
        "ends": {
            "past": dues(&reported.dues.past),
            "coming": dues(&reported.dues.coming),
            "later": reported.dues.later,
        },
        "since": reported.since.to_string(),
        "history": reported.history.iter().map(|one| json!({
            "change": one.change,
            "day": one.day.to_string(),
            "users": one.users,
            "other_hands": one.other_hands,
        })).collect::<Vec<_>>(),
        "settings": settings(reported.policy),
    });
    let checked = findings::to_json(global, &reported.check, &reported.run);
    for part in [
        admins::to_json(reported.admins, &reported.unclear),
        ids::spans_to_json(&reported.spans, &reported.outside),
        ids::ranges_to_json(&reported.ranges),
        changes::to_json(global, &reported.changes),
        serde_json::to_value(checked).expect("BUG: findings are no document"),
    ] {
        let Value::Object(part) = part else { panic!("BUG: a part of a report is no object") };
        for (key, value) in part {
            document[key] = value;
        }
    }
    document
}

/// What other hands did, in words.
pub fn hands(drifts: &[Drift]) -> impl Iterator<Item = String> {
    drifts.iter().map(|drift| visible(drift.to_string().as_bytes()))
}
