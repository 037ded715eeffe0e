#!/usr/bin/env python3
"""Measures the verbs that take many names: ten thousand of them against one.

    benches/many.py [--accounts 1000000] [--names 10000] [--runs 3] [--folder DIR] [--program P]

Each command is run for one name and for many, A B A B, on account files that are
put back before each run; what is printed is the ratio of the medians beside the bar.
Then check and repair are run on files with one name on many lines and with every line
twice, at one size and at twice that, to see that they are linear. Needs the release build.
"""

import argparse
import shutil
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

from accounts import FILES, PROGRAM, make_tree

BAR = 4.0
VERBS = {
    "delete user --files keep": ["delete", "user", "--files", "keep", "--yes"],
    "suspend user": ["suspend", "user"],
    "regroup --join": ["regroup", "--join", "pilots"],
    "password user --none": ["password", "user", "--none"],
}


def seconds(program, tree, words):
    began = time.perf_counter()
    done = subprocess.run([program, "--tree", tree, *words], capture_output=True, timeout=1800)
    if done.returncode not in (0, 1):
        raise SystemExit(f"{words}: {done.stderr.decode()[:400]}")
    return time.perf_counter() - began


def put_back(base, tree):
    for name in FILES:
        shutil.copyfile(base / "etc" / name, tree / "etc" / name)
    shutil.rmtree(tree / "var", ignore_errors=True)


def bulk(given, folder):
    base, tree = folder / "base", folder / "tree"
    make_tree(base, given.accounts, False)
    with open(base / "etc/group", "a") as group, open(base / "etc/gshadow", "a") as gshadow:
        group.write("pilots:x:210:\n")
        gshadow.write("pilots:!::\n")
    shutil.copytree(base, tree)
    step = given.accounts // given.names
    names = {}
    for count in (1, given.names):
        names[count] = folder / f"names{count}"
        names[count].write_text("".join(f"crew{at * step:07}\n" for at in range(count)))
    failed = False
    for what, words in VERBS.items():
        taken = {1: [], given.names: []}
        for _ in range(given.runs):
            for count in taken:
                put_back(base, tree)
                taken[count].append(seconds(given.program, tree, [*words, "--names-from", names[count]]))
        one, many = (statistics.median(all) for all in taken.values())
        failed |= many / one > BAR
        print(f"{what:28} one {one:7.3f} s  {given.names} {many:7.3f} s  ratio {many / one:6.2f}  bar {BAR}", flush=True)
    return failed


def linear(given, folder):
    """Times of check and repair at a size and at twice that; linear is about 2."""
    for what, size, text in [
        ("one name on lines", 20_000, lambda size: ["crew:x:1004:1004::/home/crew:/bin/sh\n"] * size),
        ("every line twice, names", 100_000,
         lambda size: [f"crew{at:06}:x:{at + 1000}:{at + 1000}::/home/crew{at:06}:/bin/sh\n" for at in range(size)] * 2),
    ]:
        for words in (["check", "--files-only"], ["repair", "--yes"]):
            taken = []
            for times in (1, 2):
                tree = folder / f"linear-{size}-{times}-{words[0]}"
                make_tree(tree, 10, False)
                with open(tree / "etc/passwd", "a") as passwd:
                    passwd.writelines(text(size * times))
                taken.append(seconds(given.program, tree, words))
                shutil.rmtree(tree)
            print(f"{words[0]:7} {what} {size}: {taken[0]:7.3f} s, twice as many {taken[1]:7.3f} s, ratio {taken[1] / taken[0]:5.2f}", flush=True)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--accounts", type=int, default=1_000_000)
    parser.add_argument("--names", type=int, default=10_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--folder")
    parser.add_argument("--program", default=PROGRAM)
    parser.add_argument("--only", choices=["bulk", "linear"])
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=given.folder, prefix="many-") as folder:
        failed = given.only != "linear" and bulk(given, Path(folder))
        if given.only != "bulk":
            linear(given, Path(folder))
    raise SystemExit(failed)


if __name__ == "__main__":
    main()
