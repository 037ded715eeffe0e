//! The pages that are made from the code are current. `UPDATE_DOCS=1 cargo test
//! docs` writes them anew.

use std::fmt::Write;
use std::path::PathBuf;

use nest_core::check::{Example, RULES};
use nest_core::policy::{KEYS, Policy};

fn docs(name: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name)
}

fn assert_current(name: &str, wanted: &str) {
    let path = docs(name);
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(&path, wanted).unwrap();
    }
    let found = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(found == wanted, "docs/{name} is not current: UPDATE_DOCS=1 cargo test docs");
}

#[test]
fn the_page_of_rules_is_current() {
    let mut page = String::from(
        "# Rules of check\n\nMade from the rules themselves. Each has a name, a fixed severity, and is one line of\n\
         `copper-nest list rules`; `copper-nest show rule NAME` shows what stands here.\n",
    );
    let mut family = None;
    for rule in RULES.iter() {
        if family != Some(rule.family) {
            family = Some(rule.family);
            write!(page, "\n## {}\n", rule.family).unwrap();
        }
        write!(
            page,
            "\n### {} ({})\n\nFinds {}.\n\n{}\n\nTo do: {}\n",
            rule.name, rule.severity, rule.finds, rule.why, rule.remedy
        )
        .unwrap();
        example(&mut page, "Found", &rule.bad);
        example(&mut page, "Sound", &rule.good);
    }
    assert_current("rules.md", &page);
}

fn example(page: &mut String, label: &str, example: &Example) {
    let besides = match example.besides {
        "" => String::new(),
        besides => format!(", where {besides}"),
    };
    write!(page, "\n{label}{besides}:\n\n").unwrap();
    for (file, text) in example.files {
        for line in text.lines() {
            writeln!(page, "    {:12} {line}", file.path()).unwrap();
        }
    }
}

#[test]
fn the_page_of_policy_keys_is_current() {
    let mut page = String::from(
        "# Policy\n\n`etc/copper-nest/policy.toml` in the tree. Made from the settings themselves; every one has a\n\
         built-in value, and `copper-nest show policy` shows the ones in force and the line that set each.\n\
         A key or a section that is not listed here is refused, with file, line and the nearest one.\n",
    );
    let mut section = "";
    for key in KEYS {
        if key.section() != section {
            section = key.section();
            write!(page, "\n## [{section}]\n\n| key | built in | meaning |\n|---|---|---|\n")
                .unwrap();
        }
        writeln!(
            page,
            "| `{}` | `{}` | {} |",
            key.last(),
            (key.get)(&Policy::default()),
            key.meaning
        )
        .unwrap();
    }
    assert_current("policy.md", &page);
}
