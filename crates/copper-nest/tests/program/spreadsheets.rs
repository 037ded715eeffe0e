//! Tables as spreadsheet programs write them. The samples in `tests/tables` were made by one.

use std::path::PathBuf;
use std::process::Command;

use crate::harness::{TestTree, has_program, passed_over};

fn sample(name: &str) -> String {
    format!("{}/tests/tables/{name}", env!("CARGO_MANIFEST_DIR"))
}

/// What taking a table in leaves of three people.
fn taken_in(words: &str) -> (String, String, String) {
    let tree = TestTree::new();
    let said = tree.done(&format!("intake {words}"));
    let lines = |path: &str| -> String {
        let text = tree.read(path);
        let names = ["maren", "corwin", "isolde"];
        let of = text.lines().filter(|line| names.iter().any(|name| line.contains(name)));
        of.map(|line| format!("{line}\n")).collect()
    };
    (lines("etc/passwd"), lines("etc/shadow"), lines("etc/group") + &said.stdout)
}

#[test]
fn files_of_spreadsheet_programs_say_what_their_table_says() {
    let tree = TestTree::empty();
    let csv = "Name;Full Name;UID;Expires;Must Change;Join;Office\n\
               maren;Maren Solvik;1100;31.03.2027;TRUE; pilots; slipway;7\n";
    tree.write("wrong.csv", csv);
    let csv = "name,full_name,uid,expires,must_change,join\n\
               maren,Maren Solvik,1100,2027-03-31,yes,pilots; slipway\n\
               corwin,Corwin Vale,,2027-06-30,no,\n\
               isolde,Isolde Marrek,1102,,yes,slipway\n";
    tree.write("crew.csv", csv);
    let plain = taken_in(&tree.path("crew.csv").display().to_string());
    assert!(plain.0.contains("maren:x:1100:1100:Maren Solvik:"), "{}", plain.0);
    for ending in ["xlsx", "xls", "ods"] {
        let words = format!("{} --ignore-columns office", sample(&format!("crew.{ending}")));
        let sheet = taken_in(&words);
        assert_eq!((&sheet.0, &sheet.1), (&plain.0, &plain.1), "{ending}");
        assert!(sheet.2.contains("passed over"), "{ending}: {}", sheet.2);
    }
}

#[test]
fn what_is_wrong_in_a_spreadsheet_is_told_with_its_cell() {
    let tree = TestTree::new();
    let said = tree.run(&format!("intake {}", sample("crew.xlsx")));
    assert_eq!(said.status, 3);
    assert!(said.stderr.contains("  G1"), "{}", said.stderr);
    assert!(said.stderr.contains("there is no column \"Office\""), "{}", said.stderr);
    let said = tree.run(&format!("intake {}", sample("odd.xlsx"))).stderr;
    assert!(said.contains("the formula here failed: #DIV/0!") && said.contains("  C2  "), "{said}");
    assert!(said.contains("the cells D3 to D4 are merged") && said.contains("  D3  "), "{said}");
    let said = tree.run(&format!("intake {}", sample("titled.xlsx"))).stderr;
    assert!(said.contains("one thing is wrong"), "{said}");
    assert!(said.contains("the one of the table seems to be in line 2"), "{said}");
    let said = tree.run(&format!("intake {} --sheet Leavers", sample("titled.xlsx"))).stderr;
    assert!(said.contains("2027-03-31, as --dates dmy reads it"), "{said}");
    let said = tree.run(&format!("intake {} --sheet Nobody", sample("titled.xlsx"))).stderr;
    assert!(said.contains("there are Crew, Leavers"), "{said}");
    let faults = tree.run(&format!("intake {} --format json", sample("odd.xlsx"))).json();
    assert!(faults.to_string().contains("\"cell\":\"C2\""), "{faults}");
}

#[test]
fn a_file_that_would_unpack_without_end_is_refused() {
    let tree = TestTree::new();
    // 2 GiB of zeros, packed.
    let script = "import sys, zipfile\n\
        with zipfile.ZipFile(sys.argv[1], 'w', zipfile.ZIP_DEFLATED, compresslevel=1) as z:\n\
        \x20   with z.open('xl/sharedStrings.xml', 'w', force_zip64=True) as f:\n\
        \x20       for _ in range(1100): f.write(b'\\0' * (1 << 20))\n";
    if !has_program("python3") {
        return passed_over("a file that unpacks without end", "python3");
    }
    let path = tree.path("bomb.xlsx");
    assert!(Command::new("python3").args(["-c", script]).arg(&path).status().unwrap().success());
    assert!(std::fs::metadata(&path).unwrap().len() < 8 << 20);
    let said = tree.run(&format!("intake {}", path.display()));
    assert_eq!(said.status, 3);
    assert!(said.stderr.contains("is larger than 1"), "{}", said.stderr);
    tree.write("cut.ods", &std::fs::read(sample("crew.ods")).unwrap()[..4000]);
    let said = tree.run(&format!("intake {}", tree.path("cut.ods").display()));
    assert!(said.stderr.contains("can't be read as a spreadsheet"), "{}", said.stderr);
}

#[test]
fn a_real_spreadsheet_program_writes_what_is_read() {
    if !has_program("soffice") {
        return passed_over("a real spreadsheet program", "soffice");
    }
    let folder = crate::harness::folder();
    let csv = folder.path().join("crew.csv");
    std::fs::write(
        &csv,
        "Name,Full Name,UID,Expires,Must Change,Join,Office\nmaren,Maren Solvik,1100,2027-03-31,TRUE,\" pilots; slipway\",7\n\
         corwin,Corwin Vale,,2027-06-30,FALSE,,8\n,,,,,,\nisolde,Isolde Marrek,1102,,TRUE,slipway,\n",
    )
    .unwrap();
    let plain = taken_in(&format!("{} --ignore-unknown", csv.display()));
    for ending in ["xlsx", "ods"] {
        let made = Command::new("soffice")
            .arg(format!("-env:UserInstallation=file://{}/home", folder.path().display()))
            .args(["--headless", "--convert-to", ending])
            .arg("--infilter=CSV:44,34,76,1,,1033,false,true")
            .arg("--outdir")
            .args([folder.path(), &csv])
            .output()
            .unwrap();
        let path: PathBuf = folder.path().join(format!("crew.{ending}"));
        assert!(path.exists(), "{}", String::from_utf8_lossy(&made.stderr));
        let sheet = taken_in(&format!("{} --ignore-unknown", path.display()));
        assert_eq!((&sheet.0, &sheet.1), (&plain.0, &plain.1), "{ending}");
    }
}

#[test]
fn a_table_that_breaks_off_or_changes_its_encoding_is_refused_where_it_does() {
    let tree = TestTree::new();
    let table = tree.path("crew.csv");
    let shown = table.display().to_string();
    let whole = "name,full_name,join\nmaren,Maren Solvik,pilots\n";
    for (rest, says) in [
        (
            &b"odile,Odile \xc5ngstr\xf6m,\n"[..],
            "3:13    byte 0xc5 is not UTF-8; the file may be Latin-1",
        ),
        (b"odile,Odile Str", "this row has 2 fields, and the header has 3"),
        (b"odile,\"Odile Str", "a quote is opened here and never closed"),
        (b"odile,Odile Strand,pil", "there is no group pil"),
    ] {
        std::fs::write(&table, [whole.as_bytes(), rest].concat()).unwrap();
        tree.refused(&format!("intake {shown}"), 3, says);
    }
}
