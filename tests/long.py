"""The long proofs: `python -m tests.long [PYTEST ARGUMENTS]`, those without windows first.

They stand outside of `./kneten test`, which has some of each kind, and are run before a change that concerns them is called done.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import TypeVar

import pytest

ROOT = Path(__file__).parents[1]
T = TypeVar("T")


def some(values: list, every: int) -> list:
    """Values to be tried one by one: one of so many always, the others when long proofs are run."""
    return [
        one if k % every == 0 else pytest.param(one, marks=pytest.mark.long) for k, one in enumerate(values)
    ]


def few(values: Iterable[T], every: int) -> list[T]:
    """Values that one test goes through: one of so many always, all when long proofs are run."""
    return [one for k, one in enumerate(values) if k % every == 0 or os.environ.get("KNETEN_LONG")]


def main(words: list[str]) -> int:
    """Run them; 0 when all hold."""
    env = {
        **os.environ,
        "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}",
        "LIBGL_ALWAYS_SOFTWARE": "1",
        "KNETEN_LONG": "1",
    }
    run = [sys.executable, "-m", "pytest", "-q", "-m", "long or some", *words]
    plain = subprocess.run([*run, "tests", "--ignore=tests/app"], cwd=ROOT, env=env, check=False).returncode
    screen = ["xvfb-run", "-a", "-s", "-screen 0 3900x2200x24 +extension GLX"]
    env["QT_QPA_PLATFORM"] = "xcb"
    windows = subprocess.run([*screen, *run, "tests/app"], cwd=ROOT, env=env, check=False).returncode
    # 5: there was none to run.
    return 0 if {plain, windows} <= {0, 5} else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
