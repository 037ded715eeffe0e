//! `trace`.

use std::ffi::OsString;
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::sync::Mutex;

use bstr::{BStr, BString, ByteSlice};
use nest_core::account::lines_about;
use nest_core::group_account::{GroupIndex, lines_about_group};
use nest_core::surroundings::Surroundings;
use nest_core::trace::{IdFilter, Tally, TraceReport, report};
use nest_core::value::{Gid, TreePath, Uid, UserOrGroup, read_plain_id};
use nest_host::store::Loaded;
use nest_host::surroundings::World;
use nest_host::walk::{self, Met, Unseen, walk};

use super::{
    Failure, Global, REFUSED, Result, Session, UNTOUCHED, USAGE, bytes, read_id, show_group,
    show_user,
};
use crate::view;
use crate::view::groups;
use crate::view::trace::{Mentions, ShownTrace};

/// Find where an account lives on: files on disk, and places that name it.
///
/// Looks through every local file system of the tree, or below the paths given.
/// File systems of the kernel and of the network are left out, and named.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct TraceArgs {
    #[command(subcommand)]
    what: IdKind,
}

const EXAMPLES: &str = "Examples:
  copper-nest trace user perrin
  copper-nest trace orphans /srv --files --null --outside | xargs -0 ls -ld";

const USER: &str = "Examples:
  copper-nest trace user perrin
  copper-nest trace user tavish /srv /home --files";

const GROUP: &str = "Examples:
  copper-nest trace group slipway
  copper-nest trace group divers /srv --files";

const ID: &str = "Examples:
  copper-nest trace id 1044
  copper-nest trace id 1044 /srv --stay --format json";

const ORPHANS: &str = "Examples:
  copper-nest trace orphans
  copper-nest trace orphans /srv --files --null --outside | xargs -0 ls -ld";

#[derive(Debug, clap::Subcommand)]
enum IdKind {
    /// Files of a user and of the user's own group, of one that was deleted too, and places
    /// that name it.
    #[command(after_help = USER, visible_alias = "account")]
    User {
        /// The login name, or the uid.
        #[arg(value_name = "NAME|UID")]
        name: OsString,
        #[command(flatten)]
        places: Places,
    },
    /// Files of a group, of one that was deleted too, and places that name it.
    #[command(after_help = GROUP)]
    Group {
        /// The name, or the gid.
        #[arg(value_name = "NAME|GID")]
        name: OsString,
        #[command(flatten)]
        places: Places,
    },
    /// Files that carry a number as owner or group.
    #[command(after_help = ID)]
    Id {
        /// The number.
        #[arg(value_name = "NUMBER")]
        number: String,
        #[command(flatten)]
        places: Places,
    },
    /// Files whose owner or group is a number that nobody holds.
    #[command(after_help = ORPHANS)]
    Orphans {
        #[command(flatten)]
        places: Places,
    },
}

/// Where to look, and how to tell.
#[derive(Debug, clap::Args)]
#[group(skip)]
struct Places {
    /// Where to look, as paths in the tree; everywhere without one.
    #[arg(value_name = "PATH")]
    paths: Vec<OsString>,
    /// Stay on the file system of each path.
    #[arg(long)]
    stay: bool,
    /// List every path.
    #[arg(long)]
    files: bool,
    /// End each path with a byte 0 instead of a line end; for pipes.
    #[arg(long, requires = "files")]
    null: bool,
    /// List each path as it is outside the tree, for programs that know nothing of it.
    #[arg(long, requires = "files")]
    outside: bool,
}

impl TraceArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let (IdKind::User { places, .. }
        | IdKind::Group { places, .. }
        | IdKind::Id { places, .. }
        | IdKind::Orphans { places }) = &self.what;
        if places.null && global.json() {
            let message = "--null and --format json are two forms of one list: give one of them";
            return Err(Failure::new(USAGE, "usage", message));
        }
        let session = Session::open(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let world = session.world_to_look_at()?;
        let context = session.context(&loaded, &world);
        let (title, filter, mentions) = match &self.what {
            IdKind::User { name, .. } => {
                let name: BString = bytes(name);
                let (name, uids, gids) = find(&session, &loaded, &world, name.as_ref())?;
                let mentions = mentions(&loaded, &world, name.as_ref(), uids.first().copied());
                let title = match uids.first() {
                    Some(uid) => format!("{name}, uid {uid}"),
                    None => name.to_string(),
                };
                (title, IdFilter::Ids { uids, gids }, Some(mentions))
            }
            IdKind::Group { name, .. } => {
                let name: BString = bytes(name);
                let (name, gids) = find_group(&loaded, &world, name.as_ref())?;
                let title = match gids.first() {
                    Some(gid) => format!("{name}, gid {gid}"),
                    None => name.to_string(),
                };
                let mentions = mentions_of_group(&session, &loaded, &world, name.as_ref());
                (title, IdFilter::Ids { uids: Vec::new(), gids }, Some(mentions))
            }
            IdKind::Id { number, .. } => {
                let id = read_id("id", number)?;
                (
                    format!("id {id}"),
                    IdFilter::Ids { uids: vec![Uid(id)], gids: vec![Gid(id)] },
                    None,
                )
            }
            IdKind::Orphans { .. } => {
                ("files that nobody owns".to_owned(), IdFilter::orphans(&loaded.book), None)
            }
        };
        let (matched, unseen) = look(&session, &filter, places)?;
        let report = report(context, &filter, &matched.tally).map_err(|why| {
            let message =
                format!("the system's name services gave no answer, which is not a no: {why}");
            Failure::new(UNTOUCHED, "name-service", message)
        })?;
        let mut files = matched.counted(&filter, &report);
        if places.outside && !session.tree.is_live() {
            let root = session.tree.path().as_os_str().as_bytes().trim_end_with(|c| c == '/');
            files.iter_mut().for_each(|path| *path = [root, &path[..]].concat().into());
        }
        if places.null {
            return print_null(&files);
        }
        let orphans = matches!(filter, IdFilter::Orphans { .. });
        let shown = ShownTrace { title, report, mentions, unseen, files, orphans };
        let all = places.files;
        if global.json() {
            view::print_json("trace", &view::trace::to_json(&shown, all));
        } else {
            view::trace::print(global, &shown, all);
        }
        Ok(0)
    }
}

/// What was caught.
#[derive(Default)]
struct MatchedFiles {
    tally: Tally,
    /// Path, owner and group; only where the paths are wanted.
    files: Vec<(BString, u32, u32)>,
}

impl MatchedFiles {
    /// The paths of what counts, sorted.
    fn counted(self, filter: &IdFilter, report: &TraceReport) -> Vec<BString> {
        let counts = |(path, uid, gid)| report.counts(filter, uid, gid).then_some(path);
        let mut files: Vec<BString> = self.files.into_iter().filter_map(counts).collect();
        files.sort_unstable();
        files
    }
}

/// Walks, and gathers what the net catches.
fn look(
    session: &Session<'_>,
    filter: &IdFilter,
    places: &Places,
) -> Result<(MatchedFiles, Unseen)> {
    let paths =
        places.paths.iter().map(|path| check_path(session, bytes::<BString>(path).as_ref()));
    let paths: Vec<TreePath> = paths.collect::<Result<_, _>>()?;
    let matched = Mutex::new(MatchedFiles::default());
    let want_files = places.files;
    let tell = |met: &Met<'_>| {
        let (uid, gid) = (met.status.uid, met.status.gid);
        if !filter.catches(Uid(uid), Gid(gid)) {
            return;
        }
        let mut matched = matched.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        matched.tally.add(met.directory, uid, gid, met.status.bytes());
        if want_files {
            matched.files.push((met.path().into(), uid, gid));
        }
    };
    let scope = walk::WalkScope { paths: &paths, stay: places.stay, ..walk::WalkScope::default() };
    let unseen = walk(&session.tree, scope, &tell).map_err(|(path, error)| {
        let message = format!("{path} can't be looked through: {error}");
        Failure::new(REFUSED, "no-path", message)
    })?;
    Ok((matched.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner()), unseen))
}

/// The path, where there is such a place in the tree.
fn check_path(session: &Session<'_>, path: &BStr) -> Result<TreePath> {
    use nest_core::surroundings::Site;
    let no = |fault: String| {
        let message = format!("{path} {fault}; paths are those in the tree");
        Err(Failure::new(REFUSED, "no-path", message))
    };
    if !path.starts_with(b"/") {
        return no("is not absolute; it has to begin with /".into());
    }
    let Some(plain) = TreePath::new(path) else {
        return no("goes through ..; give the path that it leads to".into());
    };
    match session.world_to_look_at()?.site(path) {
        Site::Taken(_) => Ok(plain),
        Site::ThroughLink { link, real } => {
            no(format!("goes through the link {link}; give the path it leads to, {real}"))
        }
        Site::Unknown(why) => no(format!("can't be looked at: {why}")),
        _ => no("does not exist".into()),
    }
}

/// A user and its numbers: one of the files, or one that was deleted.
fn find(
    session: &Session<'_>,
    loaded: &Loaded,
    world: &World<'_>,
    name: &BStr,
) -> Result<(BString, Vec<Uid>, Vec<Gid>)> {
    let book = &loaded.book;
    if let Some(user) = show_user::find(book, name) {
        let own = book.group(user.name).and_then(|(_, group)| group.gid());
        return Ok((user.name.into(), user.uid().into_iter().collect(), own.into_iter().collect()));
    }
    let kept = session.kept()?;
    let id = read_plain_id(name);
    let of_user = kept.iter().filter(|account| account.kept.thing == UserOrGroup::User);
    let of_name: Vec<_> = of_user
        .filter(|account| account.kept.name == name || Some(account.kept.id) == id)
        .collect();
    let mut uids: Vec<Uid> = of_name.iter().map(|account| Uid(account.kept.id)).collect();
    // Purged ones are known by their numbers alone.
    let retired = world.retired();
    uids.extend(retired.users.iter().filter(|id| id.name == name).map(|id| Uid(id.id)));
    uids.sort_unstable();
    uids.dedup();
    if uids.is_empty() {
        return Err(show_user::no_user(book, world, name));
    }
    let gids = retired.groups.iter().filter(|id| id.name == name).map(|id| id.id);
    let name = of_name.first().map_or(name.to_owned(), |account| account.kept.name.clone());
    Ok((name, uids, gids.map(Gid).collect()))
}

/// A group and its numbers: one of the files, or one that was deleted.
fn find_group(loaded: &Loaded, world: &World<'_>, name: &BStr) -> Result<(BString, Vec<Gid>)> {
    let book = &loaded.book;
    if let Some(group) = show_group::find(book, name) {
        return Ok((group.name.into(), group.gid().into_iter().collect()));
    }
    let id = read_plain_id(name);
    let retired = world.retired().groups.iter();
    let of_name: Vec<_> =
        retired.filter(|group| group.name == name || Some(group.id) == id).collect();
    match of_name.first() {
        None => Err(show_group::no_group(book, world, name)),
        Some(first) => {
            Ok((first.name.clone(), of_name.iter().map(|group| Gid(group.id)).collect()))
        }
    }
}

/// The places that name a group.
fn mentions_of_group(
    session: &Session<'_>,
    loaded: &Loaded,
    world: &World<'_>,
    name: &BStr,
) -> Mentions {
    let book = &loaded.book;
    let group = book.group(name).map(|(_, group)| {
        let account = GroupIndex::new(book, &session.policy).gather(group);
        lines_about_group(book, &account, groups::most_lines())
    });
    Mentions {
        lines: group.unwrap_or_default(),
        places: world.mentions_of_group(name),
        files: Vec::new(),
        running: Vec::new(),
    }
}

/// The places that name a user.
fn mentions(loaded: &Loaded, world: &World<'_>, name: &BStr, uid: Option<Uid>) -> Mentions {
    let lines = loaded.book.user(name).map(|(_, user)| lines_about(&loaded.book, &user));
    let mut files = Vec::new();
    for path in [
        format!("/var/spool/cron/crontabs/{name}"),
        format!("/var/spool/cron/{name}"),
        format!("/var/mail/{name}"),
    ] {
        if let Ok(Some(_)) = world.facts(path.as_str().into()) {
            files.push(path);
        }
    }
    let running = uid.map(|uid| world.left_running(name, uid)).unwrap_or_default();
    Mentions {
        lines: lines.unwrap_or_default(),
        places: world.mentions_of_user(name),
        files,
        running,
    }
}

fn print_null(files: &[BString]) -> Result {
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    for path in files {
        // A pipe that was closed early has had enough.
        if out.write_all(path).and_then(|()| out.write_all(&[0])).is_err() {
            return Ok(0);
        }
    }
    let _ = out.flush();
    Ok(0)
}
