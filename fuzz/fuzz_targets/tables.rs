//! The six tables with edits, and every rule over them.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use nest_core::book::{Book, Texts};
use nest_core::secret::shown;
use nest_core::table::{Edit, Excerpter, File, Lines, holding_both, order};

fuzz_target!(|data: &[u8]| {
    // The first byte says how the rest is edited, a byte 0xff ends a file.
    let Some((&how, data)) = data.split_first() else { return };
    let mut parts = data.split(|&byte| byte == 0xff);
    let mut texts = Texts::default();
    for file in File::ALL {
        let text = parts.next().unwrap_or_default().to_vec();
        edit(file, &text, how);
        texts.set(file, Arc::new(text));
    }
    let book = Book::new(texts);
    for (_, user) in book.users.records() {
        let _ = (book.user(user.name), book.shadow(user.name), book.groups_listing(user.name));
        let _ = user.uid().and_then(|uid| book.user_by_uid(uid));
    }
});

fn edit(file: File, text: &[u8], how: u8) {
    let lines = Lines::new(file, Arc::new(text.to_vec()));
    assert_eq!(lines.rewrite(&[]).bytes(text), text);
    let mut excerpter = Excerpter::new(file, &[b"maren:".to_vec()], true);
    text.chunks(usize::from(how % 13) + 1).for_each(|piece| excerpter.feed(piece));
    let part = excerpter.finish();
    assert_eq!(part.insertion(), lines.insertion());
    assert_eq!(part.file_length(), text.len());
    let found = |lines: &Lines| lines.named(b"maren").map(|line| lines.number(line.start)).collect();
    let (whole, excerpt): (Vec<usize>, Vec<usize>) = (found(&lines), found(&part));
    assert_eq!(whole, excerpt);
    if lines.len() == 0 {
        return;
    }
    let line = lines.get(usize::from(how) % lines.len());
    let _ = shown(file, line.bytes);
    let edits: Vec<Edit> = match how % 3 {
        0 => vec![lines.replacing(line, b"new:x:7:7:::".to_vec())],
        1 => vec![lines.removing(line)],
        _ => {
            let (at, number) = lines.insertion();
            let after = Some("new:x:7:7:::".into());
            vec![Edit { file, line: number, before: None, after, range: at..at }]
        }
    };
    let _ = order(&edits);
    let all: Vec<&Edit> = edits.iter().collect();
    let both = holding_both(&all);
    let _ = lines.rewrite(&both.iter().collect::<Vec<_>>()).bytes(text);
    let new = lines.rewrite(&all).bytes(text);
    let after = Lines::new(file, Arc::new(new));
    let kept = lines.iter().filter(|kept| how % 3 == 2 || kept.start != line.start);
    let mut others = after.iter().map(|line| line.bytes);
    for kept in kept {
        assert!(others.any(|other| other == kept.bytes), "a line was lost");
    }
}
