#!/usr/bin/env python3
"""Measures `copper-nest check` as files grow, as findings do, and on many trees.

    benches/check.py [--accounts 1000000] [--trees 200] [--runs 5] [--folder DIR] [PART…]

Parts: growth, findings, trees; all without one. Growth is a table from a hundredth
of the accounts to all of them. Findings holds files with a hundred thousand of them
against the same files without. Trees checks many small trees by one command, and
starts awk on the files of each as the yardstick. Commands are timed in turn, and
ratios are of medians. Needs the release build and awk.
"""

import argparse
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))
from accounts import AWK, FILES, PROGRAM, compare, make_tree, run  # noqa: E402

FINDINGS = 100_000


def size(tree: Path) -> int:
    return sum((tree / "etc" / name).stat().st_size for name in FILES)


def check(tree: Path) -> str:
    return f"{PROGRAM} --tree {tree} check --files-only"


def growth(base: Path, accounts: int, runs: int) -> None:
    print("accounts     seconds   MB a second   peak / bytes")
    for count in (accounts // 100, accounts // 10, accounts):
        tree = base / f"growth{count}"
        make_tree(tree, count, shuffled=False)
        took = [run(check(tree), base) for _ in range(runs + 1)][1:]
        seconds = statistics.median(one[0] for one in took)
        peak = max(one[1] for one in took)
        print(f"{count:8} {seconds:11.3f} {size(tree) / 1e6 / seconds:13.0f} {peak / size(tree):14.2f}",
              flush=True)
        shutil.rmtree(tree)


def findings(base: Path, accounts: int, runs: int) -> None:
    sound, faulty = base / "sound", base / "faulty"
    make_tree(sound, accounts, shuffled=False)
    shutil.copytree(sound, faulty)
    # Every tenth account has no line in shadow.
    lines = (faulty / "etc/shadow").read_text().splitlines(keepends=True)
    kept = [line for at, line in enumerate(lines) if at == 0 or at % (accounts // FINDINGS)]
    (faulty / "etc/shadow").write_text("".join(kept))
    times, _ = compare(check(faulty), {"sound": check(sound)}, runs, base, fine=(0, 1))
    ratio = times["ours"] / times["sound"]
    print(f"{len(lines) - len(kept)} findings {times['ours']:.3f} s, none {times['sound']:.3f} s, "
          f"ratio {ratio:.2f} (at most 2: {'met' if ratio <= 2 else 'NOT MET'})", flush=True)


def trees(base: Path, count: int, runs: int) -> None:
    names = [base / f"tree{at:04}" for at in range(count)]
    for tree in names:
        make_tree(tree, 40, shuffled=False)
    (base / "trees").write_text("".join(f"{tree}\n" for tree in names))
    files = " ".join(FILES)
    script = base / "each.sh"
    script.write_text("".join(f"cd {tree}/etc && {AWK.replace(' passwd', f' {files}')}\n"
                              for tree in names))
    ours = f"{PROGRAM} check --files-only --trees-from {base}/trees"
    times, _ = compare(ours, {"awk": f"sh {script}"}, runs, base, fine=(0, 1))
    ratio = times["ours"] / times["awk"]
    print(f"{count} trees of 40 accounts: {times['ours']:.3f} s, as many starts of awk over the same "
          f"files {times['awk']:.3f} s, ratio {ratio:.2f} (below 1: {'met' if ratio < 1 else 'NOT MET'})",
          flush=True)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("parts", nargs="*")
    parser.add_argument("--accounts", type=int, default=1_000_000)
    parser.add_argument("--trees", type=int, default=200)
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--folder", type=Path, default=None)
    args = parser.parse_args()
    if not PROGRAM.exists():
        sys.exit("build it first: cargo build --release")
    base = Path(tempfile.mkdtemp(prefix="nest-bench-", dir=args.folder))
    try:
        if not args.parts or "growth" in args.parts:
            growth(base, args.accounts, args.runs)
        if not args.parts or "findings" in args.parts:
            findings(base, args.accounts, args.runs)
        if not args.parts or "trees" in args.parts:
            trees(base, args.trees, args.runs)
    finally:
        shutil.rmtree(base, ignore_errors=True)


if __name__ == "__main__":
    main()
