//! The numbers that deleted accounts held, which are not given to anybody else.

use std::collections::{HashMap, HashSet};

use bstr::{BStr, BString};
use serde::{Deserialize, Serialize};

use crate::order;
use crate::value::{Day, Gid, IdSpan, IdSpans, Uid, escaped};

/// A uid or gid that a deleted account or group held. Records write it as the range of
/// one id.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(into = "RetiredRange", try_from = "RetiredRange")]
pub struct RetiredId {
    /// The number.
    pub id: u32,
    /// Whose it was.
    pub name: BString,
    /// Since when, where the days are counted until the policy may let it be given out again.
    pub since: Option<Day>,
}

/// Subordinate ids that a deleted account held.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RetiredRange {
    /// The ids.
    pub span: IdSpan,
    /// Whose they were.
    #[serde(with = "escaped::text")]
    pub name: BString,
    /// Since when, as with [`RetiredId::since`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<Day>,
}

impl From<RetiredId> for RetiredRange {
    fn from(RetiredId { id, name, since }: RetiredId) -> Self {
        RetiredRange { span: IdSpan::single(id), name, since }
    }
}

impl TryFrom<RetiredRange> for RetiredId {
    type Error = String;

    fn try_from(RetiredRange { span, name, since }: RetiredRange) -> Result<Self, String> {
        match span.count() {
            1 => Ok(RetiredId { id: span.first(), name, since }),
            _ => Err(format!("{span} is more than one number")),
        }
    }
}

/// The numbers that deleted accounts and groups held.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RetiredIds {
    /// Uids.
    pub users: Vec<RetiredId>,
    /// Gids.
    pub groups: Vec<RetiredId>,
    /// Subordinate ids.
    pub ranges: Vec<RetiredRange>,
}

impl RetiredIds {
    /// Whether no number is retired.
    pub fn is_empty(&self) -> bool {
        self.users.is_empty() && self.groups.is_empty() && self.ranges.is_empty()
    }

    /// Whose a uid was.
    pub fn user(&self, uid: Uid) -> Option<&BStr> {
        holder(&self.users, uid.0)
    }

    /// Whose a gid was.
    pub fn group(&self, gid: Gid) -> Option<&BStr> {
        holder(&self.groups, gid.0)
    }

    /// Whose a subordinate id was.
    pub fn owner_of_range_over(&self, id: u32) -> Option<&BStr> {
        let over = self.ranges.iter().find(|range| range.span.contains(id));
        over.map(|range| range.name.as_ref())
    }

    /// The same with `more`. A number that is retired already keeps its name; its days are
    /// counted as `more` says.
    #[must_use]
    pub fn with(mut self, more: &RetiredIds) -> Self {
        for (ids, more) in [(&mut self.users, &more.users), (&mut self.groups, &more.groups)] {
            let counted: HashMap<u32, Option<Day>> =
                more.iter().map(|id| (id.id, id.since)).collect();
            for id in ids.iter_mut() {
                id.since = counted.get(&id.id).copied().unwrap_or(id.since);
            }
            let known: HashSet<u32> = ids.iter().map(|id| id.id).collect();
            ids.extend(more.iter().filter(|id| !known.contains(&id.id)).cloned());
            order::sort_by_key(ids, |id| id.id);
        }
        let known = spans_of(&self.ranges);
        for more in &more.ranges {
            let inside = |range: &&mut RetiredRange| {
                more.span.contains(range.span.first()) && more.span.contains(range.span.last())
            };
            self.ranges.iter_mut().filter(inside).for_each(|range| range.since = more.since);
            let fresh = known.outside(more.span).into_iter();
            self.ranges.extend(fresh.map(|span| RetiredRange { span, ..more.clone() }));
        }
        order::sort_by_key(&mut self.ranges, |range| range.span);
        self
    }

    /// The same without `back`; of a range that is only partly in use again the rest stays.
    #[must_use]
    pub fn without(mut self, back: &RetiredIds) -> Self {
        for (ids, back) in [(&mut self.users, &back.users), (&mut self.groups, &back.groups)] {
            let back: HashSet<u32> = back.iter().map(|id| id.id).collect();
            ids.retain(|id| !back.contains(&id.id));
        }
        let back = spans_of(&back.ranges);
        let left = self.ranges.iter().flat_map(|range| {
            let left = back.outside(range.span).into_iter();
            left.map(|span| RetiredRange { span, ..range.clone() })
        });
        self.ranges = left.collect();
        self
    }
}

fn holder(ids: &[RetiredId], id: u32) -> Option<&BStr> {
    ids.iter().find(|retired| retired.id == id).map(|retired| retired.name.as_ref())
}

fn spans_of(ranges: &[RetiredRange]) -> IdSpans {
    ranges.iter().map(|range| range.span).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ranges(all: &[(u32, u32)]) -> RetiredIds {
        let range = |&(first, last): &(u32, u32)| RetiredRange {
            span: IdSpan::new(first, last).unwrap(),
            name: "maren".into(),
            since: None,
        };
        RetiredIds { ranges: all.iter().map(range).collect(), ..RetiredIds::default() }
    }

    #[test]
    fn a_range_that_comes_back_in_part_leaves_the_rest_retired() {
        let retired = ranges(&[(100, 199), (300, 399)]);
        assert_eq!(
            retired.clone().without(&ranges(&[(150, 320)])),
            ranges(&[(100, 149), (321, 399)])
        );
        assert_eq!(
            retired.clone().with(&ranges(&[(150, 320)])),
            ranges(&[(100, 199), (200, 299), (300, 399)])
        );
        assert_eq!(retired.clone().with(&retired), retired);
        assert_eq!(retired.owner_of_range_over(310), Some("maren".into()));
        assert_eq!(retired.owner_of_range_over(299), None);
    }

    #[test]
    fn a_number_is_recorded_as_a_range_of_one() {
        let id = RetiredId { id: 1004, name: "maren".into(), since: None };
        let text = serde_json::to_string(&id).unwrap();
        assert_eq!(text, r#"{"span":{"first":1004,"last":1004},"name":"maren"}"#);
        assert_eq!(serde_json::from_str::<RetiredId>(&text).unwrap(), id);
        let two = text.replace("1004}", "1005}");
        assert!(serde_json::from_str::<RetiredId>(&two).unwrap_err().to_string().contains("more"));
        let backwards = text.replace("\"last\":1004", "\"last\":1003");
        assert!(serde_json::from_str::<RetiredRange>(&backwards).is_err());
        let retired = RetiredIds { users: vec![id.clone()], ..RetiredIds::default() };
        assert_eq!(
            (retired.user(Uid(1004)), retired.group(Gid(1004))),
            (Some("maren".into()), None)
        );
        let again = RetiredIds {
            users: vec![RetiredId { name: "odalys".into(), ..id }],
            ..RetiredIds::default()
        };
        assert_eq!(retired.clone().with(&again), retired);
        assert!(retired.clone().without(&again).is_empty());
        let counted = RetiredIds {
            users: vec![RetiredId { since: Some(Day(20_781)), ..retired.users[0].clone() }],
            ..RetiredIds::default()
        };
        assert_eq!(retired.clone().with(&counted), counted);
        assert_eq!(counted.clone().with(&retired), retired);
        let text = serde_json::to_string(&counted.users[0]).unwrap();
        assert_eq!(serde_json::from_str::<RetiredId>(&text).unwrap(), counted.users[0]);
    }
}
