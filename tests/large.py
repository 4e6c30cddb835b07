"""What blocking and forming ask for, through the real window on two million triangles; then undone, redone, reopened.

    python -m tests.large [divisions]

Prints, for each step, how long it took until its result was there and the longest time between two turns of the event
loop, in milliseconds. Ends with an error when undo, redo or reopening differ in a bit.
"""

from __future__ import annotations

import hashlib
import itertools
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("KNETEN_STATE", tempfile.mkdtemp())
os.environ.setdefault("KNETEN_CONFIG", tempfile.mkdtemp())

from kneten.app.start.main import prepare_graphics

prepare_graphics()

import numpy as np  # noqa: E402
from PySide6.QtCore import QEvent, Qt  # noqa: E402
from PySide6.QtTest import QTest  # noqa: E402
from PySide6.QtWidgets import QApplication, QInputDialog  # noqa: E402

from kneten.app.fields.theme import load_fonts  # noqa: E402
from kneten.app.shell.window import Window  # noqa: E402
from kneten.app.work.preferences import Preferences  # noqa: E402
from kneten.core.brushes.toolbox import TOOLS  # noqa: E402
from kneten.core.deform import KINDS  # noqa: E402
from kneten.core.loose import LooseMesh  # noqa: E402
from kneten.core.warm import warm_here  # noqa: E402
from kneten.document.project import Project  # noqa: E402
from kneten.document.scene import Part, Scene  # noqa: E402
from tests.app.windows import LEFT, NONE, send  # noqa: E402
from tests.conftest import make_ball  # noqa: E402

SHIFT = Qt.KeyboardModifier.ShiftModifier
CTRL = Qt.KeyboardModifier.ControlModifier
Line = list[tuple[float, float]]


def digest(scene: Scene) -> str:
    """All that undo must bring back, in a few letters."""
    told = hashlib.blake2b(digest_size=8)
    for part in scene.parts:
        mesh = part.mesh.settled() if isinstance(part.mesh, LooseMesh) else part.mesh
        told.update(f"{part.name}{part.transform}{part.visible}{part.recipe}".encode())
        for array in (mesh.positions, mesh.topology.faces, mesh.mask, mesh.regions, mesh.hidden, mesh.colour):
            told.update(b"-" if array is None or not array.any() else np.ascontiguousarray(array).tobytes())
    told.update(f"{scene.groups}{[(g.id, g.note) for g in scene.guides]}{scene.tapes}".encode())
    told.update(f"{[m.name for m in scene.kept_masks]}{scene.region_names}".encode())
    return told.hexdigest()


class Walk:
    """A window and a hand that measures while it works."""

    def __init__(self, divisions: int) -> None:
        load_fonts()
        self.window = window = Window(Preferences(still=True, welcomed=True))
        window.resize(1280, 800)
        window.show()
        warm_here()
        window.studio.ready = True
        mesh = make_ball(100.0, divisions)
        print(f"{mesh.topology.n_triangles:,} triangles")
        window.studio.take(Project(Scene((Part("Ball", mesh),))))
        window.views.frame_all()
        self.notices: list[str] = []
        self.gap = 0.0
        self.trail: list[tuple[int, str]] = []
        self.settle()

    @property
    def project(self) -> Project:
        return self.window.studio.project

    def turn(self, what: Callable[[], object] = QApplication.processEvents) -> None:
        """One turn of the event loop, or one call from it."""
        begin = time.monotonic()
        what()
        self.gap = max(self.gap, time.monotonic() - begin)

    def settle(self) -> None:
        """Until work has landed and the picture rests."""
        view, studio = self.window.view, self.window.studio
        quiet = 0
        end = time.monotonic() + 300
        while quiet < 4:
            self.turn()
            busy = studio.jobs or view.at_work or view._queue or view._busy or not view.resting
            quiet = 0 if busy else quiet + 1
            time.sleep(0.003)
            assert time.monotonic() < end, "it does not come to rest"

    def step(self, name: str, act: Callable[[], object], changes: bool | None = True) -> None:
        """One thing that is done, its time and its longest gap; what undo must come back to afterwards is noted."""
        self._measured(name, lambda: self.turn(act), changes)

    def _measured(self, name: str, act: Callable[[], object], changes: bool | None) -> None:
        self.gap = 0.0
        before = len(self.project.history.names()[0])
        begin = time.monotonic()
        act()
        self.settle()
        took = time.monotonic() - begin
        after = len(self.project.history.names()[0])
        notices = [n.text for n in self.window.notices.notices]
        told = "; ".join(text for text in notices if text not in self.notices)
        self.notices = notices
        flag = "" if changes is None or (after > before) == changes else "  << steps " + str(after - before)
        print(f"{name:34} {took * 1e3:8.0f} {self.gap * 1e3:6.0f}  {told[:90]}{flag}", flush=True)
        if after != before:
            # Between steps there may be a preview, which is no state that undo comes back to.
            self.trail.append((after, digest(self.project.scene)))

    def run(self, key: str, changes: bool | None = True) -> None:
        """A command by its key."""
        self.step(key, lambda: self.window.registry.run(key), changes)

    def drag(self, line: Line, keys: Qt.KeyboardModifier = NONE) -> None:
        """Press, move along a line, release; every event measured."""
        window = self.window
        self.turn(lambda: send(window, QEvent.Type.MouseButtonPress, *line[0], LEFT, keys))
        for (x0, y0), (x1, y1) in itertools.pairwise(line):
            for t in np.linspace(0, 1, 9)[1:]:
                x, y = x0 + (x1 - x0) * t, y0 + (y1 - y0) * t
                self.turn(lambda x=x, y=y: send(window, QEvent.Type.MouseMove, x, y, LEFT, keys))
                self.turn()
                time.sleep(0.004)
        while window.view._queue or window.view._busy:
            self.turn()
            time.sleep(0.002)
        self.turn(lambda: send(window, QEvent.Type.MouseButtonRelease, *line[-1], LEFT, keys))

    def draws(
        self, name: str, line: Line, keys: Qt.KeyboardModifier = NONE, changes: bool | None = True
    ) -> None:
        """A drag as a step."""
        # Each of its events is a turn: it is no turn itself.
        self._measured(name, lambda: self.drag(line, keys), changes)

    def pixel(self, x: float, y: float, z: float = 100.0) -> tuple[float, float]:
        view = self.window.view
        found = view.camera.project(np.array([[x, y, z]], float), view.wide, view.high)[0, :2]
        return float(found[0]), float(found[1])

    # -- the walk ---------------------------------------------------------------------------------

    def forming(self) -> None:
        """Every tool, every kind of stroke, masks, regions, symmetry, peel, deformers, guides."""
        window, studio = self.window, self.window.studio
        x, y = self.pixel(0, 0)
        window.choose_stage("Form")
        self.run("edit.milestone", None)
        for key, tool in TOOLS.items():
            if tool.density or key in ("mask", "region"):
                continue
            for variant, *_ in tool.variants or (("", "", ""),):
                window.registry.run(f"tool.{key}")
                studio.set_brush(size=40.0, strength=0.6, **({"variant": variant} if variant else {}))
                self.draws(f"{tool.name} {variant}", [(x - 50, y - 30), (x + 40, y - 10)], changes=None)
        window.registry.run("tool.raise")
        for kind in ("spaced", "line", "scattered", "dragged", "sized"):
            studio.set_brush(size=20.0, kind=kind)
            self.draws(f"stroke {kind}", [(x - 60, y + 40), (x + 60, y + 50)])
        studio.set_brush(kind="continuous")
        self.run("tool.mask", False)
        studio.set_brush(size=35.0)
        self.draws("paint a mask", [(x - 20, y + 60), (x + 20, y + 60)])
        for key in ("mask.invert", "mask.invert", "mask.blur", "mask.sharpen", "mask.grow", "mask.shrink"):
            self.run(key)
        self.run("mask.gradient", False)
        self.draws("drag a gradient", [(x, y), (x + 40, y), (x + 80, y)])
        window.view.take_mode(None)
        card = window.mask_card
        for kind in ("cavity", "height", "facing", "thickness"):
            card.kinds.setCurrentIndex(card.kinds.findData(kind))
            self.step(f"mask by {kind}", lambda: card.kinds.activated.emit(card.kinds.currentIndex()), None)
            self.step("  its limit dragged", lambda: card.low._take(30.0, False), None)
            self.step("  kept", lambda: card.low.settled.emit(30.0), None)
        self.run("mask.clear")
        self.run("mask.lasso", False)
        t = np.linspace(0, 6.2, 16)
        around = [(x + 70 * float(np.cos(a)), y + 60 * float(np.sin(a))) for a in t]
        self.draws("lasso a mask", around, SHIFT)
        window.view.take_mode(None)
        self.run("region.from-mask")
        for key in ("region.grow", "region.shrink", "region.mask", "region.by-angle"):
            self.run(key, None)
        self.run("region.isolate")
        self.run("region.swap")
        self.run("region.show-all")
        window.peel_card.thickness.set_value(4.0)
        self.run("mask.peel")
        self.run("parts.hide")
        self.project.choose(self.project.scene.parts[0].id)
        self.run("mask.clear", None)
        self.run("symmetry.check", False)
        self.run("symmetry.check", False)
        self.run("symmetry.right")
        window.registry.run("look.clay")
        self.deforming()
        self.run("guide.draw", False)
        self.draws("draw a guide", around, changes=None)
        window.view.take_mode(None)
        for key in ("guide.mask", "guide.region", "guide.strand"):
            self.run(key, None)
        self.project.choose(self.project.scene.parts[0].id)
        self.run("mask.clear", None)

    def deforming(self) -> None:
        """Each deformer dragged, its pictures measured, then kept."""
        card = self.window.deform_card
        for kind, (name, *_, high) in KINDS.items():
            if kind in ("lattice", "project"):
                continue
            card.kind.setCurrentIndex(card.kind.findData(kind))
            card.kind.activated.emit(card.kind.currentIndex())
            self.gap = 0.0
            gaps = []
            begin = time.monotonic()
            for share in np.linspace(0.02, 0.1, 8):
                now = time.monotonic()
                self.turn(lambda value=high * share: card.amount._take(value, False))
                for _ in range(4):
                    self.turn()
                gaps.append(time.monotonic() - now)
            took = (time.monotonic() - begin) / 8
            print(f"  {name} follows: {took * 1e3:.0f} ms a picture, first {gaps[0] * 1e3:.0f}", flush=True)
            self.step(f"deform {name}", lambda high=high: card.amount.settled.emit(high * 0.1))

    def blocking(self) -> None:
        """Cuts, booleans, fusing, copies, moving, tapes, armature, strands."""
        window, project = self.window, self.project
        window.choose_stage("Block")
        ball = project.scene.parts[0].id
        x, y = self.pixel(0, 0)
        self.run("cut.lasso", False)
        t = np.linspace(0, 6.2, 16)
        self.draws("cut by lasso", [(x + 95 + 20 * float(np.cos(a)), y + 30 * float(np.sin(a))) for a in t])
        self.run("cut.line", False)
        low = self.pixel(-140, -80, 0), self.pixel(140, -80, 0)
        self.draws("cut by line", [*low])
        window.view.take_mode(None)
        self.run("live.sphere")
        tool = project.active
        assert tool is not None
        away = np.array([0.0, 90.0, 0.0]) - np.array(tool.transform.place)
        self.step("place", lambda: project.place(tool.id, tool.transform.moved(away)))
        project.choose_all([ball, tool.id])
        project.active_id = ball
        self.run("join.preview-subtract", False)
        self.run("join.preview-subtract", False)
        self.run("join.subtract")
        project.choose(ball)
        self.run("copy.mirror-x", None)
        self.run("copy.copy")
        self.run("parts.move", False)
        ends = window.view.handles._pixels(window.view.handles._ends(project.active))
        start = tuple(float(v) for v in ends[1])
        self.draws("move it by its handle", [(start[0], start[1]), (start[0] + 0.0, start[1] - 60)])
        self.run("parts.pivot", False)
        self.draws("set the pivot", [(x, y), (x, y)], changes=None)
        window.view.take_mode(None)
        self.run("parts.all", False)
        window.density_card.fuse.set_value(1.0)
        self.run("parts.fuse")
        self.run("copy.flip-x")
        self.run("density.remesh", None)
        self.run("measure.tape", False)
        self.draws("a tape", [(x - 20, y), (x - 20, y)], changes=None)
        self.draws("  its end", [(x + 20, y), (x + 20, y)], changes=None)
        window.view.take_mode(None)
        self.run("armature.slender")
        self.run("live.bake")
        self.run("strand.free", False)
        self.draws("a strand", [(x - 80, y - 100), (x, y - 140), (x + 80, y - 100)])
        self.run("live.bake")
        QTest.keyClick(window.view, Qt.Key.Key_Escape)

    def loose(self) -> None:
        """Live density: draw out, refine, coarsen; then the part rests again."""
        window, studio = self.window, self.window.studio
        window.choose_stage("Form")
        biggest = max(self.project.scene.parts, key=lambda p: p.mesh.n_vertices)
        self.project.choose(biggest.id)
        x, y = self.pixel(0, 0)
        for key in ("refine", "coarsen", "tease", "raise"):
            window.registry.run(f"tool.{key}")
            studio.set_brush(size=30.0)
            self.draws(f"first {key}", [(x - 40, y), (x + 20, y)], changes=None)
            self.draws(f"{key}", [(x - 40, y + 20), (x + 20, y + 30)])
        self.run("density.live", None)

    def back_and_forth(self) -> None:
        """Undo to the beginning, redo to the end, save, open: every bit as it was."""
        wanted = dict(self.trail)
        begin, self.gap = time.monotonic(), 0.0
        bad = []
        undone = 0
        while self.project.history.names()[0]:
            self.turn(lambda: self.window.registry.run("edit.undo"))
            self.settle()
            undone += 1
            at = len(self.project.history.names()[0])
            if at in wanted and digest(self.project.scene) != wanted[at]:
                bad.append(("undo", at, self.project.history.names()[0][-1:]))
        print(f"{undone} steps undone, {time.monotonic() - begin:.1f} s, longest gap {self.gap * 1e3:.0f} ms")
        begin, self.gap = time.monotonic(), 0.0
        while self.project.history.names()[1]:
            self.turn(lambda: self.window.registry.run("edit.redo"))
            self.settle()
            at = len(self.project.history.names()[0])
            if at in wanted and digest(self.project.scene) != wanted[at]:
                bad.append(("redo", at, self.project.history.names()[0][-1:]))
        print(f"redone, {time.monotonic() - begin:.1f} s, longest gap {self.gap * 1e3:.0f} ms")
        last = digest(self.project.scene)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "walk.kneten"
            self.step("save", lambda: self.window.studio.save_path(path), None)
            self.step("open", lambda: self.window.studio.open_path(path), None)
        if digest(self.project.scene) != last:
            bad.append(("reopened", 0, []))
        for line in bad:
            print("DIFFERS", *line)
        assert not bad


def main() -> None:
    """Walk through everything."""
    QInputDialog.getDouble = staticmethod(lambda *a, **k: (40.0, True))  # type: ignore[method-assign]
    app = QApplication(sys.argv[:1])
    walk = Walk(int(sys.argv[1]) if len(sys.argv) > 1 else 408)
    walk.forming()
    walk.blocking()
    walk.loose()
    walk.back_and_forth()
    walk.project.unsaved = False
    walk.window.close()
    del app


if __name__ == "__main__":
    main()
