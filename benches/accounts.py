#!/usr/bin/env python3
"""Measures copper-nest on large account files against the operating system's own tools.

    benches/accounts.py [--accounts 1000000] [--runs 7] [--folder DIR]

Makes account files of made-up users in order, and shuffled with two memberships
a user; then times each command and its yardstick in turn, A B A B, so that a
machine whose speed drifts does not favour either, and prints the ratio of the
medians beside the bar it has to meet. Peak memory is the program's own, over
the bytes of the files it reads. Needs the release build, awk, grep, cp and sync.
"""

import argparse
import os
import random
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PROGRAM = ROOT / "target/release/copper-nest"
FILES = ["passwd", "shadow", "group", "gshadow", "subuid", "subgid"]
AWK = "awk -F: '{ if (n[$1]++ || u[$3]++) print }' passwd"


def make_tree(tree: Path, accounts: int, shuffled: bool) -> None:
    etc = tree / "etc"
    etc.mkdir(parents=True)
    rng = random.Random(211)
    order = list(range(accounts))
    member_of = [[] for _ in range(accounts)] if shuffled else None
    if shuffled:
        for user in range(accounts):
            for _ in range(2):
                member_of[rng.randrange(accounts)].append(user)
    def hash_(i):
        # No two alike, as salts make them.
        return "$y$j9T$" + "A" * 22 + f"${i:043}"


    def write(name, line):
        if shuffled:
            rng.shuffle(order)
        with open(etc / name, "w", buffering=1 << 20) as out:
            head = {"passwd": "root:x:0:0:root:/root:/bin/bash\n", "shadow": "root:*:20600::::::\n",
                    "group": "root:x:0:\n", "gshadow": "root:*::\n"}
            out.write(head.get(name, ""))
            out.writelines(line(i) for i in order)

    def members(i):
        return ",".join(f"crew{u:07}" for u in member_of[i]) if shuffled else ""

    write("passwd", lambda i: f"crew{i:07}:x:{i + 1000}:{i + 1000}:Crew {i}:/home/crew{i:07}:/bin/bash\n")
    write("shadow", lambda i: f"crew{i:07}:{hash_(i)}:20600:0::7:::\n")
    write("group", lambda i: f"crew{i:07}:x:{i + 1000}:{members(i)}\n")
    write("gshadow", lambda i: f"crew{i:07}:!::{members(i)}\n")
    for name in ("subuid", "subgid"):
        write(name, lambda i: f"crew{i:07}:{2001010688 + i * 64}:64\n")
    for name in ("shadow", "gshadow"):
        os.chmod(etc / name, 0o640)
    policy = etc / "copper-nest"
    policy.mkdir()
    (policy / "policy.toml").write_text(
        '[people]\nids = "1000-9999999"\nranges = 64\nskeleton = "none"\nshell = "/bin/sh"\n'
    )
    (tree / "home").mkdir()
    (tree / "bin").mkdir()
    shell = tree / "bin/sh"
    shell.write_text("stands for a shell\n")
    shell.chmod(0o755)


def run(command: str, folder: Path) -> tuple[float, int, int]:
    """Seconds, peak memory in bytes, and exit status of one run."""
    began = time.perf_counter()
    child = subprocess.Popen(["sh", "-c", "exec " + command if "&&" not in command else command],
                             cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(child.pid, 0)
    return time.perf_counter() - began, usage.ru_maxrss * 1024, os.waitstatus_to_exitcode(status)


def compare(ours, yardsticks: dict, runs: int, folder: Path, fine=(0,)):
    """Medians of our command and of each yardstick, run in turn."""
    times = {name: [] for name in ["ours", *yardsticks]}
    peak = 0
    for at in range(runs + 1):
        for name, command in [("ours", ours), *yardsticks.items()]:
            command = command(at) if callable(command) else command
            seconds, memory, status = run(command, folder)
            if name == "ours":
                peak = max(peak, memory)
                if status not in fine:
                    sys.exit(f"{command}: exit status {status}")
            if at > 0:
                times[name].append(seconds)
    return {name: statistics.median(all_) for name, all_ in times.items()}, peak


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--accounts", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--folder", type=Path, default=None)
    args = parser.parse_args()
    if not PROGRAM.exists():
        sys.exit("build it first: cargo build --release")
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    base = Path(tempfile.mkdtemp(prefix="nest-bench-", dir=args.folder))
    rows = []

    def row(what, ratio, bar, better):
        met = ratio >= bar if better == "at least" else ratio <= bar
        rows.append((what, f"{ratio:.2f}", f"{better} {bar:g}", "met" if met else "NOT MET"))

    try:
        medians, _ = compare(f"{PROGRAM} --version", {"true": "true"}, max(args.runs, 31), base)
        row("start-up / true", medians["ours"] / medians["true"], 2.5, "at most")
        row("size of the program, MB", PROGRAM.stat().st_size / 1e6, 14, "at most")
        for shuffled in (False, True):
            order = "shuffled" if shuffled else "in order"
            tree = base / order.replace(" ", "-")
            make_tree(tree, args.accounts, shuffled)
            etc = tree / "etc"
            paths = " ".join(FILES)
            read = sum((etc / name).stat().st_size for name in FILES)
            print(f"{order}: {args.accounts} accounts, {read / 1e6:.0f} MB", flush=True)
            os.sync()

            check = f"{PROGRAM} --tree {tree} --quiet check --files-only"
            medians, peak = compare(check, {"awk": AWK, "wc": f"wc -l {paths}"}, args.runs, etc)
            row(f"check, {order}: awk / ours", medians["awk"] / medians["ours"], 5 if shuffled else 10, "at least")
            row(f"check, {order}: ours / wc -l", medians["ours"] / medians["wc"], 16 if shuffled else 7, "at most")
            row(f"check, {order}: peak memory / bytes read", peak / read, 1, "at most")
            print(f"  check {medians['ours']:.3f} s, awk {medians['awk']:.3f} s, wc {medians['wc']:.3f} s", flush=True)

            name = f"crew{args.accounts * 2 // 3:07}"
            show = f"{PROGRAM} --tree {tree} show user {name}"
            medians, peak = compare(show, {"grep": f"grep -F {name} {paths}"}, args.runs, etc)
            row(f"show user, {order}: ours / grep -F", medians["ours"] / medians["grep"], 1.5, "at most")
            print(f"  show user {medians['ours']:.3f} s, grep {medians['grep']:.3f} s, peak {peak / read:.2f} of the bytes", flush=True)

            copy = " && ".join(f"cp {f} {f}.new && sync {f}.new && mv {f}.new {f}" for f in FILES)
            create = lambda at: f"{PROGRAM} --tree {tree} --quiet create user fresh{at}"
            medians, peak = compare(create, {"copy": copy}, args.runs, etc)
            row(f"create user, {order}: ours / copy, flush, rename", medians["ours"] / medians["copy"], 1.15, "at most")
            print(f"  create user {medians['ours']:.3f} s, copy {medians['copy']:.3f} s, peak {peak / read:.2f} of the bytes", flush=True)
            shutil.rmtree(tree)
    finally:
        shutil.rmtree(base, ignore_errors=True)
    width = max(len(row[0]) for row in rows)
    print()
    for what, ratio, bar, met in rows:
        print(f"{what:{width}}  {ratio:>7}  {bar:13}  {met}")


if __name__ == "__main__":
    main()
