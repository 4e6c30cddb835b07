"""Killed again and again: `python -m tests.kills [--count 500] [--seed 1] [--jobs 2]`.

A process works on a project and is killed in the middle: in strokes, saves, changes of density, what the later stages
do (colour, net, pose, shapes, motion, light, pictures), and in the restoring of what the last kill left, twice in a row. After each kill what can be found again, in the saved file or in a left
journal, is at least the last state that was reported finished.
"""

from __future__ import annotations

import argparse
import random
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from kneten.document.project_file import open_project
from kneten.document.recovery import left_journals, recover
from tests.document.crash_child import digest

ROOT = Path(__file__).parents[1]
KINDS = ("strokes", "saves", "densities", "stages")


def working(root: Path, kind: str) -> subprocess.Popen[str]:
    """A process at work."""
    return subprocess.Popen(
        [sys.executable, "-m", "tests.document.crash_child", str(root), kind],
        cwd=ROOT,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )


def reported(child: subprocess.Popen[str], lines: int, wait: float) -> list[str]:
    """What a process reported until it was killed, a moment after some lines."""
    assert child.stdout is not None
    found = [child.stdout.readline() for _ in range(lines)]
    try:
        child.wait(wait)
    except subprocess.TimeoutExpired:
        child.send_signal(signal.SIGKILL)
    child.wait()
    found += list(child.stdout)
    # A line the process was killed in the middle of tells nothing.
    return [line.strip() for line in found if line.endswith("\n")]


def found_again(root: Path) -> Iterator[tuple[str, int]]:
    """The states that can be found again, and how many changes led there since the last save or restoring."""
    target = root / "work.kneten"
    if target.exists():
        yield digest(open_project(target)), 0
    for left in left_journals(root / "journals"):
        yield digest(recover(left)), left.changes


def turn(root: Path, random_: random.Random) -> str:
    """Kill once, and once or twice more while that is being restored; what is wrong, or ""."""
    kind = random_.choice(KINDS)
    told = reported(working(root, kind), random_.randint(1, 14), random_.uniform(0.0, 0.04))
    silent = False
    for _ in range(random_.randint(0, 2)):
        # The next one restores what was left, and is killed in the middle of that, or soon after.
        again = reported(working(root, "restores"), random_.randint(0, 2), random_.uniform(0.0, 0.6))
        told += again
        silent = silent or not again
    # The first line is of a new project that nobody has touched: its journal holds no work, and goes.
    if len(told) < 2:
        return ""
    state, changes = told[-1].split()
    known = {line.split()[0] for line in told}
    # A change may have been finished that was not reported any more; one that restored it may not have said so either.
    for found, after in found_again(root):
        if found == state or after > int(changes) or (silent and found not in known):
            return ""
    return f"{kind}: after {len(told)} finished changes the last is not found again"


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests.kills")
    parser.add_argument("--count", type=int, default=500)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2, help="how many are killed at the same time")
    given = parser.parse_args()

    def killed(count: int) -> bool:
        """Whether one lost anything; what is left of it stays then."""
        root = Path(tempfile.mkdtemp(prefix="kneten-kills-"))
        wrong = turn(root, random.Random(f"{given.seed} {count}"))
        if wrong:
            print(f"{root}: {wrong}", flush=True)
        else:
            shutil.rmtree(root)
        return bool(wrong)

    lost = 0
    with ThreadPoolExecutor(given.jobs) as pool:
        for count, wrong in enumerate(pool.map(killed, range(given.count)), 1):
            lost += wrong
            if count % 50 == 0:
                print(f"{count} kills, {lost} lost", flush=True)
    print(f"{given.count} kills, {lost} lost")
    return 1 if lost else 0


if __name__ == "__main__":
    sys.exit(main())
