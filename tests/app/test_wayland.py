"""The same window under a Wayland compositor without a monitor: it starts, is stroked, takes pen and drop."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
SOCKET = "kneten-test"


@pytest.fixture
def compositor(tmp_path: Path) -> Iterator[dict[str, str]]:
    """What a program has to know to be shown by it."""
    weston = shutil.which("weston")
    if weston is None:
        pytest.skip("weston is not installed")
    runtime = tmp_path / "runtime"
    runtime.mkdir(mode=0o700)
    env = {**os.environ, "XDG_RUNTIME_DIR": str(runtime)}
    env.pop("DISPLAY", None)
    size = ("--width=1600", "--height=1000", "--idle-time=0")
    with subprocess.Popen(
        [weston, "--backend=headless-backend.so", f"--socket={SOCKET}", *size],
        env=env,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    ) as process:
        until = time.monotonic() + 20
        while not (runtime / SOCKET).exists():
            assert process.poll() is None
            assert time.monotonic() < until
            os.sched_yield()
        yield {**env, "WAYLAND_DISPLAY": SOCKET, "QT_QPA_PLATFORM": "wayland", "LIBGL_ALWAYS_SOFTWARE": "1"}
        process.terminate()


def test_the_window_works_under_wayland(compositor: dict[str, str], tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "tests.app.wayland_child", str(tmp_path)],
        cwd=ROOT,
        env=compositor,
        capture_output=True,
        text=True,
        timeout=240,
    )
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout.splitlines()[-1])
    assert (told["display"], told["platform"], told["failed"]) == ("", "wayland", "")
    assert told["steps"][:2] == ["Raise on Ball", "Raise on Ball"]
    assert told["steps"][-1] == "Import dropped.obj"
    # A headless compositor has no seat, and without one nobody owns a clipboard: pasting is refused, and nothing breaks.
    assert told["pictures"] in (0, 1)
    assert told["parts"] == ["Ball", "Dropped"]
    assert told["mishaps"] == []
