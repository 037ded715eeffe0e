//! People against groups.

use bstr::BStr;
use hashbrown::HashMap;

use crate::account::Account;
use crate::book::Book;
use crate::group_account::private_groups;

/// Who is in which group, by number of the group in the list.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Matrix<'b> {
    /// The groups that somebody is in, but those that are somebody's own, in the order of the
    /// file.
    pub groups: Vec<&'b BStr>,
    /// A row for each account, in the order in which they came.
    pub rows: Vec<MatrixRow>,
}

/// The groups that one account is in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct MatrixRow {
    /// Its primary group, unless that is its own.
    pub primary: Option<usize>,
    /// The groups that list it, in their order.
    pub listed: Vec<usize>,
}

/// The groups of accounts.
pub fn matrix<'a, 'b: 'a>(
    book: &'b Book,
    accounts: impl Iterator<Item = &'a Account<'b>>,
) -> Matrix<'b> {
    let own = private_groups(book);
    let order =
        book.groups.records().map(|(_, group)| group.name).filter(|name| !own.contains(name));
    let mut numbers: HashMap<&[u8], usize> = HashMap::new();
    for name in order {
        let number = numbers.len();
        numbers.entry(name).or_insert(number);
    }
    let row = |account: &Account<'b>| {
        let mut listed: Vec<usize> =
            account.groups.iter().filter_map(|group| numbers.get(group.name).copied()).collect();
        listed.sort_unstable();
        listed.dedup();
        let primary = account.primary.and_then(|name| numbers.get(name).copied());
        MatrixRow { primary, listed }
    };
    let mut rows: Vec<MatrixRow> = accounts.map(row).collect();
    let mut used = vec![false; numbers.len()];
    for row in &rows {
        row.listed.iter().chain(&row.primary).for_each(|at| used[*at] = true);
    }
    // Groups that nobody of them is in have no column.
    let mut names = vec![BStr::new(""); numbers.len()];
    for (name, at) in &numbers {
        names[*at] = BStr::new(*name);
    }
    let mut columns = vec![0; used.len()];
    let mut groups = Vec::new();
    for (at, name) in names.into_iter().enumerate().filter(|(at, _)| used[*at]) {
        columns[at] = groups.len();
        groups.push(name);
    }
    for row in &mut rows {
        row.listed.iter_mut().chain(&mut row.primary).for_each(|at| *at = columns[*at]);
    }
    Matrix { groups, rows }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountIndex;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::table::File;

    #[test]
    fn primary_and_listed_membership_are_told_apart() {
        let book = book(&[
            (File::Passwd, "maren:x:1004:1004:::\ntavish:x:1005:1500:::\nodalys:x:1006:9:::\n"),
            (
                File::Group,
                "empty:x:7:\nmaren:x:1004:\npilots:x:1500:maren,tavish\nslipway:x:1501:maren\n",
            ),
        ]);
        let policy = Policy::default();
        let accounts: Vec<Account<'_>> = AccountIndex::new(&book, &policy).accounts().collect();
        let found = matrix(&book, accounts.iter());
        assert_eq!(found.groups, ["pilots", "slipway"], "no empty one, and nobody's own");
        let row = |primary, listed: &[usize]| MatrixRow { primary, listed: listed.to_vec() };
        assert_eq!(found.rows, [row(None, &[0, 1]), row(Some(0), &[0]), row(None, &[])]);
    }
}
