//! A list of users.

use nest_core::account::Account;

use super::{counted, for_a_person, style, table, visible};
use crate::cli::Global;

/// Prints users: a table on a terminal, else one a line with tabs between the
/// fields. `of` is how many users there are in all.
pub fn print(global: &Global, accounts: &[Account<'_>], of: usize) {
    if !for_a_person(global) {
        for account in accounts {
            outln!("{}", row(account).join("\t"));
        }
        return;
    }
    let titles = ["name", "uid", "kind", "primary", "member of", "home", "shell", "full name"];
    let table = table(titles, accounts.iter().map(row));
    if !accounts.is_empty() {
        outln!("{table}");
        outln!();
    }
    let quiet = style::QUIET;
    outln!("{quiet}{} of {of}{quiet:#}", counted(accounts.len(), "user", "users"));
}

fn row(account: &Account<'_>) -> [String; 8] {
    let user = &account.user;
    let groups: Vec<String> = account.groups.iter().map(|group| visible(group.name)).collect();
    [
        visible(user.name),
        visible(user.uid),
        account.kind.to_string(),
        account.primary.map_or_else(|| visible(user.gid), visible),
        groups.join(","),
        visible(user.home),
        visible(user.effective_shell()),
        visible(user.full_name()),
    ]
}
