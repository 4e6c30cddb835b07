"""Screens of other densities: what is pressed is what is hit, and the picture has the screen's own pixels."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import pytest

from tests.long import some

SCRIPT = """
import json, sys, time
from kneten.app.start.main import prepare_graphics
prepare_graphics()
from PySide6.QtWidgets import QApplication
app = QApplication([])
import numpy as np
from kneten.app.work.preferences import Preferences
from kneten.app.fields.theme import load_fonts
from kneten.app.shell.window import Window
from kneten.core.warm import warm_here
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import drag, settle
from tests.conftest import make_ball
warm_here()
load_fonts()
window = Window(Preferences(still=True))
window.show()
window.studio.ready = True
window.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 48)),))))
window.views.frame_all()
settle(window)
view = window.view
def pixels():
    view.makeCurrent()
    found = view.renderer.read().astype(int)
    view.doneCurrent()
    return found
before = pixels()
window.studio.project.change_settings(symmetry=(False, False, False))
x, y = view.width() / 2 + 60, view.height() / 2
window.studio.set_brush(strength=1.0)
for _ in range(3):
    drag(window, [(x, y), (x + 12, y)])
settle(window)
changed = np.argwhere(np.abs(pixels() - before).max(axis=2) > 6)
ratio = view.devicePixelRatioF()
window.studio.project.unsaved = False
print(json.dumps({
    "ratio": ratio,
    "view": [view.width(), view.height()],
    "picture": list(view.renderer.size),
    "scale": view.renderer.scale,
    "at": (changed.mean(axis=0)[::-1] / ratio).tolist(),
    "pressed": [x + 6, y],
    "size": window.studio.settings().size,
}))
"""


@pytest.mark.parametrize("ratio", some([1.5, 1.0, 2.0], 3))
def test_strokes_hit_at_every_density(ratio: float) -> None:
    done = subprocess.run(
        [sys.executable, "-c", SCRIPT],
        env={**os.environ, "QT_SCALE_FACTOR": str(ratio)},
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout.splitlines()[-1])
    assert found["ratio"] == pytest.approx(ratio)
    for points, pixels in zip(found["view"], found["picture"], strict=True):
        assert pixels == pytest.approx(points * ratio, abs=1)
    assert found["scale"] == pytest.approx(ratio)
    for pressed, at in zip(found["pressed"], found["at"], strict=True):
        assert at == pytest.approx(pressed, abs=0.35 * found["size"])
