//! One sweep over the files for all the rules that look at single lines. It leaves
//! them the few lines that are not as nearly all are; of the others none of these
//! rules has anything to say.

use rayon::prelude::*;

use super::duplicates::is_own_home;
use crate::allot::IdSet;
use crate::book::Book;
use crate::plan::Ground;
use crate::policy::Policy;
use crate::table::{File, Group, Line, Passwd, Record, Row, each_line};
use crate::value::{PasswordField, read_id, read_plain_id};

/// Where the lines begin that rules have to look at, and the numbers that all lines
/// hold.
#[derive(Default)]
pub(super) struct Screen {
    odd: [Vec<u32>; 6],
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
    /// The lines of group and of gshadow that list members.
    listing: [Vec<u32>; 2],
}

/// What one part of a file came to: two sets of numbers, of passwd or of group.
#[derive(Default)]
struct Part {
    odd: Vec<u32>,
    ids: IdSet,
    twice: bool,
    primary: IdSet,
    other_home: bool,
    listing: Vec<u32>,
}

impl Screen {
    /// Sweeps over the files.
    pub fn of(ground: Ground<'_>) -> Self {
        let mut screen = Screen::default();
        for file in File::ALL {
            let Some(lines) = ground.book.lines(file) else { continue };
            let parts: Vec<Part> =
                lines.parts().map(|(from, text)| sweep(file, from, text, ground)).collect();
            let (mut ids, mut twice) = (IdSet::default(), false);
            for part in parts {
                screen.odd[file as usize].extend(part.odd);
                twice |= part.twice | !ids.extend(&part.ids);
                screen.primary.extend(&part.primary);
                screen.other_home |= part.other_home;
                if file.is_of_groups() {
                    screen.listing[usize::from(file == File::Gshadow)].extend(part.listing);
                }
            }
            match file {
                File::Passwd => (screen.uids, screen.uid_twice) = (ids, twice),
                File::Group => (screen.gids, screen.gid_twice) = (ids, twice),
                _ => {}
            }
        }
        screen.add_odd(ground.book);
        screen
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

    /// Where the records of group or of gshadow begin that list members, in order.
    pub fn listing(&self, file: File) -> &[u32] {
        &self.listing[usize::from(file == File::Gshadow)]
    }

    /// The lines of a file that are to be looked at, in order.
    pub fn lines<'b>(&self, book: &'b Book, file: File) -> impl Iterator<Item = Line<'b>> {
        let all = book.lines(file);
        self.odd[file as usize].iter().filter_map(move |start| Some(all?.around(*start as usize)))
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

fn sweep(file: File, from: usize, text: &[u8], ground: Ground<'_>) -> Part {
    let mut part = Part::default();
    each_line(text, |row| {
        if matches!(row.line.first(), None | Some(b'#')) {
            return;
        }
        let start = (from + row.start) as u32;
        let lists = file.is_of_groups() && row.field(3).is_none_or(|members| !members.is_empty());
        if lists && (Line { bytes: row.line, start: 0 }).is_record() {
            part.listing.push(start);
        }
        if !is_plain(file, row, ground) {
            part.odd.push(start);
            return;
        }
        let id = |at| row.field(at).and_then(read_plain_id);
        match (file, id(2)) {
            (File::Passwd, Some(uid)) => {
                part.twice |= !part.ids.insert(uid);
                let (name, home) = (row.field(0), row.field(5));
                part.other_home |= !is_own_home(name.unwrap_or(b""), home.unwrap_or(b""));
                id(3).map(|gid| part.primary.insert(gid));
            }
            (File::Group, Some(gid)) => part.twice |= !part.ids.insert(gid),
            _ => {}
        }
    });
    part
}

/// Whether a line is a record in which no rule about single lines finds anything.
/// That it says no is no finding yet.
#[inline(always)]
fn is_plain(file: File, row: Row<'_>, ground: Ground<'_>) -> bool {
    let line = row.line;
    if row.count() != file.fields() || matches!(line.last(), Some(b' ' | b'\t' | b'\r')) {
        return false;
    }
    let field = |at| row.field(at).unwrap_or_default();
    plain_name(field(0))
        && match file {
            File::Passwd => {
                field(1) == b"x" && is_person(ground.policy, field(2)) && number(field(3))
            }
            File::Group => field(1) == b"x" && number(field(2)),
            File::Gshadow => matches!(field(1), b"!" | b"*"),
            File::Shadow => plain_shadow(row, ground.today.0),
            File::Subuid | File::Subgid => plain_range(field(1), field(2)),
        }
}

fn plain_name(name: &[u8]) -> bool {
    let fits = |byte: &u8| matches!(byte, b'a'..=b'z' | b'0'..=b'9' | b'_' | b'-');
    name.len() <= 32 && matches!(name.first(), Some(b'a'..=b'z' | b'_')) && name.iter().all(fits)
}

/// Whether an id is plainly written, not that of root, and far from the largest.
fn number(text: &[u8]) -> bool {
    text.len() < 10 && read_plain_id(text).is_some_and(|id| id != 0)
}

fn is_person(policy: &Policy, uid: &[u8]) -> bool {
    number(uid) && read_plain_id(uid).is_some_and(|uid| policy.is_person(uid))
}

fn plain_shadow(row: Row<'_>, today: i64) -> bool {
    let field = |at| row.field(at).unwrap_or_default();
    let password = field(1);
    let strong = [&b"$y$"[..], b"$6$", b"$5$", b"$7$", b"$2", b"$gy$"];
    let is_strong = || strong.iter().any(|scheme| password.starts_with(scheme));
    let days = |at| match field(at) {
        b"" => Some(None),
        text if text.len() < 10 => read_plain_id(text).map(|days| Some(i64::from(days))),
        _ => None,
    };
    let (Some(changed), Some(hold), Some(renew)) = (days(2), days(3), days(4)) else {
        return false;
    };
    // Of a line with too many fields the last one holds the rest.
    field(8).is_empty()
        && !password.is_empty()
        && (is_strong() || PasswordField::is_harmless(password))
        && (5..8).all(|at| days(at).is_some())
        && changed.is_none_or(|changed| changed <= today)
        && hold.zip(renew).is_none_or(|(hold, renew)| hold <= renew)
}

fn plain_range(first: &[u8], count: &[u8]) -> bool {
    let (Some(first), Some(count)) = (read_plain_id(first), read_plain_id(count)) else {
        return false;
    };
    count > 0 && first.checked_add(count).is_some()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::book::tests::book;
    use crate::check::{Selection, check_screened};
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

    /// Every line, as if each were to be looked at.
    fn everything(ground: Ground<'_>) -> Screen {
        let starts = |file| -> Vec<u32> {
            let lines = ground.book.lines(file).into_iter().flat_map(|lines| lines.iter());
            lines.map(|line| line.start as u32).collect()
        };
        let mut screen = Screen { odd: File::ALL.map(starts), ..Screen::default() };
        screen.add_odd(ground.book);
        // As if there were something to find in each number.
        (screen.uid_twice, screen.gid_twice, screen.other_home) = (true, true, true);
        screen.listing = [File::Group, File::Gshadow].map(|file| {
            let lines = ground.book.lines(file).into_iter().flat_map(|lines| lines.iter());
            lines.filter(Line::is_record).map(|line| line.start as u32).collect()
        });
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
        ) {
            let book = book(&[
                (File::Passwd, &passwd),
                (File::Shadow, &shadow),
                (File::Group, &group),
                (File::Gshadow, &gshadow),
                (File::Subuid, &subuid),
            ]);
            let (policy, world, today) = (Policy::default(), World::default(), Day(20_781));
            let ground = Ground { book: &book, policy: &policy, world: &world, today, change: None };
            let found = |screen: &Screen| -> Vec<String> {
                let report = check_screened(ground, &Selection::default(), screen);
                report.findings.iter().map(|finding| format!("{finding:?}")).collect()
            };
            prop_assert_eq!(found(&Screen::of(ground)), found(&everything(ground)));
        }
    }
}
