#!/usr/bin/env python3
"""Measures compare on many snapshots, and LDIF of many accounts.

    benches/compare.py [--hosts 10000] [--users 200] [--accounts 1000000] [--runs 3]
                       [--folder DIR] [--program P] [--only compare,ldif]

The snapshots are made by copying one with numbers and shells that drift here and there. Printed is
the time from 100 of them to all, which has to be linear, the peak of memory, and the ratio to jq
grouping the same files by name and uid (where there is jq), interleaved. LDIF is written of a
million accounts and read back. Needs the release build.
"""

import argparse
import json
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from accounts import PROGRAM, make_tree

MOST_SECONDS, MOST_BYTES, LEAST_RATIO = 5.0, 1.5e9, 10.0
OUT, IN = 100e6, 50e6
GROUPING = "[inputs.users[] | {name, uid}] | group_by(.name) | map({name: .[0].name, uids: (map(.uid) | unique)})"


def timed(words, **options):
    """Seconds, and the most memory in bytes."""
    began = time.perf_counter()
    child = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, **options)
    _, status, usage = os.wait4(child.pid, 0)
    seconds = time.perf_counter() - began
    if os.waitstatus_to_exitcode(status) not in (0, 1):
        sys.exit(f"{words[:3]}: {child.stderr.read().decode()[:400]}")
    return seconds, usage.ru_maxrss * 1024


def snapshots(folder, hosts, users, dice):
    """Snapshots of machines that are nearly the same."""
    people = [
        {
            "name": f"hand{at:04}", "uid": 1000 + at, "gid": 1000 + at, "primary": f"hand{at:04}",
            "full_name": f"Hand {at}", "home": f"/home/hand{at:04}", "shell": "/bin/bash",
            "kind": "person", "expires": "never", "sign_in": "password and key", "root": [],
            "keys": [f"SHA256:{at:043}"], "uids": [[100000 + 65536 * at, 65536]],
            "gids": [[100000 + 65536 * at, 65536]],
        }
        for at in range(users)
    ]
    groups = [
        {"name": one["name"], "gid": one["gid"], "kind": "private"} for one in people
    ] + [{"name": "crew", "gid": 500, "kind": "people", "members": [one["name"] for one in people]}]
    lines = [json.dumps(one, separators=(",", ":")) for one in people]
    of_groups = ",\n".join(json.dumps(one, separators=(",", ":")) for one in groups)
    folder.mkdir()
    for host in range(hosts):
        own = list(lines)
        for _ in range(2):
            at = dice.randrange(users)
            other = dict(people[at], uid=5000 + dice.randrange(users), shell="/bin/zsh")
            own[at] = json.dumps(other, separators=(",", ":"))
        del own[dice.randrange(users)]
        head = (
            f'{{"document":"snapshot","version":1,"program":"0.1.0","host":"quay{host:05}",'
            f'"time":"2026-11-24T06:00:00+00:00","policy":"{host % 7}"'
        )
        of_users = ",\n".join(own)
        text = f'{head},\n"users":[\n{of_users}\n],\n"groups":[\n{of_groups}\n]}}\n'
        (folder / f"quay{host:05}.json").write_text(text)


def comparing(given, folder):
    snapshots(folder / "all", given.hosts, given.users, random.Random("gullhaven"))
    size = sum(file.stat().st_size for file in (folder / "all").iterdir())
    print(f"{given.hosts} snapshots of {given.users} accounts, {size / 1e6:.0f} MB")
    print("hosts    seconds  MB   us a host")
    count, failed = 100, False
    while count <= given.hosts:
        part = folder / "part"
        shutil.rmtree(part, ignore_errors=True)
        part.mkdir()
        for host in range(count):
            name = f"quay{host:05}.json"
            os.link(folder / "all" / name, part / name)
        runs = [timed([given.program, "compare", "--from", part]) for _ in range(given.runs)]
        seconds, peak = statistics.median(run[0] for run in runs), max(run[1] for run in runs)
        print(f"{count:6}  {seconds:8.3f}  {peak / 1e6:4.0f}  {1e6 * seconds / count:6.0f}")
        count *= 10
    failed |= seconds > MOST_SECONDS or peak > MOST_BYTES
    print(f"all: {seconds:.2f} s (bar {MOST_SECONDS}), {peak / 1e9:.2f} GB (bar {MOST_BYTES / 1e9})")
    if not shutil.which("jq"):
        print("PASSED OVER: there is no jq to hold it against")
        return failed
    files = sorted(str(file) for file in part.iterdir())[:1000]
    few = folder / "few"
    few.mkdir()
    for file in files:
        os.link(file, few / Path(file).name)
    ours, theirs = [], []
    for _ in range(given.runs):
        ours.append(timed([given.program, "compare", "--from", few])[0])
        theirs.append(timed(["jq", "-n", GROUPING, *files])[0])
    ratio = statistics.median(theirs) / statistics.median(ours)
    print(f"of {len(files)}: {ratio:.1f} times as fast as jq (bar {LEAST_RATIO})")
    return failed or ratio < LEAST_RATIO


def ldif(given, folder):
    tree = folder / "tree"
    make_tree(tree, given.accounts, False)
    file, base = folder / "all.ldif", "dc=gullhaven,dc=example"
    export = [given.program, "--tree", tree, "export", "users", "--as", "ldif", "--base", base]
    small = folder / "small"
    make_tree(small, 1, False)
    out, back = [], []
    for _ in range(given.runs):
        with open(file, "w") as to:
            began = time.perf_counter()
            subprocess.run(export, stdout=to, stderr=subprocess.DEVNULL, check=False)
            out.append(time.perf_counter() - began)
        # Held against a tree with one account: what is measured is reading.
        back.append(timed([given.program, "--tree", small, "handover", file])[0])
    size = file.stat().st_size
    rates = [size / statistics.median(times) for times in (out, back)]
    print(f"LDIF of {given.accounts} accounts, {size / 1e6:.0f} MB: written at {rates[0] / 1e6:.0f} MB/s "
          f"(bar {OUT / 1e6:.0f}), read back at {rates[1] / 1e6:.0f} MB/s (bar {IN / 1e6:.0f})")
    return rates[0] < OUT or rates[1] < IN


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--hosts", type=int, default=10_000)
    parser.add_argument("--users", type=int, default=200)
    parser.add_argument("--accounts", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--folder")
    parser.add_argument("--program", default=PROGRAM)
    parser.add_argument("--only", default="compare,ldif")
    given = parser.parse_args()
    failed = False
    with tempfile.TemporaryDirectory(dir=given.folder) as folder:
        folder = Path(folder)
        if "compare" in given.only:
            failed |= comparing(given, folder)
        if "ldif" in given.only:
            failed |= ldif(given, folder)
    return int(failed)


if __name__ == "__main__":
    sys.exit(main())
