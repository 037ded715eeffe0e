use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering::Relaxed;

use proptest::prelude::*;

use super::*;
use crate::book::Texts;
use crate::book::tests::book;
use crate::check::{Finding, Selection, check_prefiltered};
use crate::policy::Policy;
use crate::table::source::tests::Slow;
use crate::table::{Lines, Text, TextSource};
use crate::test_support::World;
use crate::value::Day;

fn odd(file: File, text: &str) -> Vec<usize> {
    let book = book(&[(file, text)]);
    let (policy, world, today) = (Policy::default(), World::default(), Day(20_781));
    let context = PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
    let lines = book.lines(file).unwrap();
    Prefilter::of(context).lines(&book, file).map(|line| lines.number(line.start)).collect()
}

#[test]
fn only_what_may_be_wrong_is_left() {
    let none: [usize; 0] = [];
    let passwd = "maren:x:1004:1004::/home/maren:/bin/sh\n\n# crew\n";
    assert_eq!(odd(File::Passwd, passwd), none);
    let passwd = "Maren:x:1004:1004:::\na::1004:1004:::\na:x:0:1:::\na:x:1004:0:::\n\
                  a:x:01004:7:::\na:x:5:7:::\n+a\n b:x:1004:7:::\na:x:1004:7:::\r\na:x:1004\n";
    assert_eq!(odd(File::Passwd, passwd), (1..=10).collect::<Vec<_>>());
    assert_eq!(
        odd(
            File::Shadow,
            "a:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0:9:7:::\nb:*:::::::\n"
        ),
        none
    );
    let shadow = "a::1:::::\na:$1$a$b:1::::::\na:!:20782::::::\na:!:1:9:8::::\na:!:1:-1:::::\n";
    assert_eq!(odd(File::Shadow, shadow), [1, 2, 3, 4, 5]);
    assert_eq!(odd(File::Subuid, "a:4294967295:2\na:1:0\na:1:2\n"), [1, 2]);
}

/// What is found in these files.
fn swept(texts: Texts) -> Vec<Finding> {
    let (book, policy, world) = (Book::new(texts), Policy::default(), World::default());
    let (today, change) = (Day(20_781), None);
    let context = PlanContext { book: &book, policy: &policy, world: &world, today, change };
    check_prefiltered(context, &Selection::default(), &Prefilter::of(context)).findings
}

/// A text of which nothing is left when it was read so often.
struct Shrinking(Vec<u8>, AtomicUsize);

impl TextSource for Shrinking {
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
fn leaving_every_line(context: PlanContext<'_>) -> Prefilter {
    let starts = |file| -> Vec<u32> {
        let lines = context.book.lines(file).into_iter().flat_map(|lines| lines.iter());
        lines.map(|line| line.start as u32).collect()
    };
    let mut prefilter = Prefilter { odd: File::ALL.map(starts), ..Prefilter::default() };
    prefilter.add_odd(context.book);
    // As if there were something to find in each number and each list.
    (prefilter.uid_twice, prefilter.gid_twice, prefilter.other_home) = (true, true, true);
    (prefilter.overlapping, prefilter.covering, prefilter.nul) = ([true; 2], [true; 2], [true; 6]);
    (prefilter.lists, prefilter.differing) = (starts(File::Group), starts(File::Group));
    prefilter.unowned = [starts(File::Subuid), starts(File::Subgid)];
    prefilter.primary.insert(4_000_000_000);
    prefilter.gids.insert(4_000_000_001);
    prefilter
}

/// Lines like those of the files, most of them with something about them.
fn text(file: File) -> impl Strategy<Value = String> {
    let name = prop_oneof!["[a-c]", "[a-cA-C+# é-][a-b0]?", "[0-9]", Just(String::new())];
    let number = prop_oneof!["[0-9]", "100[0-9]", "0[0-9]", "[0-9]{9,11}", "-1", "2078[0-9]", ""];
    let field = prop_oneof![
        2 => "x|!|\\*|!!",
        2 => number.clone(),
        1 => "\\$[1-7y]\\$[a-b]{1,2}\\$[a-b]{3}|[a-b0-9/.]{13}|_[a-b]{19}",
        1 => "",
        1 => "/home/[a-c]|/bin/sh|[a-c],[a-c]",
    ];
    let fields = file.fields();
    let rest = proptest::collection::vec(prop_oneof![2 => field, 3 => number], fields - 2..=fields);
    let line = (name, rest, prop_oneof![8 => "", 1 => "[ \r\t]"])
        .prop_map(|(name, rest, end)| format!("{name}:{}{end}\n", rest.join(":")));
    proptest::collection::vec(line, 0..6).prop_map(|lines| lines.concat())
}

/// All six files; the last two are often the same.
fn texts() -> impl Strategy<Value = Vec<(File, String)>> {
    let all = File::ALL.map(|file| text(file).prop_map(move |text| (file, text)));
    (Vec::from(all), any::<bool>()).prop_map(|(mut all, alike)| {
        if alike {
            all[5].1 = all[4].1.clone();
        }
        all
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// What the sweep leaves out would not have been found either.
    #[test]
    fn nothing_is_missed(texts in texts()) {
        let texts: Vec<(File, &str)> =
            texts.iter().map(|(file, text)| (*file, text.as_str())).collect();
        let book = book(&texts);
        let (policy, world, today) = (Policy::default(), World::default(), Day(20_781));
        let context = PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
        let found = |prefilter: &Prefilter| -> Vec<String> {
            let report = check_prefiltered(context, &Selection::default(), prefilter);
            report.findings.iter().map(|finding| format!("{finding:?}")).collect()
        };
        prop_assert_eq!(found(&Prefilter::of(context)), found(&leaving_every_line(context)));
    }

    /// What is read when it is wanted has the findings of what is held.
    #[test]
    fn files_need_not_be_held(texts in texts()) {
        let found = |hold: bool| -> Vec<String> {
            let mut all = Texts::default();
            for (file, text) in &texts {
                let bytes = text.as_bytes().to_vec();
                match hold {
                    true => all.set(*file, Arc::new(bytes)),
                    false => all.set_lines(Lines::unread(*file, Arc::new(Slow(bytes)))),
                }
            }
            swept(all).iter().map(|finding| format!("{finding:?}")).collect()
        };
        prop_assert_eq!(found(false), found(true));
    }

    /// A file that shrinks while it is read leads to some answer all the same.
    #[test]
    fn a_file_that_shrinks_does_no_harm(
        texts in texts(),
        shrinks in proptest::collection::vec(any::<bool>(), 6),
        after in 0usize..4,
    ) {
        let mut all = Texts::default();
        for ((file, text), shrinks) in texts.into_iter().zip(shrinks) {
            let after = if shrinks { after } else { usize::MAX };
            let source = Shrinking(text.into_bytes(), AtomicUsize::new(after));
            all.set_lines(Lines::unread(file, Arc::new(source)));
        }
        prop_assert!(swept(all).iter().all(|finding| finding.line < 100));
    }
}
