#!/usr/bin/env python3
"""Measures `copper-nest intake` against one `create user`, and against copying homes.

    benches/intake.py [--rows 100000] [--accounts 1000000] [--homes 1000] [--runs 5] [--folder DIR]

Rows without homes are taken in on an empty tree and on one with many accounts;
each time one `create user` on the files that came of it is the yardstick. The same rows out of an .xlsx, and with
accounts suspended that no row names, are held against that. Rows
with homes are held against copying the skeleton as many times in one process,
links, modes, owners and times kept, and flushing that once. Ratios are of medians
of interleaved runs. Needs the release build and root (homes get owners).
"""

import argparse
import os
import shutil
import statistics
import sys
import tempfile
import time
import zipfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))
from accounts import PROGRAM, make_tree, run  # noqa: E402


def table(path: Path, rows: int) -> None:
    with open(path, "w", buffering=1 << 20) as out:
        out.write("name,full_name,join\n")
        out.writelines(f"hand{i:06},Hand Number {i},pilots\n" for i in range(rows))


def timed(command: str, folder: Path) -> tuple[float, int]:
    seconds, peak, status = run(command, folder)
    if status != 0:
        sys.exit(f"{command}: exit status {status}")
    return seconds, peak


def without_homes(base: Path, accounts: int, rows: int, runs: int) -> None:
    pristine = base / "pristine"
    make_tree(pristine, accounts, shuffled=False)
    (pristine / "etc/group").open("a").write("pilots:x:210:\n")
    (pristine / "etc/gshadow").open("a").write("pilots:!::\n")
    table(base / "crew.csv", rows)
    took, created, peak = [], [], 0
    for at in range(runs + 1):
        tree = base / "tree"
        shutil.copytree(pristine, tree, symlinks=True)
        os.sync()
        seconds, memory = timed(f"{PROGRAM} --tree {tree} intake crew.csv --no-home", base)
        one, _ = timed(f"{PROGRAM} --tree {tree} create user extra --no-home", base)
        if at > 0:
            took.append(seconds)
            created.append(one)
            peak = max(peak, memory)
        size = sum((tree / "etc" / name).stat().st_size
                   for name in ("passwd", "shadow", "group", "gshadow", "subuid", "subgid"))
        shutil.rmtree(tree)
    shutil.rmtree(pristine)
    ratio = statistics.median(took) / statistics.median(created)
    verdict = "met" if ratio <= 3 else "NOT MET"
    print(f"{rows} rows on {accounts} accounts: {statistics.median(took):.3f} s, one create user "
          f"{statistics.median(created):.3f} s, ratio {ratio:.2f} (at most 3: {verdict}); "
          f"peak {peak / 1e6:.0f} MB for {size / 1e6:.0f} MB of files")


def spreadsheet(path: Path, rows: int) -> None:
    """The same table as a spreadsheet program writes it: shared strings, one sheet."""
    texts, places = [], {}

    def place(text: str) -> int:
        if text not in places:
            places[text] = len(texts)
            texts.append(text)
        return places[text]

    lines = []
    for at, row in enumerate([("name", "full_name", "join")]
                             + [(f"hand{i:06}", f"Hand Number {i}", "pilots") for i in range(rows)], 1):
        cells = "".join(f'<c r="{column}{at}" t="s"><v>{place(text)}</v></c>' for column, text in zip("ABC", row))
        lines.append(f'<row r="{at}">{cells}</row>')
    space = "http://schemas.openxmlformats.org"
    main, relations = f"{space}/spreadsheetml/2006/main", f"{space}/officeDocument/2006/relationships"
    head = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>'
    kinds = "application/vnd.openxmlformats-officedocument.spreadsheetml"
    parts = {
        "[Content_Types].xml": f'{head}<Types xmlns="{space}/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        f'<Override PartName="/xl/workbook.xml" ContentType="{kinds}.sheet.main+xml"/>'
        f'<Override PartName="/xl/worksheets/sheet1.xml" ContentType="{kinds}.worksheet+xml"/>'
        f'<Override PartName="/xl/sharedStrings.xml" ContentType="{kinds}.sharedStrings+xml"/></Types>',
        "_rels/.rels": f'{head}<Relationships xmlns="{space}/package/2006/relationships"><Relationship Id="rId1" '
        f'Type="{relations}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'{head}<workbook xmlns="{main}" xmlns:r="{relations}"><sheets>'
        '<sheet name="Crew" sheetId="1" r:id="rId1"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'{head}<Relationships xmlns="{space}/package/2006/relationships">'
        f'<Relationship Id="rId1" Type="{relations}/worksheet" Target="worksheets/sheet1.xml"/>'
        f'<Relationship Id="rId2" Type="{relations}/sharedStrings" Target="sharedStrings.xml"/></Relationships>',
        "xl/worksheets/sheet1.xml": f'{head}<worksheet xmlns="{main}"><sheetData>{"".join(lines)}</sheetData></worksheet>',
        "xl/sharedStrings.xml": f'{head}<sst xmlns="{main}">{"".join(f"<si><t>{text}</t></si>" for text in texts)}</sst>',
    }
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        for name, text in parts.items():
            out.writestr(name, text)


def other_ways(base: Path, accounts: int, rows: int, runs: int) -> None:
    pristine = base / "pristine"
    make_tree(pristine, accounts, shuffled=False)
    others = min(1000, accounts)
    with open(pristine / "etc/passwd") as passwd:
        names = [line.split(":")[0] for line in passwd if not line.startswith("root:")][:others]
    (pristine / "etc/group").open("a").write(f"pilots:x:210:{','.join(names)}\n")
    (pristine / "etc/gshadow").open("a").write(f"pilots:!::{','.join(names)}\n")
    table(base / "crew.csv", rows)
    spreadsheet(base / "crew.xlsx", rows)
    as_truth = f"--existing keep --others suspend --among pilots --not-more-than {others} --yes"
    ways = {
        "csv": "intake crew.csv --no-home",
        "xlsx": "intake crew.xlsx --no-home",
        f"csv, and {others} others suspended": f"intake crew.csv --no-home {as_truth}",
        "csv, and all others told": "intake crew.csv --no-home --existing keep --others tell",
    }
    times = {name: [] for name in ways}
    for at in range(runs + 1):
        for name, words in ways.items():
            tree = base / "tree"
            shutil.copytree(pristine, tree, symlinks=True)
            os.sync()
            seconds, _ = timed(f"{PROGRAM} --tree {tree} {words}", base)
            if at > 0:
                times[name].append(seconds)
            shutil.rmtree(tree)
    shutil.rmtree(pristine)
    medians = {name: statistics.median(all_) for name, all_ in times.items()}
    for name in list(ways)[1:]:
        most = 2 if name == "xlsx" else 1.25
        ratio = medians[name] / medians["csv"]
        verdict = "met" if ratio <= most else "NOT MET"
        print(f"{rows} rows on {accounts} accounts, {name}: {medians[name]:.3f} s, csv alone "
              f"{medians['csv']:.3f} s, ratio {ratio:.2f} (at most {most}: {verdict})")


def with_homes(base: Path, homes: int, runs: int) -> None:
    pristine = base / "pristine"
    make_tree(pristine, 10, shuffled=False)
    (pristine / "etc/group").open("a").write("pilots:x:210:\n")
    policy = pristine / "etc/copper-nest/policy.toml"
    policy.write_text(policy.read_text().replace('skeleton = "none"', 'skeleton = "/etc/skel"'))
    skeleton = pristine / "etc/skel"
    (skeleton / "notes").mkdir(parents=True)
    for name, size in [(".profile", 800), (".shell-settings", 3500), (".logout", 220), ("notes/welcome.txt", 900)]:
        (skeleton / name).write_text("x" * size)
    os.symlink("notes/welcome.txt", skeleton / "welcome")
    table(base / "crew.csv", homes)
    copier = base / "copy.py"
    copier.write_text(
        "import os, shutil, sys\n"
        "skeleton, into, count = sys.argv[1], sys.argv[2], int(sys.argv[3])\n"
        "for at in range(count):\n"
        "    home = f'{into}/hand{at:06}'\n"
        "    shutil.copytree(skeleton, home, symlinks=True)\n"
        "    for folder, folders, files in os.walk(home):\n"
        "        for name in folders + files:\n"
        "            os.lchown(f'{folder}/{name}', 1000 + at, 1000 + at)\n"
        "    os.lchown(home, 1000 + at, 1000 + at)\n"
        "os.sync()\n"
    )
    ways = {
        "ours": f"{PROGRAM} --tree tree intake crew.csv",
        "one process": f"python3 {copier} tree/etc/skel into {homes}",
        "cp -a each": f"for at in $(seq {homes}); do cp -a tree/etc/skel into/hand$at; done && sync",
    }
    times = {name: [] for name in ways}
    for at in range(runs + 1):
        for name, command in ways.items():
            shutil.copytree(pristine, base / "tree", symlinks=True)
            (base / "into").mkdir()
            os.sync()
            began = time.perf_counter()
            timed(command if name == "ours" else f"{command} && true", base)
            if at > 0:
                times[name].append(time.perf_counter() - began)
            shutil.rmtree(base / "tree")
            shutil.rmtree(base / "into")
    shutil.rmtree(pristine)
    medians = {name: statistics.median(all_) for name, all_ in times.items()}
    for name in list(ways)[1:]:
        ratio = medians["ours"] / medians[name]
        verdict = "met" if ratio <= 2 else "NOT MET"
        print(f"{homes} rows with homes: {medians['ours']:.3f} s, {name} {medians[name]:.3f} s, "
              f"ratio {ratio:.2f} (at most 2: {verdict})")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=100_000)
    parser.add_argument("--accounts", type=int, default=1_000_000)
    parser.add_argument("--homes", type=int, default=1_000)
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--folder", type=Path, default=None)
    args = parser.parse_args()
    if not PROGRAM.exists():
        sys.exit("build it first: cargo build --release")
    base = Path(tempfile.mkdtemp(prefix="nest-bench-", dir=args.folder))
    try:
        without_homes(base, 0, args.rows, args.runs)
        without_homes(base, args.accounts, args.rows, args.runs)
        other_ways(base, args.accounts, args.rows, args.runs)
        with_homes(base, args.homes, args.runs)
    finally:
        shutil.rmtree(base)


if __name__ == "__main__":
    main()
