use super::*;
use crate::configuration::WrittenFiles;

const BASE: &str = "/etc/selinux/default/contexts/files/file_contexts";
const HOMES: &str = "/etc/selinux/default/contexts/files/file_contexts.homedirs";
const LOCAL: &str = "/etc/selinux/default/contexts/files/file_contexts.local";
const ALIASES: &str = "/etc/selinux/default/contexts/files/file_contexts.subs_dist";

fn contexts(files: &[(&'static str, &'static str)]) -> Arc<FileContexts> {
    let files = WrittenFiles(files.to_vec());
    let read = FileContexts::read(&files, "/etc/selinux/default/contexts".into());
    Arc::new(read.unwrap().unwrap())
}

const GULLHAVEN: &[(&str, &str)] = &[
    (
        BASE,
        "/.*\tsystem_u:object_r:default_t:s0\n\
         /etc/.*  system_u:object_r:etc_t:s0\n\
         /etc/shadow[-+]?  --  system_u:object_r:shadow_t:s0\n\
         /etc/passwd\tsystem_u:object_r:passwd_file_t:s0\n\
         /var/(spool/)?mail(/.*)?  system_u:object_r:mail_spool_t:s0\n\
         /proc/.*  <<none>>\n\
         # a comment\n\
         /srv/tide|/srv/ebb  system_u:object_r:tide_t:s0\n",
    ),
    (
        HOMES,
        "/home -d system_u:object_r:home_root_t:s0\n\
         /home/[^/]+ -d unconfined_u:object_r:user_home_dir_t:s0\n\
         /home/[^/]+/.+ unconfined_u:object_r:user_home_t:s0\n\
         /home/[^/]+/\\.ssh(/.*)? unconfined_u:object_r:ssh_home_t:s0\n",
    ),
    (ALIASES, "/srv/people /home\n/run/mail /var/mail\n"),
];

fn type_of(contexts: &Arc<FileContexts>, base: &str, path: &str, kind: FileKind) -> String {
    let labelling = contexts.below(base.as_bytes());
    let label = labelling.of(path.as_bytes(), kind);
    label.map_or_else(|| "none".to_owned(), |label| label.type_of().to_string())
}

#[test]
fn the_last_line_that_fits_is_meant_and_a_plain_path_before_all() {
    let contexts = contexts(GULLHAVEN);
    for (path, kind, wanted) in [
        ("/home/maren", FileKind::Directory, "user_home_dir_t"),
        ("/home/maren", FileKind::File, "default_t"),
        ("/home/maren/notes", FileKind::File, "user_home_t"),
        ("/home/maren/.ssh", FileKind::Directory, "ssh_home_t"),
        ("/home/maren/.ssh/authorized_keys", FileKind::File, "ssh_home_t"),
        ("/home/maren/.sshx", FileKind::File, "user_home_t"),
        ("/etc/passwd", FileKind::File, "passwd_file_t"),
        ("/etc/passwdx", FileKind::File, "etc_t"),
        ("/etc/shadow", FileKind::File, "shadow_t"),
        ("/etc/shadow-", FileKind::File, "shadow_t"),
        ("/etc/shadow", FileKind::Directory, "etc_t"),
        ("/var/mail/maren", FileKind::File, "mail_spool_t"),
        ("/var/spool/mail", FileKind::Directory, "mail_spool_t"),
        ("/proc/1", FileKind::Directory, "none"),
        ("/srv/ebb", FileKind::Directory, "tide_t"),
        ("/srv/people/maren/.ssh", FileKind::Directory, "ssh_home_t"),
        ("/run/mail/maren", FileKind::File, "mail_spool_t"),
        ("relative", FileKind::File, "none"),
    ] {
        assert_eq!(type_of(&contexts, path, path, kind), wanted, "{path}");
        // Asked for from further up, it is the same.
        let up = path.rfind('/').map_or("/", |at| &path[..at.max(1)]);
        assert_eq!(type_of(&contexts, up, path, kind), wanted, "{path} below {up}");
        assert_eq!(type_of(&contexts, "/", path, kind), wanted, "{path} below /");
    }
}

#[test]
fn what_the_machine_says_goes_before_what_its_maker_says() {
    let mut files = GULLHAVEN.to_vec();
    files.push((LOCAL, "/home/maren/web(/.*)? system_u:object_r:web_t:s0\n"));
    let contexts = contexts(&files);
    assert_eq!(type_of(&contexts, "/home/maren", "/home/maren/web/x", FileKind::File), "web_t");
    let closed = |path: &str, carried: &str| {
        let carried = Label::parse(format!("u:object_r:{carried}").as_bytes());
        contexts.seems_closed_to_ssh(path.into(), FileKind::Directory, carried.as_ref()).is_some()
    };
    for fine in ["user_home_dir_t", "user_home_t", "ssh_home_t", "web_t"] {
        assert!(!closed("/home/maren", fine), "{fine}");
        assert!(!closed("/home/maren/.ssh/authorized_keys", fine), "{fine}");
    }
    for not in ["default_t", "home_root_t", "etc_t", "mail_spool_t"] {
        assert!(closed("/home/maren", not), "{not}");
    }
    assert!(!closed("/home", "home_root_t") && closed("/home", "etc_t"));
    assert!(!closed("/proc/1", "etc_t"));
    let nothing = contexts.seems_closed_to_ssh("/home/maren".into(), FileKind::Directory, None);
    assert_eq!(nothing, Some(Carried::Nothing));
}

#[test]
fn lines_that_make_no_sense_are_told_and_keep_none_of_the_others() {
    let contexts = contexts(&[
        (
            BASE,
            "/home/[^/]+ -d u:object_r:user_home_dir_t\n\
             /home/[ u:object_r:x_t\n\
             /home/(?!tide)x u:object_r:x_t\n\
             /home/x{1000}{1000}{1000} u:object_r:x_t\n\
             /home/one\n\
             /home/two -x u:object_r:x_t\n\
             /home/three -- u:object_r:x_t s0 more\n\
             /home/four -- nothing\n\
             /elsewhere/[ u:object_r:x_t\n",
        ),
        (ALIASES, "/one\n/one two\n/a /b /c\n"),
    ]);
    let told = |faulty: &[FaultyLine]| {
        let told = faulty.iter().map(|it| format!("{} {}", it.place.line, it.fault));
        told.collect::<Vec<_>>()
    };
    assert_eq!(
        told(&contexts.faulty),
        [
            "5 is not a path, a kind of file and a label",
            "6 names a kind of file that there is not",
            "7 is not a path, a kind of file and a label",
            "8 has a label that is none",
            "1 is not a path and what it stands for",
            "2 is not a path and what it stands for",
            "3 is not a path and what it stands for",
        ]
    );
    let labelling = contexts.below(b"/srv/maren");
    // What only matters elsewhere is not told here.
    assert!(told(&labelling.ready.faulty).is_empty(), "{:?}", labelling.ready.faulty);
    let labelling = contexts.below(b"/home/maren");
    assert_eq!(
        told(&labelling.ready.faulty),
        [
            "2 has an expression that can't be understood: unclosed character class",
            "3 has an expression that can't be understood: look-around, including look-ahead and \
             look-behind, is not supported",
            "4 has an expression that is too large",
        ]
    );
    let label = labelling.of(b"/home/maren", FileKind::Directory).unwrap();
    assert_eq!(label.to_string(), "u:object_r:user_home_dir_t");
    let said = labelling.faults_in_words().unwrap();
    assert!(said.ends_with("is passed over, and so for 9 lines more"), "{said}");
}

#[test]
fn labels_are_read_as_the_attribute_has_them() {
    let label = Label::parse(b"u:object_r:user_home_t:s0:c1,c2\0").unwrap();
    assert_eq!(label.type_of(), "user_home_t");
    assert_eq!(label.as_attribute(), b"u:object_r:user_home_t:s0:c1,c2\0");
    for none in [&b""[..], b"\0", b"u:r", b"u::t", b"u:r:t:", b"u:r: t", b"u:r:t\0\0"] {
        assert_eq!(Label::parse(none), None, "{}", none.as_bstr());
    }
}

#[test]
fn a_type_that_somebody_gave_on_purpose_is_let_be() {
    let mut files = GULLHAVEN.to_vec();
    files.push(("/etc/selinux/default/contexts/customizable_types", "web_content_t\n"));
    let contexts = contexts(&files);
    let label = |of: &str| Label::parse(format!("system_u:object_r:{of}:s0").as_bytes()).unwrap();
    let belongs = label("user_home_dir_t");
    for (carried, allowed) in
        [("user_home_dir_t", true), ("web_content_t", true), ("home_root_t", false)]
    {
        assert_eq!(contexts.allows(&label(carried), &belongs), allowed, "{carried}");
    }
}

#[test]
fn twenty_thousand_lines_are_gone_through_for_many_files() {
    let lines: String = (0..20_000)
        .map(|at| format!("/opt/pier{at}/[^/]+(/.*)? -- u:object_r:pier{at}_t:s0\n"))
        .collect();
    let lines: &'static str = lines.leak();
    let contexts = contexts(&[(BASE, lines)]);
    let labelling = contexts.below(b"/opt/pier777");
    assert_eq!(labelling.ready.candidates.len(), 1);
    for at in 0..10_000 {
        let path = format!("/opt/pier777/x/{at}");
        let label = labelling.of(path.as_bytes(), FileKind::File).unwrap();
        assert_eq!(label.type_of(), "pier777_t");
    }
}
