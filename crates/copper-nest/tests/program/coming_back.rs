//! What comes back when somebody or some group is restored, and what is said of the rest.

use crate::harness::TestTree;

fn with_ben_in_team() -> TestTree {
    let tree = TestTree::new();
    tree.done("create user ben");
    tree.done("create group team --member ben");
    tree
}

#[test]
fn who_was_in_a_deleted_group_is_in_it_again_whichever_comes_back_first() {
    let tree = with_ben_in_team();
    tree.done("delete group team --yes");
    tree.done("delete user ben --yes");
    tree.done("restore group team").says("ben (is gone)");
    let back = tree.done("restore user ben");
    assert_eq!(back.value("member of"), "team as before");
    assert!(tree.read("etc/group").contains("\nteam:x:1003:ben\n"));
    assert!(tree.read("etc/gshadow").contains("\nteam:!::ben\n"));
    // The other way round it is said how.
    tree.done("delete group team --yes");
    tree.done("delete user ben --yes");
    let back = tree.done("restore user ben");
    let first = format!("copper-nest --tree {} restore group team", tree.root().display());
    back.says("member of team").says(&format!("to be in it, first: {first}"));
    tree.done("restore group team");
    assert!(tree.read("etc/group").contains("\nteam:x:1003:ben\n"));
}

#[test]
fn a_group_that_was_renamed_meanwhile_is_not_gone() {
    let tree = with_ben_in_team();
    tree.done("delete user ben --yes");
    tree.done("rename group team crew");
    let back = tree.done("restore user ben").value("member of");
    assert_eq!(back, "crew as before; crew was called team");
    assert!(tree.read("etc/group").contains("\ncrew:x:1003:ben\n"));
    // A number that another group got says nothing.
    tree.done("delete user ben --yes");
    tree.done("delete group crew --yes");
    tree.done("create group signals --gid 1003 --reuse-id");
    tree.done("restore user ben").says("the group is deleted");
    assert!(tree.read("etc/group").contains("\nsignals:x:1003:\n"));
}

#[test]
fn a_primary_group_that_never_was_keeps_nobody_away() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "fogbell:x:1100:4343:Fog bell:/home/fogbell:/bin/sh\n");
    tree.append("etc/shadow", "fogbell:!:20600::::::\n");
    let before = tree.snapshot();
    tree.done("delete user fogbell --yes");
    tree.done("restore user fogbell");
    crate::harness::assert_same(&before, &tree.snapshot());
    // One that went since is another matter.
    tree.append("etc/group", "bells:x:4343:\n");
    tree.append("etc/gshadow", "bells:!::\n");
    tree.done("delete user fogbell --yes");
    tree.done("delete group bells --yes");
    tree.refused("restore user fogbell", 3, "its primary group, gid 4343, is gone");
}

#[test]
fn under_another_name_a_home_that_stayed_is_still_its_home() {
    let tree = TestTree::new();
    tree.done("create user ann");
    tree.done("create user cyd");
    tree.done("delete user ann --yes --files keep");
    tree.done("delete user cyd --yes --files keep");
    let back = tree.done("restore user cyd --as ann");
    assert_eq!(back.value("home"), "/home/cyd stayed where it was");
    assert!(tree.read("etc/passwd").contains("\nann:x:1003:1003::/home/cyd:/bin/bash\n"));
    // Nor does one that had none take a place of another's.
    tree.done("delete user ann --yes --files keep");
    std::fs::remove_dir_all(tree.path("home/cyd")).unwrap();
    std::fs::create_dir(tree.path("home/fenja")).unwrap();
    tree.append("etc/passwd", "odile:x:1010:100::/home/odile:/bin/bash\n");
    tree.append("etc/shadow", "odile:!:20600::::::\n");
    tree.done("delete user odile --yes");
    tree.done("restore user odile --as fenja");
    assert!(tree.read("etc/passwd").contains("\nfenja:x:1010:100::/home/odile:/bin/bash\n"));
}

#[test]
fn a_home_that_somebody_else_has_is_told() {
    let tree = TestTree::new();
    tree.done("change user tavish --home /home/sunniva --record-only")
        .says("/home/sunniva is also the home of sunniva");
    tree.done("delete user tavish --yes --files keep");
    tree.done("restore user tavish").says("/home/sunniva is also the home of sunniva");
}

#[test]
fn a_mail_spool_file_that_is_made_is_told() {
    let tree = TestTree::new();
    tree.write("etc/copper-nest/policy.toml", "[mail]\ncreate = true\n");
    let made = tree.done("create user maren");
    assert_eq!(made.value("mail"), "/var/mail/maren an empty spool file is made");
    assert!(tree.exists("var/mail/maren"));
}

#[test]
fn lines_that_bear_the_old_name_or_lead_to_the_old_home_are_named() {
    let tree = TestTree::new();
    tree.write("etc/cron.d/tides", "# tavish\n7 * * * * tavish tides\n");
    tree.write("etc/security/limits.d/crew.conf", "tavish hard nproc 90\n@tavish - nice 0\n");
    tree.write("etc/systemd/system/fog.service.d/who.conf", "[Service]\nUser=tavish\n");
    let crontab = "var/spool/cron/crontabs/tavish";
    tree.write(crontab, "1 2 * * * /home/tavish/tides\n3 4 * * * ls /home/tavish.old\n");
    if crate::harness::is_root() {
        tree.chown(crontab, 1001, 1001);
    }
    tree.done("rename user tavish torben")
        .says(
            "etc/cron.d/tides:2, etc/security/limits.d/crew.conf:1, \
             etc/systemd/system/fog.service.d/who.conf:2 name tavish, which is called torben now",
        )
        .says(
            "var/spool/cron/crontabs/torben:1 names /home/tavish, and the home is /home/torben \
             now: look there",
        );
    tree.write("etc/cron.d/tides", "7 * * * * root /home/torben/tides\n");
    tree.done("change user torben --home /home/pilot")
        .says("etc/cron.d/tides:1 names /home/torben");
    // Whoever gets the name gets what runs under it.
    tree.write("etc/cron.d/tides", "7 * * * * maren tides\n");
    tree.done("create user maren").says("etc/cron.d/tides:1 already names maren");
}
