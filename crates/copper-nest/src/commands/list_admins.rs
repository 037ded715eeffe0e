//! `list admins`.

use std::collections::BTreeMap;

use bstr::{BString, ByteSlice};
use clap::ValueEnum;
use nest_core::account::{Account, admin_groups};
use nest_core::change::AccessKind;
use nest_core::context::PlanContext;
use nest_core::powers::Powers;
use nest_core::record::ChangeRecord;
use nest_core::sign_in::sign_in_of;

use super::{Global, Result, Session};
use crate::view::admins::{self, Admin, Since};
use crate::view::columns::Rows;
use crate::view::{self};

/// List who can become root, and how: by uid 0, by sudo or doas, by a group that amounts
/// to root, by a key of root's.
///
/// On a terminal a table; into a pipe one way a line, fields separated by tabs: name,
/// uid, kind, by what, what it may run as root, whose password is asked, sign-in, since
/// which change. Lines that can't be judged are told on stderr as they are.
#[derive(Debug, clap::Args)]
#[command(name = "admins", after_help = EXAMPLES)]
pub struct ListAdmins {
    /// Only ways that come to everything root can do, without root's password.
    #[arg(long)]
    whole: bool,
    /// Write a table for auditors, with the lines themselves.
    #[arg(long = "as", value_enum, value_name = "csv")]
    form: Option<AdminsForm>,
    #[command(flatten)]
    rows: Rows,
}

const EXAMPLES: &str = "Examples:
  copper-nest list admins
  copper-nest list admins --whole --format json
  copper-nest list admins --as csv";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum AdminsForm {
    Csv,
}

impl ListAdmins {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        self.rows.require(global, &admins::COLUMNS)?;
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let world = session.world_to_look_at()?;
        let context = session.context(&loaded, &world);
        let records = session.records_kept()?;
        let powers = Powers::of(context);
        let mut listed = admins(context, &powers, &records);
        for one in &mut listed {
            one.ways.retain(|way| !self.whole || way.amounts_to_root());
        }
        listed.retain(|one| !one.ways.is_empty());
        let unclear = unclear(context, &powers);
        match (global.json(), self.form) {
            (true, _) => view::print_json("admins", &admins::to_json(&listed, &unclear)),
            (false, Some(AdminsForm::Csv)) => admins::print_csv(&listed)?,
            (false, None) => admins::print(global, &self.rows, &listed),
        }
        if !global.json() {
            for line in unclear {
                errln!("{}", view::visible(line.as_bytes()));
            }
        }
        Ok(0)
    }
}

/// Who can become root, or run something as root.
pub fn admins<'a>(
    context: PlanContext<'a>,
    powers: &Powers<'a>,
    records: &[ChangeRecord],
) -> Vec<Admin<'a>> {
    let since = since(records);
    let admin = |account: Account<'a>| {
        let ways = powers.ways(&account);
        let sign_in = sign_in_of(context, &account);
        let since = since.get(account.user.name.as_bstr()).cloned();
        (!ways.is_empty()).then_some(Admin { account, ways, sign_in, since })
    };
    powers.accounts().into_iter().filter_map(admin).collect()
}

/// What can't be judged of that, and groups that are told to administer and don't.
pub fn unclear(context: PlanContext<'_>, powers: &Powers<'_>) -> Vec<String> {
    let mut unclear = powers.unclear();
    let groups = admin_groups(context.book, context.policy);
    unclear.extend(groups.iter().filter_map(|group| {
        let why = powers.group_fault(group.name.as_bstr())?;
        Some(format!("the group {} administers nothing: {why}", group.name.as_bstr()))
    }));
    unclear
}

/// By which change each account last became what it is, as far as the records go.
fn since(records: &[ChangeRecord]) -> BTreeMap<BString, Since> {
    let mut since = BTreeMap::new();
    for record in records {
        for change in &record.told.access {
            let kinds = [AccessKind::Root, AccessKind::Administrator, AccessKind::LikeRoot];
            match (kinds.contains(&change.kind), change.gains) {
                (true, true) => {
                    let day = record.time.get(..10).unwrap_or(&record.time).to_owned();
                    since.insert(change.name.clone(), Since { change: record.number, day });
                }
                (true, false) => _ = since.remove(&change.name),
                (false, _) => {}
            }
        }
    }
    since
}
