#!/usr/bin/env python3
"""Measures single changes on a small tree against another build of copper-nest.

    benches/small.py --before PROGRAM [--runs 40] [--folder DIR]

Both builds make the same change on a fresh copy of the same tree in turn, A B A B; the
folder has to be on the file system that is meant, since most of the time is waiting for
its disk. Prints the median of each, and of the differences; `at most 10 ms more` is the
bar for the build after. Needs root.
"""

import argparse
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PROGRAM = ROOT / "target/release/copper-nest"
BAR = 0.010

CHANGES = [
    ("create user", ["create", "user", "perrin", "--join", "pilots"]),
    ("regroup", ["regroup", "maren", "--join", "slipway"]),
    ("rename user", ["rename", "user", "maren", "marlo"]),
    ("change user --uid", ["change", "user", "maren", "--uid", "1500"]),
    ("delete user", ["delete", "user", "maren", "--yes"]),
    ("delete user --files archive", ["delete", "user", "maren", "--files", "archive", "--yes"]),
    ("suspend user", ["suspend", "user", "maren", "--reason", "leave", "--yes"]),
]


def run(program, tree, words):
    began = time.perf_counter()
    done = subprocess.run([program, "--tree", tree, *words], capture_output=True, text=True)
    took = time.perf_counter() - began
    if done.returncode != 0:
        sys.exit(f"{words}: {done.stderr}")
    return took


def make(tree):
    for path, text in {
        "etc/passwd": "root:x:0:0:root:/root:/bin/sh\ntavish:x:1001:1001::/home/tavish:/bin/sh\n",
        "etc/shadow": "root:*:20600::::::\ntavish:!:20600::::::\n",
        "etc/group": "root:x:0:\npilots:x:210:tavish\nslipway:x:211:\ntavish:x:1001:\n",
        "etc/gshadow": "root:*::\npilots:!::tavish\nslipway:!::\ntavish:!::\n",
        "etc/subuid": "tavish:2001010688:65536\n",
        "etc/subgid": "tavish:2001010688:65536\n",
        "etc/shells": "/bin/sh\n",
        "etc/skel/.profile": "export EDITOR=vi\n",
        "bin/sh": "a shell\n",
    }.items():
        (tree / path).parent.mkdir(parents=True, exist_ok=True)
        (tree / path).write_text(text)
    (tree / "bin/sh").chmod(0o755)
    for folder in ["home", "var/mail", "var/lib"]:
        (tree / folder).mkdir(parents=True)
    run(PROGRAM, tree, ["create", "user", "maren", "--shell", "/bin/sh"])


def main():
    options = argparse.ArgumentParser()
    options.add_argument("--before", required=True)
    options.add_argument("--runs", type=int, default=40)
    options.add_argument("--folder")
    options = options.parse_args()
    with tempfile.TemporaryDirectory(dir=options.folder) as folder:
        base = Path(folder) / "base"
        make(base)
        for label, words in CHANGES:
            times = {program: [] for program in (str(PROGRAM), options.before)}
            for at in range(options.runs):
                for program in times:
                    tree = Path(folder) / "tree"
                    subprocess.run(["cp", "-a", base, tree], check=True)
                    subprocess.run(["sync", "-f", tree], check=True)
                    times[program].append(run(program, tree, words))
                    shutil.rmtree(tree)
            now, before = times.values()
            more = statistics.median(a - b for a, b in zip(now, before))
            print(f"{label:30} {statistics.median(now) * 1000:7.2f} ms "
                  f"{statistics.median(before) * 1000:7.2f} ms   {more * 1000:+6.2f} ms   "
                  f"bar: at most +{BAR * 1000:.0f} ms   {'met' if more <= BAR else 'MISSED'}",
                  flush=True)


main()
