//! A list of users.

use std::io::IsTerminal;

use comfy_table::{Cell, Color, ContentArrangement, Table, presets};
use nest_core::account::Account;

use super::{counted, style, visible};
use crate::cli::{Color as Choice, Global};

/// Prints users: a table on a terminal, else one a line with tabs between the
/// fields. `of` is how many users there are in all.
pub fn print(global: &Global, accounts: &[Account<'_>], of: usize) {
    if !std::io::stdout().is_terminal() && global.color != Choice::Always {
        for account in accounts {
            anstream::println!("{}", row(account).join("\t"));
        }
        return;
    }
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    let titles = ["name", "uid", "kind", "primary", "member of", "home", "shell", "full name"];
    // Colour is always put in; what prints it takes it out where it has no place.
    // The table knows its own colours only; 208 is the copper of the rest.
    table.enforce_styling();
    table.set_header(titles.map(|title| Cell::new(title).fg(Color::AnsiValue(208))));
    for account in accounts {
        table.add_row(row(account));
    }
    if !accounts.is_empty() {
        anstream::println!("{}", table.trim_fmt());
        anstream::println!();
    }
    let quiet = style::QUIET;
    anstream::println!("{quiet}{} of {of}{quiet:#}", counted(accounts.len(), "user", "users"));
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
