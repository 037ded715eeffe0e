#!/usr/bin/env python3
"""Measures what copper-nest does on a file tree against the operating system's own tools.

    benches/tree.py [--files 500000] [--directories 20000] [--runs 7] [--folder DIR] [PART…]

Parts: trace, aside, archive, renumber; all without one. Each command and its yardstick are
timed in turn, A B A B, and each round has a ratio of its own: a machine whose speed
drifts, by half within a minute, favours neither. The median of the ratios is printed
beside the bar it has to meet, with the quarter of the rounds on either side, and the
median times. Needs root, the release build, find, tar and zstd.
"""

import argparse
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PROGRAM = ROOT / "target/release/copper-nest"
OWNERS = 200


def timed(command, **more):
    began = time.perf_counter()
    run = subprocess.run(command, shell=isinstance(command, str), stdout=subprocess.DEVNULL,
                         stderr=subprocess.DEVNULL, **more)
    took = time.perf_counter() - began
    if run.returncode != 0:
        sys.exit(f"{command}: exit status {run.returncode}")
    return took


def compare(label, ours, theirs, runs, bar, faster):
    """Prints the median ratio of a round; `faster` when theirs is divided by ours."""
    mine, other = [], []
    for _ in range(runs):
        mine.append(ours())
        other.append(theirs())
    ratios = [b / a if faster else a / b for a, b in zip(mine, other)]
    low, ratio, high = statistics.quantiles(ratios, n=4, method="inclusive")
    a, b = statistics.median(mine), statistics.median(other)
    words = f"at least {bar}" if faster else f"at most {bar}"
    good = ratio >= bar if faster else ratio <= bar
    print(f"{label:52} {a:8.3f} s {b:8.3f} s   ratio {ratio:5.2f} ({low:.2f}-{high:.2f})   bar: {words}   "
          f"{'met' if good else 'MISSED'}", flush=True)


def make_accounts(tree, users):
    etc = tree / "etc"
    etc.mkdir(parents=True)
    (etc / "passwd").write_text("root:x:0:0:root:/root:/bin/sh\n" + "".join(
        f"crew{i}:x:{1000 + i}:{1000 + i}::/home/crew{i}:/bin/sh\n" for i in range(users)))
    (etc / "shadow").write_text("root:*:20600::::::\n" + "".join(
        f"crew{i}:!:20600:0::7:::\n" for i in range(users)))
    (etc / "group").write_text("root:x:0:\n" + "".join(
        f"crew{i}:x:{1000 + i}:\n" for i in range(users)))
    (etc / "gshadow").write_text("root:*::\n" + "".join(f"crew{i}:!::\n" for i in range(users)))
    (tree / "home").mkdir()


def trace(folder, files, directories, runs):
    tree = folder / "trace"
    make_accounts(tree, OWNERS)
    rng = random.Random(211)
    per = files // directories
    for at in range(directories):
        directory = tree / "srv" / f"{at % 100}" / f"{at}"
        directory.mkdir(parents=True)
        for n in range(per):
            path = directory / f"chart{n}"
            path.touch()
            uid = 1000 + rng.randrange(OWNERS)
            # One file in five hundred is nobody's.
            uid = 9999 if rng.randrange(500) == 0 else uid
            os.chown(path, uid, uid if uid != 9999 else 1000)
    program = [PROGRAM, "--tree", tree, "trace"]
    # find asks the accounts of the machine: those of the tree stand in for them.
    bind = f"for f in passwd group; do mount --bind {tree}/etc/$f /etc/$f; done; "
    inside = ["unshare", "-m", "sh", "-c"]
    nobody = [*inside, bind + f"exec find {tree} -nouser -o -nogroup"]
    mine = lambda what: lambda: timed([*program, *what])
    ours = subprocess.run([*program, "orphans", "--files"], capture_output=True, check=True)
    theirs = subprocess.run(nobody, capture_output=True, check=True)
    # The accounts' own files belong to root, who is known to both.
    if len(ours.stdout.splitlines()) != len(theirs.stdout.splitlines()):
        sys.exit("trace and find disagree about orphans")
    # The mounts take a few milliseconds, and count for find.
    compare("trace orphans / find files without owner", mine(["orphans"]),
            lambda: timed(nobody), runs, 9, True)
    # These are quick, and nearer to their bar.
    compare("trace orphans / find files of one uid", mine(["orphans"]),
            lambda: timed(["find", tree, "-uid", "1007"]), 4 * runs, 2, True)
    compare("trace id / find files of one uid", mine(["id", "1007"]),
            lambda: timed(["find", tree, "-uid", "1007"]), 4 * runs, 2, True)
    shutil.rmtree(tree)


def fill(home, files, size, uid):
    rng = random.Random(211)
    words = [bytes(rng.randrange(97, 123) for _ in range(rng.randrange(3, 9))) for _ in range(4000)]
    for at in range(files):
        directory = home / f"{at % 50}"
        directory.mkdir(parents=True, exist_ok=True)
        text = b" ".join(rng.choices(words, k=size // 6))
        (directory / f"log{at}").write_bytes(text)
    for path in [home, *home.rglob("*")]:
        os.chown(path, uid, uid)


def aside(folder, runs):
    for files in (10, 10_000, 200_000):
        tree = folder / f"aside{files}"
        make_accounts(tree, 2)
        home = tree / "home/crew1"
        home.mkdir()
        fill(home, files, 60, 1001)
        # The receipt tells how much is in the home, which has to be counted before anybody
        # is asked: a dry run does that and nothing else.
        took, counted = [], []
        for _ in range(runs):
            delete = [PROGRAM, "--tree", tree, "-q", "delete", "user", "crew1"]
            counted.append(timed([*delete, "--dry-run"]))
            took.append(timed([*delete, "--yes"]))
            timed([PROGRAM, "--tree", tree, "-q", "restore", "user", "crew1"])
        whole, counting = statistics.median(took), statistics.median(counted)
        print(f"set aside a home of {files:7} files{'':18} {whole - counting:8.3f} s, "
              f"{counting:.3f} s more for the receipt", flush=True)
        shutil.rmtree(tree)


def archive(folder, runs):
    tree = folder / "archive"
    make_accounts(tree, 2)
    home = tree / "home/crew1"
    home.mkdir()
    fill(home, 5000, 60_000, 1001)
    packed = folder / "packed.tar.zst"
    threads = os.cpu_count()

    def ours():
        took = timed([PROGRAM, "--tree", tree, "-q", "delete", "user", "crew1", "--yes",
                      "--files", "archive"])
        timed([PROGRAM, "--tree", tree, "-q", "restore", "user", "crew1"])
        os.sync()
        return took

    # The home goes in the end, and removing takes its time on some disks: the yardstick
    # removes a copy of it too.
    again = folder / "again"

    def theirs():
        shutil.rmtree(again, ignore_errors=True)
        subprocess.run(["cp", "-a", home, again], check=True)
        os.sync()
        return timed(f"tar -C {folder} --xattrs -cf - again | zstd -q -f -3 -T{threads} -o {packed}"
                     f" && sync {packed} && rm -rf {again}")

    compare("archive a home / tar | zstd, sync, rm -r", ours, theirs, runs, 1.3, False)
    shutil.rmtree(tree)


def renumber(folder, files, directories, runs):
    tree = folder / "renumber"
    users = 1000
    make_accounts(tree, users)
    rng = random.Random(211)
    per = files // directories
    one = folder / "one"
    for at in range(directories):
        directory = f"srv/{at % 100}/{at}"
        for root in (tree, one):
            (root / directory).mkdir(parents=True)
        for n in range(per):
            # A tenth changes hands: here that of all accounts, there that of one other.
            uid = 1000 + rng.randrange(users) if n % 10 == 0 else 0
            for path, owner in ((tree / directory / f"chart{n}", uid),
                                (one / directory / f"chart{n}", 7777 if uid else 0)):
                path.touch()
                os.chown(path, owner, owner)
    tables = []
    for way, first in (("there", 5000), ("back", 1000)):
        table = folder / f"{way}.csv"
        rows = [f"user,crew{i},{first + i}\n" for i in range(users)]
        table.write_text("kind,name,id\n" + "".join(rows))
        tables.append(table)
    state = folder / "state"
    owners = [7777, 7778]

    # There and back again, in turn.
    def ours():
        tables.append(tables.pop(0))
        return timed([PROGRAM, "--tree", tree, "--state", state, "-q", "renumber", tables[1],
                      "--reuse-id", "--yes"])

    def theirs():
        owners.reverse()
        new, old = owners
        return timed(["find", one, "-uid", str(old), "-exec", "chown", str(new), "{}", "+"])

    compare("renumber 1000 accounts / find one, -exec chown", ours, theirs, runs, 1.5, False)
    shutil.rmtree(tree)
    shutil.rmtree(one)


def main():
    parser = argparse.ArgumentParser(description=__doc__,
                                     formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("parts", nargs="*", help="trace, aside, archive, renumber")
    parser.add_argument("--files", type=int, default=500_000)
    parser.add_argument("--directories", type=int, default=20_000)
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--folder", help="where to work; needs a few gigabytes")
    arguments = parser.parse_args()
    parts = arguments.parts or ["trace", "aside", "archive", "renumber"]
    if os.geteuid() != 0:
        sys.exit("needs root, to give files to other owners")
    folder = Path(tempfile.mkdtemp(dir=arguments.folder))
    try:
        if "trace" in parts:
            trace(folder, arguments.files, arguments.directories, arguments.runs)
        if "aside" in parts:
            aside(folder, min(arguments.runs, 3))
        if "archive" in parts:
            archive(folder, arguments.runs)
        if "renumber" in parts:
            renumber(folder, arguments.files, arguments.directories, arguments.runs)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
