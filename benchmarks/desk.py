"""Strokes through the real window: what an event is made of, and how soon all rests, in large clay against small."""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from benchmarks.measure import Figure

SMALL, LARGE = 250_000, 8_000_000
STROKES = 7
MOVES = 12


def at_the_desk() -> Iterator[Figure]:
    """A window of its own, on a virtual screen where there is none."""
    found = json.loads(_child().splitlines()[-1])
    few, many = found[str(SMALL)], found[str(LARGE)]
    for name, key, bar in (
        ("rest after a small stroke", "rest", 2.0),
        ("undo of a small stroke", "undo", 4.0),
    ):
        a, b = many[key], few[key]
        note = f"{a * 1e3:.0f} ms / {b * 1e3:.0f} ms, through the window"
        yield Figure(f"{name}, 8 M / 250 k", a / b, bar, "ratio", True, note)
    event, plain = few["event"], few["plain"]
    note = f"{plain * 1e3:.1f} of {event * 1e3:.1f} ms an event, besides dab, picks and drawing"
    yield Figure("Python's share of a small stroke's event", plain / event, 0.15, "ratio", True, note)


def _child() -> str:
    words = [sys.executable, "-m", "benchmarks.desk"]
    with tempfile.TemporaryDirectory() as folder:
        own = {
            "KNETEN_STATE": folder,
            "KNETEN_CONFIG": folder,
            "LIBGL_ALWAYS_SOFTWARE": "1",
            "QT_QPA_PLATFORM": "xcb",
        }
        if shutil.which("xvfb-run"):
            words = ["xvfb-run", "-a", "-s", "-screen 0 1600x1000x24 +extension GLX", *words]
        root = Path(__file__).parents[1]
        done = subprocess.run(
            words, env={**os.environ, **own}, capture_output=True, text=True, check=True, cwd=root
        )
    return done.stdout


class Clock:
    """Adds up the seconds spent in some functions, those they call included; within others only, if wanted."""

    def __init__(self, within: Clock | None = None) -> None:
        self.spent = 0.0
        self._deep = 0
        self._within = within

    def watch(self, owner: type, name: str) -> None:
        """Count the time of a method from now on."""
        run: Callable[..., Any] = getattr(owner, name)

        def timed(*args: Any, **words: Any) -> Any:
            self._deep += 1
            began = time.perf_counter()
            try:
                return run(*args, **words)
            finally:
                self._deep -= 1
                if self._deep == 0 and (self._within is None or self._within._deep):
                    self.spent += time.perf_counter() - began

        setattr(owner, name, timed)


def main() -> None:
    """Measure in a window and print it as JSON."""
    from kneten.app.start.main import prepare_graphics

    prepare_graphics()
    import numpy as np
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent
    from PySide6.QtWidgets import QApplication

    from kneten.app.shell.window import Window
    from kneten.app.view.aim import Aim
    from kneten.app.view.viewport import Viewport
    from kneten.app.work.preferences import Preferences
    from kneten.core.mesh import Mesh
    from kneten.core.primitives import ball
    from kneten.core.stroke import Stroke
    from kneten.core.warm import warm_here
    from kneten.document.project import Project
    from kneten.document.scene import Part, Scene

    app = QApplication(sys.argv[:1])
    warm_here()
    window = Window(Preferences(still=True))
    window.show()
    window.studio.ready = True
    window.studio.ask_unsaved = lambda: "discard"
    view = window.view
    handled = Clock()
    deeper = Clock(handled)
    handled.watch(Viewport, "mouseMoveEvent")
    handled.watch(Viewport, "_paint_over")
    for owner, name in ((Stroke, "dab"), (Aim, "hit")):
        deeper.watch(owner, name)

    def send(kind: QEvent.Type, x: float, y: float) -> None:
        at, held, none = QPointF(x, y), Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton
        button = none if kind == QEvent.Type.MouseMove else held
        down = none if kind == QEvent.Type.MouseButtonRelease else held
        event = QMouseEvent(kind, at, view.mapToGlobal(at), button, down, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(view, event)

    def rest() -> None:
        while not view.resting or window.studio.jobs:
            app.processEvents()

    found = {}
    for count in (SMALL, LARGE):
        mesh = Mesh.from_faces(*ball(100.0, int(np.sqrt(count / 6))))
        window.studio.take(Project(Scene((Part("Ball", mesh),))))
        window.studio.project.change_settings(symmetry=(False, False, False))
        window.views.frame_all()
        window.studio.set_brush(size=30.0)
        rest()
        x, y = view.width() / 2, view.height() / 2
        took: dict[str, list[float]] = {"rest": [], "undo": [], "event": [], "plain": []}
        for turn in range(STROKES):
            send(QEvent.Type.MouseButtonPress, x - 40, y + 10 * turn)
            for k in range(MOVES):
                before, under = handled.spent, deeper.spent
                began = time.perf_counter()
                send(QEvent.Type.MouseMove, x - 36 + 4 * k, y + 10 * turn)
                rest()
                app.processEvents()
                took["event"].append(time.perf_counter() - began)
                took["plain"].append(max(handled.spent - before - (deeper.spent - under), 0.0))
            began = time.perf_counter()
            send(QEvent.Type.MouseButtonRelease, x + 12, y + 10 * turn)
            app.processEvents()
            rest()
            app.processEvents()
            took["rest"].append(time.perf_counter() - began)
            began = time.perf_counter()
            window.registry.run("edit.undo")
            rest()
            app.processEvents()
            took["undo"].append(time.perf_counter() - began)
        found[str(count)] = {key: statistics.median(values[1:]) for key, values in took.items()}
    print(json.dumps(found), flush=True)
    window.studio.project.unsaved = False
    window.close()


if __name__ == "__main__":
    main()
