"""From a neutral face to a checked file with shapes, in the real window: Tarn's bust lifts cheeks and brows by strokes;
the cheeks are split, the two corrected together, checked, mended and written as GLB.

    python -m tests.case_mood

Prints what each step took and found; ends with an error where the file is not the face, or a vertex is left behind.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("KNETEN_STATE", tempfile.mkdtemp())
os.environ.setdefault("KNETEN_CONFIG", tempfile.mkdtemp())

from kneten.app.start.main import prepare_graphics

prepare_graphics()

import numpy as np  # noqa: E402
from PySide6.QtWidgets import QApplication  # noqa: E402

from kneten.app.fields.theme import load_fonts  # noqa: E402
from kneten.app.shell.window import Window  # noqa: E402
from kneten.app.work.preferences import Preferences  # noqa: E402
from kneten.core.warm import warm_here  # noqa: E402
from kneten.document.driving import shapes_of  # noqa: E402
from kneten.document.scene import Part  # noqa: E402
from kneten.formats.exchange import pieces_of  # noqa: E402
from kneten.formats.space import Space  # noqa: E402
from tests.app.windows import drag, run, settle  # noqa: E402
from tests.formats.test_gltf_skins import Glb  # noqa: E402
from tests.formats.test_targets import morphed  # noqa: E402

CHEEK, BROW = (58.0, -8.0, 96.0), (36.0, 62.0, 98.0)
"""Where the strokes begin, mm."""

MENDED = 12
"""Finds that are mended at the most."""


class Case:
    """The window, and the steps one after the other."""

    def __init__(self) -> None:
        load_fonts()
        self.window = Window(Preferences(still=True, welcomed=True))
        self.window.resize(1280, 800)
        self.window.show()
        warm_here()
        self.window.studio.ready = True
        self.began = time.monotonic()

    def told(self, words: str) -> None:
        print(f"{time.monotonic() - self.began:6.1f} s  {words}", flush=True)

    def face(self) -> Part:
        return next(part for part in self.window.studio.project.scene.parts if part.name == "Tarn")

    def ids(self) -> dict[str, str]:
        return {one.name: key for key, one in shapes_of(self.window.studio.project.scene).items()}

    def pull(self, place: tuple[float, float, float], way: tuple[float, float]) -> None:
        """Drag the clay at a place by so many pixels."""
        run(self.window, "tool.pull")
        self.window.studio.set_brush(size=70.0)
        view = self.window.view
        x, y = view.camera.project(np.array([place]), view.wide, view.high)[0, :2]
        drag(self.window, [(x, y), (x + way[0], y + way[1])])
        settle(self.window)

    def shape(self, name: str, place: tuple[float, float, float], way: tuple[float, float]) -> None:
        """A new shape, of both sides, by one stroke; at rest."""
        before = self.face().mesh.positions.copy()
        self.window.shaping.add(name)
        self.pull(place, way)
        moved = float(np.abs(self.face().mesh.positions - before).max())
        run(self.window, "shape.record")
        run(self.window, "shape.neutral")
        off = float(np.abs(self.face().mesh.positions - before).max())
        self.told(f"{name}: {moved:.1f} mm at its most; at rest again within {off:.1e} mm")
        if moved < 1.0 or off > 1e-3:
            raise AssertionError(f"{name} is no shape")

    def run(self) -> None:
        window = self.window
        window.files.open_demo("tarn-forms")
        window.studio.wait(240)
        settle(window)
        window.studio.project.choose(self.face().id)
        run(window, "stage.perform")
        run(window, "view.front")
        window.views.frame_part()
        settle(window)
        self.told(f"neutral face of {self.face().mesh.n_vertices:,} vertices")
        self.shape("Cheek raiser", CHEEK, (14.0, -16.0))
        self.shape("Outer brow raiser", BROW, (2.0, -14.0))
        window.shaping.choose(self.ids()["Cheek raiser"])
        run(window, "shape.split")
        window.shape_tools.split_now()
        settle(window)
        sides = [self.ids()[f"Cheek raiser {side}"] for side in ("left", "right")]
        window.shape_tools.dial_and_correct([sides[0], self.ids()["Outer brow raiser"]])
        self.pull((66.0, 4.0, 88.0), (2.0, -4.0))
        run(window, "shape.record")
        self.told(f"{len(self.ids())} shapes: {', '.join(self.ids())}")
        run(window, "shape.check")
        window.studio.wait(300)
        self.told(window.shape_checking.words())
        for _ in range(MENDED):
            finds = window.shape_checking.finds
            worst = next(
                (k for k, one in enumerate(finds) if one.find.kind == "behind" and len(one.shapes) == 1), -1
            )
            if worst < 0:
                break
            window.shape_checking.choose(worst)
            run(window, "shape.mend-smooth")
        window.shaping.stop()
        run(window, "shape.check")
        window.studio.wait(300)
        left = [one for one in window.shape_checking.finds if one.find.kind == "behind"]
        self.told(f"after mending: {window.shape_checking.words()}")
        window.shaping.keep(sides[1], 0.4)
        path = Path(tempfile.mkdtemp()) / "moods.glb"
        parts = [part for part in window.studio.project.scene.parts if part.visible]
        window.studio.export_path(path, parts, Space("m"), False)
        window.studio.wait(300)
        settle(window)
        file = Glb(path)
        off = 0.0
        for piece in pieces_of(parts, Space("m")):
            mesh = next(one for one in file.words["meshes"] if one["name"] == piece.name)
            if "weights" in mesh:
                off = max(off, float(np.abs(morphed(file, piece.name) - piece.positions).max()) * 1000)
        names = next(one for one in file.words["meshes"] if one["name"] == "Tarn")["extras"]["targetNames"]
        self.told(f"{path.stat().st_size / 1e6:.1f} MB, targets {names}; off by {off:.1e} mm at the most")
        if off > 1e-2 or left or sorted(names) != sorted(self.ids()):
            raise AssertionError("the file is not the face")


def main() -> int:
    app = QApplication.instance() or QApplication(sys.argv[:1])
    case = Case()
    case.run()
    case.window.studio.project.unsaved = False
    case.window.close()
    del app
    return 0


if __name__ == "__main__":
    sys.exit(main())
