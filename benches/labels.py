#!/usr/bin/env python3
"""Measures what security labels cost: a home of ten thousand files, made on a tree with file
contexts and on one without.

    benches/labels.py [--files 10000] [--lines 20000] [--runs 7] [--contexts DIR] [--folder DIR]

Both are made in turn, A B A B; what is printed is the ratio of the medians beside the bar. The
contexts are made up, some of homes among many of others, unless a folder of real ones is named, as
etc/selinux/default/contexts/files. Needs root and the release build.
"""

import argparse
import os
import shutil
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

from accounts import PROGRAM, make_tree

BAR = 1.2
HOMES = [
    ("/home/[^/]+", "-d", "user_home_dir_t"), ("/home/[^/]+/.+", "", "user_home_t"),
    ("/home/[^/]+/\\.ssh(/.*)?", "", "ssh_home_t"), ("/home/[^/]+/bin(/.*)?", "", "home_bin_t"),
    ("/home/[^/]+/((www)|(web)|(public_html))(/.+)?", "", "web_t"),
    ("/home/[^/]+/\\.config/.*\\.sock", "-s", "sock_t"), ("/home/[^/]+/\\.cache(/.*)?", "", "cache_t"),
]


def contexts(folder, lines):
    folder.mkdir(parents=True)
    with open(folder / "file_contexts", "w") as text:
        text.write("/.*\tsystem_u:object_r:default_t:s0\n")
        for at in range(lines):
            text.write(f"/opt/pier{at}/[^/]+(/.*)?\t--\tsystem_u:object_r:pier{at}_t:s0\n")
    with open(folder / "file_contexts.homedirs", "w") as text:
        for path, kind, label in HOMES:
            text.write(f"{path}\t{kind}\tunconfined_u:object_r:{label}:s0\n")


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--files", type=int, default=10_000)
    parser.add_argument("--lines", type=int, default=20_000)
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--contexts")
    parser.add_argument("--folder")
    parser.add_argument("--program", default=PROGRAM)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=given.folder, prefix="labels-") as folder:
        trees = {}
        for name in ("without", "with"):
            tree = trees[name] = Path(folder) / name
            make_tree(tree, 100, False)
            (tree / "home").mkdir(exist_ok=True)
            for at in range(given.files):
                place = tree / "etc/skel" / f"folder{at // 100}"
                place.mkdir(parents=True, exist_ok=True)
                (place / f"file{at}").write_text("tide and ebb\n")
        here = trees["with"] / "etc/selinux/default/contexts/files"
        if given.contexts:
            shutil.copytree(given.contexts, here)
        else:
            contexts(here, given.lines)
        taken = {name: [] for name in trees}
        for run in range(given.runs):
            for name, tree in trees.items():
                os.sync()
                began = time.perf_counter()
                words = ["create", "user", f"hand{run}", "--skeleton", "/etc/skel", "--quiet"]
                subprocess.run([given.program, "--tree", tree, *words], check=True, capture_output=True)
                taken[name].append(time.perf_counter() - began)
        home = trees["with"] / "home/hand0/folder0/file0"
        print("label:", os.getxattr(home, "security.selinux").decode().strip("\0"))
        without, labelled = (statistics.median(taken[name]) for name in ("without", "with"))
    ratio = labelled / without
    print(f"home of {given.files} files: without labels {without:.3f} s, with {labelled:.3f} s, ratio {ratio:.2f}, bar {BAR}")
    raise SystemExit(ratio > BAR)


if __name__ == "__main__":
    main()
