//! `report`.

use std::collections::HashMap;
use std::ffi::OsString;
use std::io::IsTerminal;
use std::path::{Path, PathBuf};

use bstr::{BString, ByteSlice};
use nest_core::account::{AccountIndex, AccountKind};
use nest_core::check::{Selection, check};
use nest_core::compare::{CompareOptions, across, compare};
use nest_core::configuration::Release;
use nest_core::group_account::GroupIndex;
use nest_core::holdings::{outside, ranges, spans};
use nest_core::last_seen::LastSeen;
use nest_core::powers::Powers;
use nest_core::record::{ChangeRecord, undone};
use nest_core::report::{Age, by_age, dues, history, matrix, number_map};
use nest_core::secret::without_hashes;
use nest_core::sign_in::sign_in_of;
use nest_core::surroundings::Surroundings;
use nest_core::table::{File, Passwd, Record};
use nest_core::value::Day;

use super::new_file::{Existing, write_private};
use super::show_id::no_answer;
use super::{Failure, Global, REFUSED, Result, Session, USAGE, require_shadow};
use super::{list_admins, list_users};
use crate::session::history::other_hands;
use crate::session::telling::unread;
use crate::sides::{Sides, named_sources};
use crate::view::changes::ShownChanges;
use crate::view::findings::CheckRun;
use crate::view::report::{Machines, Reported, page_of, to_json};
use crate::view::user::{self, ShownUser};
use crate::view::users::Listed;
use crate::view::{ids, print_json, visible};

/// Write a page to look at: who is here and can sign in, who can become root, groups, numbers,
/// what ends when, findings, changes, the policy.
///
/// The page stands by itself: a browser opens it from the file, and it loads nothing from
/// anywhere. Of several snapshots, or trees, it tells what compare does: who is where, and in
/// what they differ. No hash and no key is on it. With --format json the same as data.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct ReportArgs {
    /// Machines instead of this tree: snapshots, trees, tables, as compare takes them.
    #[arg(value_name = "SIDE")]
    sides: Vec<OsString>,
    /// A folder of snapshots; - for snapshots one after the other on standard input.
    #[arg(long, value_name = "DIR|-")]
    from: Option<PathBuf>,
    /// The file to write; - is standard output. Where there is one already, it is asked before.
    #[arg(long, value_name = "FILE|-")]
    to: Option<PathBuf>,
    /// Which changes are told: those since this day; else those of the last 180 days.
    #[arg(long, value_name = "DATE", allow_hyphen_values = true,
        conflicts_with_all = ["sides", "from"])]
    since: Option<String>,
}

const EXAMPLES: &str = "Examples:
  copper-nest report --to report.html
  copper-nest report --since 2026-01-01 --to year.html
  copper-nest report --from snapshots --to machines.html
  copper-nest report --format json";

impl ReportArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let to = Target::of(global, self.to.as_deref())?;
        let page = match self.sides.is_empty() && self.from.is_none() {
            true => self.of_tree(global)?,
            false => self.of_machines(global)?,
        };
        if let Some(page) = page {
            // As with all that is printed: no hash gets out, whatever line it had slipped into.
            to.write(global, &without_hashes(&page))?;
        }
        Ok(0)
    }

    /// The page of a tree; nothing where it was told as data.
    fn of_tree(&self, global: &Global) -> Result<Option<String>> {
        let session = Session::open_anyway(global)?;
        let since = session.past_day(self.since.as_deref().unwrap_or("-180d"))?;
        session.tell_unfinished();
        let loaded = session.load()?;
        require_shadow(&loaded.book, "no report was made")?;
        let world = session.world_to_look_at()?;
        let (context, book, today) =
            (session.context(&loaded, &world), &loaded.book, session.today);
        let records = session.records_kept()?;
        let index = AccountIndex::new(book, &session.policy);
        let powers = Powers::of(context);
        let listed: Vec<Listed<'_>> = index
            .accounts()
            .map(|account| Listed {
                sign_in: sign_in_of(context, &account),
                last_seen: user::last_seen_of(&world, &account, today),
                account,
            })
            .collect();
        let users: Vec<ShownUser<'_>> =
            listed.iter().map(|one| list_users::shown(context, &world, &powers, one)).collect();
        let people = || listed.iter().filter(|one| one.account.kind == AccountKind::Person);
        let groups: Vec<_> = GroupIndex::new(book, &session.policy).groups().collect();
        let admins = list_admins::admins(context, &powers, &records);
        let report = check(context, &Selection::default());
        let accepted = report.accepted.iter();
        let ending = accepted.filter_map(|one| Some((one.finding.subject.clone(), one.by.until?)));
        let dues = dues(listed.iter().map(|one| &one.account), ending, today);
        let undone = undone(&records);
        let drift = match session.state {
            nest_host::state::State::Nowhere => Vec::new(),
            _ => other_hands(session.changes_folder()?.as_ref(), &loaded)?,
        };
        let told =
            records.iter().rev().filter(|record| record.day().is_none_or(|day| day >= since));
        let came = came(&records);
        let seen = |one: &Listed<'_>| match (&one.last_seen, one.last_seen.days(today)) {
            (_, Some(days)) => Age::Days(days),
            (LastSeen::Never, _) => Age::Other("never"),
            _ => Age::Other("not known"),
        };
        let password = |one: &Listed<'_>| {
            let changed = one.account.aging().and_then(|aging| aging.changed);
            match (one.account.password().scheme().is_some(), changed) {
                (false, _) => Age::Other("none is set"),
                (true, Some(0)) => Age::Other("to be changed"),
                (true, Some(day)) => Age::Days(today.0.saturating_sub(day)),
                (true, None) => Age::Other("not known"),
            }
        };
        let account = |one: &Listed<'_>| match came.get(one.account.user.name.as_bstr()) {
            Some(day) => Age::Days(today.0 - day.0),
            None => Age::Other("before the records"),
        };
        let reported = Reported {
            run: CheckRun {
                host: visible(world.host()),
                time: session.time(),
                policy: session.policy.digest(),
            },
            system: Release::read(world.configuration()).name,
            today,
            policy: &session.policy,
            users: &users,
            groups: &groups,
            admins: &admins,
            unclear: list_admins::unclear(context, &powers),
            matrix: matrix(book, people().map(|one| &one.account)),
            map: number_map(context),
            spans: spans(context, ids::PARTS).map_err(no_answer)?,
            outside: outside(context),
            ranges: ranges(context),
            retired: match session.state.shown() {
                None => Vec::new(),
                Some(_) => session.kept()?,
            },
            passwords: by_age(people().map(password)),
            accounts: by_age(people().map(account)),
            seen: by_age(people().map(seen)),
            dues,
            check: report,
            files: loaded.originals.len(),
            changes: ShownChanges {
                records: told.collect(),
                undone: &undone,
                since: &drift,
                access: false,
            },
            since,
            history: history(&records, users.len(), today),
            notes: [unread(&loaded, &File::ALL), gaps(&records)].concat(),
        };
        if global.json() {
            print_json("report", &to_json(global, &reported));
            return Ok(None);
        }
        Ok(Some(page_of(global, &reported)))
    }

    /// The page of many machines; nothing where it was told as data.
    fn of_machines(&self, global: &Global) -> Result<Option<String>> {
        let (sources, others) = named_sources(&self.sides, self.from.as_deref())?;
        let mut sides = Sides::read(global, &sources, None, None)?;
        sides.pass_over(&others);
        if sides.count() == 0 {
            sides.tell();
            let message =
                "there is nothing to tell of: none of these is a snapshot, a tree or a table";
            return Err(Failure::new(REFUSED, "no-sides", message));
        }
        let options = CompareOptions { services: true, ..CompareOptions::default() };
        let comparison = compare(&sides.tally, &sides.all, options);
        let (users, on) = across(&sides.tally, &sides.all);
        let time = Session::open_anyway(global)?.time();
        let machines = Machines { sides: &sides, comparison: &comparison, users, on, time };
        if global.json() {
            print_json("machines", &machines.to_json());
            return Ok(None);
        }
        sides.tell();
        Ok(Some(machines.page()))
    }
}

/// Of longer pages that is said.
const MUCH: usize = 30 << 20;

/// The day on which the line of each name came, as far as the records go.
fn came(records: &[ChangeRecord]) -> HashMap<BString, Day> {
    let mut came = HashMap::new();
    for record in records {
        let Some(day) = record.day() else { continue };
        for edit in record.told.edits.iter().filter(|edit| edit.file == File::Passwd) {
            let name = |line: &Option<BString>| {
                line.as_ref().and_then(|line| Passwd::read(line).map(|user| user.name.into()))
            };
            match (name(&edit.before), name(&edit.after)) {
                (None, Some(new)) => _ = came.insert(new, day),
                // Who gets another name has been there under the first.
                (Some(old), Some(new)) if old != new => {
                    if let Some(day) = came.remove::<BString>(&old) {
                        came.insert(new, day);
                    }
                }
                // It stays what it is called, or it goes: who is gone is not asked after.
                (Some(_), _) | (None, None) => {}
            }
        }
    }
    came
}

/// What the records lack, in words.
fn gaps(records: &[ChangeRecord]) -> Vec<String> {
    let mut notes = Vec::new();
    let mut numbers: Vec<u64> = records.iter().map(|record| record.number).collect();
    numbers.sort_unstable();
    for pair in numbers.windows(2) {
        match pair[1] - pair[0] {
            0 | 1 => {}
            2 => notes.push(format!("the record of change {} is gone", pair[0] + 1)),
            _ => notes.push(format!(
                "the records of changes {} to {} are gone",
                pair[0] + 1,
                pair[1] - 1
            )),
        }
    }
    if let Some(first) = numbers.first().filter(|first| **first > 1) {
        notes.push(format!(
            "the records go back to change {first}: what was done before is not told"
        ));
    }
    let went_back = records.windows(2).filter(|pair| {
        let times = [&pair[0].time, &pair[1].time];
        let [one, next] = times.map(|time| time.parse::<jiff::Timestamp>().ok());
        one.zip(next).is_some_and(|(one, next)| next < one)
    });
    let went_back: Vec<u64> = went_back.map(|pair| pair[1].number).collect();
    if let Some(first) = went_back.first() {
        notes.push(format!(
            "the clock went back before change {first}: the order of the changes is that of their numbers"
        ));
    }
    notes
}

/// Where the page goes.
enum Target {
    /// Standard output.
    Out,
    /// A file, which is there already where that was agreed to.
    File(PathBuf, Existing),
}

impl Target {
    /// Looks at where the page is to go before it is made.
    fn of(global: &Global, to: Option<&Path>) -> Result<Self> {
        let at_a_terminal = std::io::stdout().is_terminal();
        match to {
            Some(_) if global.json() => {
                let message =
                    "--to is for the page; with --format json the data goes to standard output";
                Err(Failure::new(USAGE, "usage", message))
            }
            None if at_a_terminal && !global.json() => {
                let message = "a page is nothing to read on a terminal: name a file for it";
                Err(Failure::new(USAGE, "usage", message)
                    .or("write it to report.html", "report --to report.html"))
            }
            None => Ok(Target::Out),
            Some(path) if path == Path::new("-") => Ok(Target::Out),
            Some(path) => Ok(Target::File(path.to_owned(), Existing::ask(global, path)?)),
        }
    }

    fn write(&self, global: &Global, page: &str) -> Result<()> {
        match self {
            Target::Out => {
                crate::output::print_lines(page);
                Ok(())
            }
            Target::File(path, existing) => {
                write_private(path, page.as_bytes(), *existing)?;
                if !global.quiet {
                    outln!("{}: {} bytes", path.display(), page.len());
                    outln!("open it with a browser; nobody but its owner can read it");
                    if page.len() > MUCH {
                        let data = global.command("report --format json");
                        errln!("it is more than a browser shows at ease; the same as data: {data}");
                    }
                }
                Ok(())
            }
        }
    }
}
