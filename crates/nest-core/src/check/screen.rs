//! One sweep over the files for all rules that go through them line by line. It leaves
//! them the few lines that are not as nearly all are; of the others none of these rules
//! has anything to say.

use std::collections::HashMap;

use rayon::prelude::*;

use super::duplicates::is_own_home;
use super::roll::Roll;
use super::spans::Spans;
use super::sweep::{Part, sweep, sweep_users};
use crate::allot::IdSet;
use crate::book::Book;
use crate::plan::Ground;
use crate::table::{File, Group, Keying, Line, Names, Passwd, Record};
use crate::value::read_id;

/// Where the lines begin that rules have to look at, and the numbers that all lines
/// hold.
#[derive(Default)]
pub(super) struct Screen {
    odd: [Vec<u32>; 6],
    /// Whether there are NUL bytes in a file.
    nul: [bool; 6],
    /// The uids of users.
    pub uids: IdSet,
    /// Whether two users have the same.
    pub uid_twice: bool,
    /// The gids of their primary groups.
    pub primary: IdSet,
    /// The gids of groups.
    pub gids: IdSet,
    /// Whether two groups have the same.
    pub gid_twice: bool,
    /// Uids and gids, those of malformed lines too.
    pub held: IdSet,
    /// Whether somebody has a home that is not named after its user.
    pub other_home: bool,
    /// Groups that list somebody twice, or who has no account, or whose primary group
    /// it is; or that may.
    pub lists: Vec<u32>,
    /// Groups whose members differ from those in gshadow, or may.
    pub differing: Vec<u32>,
    /// Ranges of a name that no user has, of uids and of gids.
    pub unowned: [Vec<u32>; 2],
    /// Whether two ranges of a file have ids in common.
    pub overlapping: [bool; 2],
    /// Whether a range of a file has a number that a user or a group has.
    pub covering: [bool; 2],
}

/// The files of ranges.
const RANGES: [File; 2] = [File::Subuid, File::Subgid];

impl Screen {
    /// Sweeps over the files, and leaves the book an index of its names.
    pub fn of(ground: Ground<'_>) -> Self {
        let (mut screen, book) = (Screen::default(), ground.book);
        let (keying, named) = (Keying::default(), book.named_files());
        let mut users: Vec<Part> = book.users.lines().sweep(Part::default, |part, from, text| {
            sweep_users(part, from, text, ground, &keying);
        });
        let keys: Vec<_> = users.iter_mut().map(|part| std::mem::take(&mut part.keys)).collect();
        let mut names = Names::of_users(keying, &keys, named);
        drop(keys);
        let gids = users.iter().map(|part| &part.gids[..]).collect::<Vec<_>>().concat();
        screen.add(File::Passwd, users);

        // Nearly always the ranges of uids are those of gids too.
        let [uids, gids_too] = RANGES.map(|file| book.lines(file));
        let alike = uids.zip(gids_too).is_some_and(|(uids, gids)| uids.is_like(gids));
        let left_out = alike.then_some(File::Subgid);
        let mut parts = sweep_others(ground, &names, &gids, left_out);
        for file in [File::Group, File::Shadow, File::Gshadow] {
            let parts = parts.get_mut(&file).into_iter().flatten();
            let placed: Vec<_> = parts.map(|part| std::mem::take(&mut part.placed)).collect();
            names.settle(file, &placed, named);
        }
        let lists = parts.iter().filter(|(file, _)| file.is_of_groups());
        let any_list = lists.flat_map(|(_, parts)| parts).any(|part| part.lists);
        let ranges = if alike { [File::Subuid; 2] } else { RANGES };
        screen.unowned = ranges.map(|file| {
            let parts = parts.get(&file).into_iter().flatten();
            parts.flat_map(|part| part.placed.unowned()).collect()
        });
        let spans: [Vec<Spans>; 2] = RANGES.map(|file| {
            let parts = parts.get_mut(&file).into_iter().flatten();
            parts.map(|part| std::mem::take(&mut part.spans)).collect()
        });
        for (file, parts) in parts {
            screen.add(file, parts);
        }
        if alike {
            let [uids, gids] = RANGES.map(|file| file as usize);
            screen.odd[gids] = screen.odd[uids].clone();
            screen.nul[gids] = screen.nul[uids];
        }
        screen.add_odd(book);

        let lookup = names.with(named);
        let (differing, judged): (_, Vec<(bool, bool)>) = rayon::join(
            || if any_list { lookup.differing() } else { Vec::new() },
            || spans.into_par_iter().map(|spans| Spans::judge(&spans, &screen.held)).collect(),
        );
        let judged = if alike { vec![judged[0]; 2] } else { judged };
        screen.differing = differing;
        for (at, (overlapping, covering)) in judged.into_iter().enumerate() {
            (screen.overlapping[at], screen.covering[at]) = (overlapping, covering);
        }
        book.keep_names(names);
        screen
    }

    /// Adds what the parts of a file came to.
    fn add(&mut self, file: File, parts: Vec<Part>) {
        let (mut ids, mut twice) = (IdSet::default(), false);
        for part in parts {
            self.odd[file as usize].extend(part.odd);
            self.lists.extend(part.suspects);
            self.nul[file as usize] |= part.nul;
            twice |= part.twice | !ids.extend(&part.ids);
            self.primary.extend(&part.primary);
            self.other_home |= part.other_home;
        }
        match file {
            File::Passwd => (self.uids, self.uid_twice) = (ids, twice),
            File::Group => (self.gids, self.gid_twice) = (ids, twice),
            _ => {}
        }
    }

    /// Adds the numbers of the lines that are to be looked at.
    fn add_odd(&mut self, book: &Book) {
        let users: Vec<_> = self.records::<Passwd<'_>>(book, File::Passwd).collect();
        for (_, user) in users {
            self.uid_twice |= user.uid().is_some_and(|uid| !self.uids.insert(uid));
            user.gid().map(|gid| self.primary.insert(gid));
            self.other_home |= !is_own_home(user.name, user.home);
        }
        let groups: Vec<_> = self.records::<Group<'_>>(book, File::Group).collect();
        for (_, group) in groups {
            self.gid_twice |= group.gid().is_some_and(|gid| !self.gids.insert(gid));
        }
        self.held.extend(&self.uids);
        self.held.extend(&self.gids);
        for file in [File::Passwd, File::Group] {
            let lines: Vec<_> = self.lines(book, file).filter(Line::is_record).collect();
            for line in lines {
                let id = line.record().split(|byte| *byte == b':').nth(2).and_then(read_id);
                id.map(|id| self.held.insert(id));
            }
        }
    }

    /// Whether there are NUL bytes in a file.
    pub fn holds_nul(&self, file: File) -> bool {
        self.nul[file as usize]
    }

    /// The lines of a file that are to be looked at, in order.
    pub fn lines<'b>(&self, book: &'b Book, file: File) -> impl Iterator<Item = Line<'b>> {
        let all = book.lines(file);
        self.odd[file as usize].iter().filter_map(move |start| Some(all?.at(*start as usize)))
    }

    /// The well-formed records among them.
    pub fn records<'b, R: Record<'b>>(
        &self,
        book: &'b Book,
        file: File,
    ) -> impl Iterator<Item = (Line<'b>, R)> {
        let records = self.lines(book, file).filter(Line::is_record);
        records.filter_map(|line| Some((line, R::read(line.record())?)))
    }
}

/// Sweeps over all files but passwd and one that may be left out; names are looked up in
/// the index of the users.
fn sweep_others(
    ground: Ground<'_>,
    names: &Names,
    gids: &[u32],
    but: Option<File>,
) -> HashMap<File, Vec<Part>> {
    let named = ground.book.named_files();
    let sweep_all = |file: &File| -> (File, Vec<Part>) {
        let begin = || {
            let roll = Roll::new(&names.with(named), gids);
            (Part::default(), names.placer(*file, named), roll)
        };
        let parts = ground.book.lines(*file).map(|lines| {
            lines.sweep(begin, |(part, placer, roll), from, text| {
                sweep(*file, part, (placer, roll), from, text, ground);
            })
        });
        let parts = parts.unwrap_or_default().into_par_iter();
        (*file, parts.map(|(part, placer, roll)| part.finish(placer, roll)).collect())
    };
    File::ALL[1..].par_iter().filter(|file| Some(**file) != but).map(sweep_all).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

    use crate::book::Texts;
    use crate::book::tests::book;
    use crate::check::{Finding, Selection, check_screened};
    use crate::policy::Policy;
    use crate::table::source::tests::Slow;
    use crate::table::{Lines, Source, Text};
    use crate::test_support::World;
    use crate::value::Day;

    fn odd(file: File, text: &str) -> Vec<usize> {
        let book = book(&[(file, text)]);
        let (policy, world, today) = (Policy::default(), World::default(), Day(20_781));
        let ground = Ground { book: &book, policy: &policy, world: &world, today, change: None };
        let lines = book.lines(file).unwrap();
        Screen::of(ground).lines(&book, file).map(|line| lines.number(line.start)).collect()
    }

    #[test]
    fn only_what_may_be_wrong_is_left() {
        let none: [usize; 0] = [];
        let passwd = "maren:x:1004:1004::/home/maren:/bin/sh\n\n# crew\n";
        assert_eq!(odd(File::Passwd, passwd), none);
        let passwd = "Maren:x:1004:1004:::\na::1004:1004:::\na:x:0:1:::\na:x:1004:0:::\n\
                      a:x:01004:7:::\na:x:5:7:::\n+a\n b:x:1004:7:::\na:x:1004:7:::\r\na:x:1004\n";
        assert_eq!(odd(File::Passwd, passwd), (1..=10).collect::<Vec<_>>());
        assert_eq!(odd(File::Shadow, "a:$y$j9T$a$b:20781:0:9:7:::\nb:*:::::::\n"), none);
        let shadow = "a::1:::::\na:$1$a$b:1::::::\na:!:20782::::::\na:!:1:9:8::::\na:!:1:-1:::::\n";
        assert_eq!(odd(File::Shadow, shadow), [1, 2, 3, 4, 5]);
        assert_eq!(odd(File::Subuid, "a:4294967295:2\na:1:0\na:1:2\n"), [1, 2]);
    }

    /// What is found in these files.
    fn swept(texts: Texts) -> Vec<Finding> {
        let (book, policy, world) = (Book::new(texts), Policy::default(), World::default());
        let (today, change) = (Day(20_781), None);
        let ground = Ground { book: &book, policy: &policy, world: &world, today, change };
        check_screened(ground, &Selection::default(), &Screen::of(ground)).findings
    }

    /// A text of which nothing is left when it was read so often.
    struct Shrinking(Vec<u8>, AtomicUsize);

    impl Source for Shrinking {
        fn length(&self) -> usize {
            self.0.len()
        }

        fn read(&self, offset: usize, into: &mut [u8]) -> usize {
            let left = self.1.load(Relaxed);
            self.1.store(left.saturating_sub(1), Relaxed);
            let rest = self.0.get(offset..).filter(|_| left > 0).unwrap_or_default();
            let count = rest.len().min(into.len());
            into[..count].copy_from_slice(&rest[..count]);
            count
        }

        fn whole(&self) -> Text {
            Arc::new(vec![0; self.0.len()])
        }
    }

    /// Every line, as if each were to be looked at.
    fn everything(ground: Ground<'_>) -> Screen {
        let starts = |file| -> Vec<u32> {
            let lines = ground.book.lines(file).into_iter().flat_map(|lines| lines.iter());
            lines.map(|line| line.start as u32).collect()
        };
        let mut screen = Screen { odd: File::ALL.map(starts), ..Screen::default() };
        screen.add_odd(ground.book);
        // As if there were something to find in each number and each list.
        (screen.uid_twice, screen.gid_twice, screen.other_home) = (true, true, true);
        (screen.overlapping, screen.covering, screen.nul) = ([true; 2], [true; 2], [true; 6]);
        (screen.lists, screen.differing) = (starts(File::Group), starts(File::Group));
        screen.unowned = [starts(File::Subuid), starts(File::Subgid)];
        screen.primary.insert(4_000_000_000);
        screen.gids.insert(4_000_000_001);
        screen
    }

    /// Lines like those of the files, most of them with something about them.
    fn text(file: File) -> impl Strategy<Value = String> {
        let name = prop_oneof!["[a-c]", "[a-cA-C+# é-][a-b0]?", "[0-9]", Just(String::new())];
        let number =
            prop_oneof!["[0-9]", "100[0-9]", "0[0-9]", "[0-9]{9,11}", "-1", "2078[0-9]", ""];
        let field = prop_oneof![
            2 => "x|!|\\*|!!",
            2 => number.clone(),
            1 => "\\$[1-7y]\\$[a-b]{1,2}\\$[a-b]{3}|[a-b0-9/.]{13}|_[a-b]{19}",
            1 => "",
            1 => "/home/[a-c]|/bin/sh|[a-c],[a-c]",
        ];
        let fields = file.fields();
        let rest =
            proptest::collection::vec(prop_oneof![2 => field, 3 => number], fields - 2..=fields);
        let line = (name, rest, prop_oneof![8 => "", 1 => "[ \r\t]"])
            .prop_map(|(name, rest, end)| format!("{name}:{}{end}\n", rest.join(":")));
        proptest::collection::vec(line, 0..6).prop_map(|lines| lines.concat())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(400))]

        /// What the sweep leaves out would not have been found either.
        #[test]
        fn nothing_is_missed(
            passwd in text(File::Passwd),
            shadow in text(File::Shadow),
            group in text(File::Group),
            gshadow in text(File::Gshadow),
            subuid in text(File::Subuid),
            other in prop_oneof![Just(None), text(File::Subgid).prop_map(Some)],
        ) {
            let subgid = other.unwrap_or_else(|| subuid.clone());
            let book = book(&[
                (File::Passwd, &passwd),
                (File::Shadow, &shadow),
                (File::Group, &group),
                (File::Gshadow, &gshadow),
                (File::Subuid, &subuid),
                (File::Subgid, &subgid),
            ]);
            let (policy, world, today) = (Policy::default(), World::default(), Day(20_781));
            let ground = Ground { book: &book, policy: &policy, world: &world, today, change: None };
            let found = |screen: &Screen| -> Vec<String> {
                let report = check_screened(ground, &Selection::default(), screen);
                report.findings.iter().map(|finding| format!("{finding:?}")).collect()
            };
            prop_assert_eq!(found(&Screen::of(ground)), found(&everything(ground)));
        }

        /// What is read when it is wanted has the findings of what is held.
        #[test]
        fn files_need_not_be_held(
            passwd in text(File::Passwd),
            shadow in text(File::Shadow),
            subuid in text(File::Subuid),
            other in prop_oneof![Just(None), text(File::Subgid).prop_map(Some)],
        ) {
            let subgid = other.unwrap_or_else(|| subuid.clone());
            let held = [(File::Passwd, &passwd)];
            let read = [(File::Shadow, &shadow), (File::Subuid, &subuid), (File::Subgid, &subgid)];
            let found = |hold: bool| -> Vec<String> {
                let mut texts = Texts::default();
                for (file, text) in held.iter().chain(&read) {
                    let bytes = text.as_bytes().to_vec();
                    match hold || *file == File::Passwd {
                        true => texts.set(*file, Arc::new(bytes)),
                        false => texts.set_lines(Lines::unread(*file, Arc::new(Slow(bytes)))),
                    }
                }
                swept(texts).iter().map(|finding| format!("{finding:?}")).collect()
            };
            prop_assert_eq!(found(false), found(true));
        }

        /// A file that shrinks while it is read leads to some answer all the same.
        #[test]
        fn a_file_that_shrinks_does_no_harm(
            passwd in text(File::Passwd),
            shadow in text(File::Shadow),
            subuid in text(File::Subuid),
            after in 0usize..4,
        ) {
            let mut texts = Texts::default();
            texts.set(File::Passwd, Arc::new(passwd.into_bytes()));
            for (file, text) in [(File::Shadow, shadow), (File::Subuid, subuid)] {
                let source = Shrinking(text.into_bytes(), AtomicUsize::new(after));
                texts.set_lines(Lines::unread(file, Arc::new(source)));
            }
            prop_assert!(swept(texts).iter().all(|finding| finding.line < 100));
        }
    }
}
