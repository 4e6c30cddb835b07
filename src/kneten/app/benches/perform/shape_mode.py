"""The border between left and right, seen on the clay and dragged."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import REACH, Mode, dragged, label
from kneten.core.arrays import F64
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.benches.perform.shaping import Shaping
    from kneten.app.view.canvas import Canvas

LEAST = 0.01


@dataclass(frozen=True, eq=False)
class Cut:
    """Where a plane cuts clay, in the scene.

    Attributes
    ----------
    ends : (k, 2, 3) float64
        Of each piece of the line.
    ways : (k, 3) float64
        Out of the face that it lies in.
    """

    ends: F64
    ways: F64


class BorderMode(Mode):
    """Lines on the clay where halves of a shape meet: its middle, and how far it is soft."""

    key = "shape.split"
    hint = "The shape becomes its left and right half between the outer lines: drag one to have them meet softly, Enter splits · Esc leaves"

    def __init__(self, view: Canvas, shaping: Shaping, split: Callable[[], object]) -> None:
        super().__init__(view)
        self._shaping, self._split = shaping, split
        self._known: tuple[object, ...] = ()
        self._lines: list[Cut] = []

    def lines(self) -> list[Cut]:
        """The clay's cuts at the border's right edge, middle and left edge."""
        part = self._shaping.part
        if part is None:
            return []
        width = self._shaping.border
        known = (part.mesh.topology.uid, part.mesh.shape_version, part.transform, width)
        if known != self._known:
            self._known = known
            self._lines = [cut_at(part, x) for x in (-0.5 * width, 0.0, 0.5 * width)]
        return self._lines

    def _seen(self, cut: Cut) -> F64:
        """The pieces (k, 2, 3) of a cut that lie on the near side."""
        towards = self.view.camera.eye() - cut.ends[:, 0]
        return cut.ends[(cut.ways * towards).sum(axis=1) > 0]

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """A press on an outer line drags both of them."""
        for side in (0, 2):
            found = self.lines()
            seen = self._seen(found[side]) if len(found) == 3 else np.empty((0, 2, 3))
            if not len(seen):
                continue
            at = self.pixels(seen.mean(axis=1))
            if float(np.hypot(at[:, 0] - press.x, at[:, 1] - press.y).min()) < REACH:
                return self._drag(press, seen)
        return None

    def _drag(self, press: Pointer, ends: F64) -> Hand:
        shaping, part = self._shaping, self._shaping.part
        assert part is not None
        before = shaping.border
        at = self.pixels(ends.mean(axis=1))
        nearest = ends.mean(axis=1)[int(np.argmin(np.hypot(at[:, 0] - press.x, at[:, 1] - press.y)))]

        def change(event: Pointer) -> float:
            place = self.on_plane(event.x, event.y, nearest)
            return 2.0 * abs(float(part.transform.to_part(place[None])[0, 0]))

        return dragged(
            press, change, shaping.set_border, shaping.set_border, lambda: shaping.set_border(before)
        )

    def paint(self, painter: QPainter) -> None:
        """Paint the three lines."""
        found = self.lines()
        if len(found) != 3:
            return
        colour, quiet = QColor(self.view.ring_colour), QColor(self.view.ring_colour)
        quiet.setAlpha(150)
        for k, cut in enumerate(found):
            pieces = [
                QLineF(*row) for row in self.pixels(self._seen(cut).reshape(-1, 3)).reshape(-1, 4).tolist()
            ]
            for pen in (
                (QPen(QColor(0, 0, 0, 110), 3.4), QPen(colour, 1.8)) if k != 1 else (QPen(quiet, 1.2),)
            ):
                painter.setPen(pen)
                painter.drawLines(pieces)
        if len(seen := self._seen(found[2])):
            at = self.pixels(seen.mean(axis=1))
            top = at[int(np.argmin(at[:, 1]))]
            label(painter, self.view, QPointF(*top), f"{self._shaping.border:.1f} mm soft")

    def pressed_key(self, key: int) -> bool:
        """Enter splits the shape."""
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._split()
            return True
        return False


def cut_at(part: Part, x: float) -> Cut:
    """Where a part's clay is cut by the plane of its own axes at x, mm."""
    mesh = part.mesh
    faces = mesh.topology.faces
    off = mesh.positions[:, 0].astype(np.float64) - x
    off[off == 0.0] = 1e-9
    triangles = np.concatenate([faces[:, :3], faces[faces[:, 3] >= 0][:, [0, 2, 3]]])
    over = off[triangles] > 0
    triangles = triangles[over.any(axis=1) & ~over.all(axis=1)]
    if not len(triangles):
        return Cut(np.empty((0, 2, 3)), np.empty((0, 3)))
    ends = []
    places = mesh.positions.astype(np.float64)
    for k in range(3):
        a, b = triangles[:, k], triangles[:, (k + 1) % 3]
        crossed = (off[a] > 0) != (off[b] > 0)
        share = off[a] / np.where(crossed, off[a] - off[b], 1.0)
        point = places[a] + share[:, None] * (places[b] - places[a])
        ends.append(np.where(crossed[:, None], point, np.nan))
    every = np.stack(ends, axis=1)
    # Two of the three edges of each are crossed: those first.
    order = np.argsort(np.isnan(every[:, :, 0]), axis=1, kind="stable")[:, :2]
    found = np.take_along_axis(every, order[:, :, None], axis=1)
    corners = part.transform.to_scene(places[triangles].reshape(-1, 3)).reshape(-1, 3, 3)
    ways = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return Cut(part.transform.to_scene(found.reshape(-1, 3)).reshape(-1, 2, 3), ways)
